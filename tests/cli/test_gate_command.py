"""The gate, as an automated build uses it."""

from __future__ import annotations

import json
import re
from pathlib import Path
from xml.etree import ElementTree

import pytest

from warm_ember.report.junit import junit_xml
from warm_ember.tuning.gate import Check, GateResult, Outcome

DOCUMENT = Path(__file__).parents[2] / "docs" / "builds.md"


@pytest.fixture
def limits(tmp_path: Path) -> Path:
    path = tmp_path / "limits.toml"
    (text,) = re.findall(r"```toml\n(.*?)```", DOCUMENT.read_text(encoding="utf-8"), re.DOTALL)
    path.write_text(text)
    return path


def outcomes(path: Path) -> dict[str, str]:
    found = {}
    for case in ElementTree.parse(path).getroot().iter("testcase"):
        told = {child.tag for child in case}
        found[case.attrib["name"]] = "fail" if "failure" in told else "undecided" if "skipped" in told else "pass"
    return found


def test_what_leaks_fails_and_what_was_mended_passes(command, demo_path: Path, tmp_path: Path, limits: Path) -> None:
    report = tmp_path / "gate.xml"
    code, out, err = command("gate", demo_path, "r3", "--limits", limits, "--junit", report, "--json")
    assert (code, err) == (1, "")
    found = json.loads(out)
    assert set(found) == {"capture", "baseline", "outcome", "checks"}
    assert (found["capture"], found["baseline"], found["outcome"]) == ("r3", None, "fail")
    checks = {check["name"]: check for check in found["checks"]}
    for check in checks.values():
        assert set(check) == {"name", "outcome", "value", "low", "high", "limit", "text"}
    leak = checks["states.Deep sleep.max_mean_a"]
    assert leak["outcome"] == "fail"
    assert leak["limit"] < leak["low"] <= leak["value"] <= leak["high"]
    assert checks["baseline.max_worse"]["outcome"] == "undecided"
    assert outcomes(report) == {name: check["outcome"] for name, check in checks.items()}

    code, out, err = command("gate", demo_path, "r5", "--limits", limits, "--baseline", "r4", "--junit", report)
    assert (code, err) == (0, "")
    passed = outcomes(report)
    assert passed["average.max_a"] == passed["life.min_months"] == passed["baseline.average"] == "pass"
    assert "fail" not in passed.values()
    assert "0 failed" in out
    assert command("gate", demo_path, "r5", "--limits", limits, "--baseline", "r4", "--junit", tmp_path / "b.xml")
    assert (tmp_path / "b.xml").read_bytes() == report.read_bytes()


def test_stays_are_compared_with_limits_one_by_one(command, demo_path: Path, tmp_path: Path) -> None:
    path = tmp_path / "limits.toml"
    # The modem idles for 16 s once; each count lasts a while; sleep is cut off by both ends of the capture.
    path.write_text(
        '[states."Modem idle"]\nmin_dwell_s = 15.5\nmax_dwell_s = 16.5\n[states.Count]\nmax_dwell_s = 1.0\n'
    )
    found = json.loads(command("gate", demo_path, "r5", "--limits", path, "--json")[1])
    assert [(check["name"], check["outcome"]) for check in found["checks"]] == [
        ("states.Modem idle.min_dwell_s", "pass"),
        ("states.Modem idle.max_dwell_s", "pass"),
        ("states.Count.max_dwell_s", "fail"),
    ]
    assert found["checks"][0]["value"] == pytest.approx(16.0, abs=0.1)
    path.write_text('[states."Deep sleep"]\nmin_dwell_s = 0.9\n')
    (check,) = json.loads(command("gate", demo_path, "r5", "--limits", path, "--json")[1])["checks"]
    assert check["outcome"] == "fail"  # a passer-by ends some of them early
    assert 0 < check["value"] < 0.9


def test_strictly_what_is_undecided_fails(command, demo_path: Path, tmp_path: Path) -> None:
    path = tmp_path / "limits.toml"
    path.write_text("[baseline]\nmax_worse = 0.1\n")
    assert command("gate", demo_path, "r5", "--limits", path)[0] == 0
    path.write_text("strict = true\n[baseline]\nmax_worse = 0.1\n")
    code, out, _ = command("gate", demo_path, "r5", "--limits", path, "--junit", tmp_path / "gate.xml")
    assert code == 1
    assert "no baseline was given" in out
    assert outcomes(tmp_path / "gate.xml") == {"baseline.max_worse": "fail"}


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('\n[states."Deeep sleep"]\nmax_mean_a = 1\n', ("line 2", "no state 'Deeep sleep'", "Deep sleep")),
        ("[sources.rtx]\nmax_charge_c = 1\n", ("line 1", "no source of wakes 'rtx'", "rtc")),
        ("[states.x]\nmax_mean = 1\n", ("line 2", "is max_mean_a meant?")),
    ],
)
def test_what_the_capture_does_not_have_is_never_passed_over(command, demo_path, tmp_path: Path, text, words) -> None:
    path = tmp_path / "limits.toml"
    path.write_text(text)
    code, out, err = command("gate", demo_path, "r5", "--limits", path)
    assert (code, out) == (2, "")
    assert err.count("\n") == 1
    assert all(one in err for one in words)


def test_a_baseline_that_nothing_is_said_of_is_told(command, demo_path: Path, tmp_path: Path) -> None:
    path = tmp_path / "limits.toml"
    path.write_text("[measurement]\nmax_missing = 0\n")
    code, out, err = command("gate", demo_path, "r5", "--limits", path, "--baseline", "r4", "--json")
    assert code == 0
    assert json.loads(out)["baseline"] == "r4"
    assert "says nothing of a baseline" in err


def test_no_capture_no_file_and_a_place_that_cannot_be_written_are_told(command, demo_path, limits, tmp_path) -> None:
    assert command("gate", demo_path, "r9", "--limits", limits)[0] == 2
    assert command("gate", demo_path, "r5", "--limits", tmp_path / "none.toml")[0] == 2
    assert command("gate", demo_path, "r5", "--limits", limits, "--baseline", "r9")[0] == 2
    code, _, err = command("gate", demo_path, "r5", "--limits", limits, "--junit", tmp_path / "no" / "gate.xml")
    assert code == 2
    assert "gate.xml" in err


@pytest.mark.parametrize(
    "name", ["<script>alert(1)</script>", "\x1b[31mred\x00\ud800", "]]>&\"'", "x" * 10_000, "日本\u202e"]
)
def test_hostile_names_are_text_in_the_file(name: str) -> None:
    checks = tuple(
        Check(f"states.{name}.max_mean_a", one, 1.0, 0.5, 2.0, 1.0, "A", f"{one.value}: {name}") for one in Outcome
    )
    root = ElementTree.fromstring(junit_xml(GateResult(name, name, checks)))
    cases = list(root.iter("testcase"))
    assert len(cases) == 3
    assert root.attrib["failures"] == "1"
    if name.isprintable():
        assert cases[0].attrib["name"] == f"states.{name}.max_mean_a"
    assert {child.tag for case in cases for child in case} == {"failure", "skipped", "system-out"}
