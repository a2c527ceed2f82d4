"""Changes predicted, searched and proved: on the demo, whose runs contain them, and against independent sums."""

from __future__ import annotations

import dataclasses
from itertools import combinations

import msgspec
import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.parts import Part, PartMode, Power
from warm_ember.model.plan import (
    ActivityEvery,
    CurrentBy,
    CurrentTo,
    LengthTo,
    PartTo,
    Plan,
    PlanLimits,
    PlannedChange,
    ReduceAverage,
    ReplaceState,
    ScaleRate,
)
from warm_ember.session.demo import make_demo
from warm_ember.session.session import Session
from warm_ember.session.tuning_results import changes_ahead
from warm_ember.tuning.prediction import PredictionStart, by_gain, predict, waterfall
from warm_ember.tuning.search import costs_of, smallest_set
from warm_ember.tuning.suggestions import suggest_changes
from warm_ember.tuning.waveform import predicted_waveform


@pytest.fixture(scope="module")
def session(tmp_path_factory: pytest.TempPathFactory):
    with make_demo(tmp_path_factory.mktemp("plan") / "post") as opened:
        yield opened


@pytest.fixture(scope="module")
def start(session: Session) -> PredictionStart:
    return session.tuning.start(session.project, "r4")


def one(*effects) -> tuple[PlannedChange, ...]:
    return (PlannedChange("a change", effects),)


def test_without_changes_the_prediction_is_what_was_measured(session: Session, start: PredictionStart) -> None:
    for name in ("r1", "r3", "r5"):
        predicted = predict(session.tuning.start(session.project, name), ())
        assert predicted.mean_a == pytest.approx(session.run(name).load.mean_a, rel=1e-12)
        assert sum(s.added_a for s in predicted.by_state) == pytest.approx(predicted.mean_a)


def test_every_predicted_step_of_the_demo_is_within_a_tenth_of_the_measured_one(session: Session) -> None:
    proofs = session.tuning.plan(session.project, "r5").proofs
    assert [(proof.before, proof.after) for proof in proofs] == [("r1", "r2"), ("r2", "r3"), ("r3", "r4"), ("r4", "r5")]
    for proof in proofs:
        assert proof.predicted_step_a == pytest.approx(proof.measured_step_a, rel=0.1)
        assert proof.is_proved
        assert not proof.off


@pytest.mark.parametrize(("name", "following", "kind"), [
    ("r2", "r3", "tick-running"), ("r3", "r4", "floor-above-expected"),
])  # fmt: skip
def test_what_a_finding_offers_is_what_the_next_run_saves(session: Session, name: str, following: str, kind) -> None:
    bare = msgspec.structs.replace(session.project, plan=Plan())
    offered = next(one for one in session.tuning.plan(bare, name).suggestions if one.change.reason == kind)
    measured_a = session.run(name).load.mean_a - session.run(following).load.mean_a
    assert offered.saved_a == pytest.approx(measured_a, rel=0.1)


def test_findings_and_leads_alone_reach_the_target(session: Session) -> None:
    project = msgspec.structs.replace(session.project, plan=Plan())
    plan = session.tuning.plan(project, "r4")
    assert plan.mean_a > plan.budget_a
    kinds = [one.change.reason for one in plan.suggestions]
    assert "timer-overridden" in kinds
    assert any("Status LED" in one.change.name for one in plan.suggestions)
    for one in plan.suggestions:
        alone = session.tuning.plan(msgspec.structs.replace(project, plan=Plan((one.change,))), "r4")
        assert one.gain_s == pytest.approx(alone.life.life_s - plan.life_s, rel=0.02)
        assert one.gain_s > 0
    found = session.tuning.smallest_set(project, "r4", tuple(one.change for one in plan.suggestions))
    assert found.changes is not None
    assert found.mean_a <= plan.budget_a
    chosen = msgspec.structs.replace(project, plan=Plan(found.changes))
    assert session.tuning.plan(chosen, "r4").life.life_s > session.project.target_s


def test_a_change_to_sleep_counts_for_the_time_that_is_slept(session: Session, start: PredictionStart) -> None:
    load = session.run("r4").load
    asleep = 1 - sum(cost.rate_hz * cost.duration_s for cost in load.costs)
    saved_a = load.mean_a - predict(start, one(CurrentBy(-5e-6, "Deep sleep"))).mean_a
    assert saved_a == pytest.approx(5e-6 * asleep, rel=1e-9)
    every = load.mean_a - predict(start, one(CurrentBy(-5e-6))).mean_a
    assert every == pytest.approx(5e-6, rel=1e-9)
    assert load.mean_a - predict(start, one(ReduceAverage(7e-6))).mean_a == pytest.approx(7e-6, rel=1e-9)


def test_a_shorter_stay_leaves_its_time_to_the_rest(session: Session, start: PredictionStart) -> None:
    load, row = session.run("r4").load, start.ledger.row("Modem idle")
    report = next(cost for cost in load.costs if cost.name == "Report")
    spared_s = row.dwell_s - 10.0
    saved_a = load.mean_a - predict(start, one(LengthTo("Modem idle", 10.0))).mean_a
    expected_a = report.rate_hz * spared_s * (row.charge_c / row.dwell_s - load.base_a)
    assert saved_a == pytest.approx(expected_a, rel=1e-6)
    assert predict(start, one(LengthTo("Modem idle", 1e6))).mean_a == pytest.approx(load.mean_a)


def test_what_happens_less_often_costs_less_by_as_much(session: Session, start: PredictionStart) -> None:
    load = session.run("r4").load
    report = next(cost for cost in load.costs if cost.name == "Report")
    twice = load.mean_a - predict(start, one(ActivityEvery("Report", 12 * 3600.0))).mean_a
    assert twice == pytest.approx(report.added_a(load.base_a) / 2, rel=1e-9)
    row = start.ledger.row("Log write")
    passing = next(cost for cost in load.costs if cost.name == "Passer-by")
    charge_c, dwell_s = passing.state_charges_c["Log write"]
    saved_a = load.mean_a - predict(start, one(ScaleRate("Log write", 0.25))).mean_a
    assert saved_a == pytest.approx(0.75 * passing.rate_hz * (charge_c - load.base_a * dwell_s), rel=1e-6)
    assert row.entries > 0


def test_changes_meet_as_they_would_in_the_device(start: PredictionStart) -> None:
    sleep, shorter = (
        PlannedChange("sleep", (CurrentBy(-4e-3, "Modem idle"),)),
        PlannedChange("shorter", (LengthTo("Modem idle", 10.0),)),
    )
    alone = [step.alone_a for step in waterfall(start, (sleep, shorter))]
    together = waterfall(start, (sleep, shorter))
    assert together[1].saved_a < 0.7 * alone[1]
    assert sum(step.saved_a for step in together) == pytest.approx(
        sum(step.saved_a for step in waterfall(start, (shorter, sleep))), rel=1e-9
    )


def test_a_part_goes_to_another_mode_where_it_is_in_the_one_that_was_meant(
    session: Session, start: PredictionStart
) -> None:
    memory = Part("memory", (
        PartMode("standby", 9e-6, power=Power.GATED), PartMode("off", 1e-6, switch_c=2e-6), PartMode("write", 2e-3),
    ))  # fmt: skip
    here = msgspec.structs.replace(session.project.expected[0].parts[0], part="memory", mode="standby")
    writing = msgspec.structs.replace(here, mode="write")
    made = PredictionStart(
        start.ledger, start.activities, start.measure, parts=(memory,),
        on={"Deep sleep": (here,), "Count": (here,), "Log write": (writing,)},
    )  # fmt: skip
    before = predict(made, ()).ledger
    after = predict(made, one(PartTo("memory", "off", of="standby"))).ledger
    for state, moved in (("Deep sleep", True), ("Count", True), ("Log write", False), ("Idle wait", False)):
        row = before.row(state)
        change_a = after.row(state).mean.value - row.mean.value
        switching_a = 2e-6 * row.entries / row.dwell_s
        assert change_a == pytest.approx(-8e-6 + switching_a if moved else 0.0, abs=1e-15)
    assert "no part" in predict(made, one(PartTo("other", "off"))).unclear[0]
    assert "another mode" in predict(made, one(PartTo("memory", "off", "Idle wait"))).unclear[0]


def test_what_a_change_speaks_of_and_the_run_does_not_know_is_told(start: PredictionStart) -> None:
    for effect, words in (
        (CurrentBy(-1e-6, "Dance"), "Dance"),
        (LengthTo("Dance", 1.0), "Dance"),
        (ActivityEvery("Dance", 1.0), "Dance"),
    ):
        predicted = predict(start, one(effect))
        assert words in predicted.unclear[0]
        assert predicted.mean_a == predict(start, ()).mean_a
    called = predict(start, one(ReplaceState("Count", "Counting"), CurrentTo("Counting", 1e-3)))
    assert called.unclear == ()
    assert called.ledger.row("Counting").mean.value == pytest.approx(1e-3)


def test_no_state_draws_less_than_nothing(start: PredictionStart) -> None:
    predicted = predict(start, one(CurrentBy(-1.0)))
    assert all(row.mean.value == 0 for row in predicted.ledger.rows)
    # What reached across edges was not the states' own.
    assert 0 <= predicted.mean_a < 1e-4 * start.ledger.mean_a


SAVING_AND_LATENCY = st.tuples(st.floats(1e-6, 60e-6), st.sampled_from([0.0, 1.0, 2.0]))


@given(st.lists(SAVING_AND_LATENCY, min_size=1, max_size=6), st.floats(20e-6, 150e-6))
@settings(max_examples=25)
def test_the_smallest_set_is_what_trying_all_finds(
    start: PredictionStart, offered: list[tuple[float, float]], wanted_a: float
) -> None:
    saves, latencies = zip(*offered, strict=True)
    sets = [chosen for size in range(len(saves) + 1) for chosen in combinations(range(len(saves)), size)]
    # Which side of the target a sum lies on that is the target is left to rounding.
    assume(all(abs(sum(saves[k] for k in chosen) - wanted_a) > 1e-9 * wanted_a for chosen in sets))
    changes = tuple(
        PlannedChange(f"{n}", (ReduceAverage(saved_a),), latency_s=late)
        for n, (saved_a, late) in enumerate(zip(saves, latencies, strict=True))
    )
    limits, now_a = PlanLimits(latency_s=3.0), predict(start, ()).mean_a
    found = smallest_set(start, changes, now_a - wanted_a, limits)
    sizes = [
        len(chosen)
        for chosen in sets
        if sum(saves[k] for k in chosen) >= wanted_a and sum(latencies[k] for k in chosen) <= 3.0
    ]
    assert (found.changes is None) == (not sizes)
    if found.changes is not None:
        assert len(found.changes) == min(sizes)
        assert found.mean_a <= now_a - wanted_a
        assert not costs_of(found.changes).over(limits)


def test_too_many_changes_to_try_all_are_taken_one_by_one(start: PredictionStart) -> None:
    changes = tuple(PlannedChange(f"{n}", (ReduceAverage((1 + n % 7) * 1e-6),)) for n in range(40))
    found = smallest_set(start, changes, predict(start, ()).mean_a - 41.5e-6, PlanLimits())
    assert not found.is_complete
    assert len(found.changes) == 7  # five of 7 µA and then some


def test_the_order_by_gain_begins_with_what_saves_most_for_its_effort(session: Session, start: PredictionStart) -> None:
    ahead = changes_ahead(session.project, "r4")
    ordered = by_gain(start, tuple(reversed(ahead)))
    gains = [step.saved_a / step.change.effort for step in waterfall(start, ordered)]
    assert gains == sorted(gains, reverse=True)


def test_the_waveform_holds_the_charge_that_is_predicted(session: Session, start: PredictionStart) -> None:
    run = session.run("r4")
    changes = changes_ahead(session.project, "r4")
    predicted = predict(start, changes)
    segments = predicted_waveform(run.placement, run.ledger, predicted, changes)
    change_c = sum(segment.change_c for segment in segments)
    assert change_c == pytest.approx(predicted.ledger.charge_c - run.ledger.charge_c, rel=0.02)
    edges = np.array([(one.from_s, one.to_s) for one in segments])
    assert (edges[1:, 0] >= edges[:-1, 1] - 1e-9).all()
    idle = next(segment for segment in segments if segment.state == "Modem idle")
    assert idle.predicted_s == pytest.approx(16.0)


def test_a_planned_change_answers_what_it_is_about_and_nothing_else(session: Session) -> None:
    start = session.tuning.start(session.project, "r4")
    matrix = session.tuning.matrix(msgspec.structs.replace(session.project, parts=(), expected=()), "r4")

    def tail(source: str, state: str) -> Finding:
        effects = (CurrentBy(-1e-3, state),)
        return Finding(FindingKind.AWAKE_TAIL, 0.0, 1.0, 1e-3, 0.8, "it waits", f"Sleep while {source} waits", effects)

    found = [tail("pir", "Count"), tail("rtc", "Count"), tail("modem", "Modem idle")]
    kind = FindingKind.AWAKE_TAIL.value

    def offered(*planned: PlannedChange) -> list[str]:
        names = {one.change.name for one in suggest_changes(start, found, matrix, planned, planned)}
        return [one.remedy for one in found if one.remedy in names]

    remedies = [one.remedy for one in found]
    assert offered() == remedies
    assert offered(PlannedChange(remedies[0], found[0].effects, "r4", kind)) == remedies[1:]
    # Renamed by hand it stands for whatever of its kind is about the same state.
    assert offered(PlannedChange("Let it sleep", found[0].effects, "r4", kind)) == remedies[2:]
    assert offered(PlannedChange("Something else", found[0].effects, "r4", FindingKind.TICK_RUNNING.value)) == remedies


def test_an_interval_of_what_follows_something_else_is_no_plan_of_its_own(start: PredictionStart) -> None:
    follower = msgspec.structs.replace(start.activities[0], name="Retry", interval_s=None, follows="Report")
    led = dataclasses.replace(start, activities=(*start.activities, follower))
    predicted = predict(led, one(ActivityEvery("Retry", 5.0)))
    assert predicted.mean_a == predict(led, ()).mean_a
    (words,) = predicted.unclear
    assert "Report" in words


def test_behind_a_capacitor_the_plan_starts_from_the_life_that_was_measured(session: Session) -> None:
    supply = msgspec.structs.replace(session.project.supply, input_f=4.7e-3)
    project = msgspec.structs.replace(session.project, supply=supply)
    assert any(cost.pulses for cost in session.results.load(project, "r4").costs)
    costs = predict(session.tuning.start(project, "r4"), ()).load.costs
    assert [cost.pulses for cost in costs] == [cost.pulses for cost in session.results.load(project, "r4").costs]
