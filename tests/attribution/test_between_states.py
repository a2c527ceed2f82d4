"""What lies between states, what the firmware believes, and states under other names; truth from made captures."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, ArrayLines, Made, stays
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.placing import place
from warm_ember.attribution.relabelling import SplitBy, grouped, split
from warm_ember.attribution.sleep_agreement import Marker, compare_sleep, default_threshold_a, state_asleep
from warm_ember.attribution.transitions import find_returns, find_transitions
from warm_ember.model.capture import Event
from warm_ember.model.placement import Alignment
from warm_ember.signal.bands import absorbed
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries


def _with_events(made: Made, *events: Event) -> Made:
    return Made(made.current, (*made.events, *events), made.lines, made.power, made.info, made.name)


@pytest.fixture
def pulsed() -> Made:
    """Ten times asleep and awake; entering awake takes a pulse of 10 ms, leaving it a pulse of 5 ms."""
    made, _ = stays(*(("Sleep", 2e-6, 1.0), ("Awake", 1e-3, 0.5)) * 10)
    values = made.current.read(0, made.current.samples).copy()
    for start in np.arange(1.0, 15.0, 1.5):
        first = round(start / INTERVAL_S)
        values[first : first + 10] += 5e-3
        values[first + 495 : first + 500] += 8e-3
    return Made(ArraySeries(values, INTERVAL_S), made.events)


def test_entering_and_leaving_take_what_was_put_there(pulsed: Made) -> None:
    found = {(c.before, c.after): c for c in find_transitions(pulsed.current, place(pulsed))}
    up, down = found["Sleep", "Awake"], found["Awake", "Sleep"]
    assert (up.count, down.count) == (10, 9)
    assert up.entering_c.value == pytest.approx(10e-3 * 5e-3, rel=1e-4)
    assert down.leaving_c.value == pytest.approx(5e-3 * 8e-3, rel=1e-4)
    assert up.leaving_c.value == pytest.approx(0.0, abs=1e-12)
    assert up.entering_c.low <= up.entering_c.value <= up.entering_c.high
    assert up.total_c == pytest.approx(10 * 10e-3 * 5e-3, rel=1e-4)


@given(st.integers(0, 1000))
def test_crossings_close_to_the_whole(seed: int) -> None:
    """Settled levels times their time, and all that is taken above them, is the charge of the capture."""
    random = np.random.default_rng(seed)
    parts = [(f"S{k % 3}", 10.0 ** random.uniform(-6, -2), float(random.uniform(0.2, 2))) for k in range(9)]
    made, _ = stays(*parts, noise=0.05, seed=seed)
    placement = place(made)
    found = find_transitions(made.current, placement)
    assert sum(c.count for c in found) == placement.intervals - 1
    scale = sum(current * length for _, current, length in parts)
    assert all(abs(c.total_c) < 0.05 * scale for c in found)


def test_a_level_that_stays_up_after_an_activity_is_found() -> None:
    made, _ = stays(*[("Sleep", 2e-6, 1.0), ("Report", 0.1, 0.5), ("Sleep", 5e-6, 1.0), ("Reset", 1e-2, 0.2)] * 5)
    steps = {(c.state, c.around): c for c in find_returns(made.current, place(made))}
    up = steps["Sleep", ("Report",)]
    assert up.differs
    assert (up.before_a, up.after_a) == (pytest.approx(2e-6), pytest.approx(5e-6))
    assert steps["Sleep", ("Reset",)].step_a.value == pytest.approx(-3e-6)
    steady, _ = stays(*[("Sleep", 2e-6, 1.0), ("Count", 3e-3, 0.3)] * 6, noise=0.02)
    assert not any(c.differs for c in find_returns(steady.current, place(steady)))


def _log(*pairs: tuple[float, float]) -> tuple[Event, ...]:
    return tuple(event for a, b in pairs for event in (Event(a, "sleep", "deep"), Event(b, "wake", "rtc")))


def test_the_four_combinations_are_told_apart() -> None:
    """Asleep by belief from 1 to 3 s and from 4 to 6 s; the current is up from 5 to 7 s, and from 0 to 1 s."""
    made, _ = stays(("A", 3e-3, 1.0), ("B", 2e-6, 4.0), ("C", 3e-3, 2.0), ("D", 2e-6, 1.0))
    made = _with_events(made, *_log((1.0, 3.0), (4.0, 6.0)))
    found = compare_sleep(made, Alignment(), 1e-4, Marker())
    assert found is not None
    times = {(row.believed_asleep, row.drew_asleep): row.time_s for row in found.rows}
    assert times == {
        (True, True): pytest.approx(3.0), (False, False): pytest.approx(2.0),
        (True, False): pytest.approx(1.0), (False, True): pytest.approx(2.0),
    }  # fmt: skip
    assert sum(row.charge_c for row in found.rows) == pytest.approx(5e-6 * 2 + 9e-3, rel=1e-2)
    assert (found.places[0].from_s, found.places[0].to_s, found.places[0].believed_asleep) == (5.0, 6.0, True)
    assert found.places[0].charge_c == pytest.approx(3e-3)
    assert found.places[0].mean_a == pytest.approx(3e-3)
    assert {(place.from_s, place.to_s) for place in found.places[1:]} == {(3.0, 4.0), (7.0, 8.0)}


def test_a_gap_takes_nothing_from_a_mean() -> None:
    """Half of the stretch that differs was not measured: its mean is that of the other half."""
    made, _ = stays(("A", 2e-6, 1.0), ("B", 3e-3, 1.0), ("C", 2e-6, 1.0))
    values = made.current.read(0, 3000).copy()
    values[1200:1700] = np.nan
    gapped = Made(ArraySeries(values, INTERVAL_S), (*made.events, *_log((0.5, 2.5))))
    found = compare_sleep(gapped, Alignment(), 1e-4, Marker())
    assert found is not None
    awake = [place for place in found.places if place.believed_asleep]
    assert awake
    assert all(place.mean_a == pytest.approx(3e-3) for place in awake)


def test_a_line_says_the_same_as_the_log_does() -> None:
    made, _ = stays(("A", 3e-3, 1.0), ("B", 2e-6, 4.0), ("C", 3e-3, 2.0))
    asleep = np.zeros(7000, dtype=np.uint8)
    asleep[1000:5000] = 1
    made = _with_events(made, *_log((1.0, 5.0)))
    made.lines = ArrayLines(asleep, ("SLEEPS",))
    by_log = compare_sleep(made, Alignment(), 1e-4, Marker())
    by_line = compare_sleep(made, Alignment(), 1e-4, Marker("SLEEPS", asleep_when_high=True))
    assert by_log.rows == by_line.rows
    assert by_line.marker == "line SLEEPS, asleep when high"
    assert state_asleep(made, place(made), Marker(), Alignment()) == "B"


def test_a_log_that_begins_with_a_wake_began_asleep_and_without_one_nothing_is_said() -> None:
    made, _ = stays(("B", 2e-6, 2.0), ("C", 3e-3, 2.0))
    woken = _with_events(made, Event(2.0, "wake", "rtc"))
    found = compare_sleep(woken, Alignment(), 1e-4, Marker())
    assert {(row.believed_asleep, row.drew_asleep): row.time_s for row in found.rows if row.count} == {
        (True, True): pytest.approx(2.0), (False, False): pytest.approx(2.0)
    }  # fmt: skip
    assert compare_sleep(made, Alignment(), 1e-4, Marker()) is None
    assert compare_sleep(woken, Alignment(rival_s=1.0), 1e-4, Marker()) is None
    assert compare_sleep(made, Alignment(), 1e-4, Marker("NO_SUCH_LINE")) is None


def test_the_threshold_lies_between_sleep_and_what_comes_above() -> None:
    made, _ = stays(*(("B", 2e-6, 2.0), ("C", 1e-3, 2.0), ("D", 0.1, 1.0)) * 2, noise=0.02)
    levels = find_levels(made.current)
    assert default_threshold_a(levels) == pytest.approx(np.sqrt(2e-6 * 1e-3), rel=0.05)
    # Sleep should draw 20 nA: what is drawn in it counts as awake.
    assert default_threshold_a(levels, 20e-9) < 1e-6
    flat, _ = stays(("B", 2e-6, 2.0))
    assert default_threshold_a(find_levels(flat.current)) is None


def test_groups_and_splits_close_to_what_they_are_made_of() -> None:
    made, truth = stays(*(("Sleep", 2e-6, 1.0), ("Send", 0.1, 0.3), ("Idle", 9e-3, 1.0)) * 3)
    placement = place(made)
    ledger = make_ledger(made, grouped(placement, {"Send": "Radio", "Idle": "Radio"}))
    assert [(row.name, row.entries) for row in ledger.rows] == [("Sleep", 3), ("Radio", 3)]
    assert ledger.row("Radio").charge_c == pytest.approx(truth["Send"] + truth["Idle"])
    parts, names = split(made, placement, "Send", SplitBy.ENTRY)
    rows = make_ledger(made, parts)
    assert names == ("Send: 1", "Send: 2", "Send: 3")
    assert sum(rows.row(name).charge_c for name in names) == pytest.approx(truth["Send"])
    assert rows.row("Idle").charge_c == pytest.approx(truth["Idle"])
    assert split(made, placement, "no such state", SplitBy.ENTRY) == (placement, ())


def test_entries_are_split_by_their_wake_their_mark_and_what_came_before() -> None:
    made, _ = stays(
        ("Sleep", 2e-6, 1.0), ("Count", 3e-3, 1.0), ("Sleep", 2e-6, 1.0), ("Send", 0.1, 1.0), ("Count", 3e-3, 1.0)
    )
    made = _with_events(made, Event(1.0, "wake", "pir"), Event(3.0, "wake", "rtc"), Event(3.5, "mark", "report 1"))
    placement = place(made)
    assert split(made, placement, "Count", SplitBy.WAKE)[1] == ("Count: pir", "Count: rtc")
    assert split(made, placement, "Count", SplitBy.BEFORE)[1] == ("Count: Sleep", "Count: Send")
    assert split(made, placement, "Count", SplitBy.MARK)[1] == ("Count: before the first mark", "Count: report 1")


@given(st.lists(st.tuples(st.integers(1, 40), st.integers(0, 3)), min_size=1, max_size=14), st.integers(1, 30))
def test_no_short_stay_is_left_and_no_time_is_lost(parts, shortest: int) -> None:
    edges = np.concatenate(([0], np.cumsum([length for length, _ in parts])))
    state = np.array([number for _, number in parts])
    found_edges, found_state = absorbed(edges, state, shortest)
    assert (found_edges[0], found_edges[-1]) == (0, edges[-1])
    assert (np.diff(found_state) != 0).all()
    assert len(found_state) == 1 or (np.diff(found_edges) >= shortest).all()
    assert set(found_state.tolist()) <= set(state.tolist())


def test_very_many_entries_are_gathered() -> None:
    made, truth = stays(*(("Sleep", 2e-6, 0.02), ("Tick", 1e-3, 0.01)) * 500)
    parts, names = split(made, place(made), "Tick", SplitBy.ENTRY)
    assert len(names) <= 200
    assert (names[0], names[-1]) == ("Tick: 1 to 3", "Tick: 499 to 500")
    ledger = make_ledger(made, parts)
    assert sum(ledger.row(name).charge_c for name in names) == pytest.approx(truth["Tick"])
