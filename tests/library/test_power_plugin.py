"""The plug-in, as a test of firmware on the bench uses it: a run of pytest of its own, on a simulated bench."""

from __future__ import annotations

import re
from pathlib import Path
from xml.etree import ElementTree

import pytest

from bench.benches import Serve, address, console_address, serve
from warm_ember.library.power import GateVerdict, MeasuredFloat
from warm_ember.library.project import Project

pytest_plugins = ["pytester"]
__all__ = ["serve"]

DOCUMENT = Path(__file__).parents[2] / "docs" / "library.md"
LIMITS = '[states."Deep sleep"]\nmax_mean_a = 25e-6\n'


@pytest.fixture
def tried(pytester: pytest.Pytester, serve: Serve):
    """Run tests on a simulated bench with some firmware; return what pytest said, and the cases of its JUnit file."""

    def run(firmware: str, tests: str, *options: str):
        server = serve(firmware, speed=20.0, report_at_s=1000.0)
        pytester.makepyfile(tests)
        (pytester.path / "power.toml").write_text(LIMITS)
        on = ("--power-from", address(server), "--power-console", console_address(server), "--power-voltage", "3")
        plugin = ("-p", "warm_ember.library.pytest_plugin", "-p", "no:cacheprovider")
        found = pytester.runpytest_inprocess(*plugin, *on, "--junit-xml", "power.xml", *options)
        return found, ElementTree.parse(pytester.path / "power.xml").getroot()

    return run


def properties(root: ElementTree.Element) -> dict[str, str]:
    return {one.attrib["name"]: one.attrib["value"] for one in root.iter("property")}


def test_the_test_of_the_document_catches_the_leak(tried) -> None:
    (tests,) = re.findall(r"```python\n# test_sleep.py\n(.*?)```", DOCUMENT.read_text(encoding="utf-8"), re.DOTALL)
    found, root = tried("r3", tests)
    found.assert_outcomes(failed=2)
    said = found.stdout.str()
    assert re.search(r"assert 0\.0007\d+ \[73\d.µA \(90 %: .*µA\)\] < 2\.5e-05", said)
    assert re.search(r"night: average .*90 %.*kept as .*night\.h5", said)
    assert "states.Deep sleep.max_mean_a: fail" in said
    told = properties(root)
    assert 700e-6 < float(told["night.Deep sleep.mean_a"]) < 760e-6
    assert float(told["night.mean_a_low"]) <= float(told["night.mean_a"]) <= float(told["night.mean_a_high"])
    assert Path(told["night.capture"]).is_file()


def test_what_is_kept_is_a_project_like_any_other(tried, pytester: pytest.Pytester) -> None:
    found, _ = tried(
        "r5",
        """
        def test_twice(power):
            for _ in range(2):
                with power.recording("boot") as r:
                    r.wait(8)
                assert r.gate("power.toml").outcome == "pass"
                assert r.coverage == 1.0 and r.charge_c == r.run.stretch(0, r.duration_s).charge_c
                assert r.charge_c.low <= r.charge_c <= r.charge_c.high
            assert list(power.project.runs) == ["boot", "boot 2"]
            assert r.source("rtc").count > 0
        """,
        "--power-project",
        "kept",
        "--power-interval",
        "2e-4",
    )
    found.assert_outcomes(passed=1)
    with Project.open(pytester.path / "kept") as project:
        assert project.runs["boot 2"].sample_interval_s == pytest.approx(2e-4)
        assert project.runs["boot 2"].duration_s >= 8


def test_a_verdict_that_nobody_looks_at_is_no_silent_pass(tried) -> None:
    found, _ = tried(
        "r3",
        """
        def test_gate(power):
            with power.recording("night") as r:
                r.wait(6)
            r.gate("power.toml")
        """,
    )
    found.assert_outcomes(passed=1, errors=1)
    assert "states.Deep sleep.max_mean_a: fail" in found.stdout.str()


def test_figures_come_when_the_block_has_ended_and_names_are_told(tried) -> None:
    found, _ = tried(
        "r5",
        """
        import pytest
        from warm_ember.errors import BadArgumentError

        def test_early(power):
            with power.recording() as r:
                r.wait(3)
                with pytest.raises(BadArgumentError, match="when its block has ended"):
                    r.mean_a
            with pytest.raises(BadArgumentError, match="'Snooze'.*Deep sleep"):
                r.state("Snooze")

        def test_own_failure(power):
            with power.recording("broken") as r:
                r.wait(3)
                raise RuntimeError("of the test itself")
        """,
    )
    found.assert_outcomes(passed=1, failed=1)
    assert "of the test itself" in found.stdout.str()
    assert "broken: average" in found.stdout.str()


def test_an_instrument_that_is_not_there_is_one_line(pytester: pytest.Pytester) -> None:
    pytester.makepyfile("def test_it(power):\n    with power.recording('x') as r:\n        r.wait(1)\n")
    plugin = ("-p", "warm_ember.library.pytest_plugin", "-p", "no:cacheprovider")
    found = pytester.runpytest_inprocess(*plugin, "--power-from", "TCPIP::127.0.0.1::1::SOCKET")
    found.assert_outcomes(failed=1)
    assert "TCPIP::127.0.0.1::1::SOCKET" in found.stdout.str()
    found = pytester.runpytest_inprocess(*plugin, "--power-from", "TCPIP::127.0.0.1::1::SOCKET", "--power-limit", "x")
    assert "--power-limit: expected a number, found 'x'" in found.stdout.str() + found.stderr.str()


def test_without_an_instrument_it_is_silent(pytester: pytest.Pytester) -> None:
    pytester.makepyfile("def test_plain(): pass\ndef test_it(power): assert False\n")
    found = pytester.runpytest_inprocess("-p", "warm_ember.library.pytest_plugin", "-p", "no:cacheprovider", "-rs")
    found.assert_outcomes(passed=1, skipped=1)
    assert "give --power-from" in found.stdout.str()
    assert not (pytester.path / "power").exists()


def test_a_figure_is_a_number_that_shows_its_interval() -> None:
    figure = MeasuredFloat(159.4e-6, "A", 153e-6, 166e-6)
    assert figure < 200e-6
    assert figure + 1 == 1.0001594
    assert re.fullmatch(r"0\.0001594 \[159.µA \(90 %: 153\.0 to 166\.0.µA\)\]", repr(figure))
    assert "spread unknown" in repr(MeasuredFloat(1.0, "A"))


def test_a_verdict_is_true_where_nothing_failed() -> None:
    from warm_ember.library.gate import Check, Gate

    check = Check(name="n", outcome="fail", value=2.0, low=2.0, high=2.0, limit=1.0, text="too much")
    bad = GateVerdict(Gate(capture="c", baseline=None, outcome="fail", checks=(check,)), Path("c.h5"))
    good = GateVerdict(Gate(capture="c", baseline=None, outcome="undecided", checks=()), Path("c.h5"))
    assert not bad.was_seen
    assert good
    assert not bad
    assert bad.was_seen
    assert "n: too much" in repr(bad)
    assert "c.h5" in repr(bad)
