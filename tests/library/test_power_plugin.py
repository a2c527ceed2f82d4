"""The plug-in, as a test of firmware on the bench uses it: a process of its own, on a simulated bench."""

from __future__ import annotations

import re
import subprocess
import sys
import textwrap
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree

import pytest

from bench.benches import AskedClock, Serve, address, console_address, serve
from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.library.power import GateVerdict, MeasuredFloat
from warm_ember.library.project import Project

__all__ = ["serve"]

DOCUMENT = Path(__file__).parents[2] / "docs" / "library.md"
LIMITS = '[states."Deep sleep"]\nmax_mean_a = 60e-6\n'
PLUGIN = ("-p", "warm_ember.library.pytest_plugin", "-p", "no:cacheprovider", "-p", "no:pytest-qt", "-rs")


@dataclass
class Run:
    """What a run of pytest said, how its tests ended, and the properties in its JUnit file."""

    said: str
    ended: dict[str, int]
    properties: dict[str, str]


def run_pytest(folder: Path, tests: str, *options: str) -> Run:
    """Run tests in a process and a folder of their own."""
    (folder / "test_it.py").write_text(textwrap.dedent(tests))
    (folder / "pytest.ini").write_text("[pytest]\n")
    (folder / "power.toml").write_text(LIMITS)
    command = [sys.executable, "-m", "pytest", *PLUGIN, "--junit-xml", "junit.xml", *options]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=300, check=False)
    said, found, told = done.stdout + done.stderr, {}, {}
    if (folder / "junit.xml").exists():
        root = ElementTree.parse(folder / "junit.xml").getroot()
        (suite,) = root.iter("testsuite")
        found = {name: int(suite.attrib[name]) for name in ("tests", "failures", "errors", "skipped")}
        told = {one.attrib["name"]: one.attrib["value"] for one in root.iter("property")}
    return Run(said, found, told)


def ended(*, tests: int, failures: int = 0, errors: int = 0, skipped: int = 0) -> dict[str, int]:
    return {"tests": tests, "failures": failures, "errors": errors, "skipped": skipped}


@pytest.fixture
def tried(tmp_path: Path, serve: Serve):
    """Run tests on a simulated bench with some firmware."""

    def run(firmware: str, tests: str, *options: str) -> Run:
        server = serve(firmware, clock=AskedClock(0.25), report_at_s=1000.0)
        on = ("--power-from", address(server), "--power-console", console_address(server), "--power-voltage", "3")
        return run_pytest(tmp_path, tests, *on, *options)

    return run


def test_the_test_of_the_document_catches_the_leak(tried) -> None:
    (tests,) = re.findall(r"```python\n# test_sleep.py\n(.*?)```", DOCUMENT.read_text(encoding="utf-8"), re.DOTALL)
    found = tried("r3", tests.replace("r.wait(15)", "r.wait(60)"))
    assert found.ended == ended(tests=2, failures=2), found.said
    said = found.said
    assert re.search(r"assert 0\.0007\d+ \[7\d\d.µA \(90 %: .*µA\)\] < 2\.5e-05", said)
    assert re.search(r"night: average .*90 %.*kept as .*night\.h5", said)
    assert "states.Deep sleep.max_mean_a: fail" in said
    told = found.properties
    assert 700e-6 < float(told["night.Deep sleep.mean_a"]) < 800e-6
    assert float(told["night.mean_a_low"]) <= float(told["night.mean_a"]) <= float(told["night.mean_a_high"])
    assert Path(told["night.capture"]).is_file()


def test_what_is_kept_is_a_project_like_any_other(tried, tmp_path: Path) -> None:
    found = tried(
        "r5",
        """
        from pathlib import Path

        def test_twice(power):
            Path("whole.toml").write_text("[measurement]\\nmax_missing = 0.01\\n")
            for _ in range(2):
                with power.recording("boot") as r:
                    r.wait(60)
                assert r.gate("whole.toml").outcome == "pass"
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
    assert found.ended == ended(tests=1), found.said
    with Project.open(tmp_path / "kept") as project:
        assert project.runs["boot 2"].sample_interval_s == pytest.approx(2e-4)
        assert project.runs["boot 2"].duration_s >= 60


def test_a_verdict_that_nobody_looks_at_is_no_silent_pass(tried) -> None:
    found = tried(
        "r3",
        """
        def test_gate(power):
            with power.recording("night") as r:
                r.wait(60)
            r.gate("power.toml")
        """,
    )
    assert (found.ended["errors"], found.ended["failures"]) == (1, 0), found.said
    assert "states.Deep sleep.max_mean_a: fail" in found.said


def test_figures_come_when_the_block_has_ended_and_names_are_told(tried) -> None:
    found = tried(
        "r5",
        """
        import pytest
        from warm_ember.errors import BadArgumentError

        def test_early(power):
            with power.recording() as r:
                r.wait(60)
                with pytest.raises(BadArgumentError, match="when its block has ended"):
                    r.mean_a
            with pytest.raises(BadArgumentError, match="'Snooze'.*Deep sleep"):
                r.state("Snooze")

        def test_own_failure(power):
            with power.recording("broken") as r:
                r.wait(60)
                raise RuntimeError("of the test itself")
        """,
    )
    assert found.ended == ended(tests=2, failures=1), found.said
    assert "of the test itself" in found.said
    assert "broken: average" in found.said


def test_what_came_before_a_lost_link_is_kept_and_told(tmp_path: Path, serve: Serve) -> None:
    server = serve("r5", speed=20.0, fault=Fault(FaultMode.DISCONNECT, 40))
    tests = "def test_it(power):\n    with power.recording('lost') as r:\n        r.wait(1000)\n"
    found = run_pytest(tmp_path, tests, "--power-from", address(server), "--power-voltage", "3")
    assert found.ended == ended(tests=1, failures=1), found.said
    assert "kept as 'lost'" in found.said
    assert re.search(r"lost: average .*kept as .*lost\.h5", found.said)
    with Project.open(tmp_path / "power") as project:
        assert list(project.runs) == ["lost"]


def test_an_instrument_that_is_not_there_is_one_line(tmp_path: Path) -> None:
    tests = "def test_it(power):\n    with power.recording('x') as r:\n        r.wait(1)\n"
    found = run_pytest(tmp_path, tests, "--power-from", "TCPIP::127.0.0.1::1::SOCKET")
    assert found.ended == ended(tests=1, failures=1), found.said
    assert "TCPIP::127.0.0.1::1::SOCKET" in found.said
    found = run_pytest(tmp_path, tests, "--power-from", "TCPIP::127.0.0.1::1::SOCKET", "--power-limit", "x")
    assert "--power-limit: expected a number, found 'x'" in found.said


def test_without_an_instrument_it_is_silent(tmp_path: Path) -> None:
    found = run_pytest(tmp_path, "def test_plain(): pass\ndef test_it(power): assert False\n")
    assert found.ended == ended(tests=2, skipped=1), found.said
    assert "give --power-from" in found.said
    assert not (tmp_path / "power").exists()


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
