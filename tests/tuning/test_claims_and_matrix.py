"""Claims in words, the shutdown matrix with its rules, and two runs compared."""

from __future__ import annotations

import json
import math

import msgspec
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.estimate import Estimate
from warm_ember.model.parts import PartIn, PartLibrary, PowerRule
from warm_ember.session import plan_edits
from warm_ember.session.session import Session
from warm_ember.store.parts_file import read_parts_file, shipped_parts
from warm_ember.tuning.claims import CHARGE, LIFE, Outcome, check_claim, read_claim
from warm_ember.tuning.confounders import confounders
from warm_ember.tuning.difference import ComparedRun, by_activity, by_source, of_average

STATES = ("Deep sleep", "Count", "Modem idle")


@pytest.mark.parametrize(("words", "about", "at_least", "limit"), [
    ("half the charge", CHARGE, False, 0.5),
    ("a third of the current", CHARGE, False, 1 / 3),
    ("a third less current", CHARGE, False, 2 / 3),
    ("30 % less charge", CHARGE, False, 0.7),
    ("20% more life", LIFE, True, 1.2),
    ("twice the life", LIFE, True, 2.0),
    ("three times the life", LIFE, True, 3.0),
    ("1.5 times the life", LIFE, True, 1.5),
    ("0.5 times the charge", CHARGE, False, 0.5),
    ("60 % of the charge", CHARGE, False, 0.6),
    ("half the current of Count", "Count", False, 0.5),
])  # fmt: skip
def test_ratios_are_understood(words: str, about: str, at_least: bool, limit: float) -> None:
    claim = read_claim(words, STATES)
    assert (claim.about, claim.is_ratio, claim.at_least) == (about, True, at_least)
    assert claim.limit == pytest.approx(limit)


@pytest.mark.parametrize(("words", "about", "at_least", "limit"), [
    ("Deep sleep is below 5 µA", "Deep sleep", False, 5e-6),
    ("deep sleep draws at most 20u", "Deep sleep", False, 20e-6),
    ("sleep < 5 uA", "Deep sleep", False, 5e-6),
    ("the average is under 200 µA", CHARGE, False, 200e-6),
    ("the life is at least 36 months", LIFE, True, 36 * 730 * 3600),
    ("Modem idle > 9 mA", "Modem idle", True, 9e-3),
])  # fmt: skip
def test_bounds_are_understood(words: str, about: str, at_least: bool, limit: float) -> None:
    claim = read_claim(words, STATES)
    assert (claim.about, claim.is_ratio, claim.at_least) == (about, False, at_least)
    assert claim.limit == pytest.approx(limit)


@pytest.mark.parametrize("words", ["", "better", "half the dance", "Dance is below 5 µA", "5 µA"])
def test_what_is_no_claim_says_what_was_expected(words: str) -> None:
    with pytest.raises(BadArgumentError, match=r"expected|there are"):
        read_claim(words, STATES)


@given(st.floats(0.1, 10), st.floats(0, 0.3), st.floats(0.1, 10))
def test_a_claim_is_supported_only_where_the_whole_interval_does(before, spread, after) -> None:
    claim = read_claim("half the charge")
    one, other = (Estimate(v, v * spread / 1.645) for v in (before, after))
    judged = check_claim(claim, one, other)
    assert judged.found.low <= judged.found.value <= judged.found.high
    assert judged.found.value == pytest.approx(after / before)
    assume(min(abs(end - 0.5) for end in (judged.found.low, judged.found.high)) > 1e-9)
    expected = {
        (True, True): Outcome.SUPPORTED, (True, False): Outcome.OPEN, (False, False): Outcome.REFUTED,
    }[judged.found.low <= 0.5, judged.found.high <= 0.5]  # fmt: skip
    assert judged.outcome is expected


def test_claims_on_the_demo(demo_session: Session) -> None:
    def outcome(text: str, after: str = "r5") -> Outcome:
        return demo_session.tuning.claim(demo_session.project, text, "r4", after).outcome

    # Each run shows one report: how much reports scatter is not known, and half of the average is that.
    assert outcome("half the charge") is Outcome.OPEN
    assert outcome("a quarter of the charge") is Outcome.REFUTED
    assert outcome("a tenth less charge") is Outcome.SUPPORTED
    assert outcome("three times the life") is Outcome.REFUTED
    assert outcome("Deep sleep is below 5 µA") is Outcome.REFUTED
    assert outcome("the life is at least 30 months", "the plan") is Outcome.SUPPORTED
    assert outcome("the life is at least 36 months", "the plan") is Outcome.OPEN
    same = demo_session.tuning.claim(demo_session.project, "100 % of the charge", "r4", "r4")
    assert same.outcome is Outcome.OPEN


def test_the_matrix_adds_up_and_its_leads_are_what_is_left(demo_session: Session) -> None:
    project = demo_session.project
    matrix = demo_session.tuning.matrix(project, "r4")
    currents = {(part.name, mode.name): mode.current_a for part in project.parts for mode in part.modes}
    for column in matrix.columns:
        cells = [(row.name, matrix.cell(row.name, column.state)) for row in matrix.rows]
        sum_a = sum(currents.get((name, cell.mode), 0.0) for name, cell in cells if cell.current_a is not None)
        assert column.sum_a == pytest.approx(sum_a)
        measured = demo_session.run("r4").ledger.row(column.state).mean.value
        assert column.unexplained_a == pytest.approx(measured - sum_a)
    assert [column.state for column in matrix.columns if column.is_open] == ["Count"]
    assert matrix.broken == ()
    means = [column.measured.value for column in matrix.columns]
    assert means == sorted(means)


def test_rules_that_break_name_both_cells(demo_session: Session) -> None:
    project = plan_edits.set_part("32 kHz crystal", "stopped", "Deep sleep")(demo_session.project)
    (broken,) = demo_session.tuning.matrix(project, "r4").broken
    assert set(broken.rows) == {"Rowan", "32 kHz crystal"}
    assert broken.state == "Deep sleep"
    project = plan_edits.set_part("24 MHz oscillator", "on", "Deep sleep")(demo_session.project)
    (broken,) = demo_session.tuning.matrix(project, "r4").broken
    assert "does not go with" in broken.words
    project = plan_edits.set_power("inputs", "deep", on=False)(demo_session.project)
    (broken,) = demo_session.tuning.matrix(project, "r4").broken
    assert broken.rows == ("pir", "inputs")
    assert "cannot wake" in broken.words
    project = plan_edits.set_power("inputs", "deep", on=True)(project)
    assert demo_session.tuning.matrix(project, "r4").broken == ()


def test_rules_are_read_from_files_and_must_speak_of_parts_there(tmp_path) -> None:
    library = shipped_parts()
    path = tmp_path / "parts.json"
    rule = PowerRule(PartIn("Heron"), needs=(PartIn("Rowan"),))
    path.write_bytes(msgspec.json.encode(PartLibrary(library.parts, (rule,))))
    with pytest.raises(BadFileError, match="Heron"):
        read_parts_file(path)
    path.write_bytes(msgspec.json.encode(library))
    assert read_parts_file(path).rules == library.rules


def test_planning_a_cell_puts_one_change_into_the_plan_and_takes_it_out_again(demo_session: Session) -> None:
    before = demo_session.project
    project = plan_edits.plan_part("Sedge", "unpowered", "Deep sleep", "standby", "r4")(before)
    change = project.plan.changes[-1]
    assert (change.on, change.reason, len(project.plan.changes)) == ("r4", "matrix", len(before.plan.changes) + 1)
    again = plan_edits.plan_part("Sedge", "write", "Deep sleep", "standby", "r4")(project)
    assert len(again.plan.changes) == len(project.plan.changes)
    assert plan_edits.plan_part("Sedge", "standby", "Deep sleep", "standby", "r4")(again) == before


def test_a_run_compared_with_itself_differs_in_nothing(demo_session: Session) -> None:
    run, wakes = demo_session.run("r4"), demo_session.results.wake_ledger(demo_session.project, "r4")
    side = ComparedRun(run.by_state, run.ledger, run.load, wakes)
    for rows in (by_source(side, side), by_activity(side, side), (of_average(side, side),)):
        assert rows
        assert not any(row.is_real for row in rows)
        assert all(row.change_a == 0 and row.low_a < 0 < row.high_a for row in rows)


def test_what_else_differs_is_named() -> None:
    info = CaptureInfo(1e-4, supply_v=3.0, temperature_c=21.0, board="rev C", indicators="off", attached=("logic pod",))
    assert confounders(info, info) == ()
    other = msgspec.structs.replace(
        info, supply_v=3.3, temperature_c=-10.0, board="rev D", indicators="on", attached=(), firmware="r9"
    )
    named = {one.what: (one.before, one.after) for one in confounders(info, other, (10.0, 3600.0))}
    assert named == {
        "board": ("rev C", "rev D"),
        "indicators": ("off", "on"),
        "attached": ("logic pod", "nothing"),
        "supply": ("3.00 V", "3.30 V"),
        "temperature": ("21 °C", "-10 °C"),
        "length": ("10.0 s", "60.0 min"),
    }
    near = msgspec.structs.replace(info, supply_v=3.01, temperature_c=22.0, note="other")
    assert confounders(info, near) == ()


def test_the_command_compares(demo_path, command) -> None:
    code, out, _ = command("compare", demo_path, "r3", "r4", "--claim", "half the charge", "--json")
    assert code == 0
    found = json.loads(out)
    assert found["mean_a"]["real"]
    assert found["states"][0]["name"] == "Deep sleep"
    changes = sum(row["change_a"] for row in found["states"])
    assert changes == pytest.approx(found["mean_a"]["change_a"])
    assert found["life_h"]["after"] > found["life_h"]["before"]
    assert {row["name"] for row in found["sources"]} == {"rtc", "pir", "alarm"}
    assert found["claim"]["outcome"] == "supported"
    code, out, _ = command("compare", demo_path, "r3", "r4")
    assert code == 0
    assert "real" in out
    for wrong in (("r3", "nothing"), ("r3", "r4", "--claim", "a dance")):
        code, out, error = command("compare", demo_path, *wrong)
        assert (code, out, error.count("\n")) == (2, "", 1)


@pytest.mark.parametrize("text", [
    "Deep sleep is below 5 V", "power is below 5 mA", "power is below 5 J", "1.2.3 % less", "150 % less",
    "the life is at least 3 bananas", "the average is below", "1e999 times the life", "Deep sleep is below .",
    "% less", "the life is at least 36 V", "nothing is below 5 µA", "", "below 5 µA", "half the 5",
    "Deep sleep is at most inf",
])  # fmt: skip
def test_what_is_no_claim_is_refused_in_a_sentence(text: str) -> None:
    with pytest.raises(BadArgumentError) as refused:
        read_claim(text, ("Deep sleep", "Count"))
    assert len(str(refused.value).splitlines()) == 1


@given(
    st.text(max_size=40)
    | st.from_regex(r"(the )?(life|power|Count|average) is (below|at least) [0-9.]{1,5} ?[a-zA-Zµ%]{0,4}")
)
@settings(max_examples=200)
def test_whatever_is_typed_is_understood_or_refused(text: str) -> None:
    try:
        claim = read_claim(text, ("Deep sleep", "Count"))
    except BadArgumentError:
        return
    assert math.isfinite(claim.limit)
    assert claim.words.startswith("the ")


@pytest.mark.parametrize(("text", "words"), [
    ("half the charge", "the average current after is at most 0.5 times that before"),
    ("half the power", "the average power after is at most 0.5 times that before"),
    ("power is below 0,6 mW", "the average power is at most 600 µW"),
    ("Deep sleep is at most 5 µA", "the mean current of Deep sleep is at most 5.00 µA"),
    ("twice the life", "the life after is at least 2 times that before"),
    ("1,5 % less energy", "the average power after is at most 0.985 times that before"),
])  # fmt: skip
def test_a_claim_says_what_was_understood(text: str, words: str) -> None:
    assert read_claim(text, ("Deep sleep",)).words == words


def test_a_power_is_judged_as_a_power(demo_session: Session) -> None:
    """The demo is recorded at 3.0 V."""
    run = demo_session.run("r5")
    mean_w = run.load.mean_a * run.ledger.energy_j / run.ledger.charge_c
    for factor, outcome in ((1.3, Outcome.SUPPORTED), (0.7, Outcome.REFUTED), (1.01, Outcome.OPEN)):
        text = f"power is below {1e6 * factor * mean_w:.1f} µW"
        judged = demo_session.tuning.claim(demo_session.project, text, "r4", "r5")
        assert judged.outcome is outcome
        assert "µW" in judged.words
    charge = demo_session.tuning.claim(demo_session.project, "half the charge", "r4", "r5").found
    power = demo_session.tuning.claim(demo_session.project, "half the power", "r4", "r5").found
    assert power.value == pytest.approx(charge.value, rel=0.02)
