"""What views paint, without any view: it agrees with the capture and the results that it is made of."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from session.small import INTERVAL_S, LENGTH_S, SOURCES, STATES
from warm_ember.errors import BadArgumentError
from warm_ember.model.fold import AlignBy, FoldPlan
from warm_ember.model.placement import UNPLACED_NAME
from warm_ember.model.plan import CurrentTo, LengthTo, PlannedChange
from warm_ember.model.project import Bracket
from warm_ember.session import plan_edits
from warm_ember.session.bench_setup import room_beside
from warm_ember.session.brackets import (
    BracketReadings,
    edge_on_the_way,
    main_state,
    mean_of,
    next_cycle_s,
    whole_cycles_about,
)
from warm_ember.session.correcting import Entered, preview_corrections
from warm_ember.session.edits import change_feed
from warm_ember.session.fold_results import fold_run, ways_to_fold
from warm_ember.session.overlay import LaidBy, lay_over
from warm_ember.session.plan_waveform import plan_waveform
from warm_ember.session.session import Session
from warm_ember.session.state_results import day_ledger, dwells_of, first_change_s, unplaced_stretch_s
from warm_ember.session.timer_words import CODED_TIMERS, timer_limits, try_period, ways_to_write
from warm_ember.session.tuning_results import compare_averages, compare_states, over_limits
from warm_ember.signal.series import never
from warm_ember.tuning.timers.period_model import PeriodModel

moments = st.floats(0.0, LENGTH_S)


def brackets(draw_from: st.SearchStrategy[float] = moments) -> st.SearchStrategy[Bracket]:
    ends = st.tuples(draw_from, draw_from).map(sorted).filter(lambda pair: pair[1] - pair[0] > 2 * INTERVAL_S)
    return ends.map(lambda pair: Bracket("A", "a", *pair))


@given(brackets())
def test_a_bracket_lies_in_the_state_that_takes_most_of_it(small_session: Session, bracket: Bracket) -> None:
    results = small_session.run("a")
    times_s = np.linspace(bracket.from_s, bracket.to_s, 4001)[:-1]
    placement = results.placement
    at = np.searchsorted(placement.edges * INTERVAL_S, times_s, side="right") - 1
    names = [UNPLACED_NAME if k < 0 else placement.names[k] for k in placement.state[np.minimum(at, len(at) - 1)]]
    shares = {name: names.count(name) for name in set(names)}
    assert shares[main_state(results, bracket)] >= max(shares.values()) - 5


@given(brackets())
def test_the_next_cycle_begins_where_the_state_is_entered_again(small_session: Session, bracket: Bracket) -> None:
    results = small_session.run("a")
    shift_s = next_cycle_s(results, bracket)
    assume(shift_s is not None)
    assert shift_s > 0
    assert bracket.to_s + shift_s <= LENGTH_S + INTERVAL_S
    starts = results.placement.edges[:-1][results.placement.of(main_state(results, bracket))]
    gaps = np.subtract.outer(starts, starts)
    assert np.abs(gaps * INTERVAL_S - shift_s).min() < INTERVAL_S / 2


@given(moments, moments)
def test_an_edge_on_the_way_is_the_nearest_one(small_session: Session, from_s: float, to_s: float) -> None:
    results = small_session.run("a")
    found = edge_on_the_way(results, from_s, to_s)
    edges = results.placement.edges * INTERVAL_S
    low, high = sorted((from_s, to_s))
    between = edges[(edges > low + INTERVAL_S / 2) & (edges < high - INTERVAL_S / 2)]
    if not len(between):
        assert found is None
    else:
        assert found == between[np.argmin(np.abs(between - from_s))]


@given(brackets())
def test_readings_are_remembered_by_what_they_are_of(small_session: Session, bracket: Bracket) -> None:
    results, readings = small_session.run("a"), BracketReadings()
    first = readings.read(results, 3.0, bracket)
    assert readings.read(results, 3.0, bracket) is first
    turned = Bracket("B", "a", bracket.to_s + 1e-12, bracket.from_s)
    assert readings.read(results, 3.0, turned).charge_c == pytest.approx(first.charge_c)
    assert first.energy_j == pytest.approx(3.0 * first.charge_c)
    assert mean_of(results, first).shown == pytest.approx(first.mean_a)


def test_a_bracket_grows_to_whole_cycles(small_session: Session) -> None:
    cycles = whole_cycles_about(small_session.run("a"), Bracket("A", "a", 3.2, 7.9))
    assert cycles is not None
    assert (cycles.to_s - cycles.from_s) / cycles.cycles == pytest.approx(1.0, abs=0.02)


def test_all_ways_to_fold_are_offered_and_most_can_be_taken(small_session: Session) -> None:
    results = small_session.run("a")
    ways = ways_to_fold(results)
    assert {way.what for way in ways if way.by is AlignBy.WAKE} == set(SOURCES)
    assert {way.what for way in ways if way.by is AlignBy.STATE} == set(STATES)
    for way in ways:
        try:
            folded = fold_run(small_session, small_session.project, "a", way, never)
        except BadArgumentError:
            assert way.what in ("Radio", "alarm")  # it comes at any time, too seldom to be folded
            continue
        steps = folded.steps(None)
        assert sum(step.charge_c for step in steps) == pytest.approx(folded.fold.charge_c)
        assert folded.low_a <= 0 < folded.lowest_positive_a <= folded.high_a
        columns = folded.columns(200)
        known = ~np.isnan(columns.mean)
        assert (columns.low[known] <= columns.mean[known]).all()
        assert (columns.mean[known] <= columns.high[known]).all()


@pytest.mark.parametrize("by", list(LaidBy))
@pytest.mark.parametrize("columns", [1, 7, 640])
def test_runs_are_laid_over_each_other_in_every_way(small_session: Session, by: LaidBy, columns: int) -> None:
    runs = [(small_session.run(name), letter) for name, letter in (("a", "A"), ("b", "B"))]
    found = lay_over(small_session, small_session.project, runs, by, "Sense", columns, never)
    assert [run.letter for run in found.runs] == ["A", "B"]
    assert found.from_s < found.to_s
    for laid, (results, _) in zip(found.runs, runs, strict=True):
        assert len(laid.columns.mean) == len(laid.charge_c) == columns
        assert (np.diff(laid.charge_c) >= 0).all()
        if by in (LaidBy.TIME, LaidBy.CHARGE):
            assert laid.charge_c[-1] == pytest.approx(results.whole.charge_c, rel=1e-6)


def test_runs_are_aligned_where_the_state_begins(small_session: Session) -> None:
    runs = [(small_session.run("a"), "A"), (small_session.run("b"), "B")]
    found = lay_over(small_session, small_session.project, runs, LaidBy.STATE, "Sense", 2000, never)
    times_s = found.from_s + (np.arange(2000) + 0.5) / 2000 * (found.to_s - found.from_s)
    for run in found.runs:
        assert np.nanmax(run.columns.high[times_s < -2 * INTERVAL_S]) < 1e-4
        inside = (times_s > 2 * INTERVAL_S) & (times_s < 0.04)
        assert np.nanmin(run.columns.low[inside]) > 2e-3


def test_what_neither_run_has_is_not_laid(small_session: Session) -> None:
    runs = [(small_session.run("a"), "A")]
    assert lay_over(small_session, small_session.project, runs, LaidBy.STATE, "Busy", 100, never).runs == ()
    assert lay_over(small_session, small_session.project, (), LaidBy.CYCLE, "", 100, never).runs == ()


@given(st.tuples(moments, moments).map(sorted).filter(lambda ends: ends[1] - ends[0] > 0.02))
def test_the_plan_moves_each_moment_as_it_moves_its_state(small_session: Session, ends: list[float]) -> None:
    project = small_session.project
    changes = (
        PlannedChange("colder", (CurrentTo("Sleep", 1e-6),), "a"),
        PlannedChange("shorter", (LengthTo("Sense", 0.01),), "a"),
    )
    for change in changes:
        project = plan_edits.add_change(change)(project)
    results = small_session.run("a")
    segments = small_session.tuning.plan(project, "a").waveform
    shown = plan_waveform(results, segments, *ends, 300)
    known = ~np.isnan(shown.measured.mean)
    assert np.isnan(shown.predicted_a[~known]).all()
    times_s = ends[0] + (np.arange(300) + 0.5) / 300 * (ends[1] - ends[0])
    for time_s, measured_a, predicted_a in zip(times_s, shown.measured.mean, shown.predicted_a, strict=True):
        segment = next(one for one in shown.segments if one.from_s <= time_s < one.to_s)
        if time_s <= segment.from_s + segment.predicted_s:
            assert predicted_a == pytest.approx(measured_a + segment.predicted_a - segment.measured_a)
        else:
            assert predicted_a == segment.rest_a


def test_without_a_plan_the_waveform_is_what_was_measured(small_session: Session) -> None:
    shown = plan_waveform(small_session.run("a"), (), -1.0, 2 * LENGTH_S, 100)
    assert not len(shown.predicted_a)
    assert shown.segments == ()
    assert np.isnan(shown.measured.mean[-1])


def test_a_day_is_whole(small_session: Session) -> None:
    rows = day_ledger(small_session.run("a"))
    assert sum(row.time_share for row in rows.values()) == pytest.approx(1)
    assert sum(row.charge_share for row in rows.values()) == pytest.approx(1)


def test_dwells_and_changes_are_where_the_placement_has_them(small_session: Session) -> None:
    results = small_session.run("a")
    found = dwells_of(results.ledger.rows)
    assert found.entries == found.counts.sum() == sum(row.entries for row in results.ledger.rows)
    assert dwells_of(()).entries == 0
    for change in small_session.states.transitions(small_session.project, "a").changes:
        at_s = first_change_s(results, change)
        edges = results.placement.edges * INTERVAL_S
        k = int(np.argmin(np.abs(edges - at_s)))
        names = results.placement.names
        assert (names[results.placement.state[k - 1]], names[results.placement.state[k]]) == (
            change.before,
            change.after,
        )
    assert unplaced_stretch_s(results) is None


def test_corrections_say_what_they_would_do(small_session: Session) -> None:
    results, project = small_session.run("a"), small_session.project
    entered = {"debugger": Entered(1e-5, "attached"), "burden": Entered(2.0, "shunt")}
    shown = preview_corrections(project, results, entered)
    assert shown.mean_a.after == pytest.approx(results.whole.mean_a - 1e-5)
    assert shown.floor_a.after == pytest.approx(shown.floor_a.before - 1e-5)
    assert shown.target_v.before - shown.target_v.after == pytest.approx(2.0 * results.whole.max_a, rel=0.01)
    assert shown.life_s.after > shown.life_s.before == pytest.approx(results.life.life_s)
    with pytest.raises(BadArgumentError):
        preview_corrections(project, results, {"debugger": Entered(float("nan"), "attached")})
    plain = preview_corrections(project, results, {})
    assert plain.mean_a == (results.whole.mean_a, results.whole.mean_a)
    assert plain.life_s.after == pytest.approx(results.life.life_s)


def test_comparing_states_and_averages_agree(small_session: Session) -> None:
    first, second = small_session.run("a"), small_session.run("b")
    whole = compare_averages(first, second)
    parts = compare_states(first, second)
    assert sum(part.change_a for part in parts) == pytest.approx(whole.after_a - whole.before_a, rel=1e-6)
    assert compare_averages(first, first).change_a == 0


def test_only_what_is_over_a_limit_is_told(small_session: Session) -> None:
    change = PlannedChange("slow", (CurrentTo("Sleep", 1e-6),), "a", latency_s=2.0, accuracy=0.01)
    project = plan_edits.add_change(change)(small_session.project)
    assert over_limits(project, "a") == {}
    limits = type(project.plan.limits)(latency_s=1.0, accuracy=0.05)
    assert over_limits(plan_edits.set_limits(limits)(project), "a") == {"latency": 2.0}


@given(st.sampled_from(CODED_TIMERS), st.floats(1.0, 1e6))
def test_what_is_written_for_a_timer_is_within_its_limits(timer: str, seconds: float) -> None:
    limits = next(one for one in timer_limits() if one.timer == timer)
    try:
        lines = ways_to_write(timer, f"{seconds!r} s")
    except BadArgumentError:
        assert not limits.shortest_s <= seconds <= limits.longest_s
        return
    assert lines[0].startswith(f"{seconds!r} s: ")
    assert len(lines) > 1


@given(st.floats(1.0, 3600.0), st.integers(0, 3))
def test_a_period_that_no_standard_limits_is_taken_as_it_is(period_s: float, skipped: int) -> None:
    model = PeriodModel("rtc", False, 10.0, 54e-6, 1e-6, 6)
    tried = try_period(model, "any", period_s, skipped)
    assert tried.wakes_every_s == pytest.approx(period_s * (1 + skipped))
    assert "rtc" in tried.words


def test_a_chosen_cell_brings_its_figures_until_they_are_entered(small_session: Session) -> None:
    project = change_feed("battery", "cell", "FR6")(small_session.project)
    assert "capacity_c" in project.battery.typical
    twice = change_feed("battery", "parallel", 2 * project.battery.parallel)(project)
    assert twice.battery.capacity_c == pytest.approx(2 * project.battery.capacity_c)
    own = change_feed("battery", "capacity_c", 100.0)(project)
    assert "capacity_c" not in own.battery.typical
    assert change_feed("supply", "efficiency", 0.8)(project).supply.efficiency == 0.8


def test_the_room_of_a_folder_to_come_is_that_of_the_disk(small_session: Session) -> None:
    folder = small_session.folder.captures / "not" / "yet"
    assert room_beside(folder) > 0
    assert not folder.parent.exists()


def test_folding_needs_something_to_fold(small_session: Session) -> None:
    with pytest.raises(BadArgumentError):
        fold_run(small_session, small_session.project, "a", FoldPlan("a", AlignBy.WAKE, "nobody"), never)
