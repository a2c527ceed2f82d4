from random import Random

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, ArrayLines, Made, stays
from warm_ember.attribution.clock import align
from warm_ember.attribution.ledger import Verdict, make_ledger, verdict
from warm_ember.attribution.placing import longest_unplaced, place
from warm_ember.attribution.stay_sums import sum_stays, sums_within
from warm_ember.attribution.window import Window, within
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.figure import Figure, Grade, weakest
from warm_ember.model.placement import UNPLACED
from warm_ember.model.project import ExpectedValue
from warm_ember.model.rules import BandRule, HandRule, LevelsRule, LineRule, LogRule
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries

PARTS = (("Sleep", 2e-6, 3.0), ("Run", 4e-3, 0.5), ("Sleep", 2e-6, 2.0), ("Radio", 0.1, 0.2), ("Sleep", 2e-6, 4.0))


def test_a_log_places_every_coulomb() -> None:
    made, truth = stays(*PARTS, noise=0.05)
    ledger = make_ledger(made, place(made), supply_v=3.0)
    assert ledger.unplaced is None
    for name, charge in truth.items():
        row = ledger.row(name)
        assert row is not None
        assert row.charge_c == pytest.approx(charge, rel=1e-9)
        assert row.energy_j == pytest.approx(3.0 * charge, rel=1e-9)
    assert {row.name: row.entries for row in ledger.rows} == {"Sleep": 3, "Run": 1, "Radio": 1}
    assert sum(row.time_share for row in ledger.rows) == pytest.approx(1.0)
    assert sum(row.charge_share for row in ledger.rows) == pytest.approx(1.0)


def test_before_the_first_state_nothing_is_placed() -> None:
    made, _ = stays(*PARTS)
    made.events = made.events[1:]
    placement = place(made)
    ledger = make_ledger(made, placement)
    assert ledger.unplaced is not None
    assert ledger.unplaced.dwell_s == pytest.approx(3.0)
    assert ledger.unplaced_share == pytest.approx(6e-6 / ledger.charge_c, rel=1e-4)
    assert longest_unplaced(placement) == (0, 3000)


def test_the_same_state_again_is_no_new_entry() -> None:
    made, _ = stays(("A", 1e-3, 1.0), ("A", 1e-3, 1.0), ("B", 2e-3, 1.0))
    row = make_ledger(made, place(made)).row("A")
    assert row is not None
    assert (row.entries, row.dwell_s) == (1, pytest.approx(2.0))


@given(
    st.lists(st.tuples(st.sampled_from("ABC"), st.floats(1e-7, 0.1), st.floats(0.002, 0.3)), min_size=1, max_size=25),
    st.lists(st.tuples(st.floats(0, 3), st.floats(0, 3)), max_size=4),
)
def test_whatever_is_placed_all_charge_is_somewhere(
    parts: list[tuple[str, float, float]], strokes: list[tuple[float, float]]
) -> None:
    made, truth = stays(*parts)
    by_hand = tuple(HandRule(f"H{k}", "made", *sorted(stroke)) for k, stroke in enumerate(strokes))
    placement = place(made, (*by_hand, LogRule()))
    ledger = make_ledger(made, placement)
    assert sum(row.charge_c for row in ledger.all_rows) == pytest.approx(sum(truth.values()), rel=1e-9)
    assert (np.diff(placement.edges) > 0).all()
    assert (np.diff(placement.state) != 0).all()


def test_lines_name_states_by_what_is_high() -> None:
    bits = np.repeat(np.uint8([0, 1, 3, 2, 0]), 100)
    made = Made(ArraySeries(np.ones(500, dtype=np.float32), INTERVAL_S), lines=ArrayLines(bits, ("TX", "RX")))
    assert place(made).rules == (LineRule(),)
    placement = place(made)
    assert placement.names == ("none", "TX", "TX+RX", "RX")
    assert placement.edges.tolist() == [0, 100, 200, 300, 400, 500]
    both = place(made, (LineRule("busy", high=("TX",), low=("RX",)), LineRule("else", low=("TX",))))
    assert [both.names[s] if s >= 0 else "" for s in both.state] == ["else", "busy", "", "else"]
    assert place(made, (LineRule("x", high=("GONE",)),)).state.tolist() == [UNPLACED]


def with_lines(parts: list[tuple[int, float, float]], names: tuple[str, ...], lag_s: float = 0.0) -> Made:
    """Make a recording of ``(combination, current_a, length_s)`` with lines that are late by `lag_s`."""
    random = np.random.default_rng(len(parts))
    made, _ = stays(*((str(value), current_a, length_s) for value, current_a, length_s in parts), noise=0.03)
    values = made.current.read(0, made.current.samples) + 1e-7 * random.standard_normal(made.current.samples)
    bits = np.concatenate([np.full(round(length_s / INTERVAL_S), value, np.uint8) for value, _, length_s in parts])
    made.current = ArraySeries(values.astype(np.float32), INTERVAL_S)
    made.lines = ArrayLines(np.roll(bits, round(lag_s / INTERVAL_S)), names)
    made.events = ()
    return made


@given(
    st.lists(st.floats(1.8, 30.0), min_size=3, max_size=3),
    st.integers(5, 25),
    st.sampled_from([0.0, 0.002, 0.004]),
    st.randoms(use_true_random=False),
)
def test_lines_tell_states_where_each_combination_draws_one_level(
    ratios: list[float], cycles: int, lag_s: float, random: Random
) -> None:
    currents_a = 3e-6 * np.cumprod([1.0, *ratios])
    parts = [
        (value, float(currents_a[value]), random.uniform(0.1, 0.6)) for _ in range(cycles) for value in (0, 1, 0, 3, 2)
    ]
    made = with_lines(parts, ("RUN", "RADIO"), lag_s)
    assert place(made).rules == (LineRule(),)


@pytest.mark.parametrize(
    ("what", "cycle"),
    [
        # A lamp that blinks whatever the core does.
        ("LED", [(0, 3e-6, 0.7), (1, 3e-6, 0.3), (1, 4e-3, 0.3), (0, 4e-3, 0.4), (0, 3e-6, 0.9)]),
        # A bus that idles high, asleep and at work, with short pulses.
        ("SDA", [(1, 3e-6, 1.2), (1, 4e-3, 0.1), *[(0, 4e-3, 0.001), (1, 4e-3, 0.001)] * 20, (1, 4e-3, 0.2)]),
        # A pin of the radio alone: what the core does without it is no level of its combination.
        ("RADIO", [(0, 3e-6, 0.9), (0, 4e-3, 0.03), (0, 3e-6, 0.9), (0, 4e-3, 0.03), (0, 3e-6, 0.2), (1, 0.05, 0.5)]),
        # A pulse for each wake.
        ("SYNC", [(0, 3e-6, 0.9), (1, 4e-3, 0.001), (0, 4e-3, 0.3)]),
    ],
)
def test_lines_that_tell_no_states_leave_them_to_the_levels(what: str, cycle: list[tuple[int, float, float]]) -> None:
    made = with_lines(cycle * 12, (what,))
    placement = place(made)
    assert placement.rules == (LevelsRule(),)
    means_a = [row.mean.value for row in make_ledger(made, placement).rows]
    for _, current_a, length_s in cycle:
        if length_s > 0.01:
            assert min(abs(mean_a / current_a - 1) for mean_a in means_a) < 0.2
    assert set(place(made, (LineRule(),)).names) == {"none", what}


def test_a_state_event_goes_before_lines() -> None:
    made, _ = stays(*PARTS)
    made.lines = ArrayLines(np.zeros(made.current.samples, dtype=np.uint8), ("TX",))
    assert place(made).rules == (LogRule(),)


def test_rules_apply_in_order_and_by_hand_before_all() -> None:
    made, _ = stays(*PARTS)
    rules = (BandRule("Hot", 1e-2, 1.0), LogRule("Run", "Work"), LogRule(), HandRule("Mine", "made", 0.0, 1.0))
    placement = place(made, rules)
    assert placement.names == ("Mine", "Hot", "Work", "Sleep")
    assert place(made, (HandRule("Mine", "other", 0.0, 1.0), LogRule())).names == ("Sleep", "Run", "Radio")


def test_of_two_strokes_the_later_counts() -> None:
    made, _ = stays(*PARTS)
    placement = place(made, (HandRule("first", "made", 0, 2), HandRule("second", "made", 1, 3)))
    ledger = make_ledger(made, placement)
    assert [(row.name, row.dwell_s) for row in ledger.rows] == [
        ("second", pytest.approx(2)),
        ("first", pytest.approx(1)),
    ]


def test_without_log_and_lines_levels_are_found_and_named_upward() -> None:
    made, truth = stays(*PARTS * 4, noise=0.03)
    made.events = ()
    ledger = make_ledger(made, place(made))
    assert sorted(row.name for row in ledger.rows) == ["level 1", "level 2", "level 3"]
    for name, state in (("level 1", "Sleep"), ("level 2", "Run"), ("level 3", "Radio")):
        row = ledger.row(name)
        assert row is not None
        assert row.charge_c == pytest.approx(truth[state], rel=0.01)
    named = place(made, (LevelsRule({"level 1": "Rest", "level 2": "Busy", "level 3": "Busy"}),))
    assert sorted(named.names) == ["Busy", "Rest"]


@pytest.mark.parametrize(("offset_s", "drift"), [(2.5, 80e-6), (0.0, 40e-6), (-0.003, 0.0), (-7.0, -30e-6)])
def test_the_log_may_run_on_its_own_clock(offset_s: float, drift: float) -> None:
    random = np.random.default_rng(3)
    parts = [
        (("Sleep", 5e-6, "Run", 3e-3)[2 * (k % 2)], (5e-6, 3e-3)[k % 2], random.uniform(0.1, 0.7)) for k in range(200)
    ]
    made, truth = stays(*parts, noise=0.02)
    shifted = tuple(msgspec.structs.replace(e, time_s=(e.time_s - offset_s) / (1 + drift)) for e in made.events)
    made.events = shifted
    alignment = align(made, lambda: find_levels(made.current))
    assert alignment.offset_s == pytest.approx(offset_s, abs=2e-3)
    assert alignment.drift == pytest.approx(drift, abs=20e-6)
    ledger = make_ledger(made, place(made))
    for name, charge in truth.items():
        row = ledger.row(name)
        assert row is not None
        assert row.charge_c == pytest.approx(charge, rel=0.01)


def test_a_log_that_fits_is_left_alone() -> None:
    made, _ = stays(*PARTS)
    assert align(made, lambda: find_levels(made.current)).method == "same clock"


def test_sync_pulses_on_a_line_align_the_log() -> None:
    bits = np.zeros(20_000, dtype=np.uint8)
    rises = [1000, 5200, 9100, 15_000]
    for at in rises:
        bits[at : at + 5] = 1
    syncs = tuple(Event((at * INTERVAL_S - 0.75) / (1 + 50e-6), "sync", "SYNC") for at in rises)
    made = Made(ArraySeries(np.ones(20_000, dtype=np.float32), INTERVAL_S), syncs, ArrayLines(bits, ("SYNC",)))
    alignment = align(made, lambda: find_levels(made.current))
    assert alignment.method == "sync line SYNC"
    assert alignment.to_capture(syncs[-1].time_s) == pytest.approx(15.0, abs=1e-6)


def test_missing_samples_lower_no_mean() -> None:
    values = np.float32([1, 1, np.nan, np.nan, 3, 3])
    made = Made(ArraySeries(values, INTERVAL_S), (Event(0.0, "state", "A"),))
    row = make_ledger(made, place(made)).row("A")
    assert row is not None
    assert (row.mean.value, row.dwell_s, row.charge_c) == (pytest.approx(2.0), pytest.approx(6e-3), pytest.approx(8e-3))


def test_what_the_instrument_cannot_resolve_is_bounded() -> None:
    made, _ = stays(("Sleep", 2e-7, 1.0), ("Run", 1e-3, 1.0))
    made.info = CaptureInfo(INTERVAL_S, resolution_a=3e-6)
    ledger = make_ledger(made, place(made))
    sleep, run = ledger.row("Sleep"), ledger.row("Run")
    assert sleep is not None
    assert run is not None
    assert (sleep.mean.grade, sleep.mean.high) == (Grade.BOUNDED, 3e-6)
    assert run.mean.grade is Grade.MEASURED


@pytest.mark.parametrize(
    ("low", "high", "judged"),
    [(1.1, 1.15, Verdict.OK), (1.25, 1.3, Verdict.ABOVE), (0.5, 0.7, Verdict.BELOW), (1.1, 1.4, Verdict.OK)],
)
def test_a_verdict_needs_the_whole_interval_outside(low: float, high: float, judged: Verdict) -> None:
    figure = Figure((low + high) / 2, low, high)
    assert verdict(figure, ExpectedValue("A", 1.0, 0.2)) is judged
    assert verdict(figure, None) is Verdict.NONE


def test_the_weakest_grade_wins() -> None:
    assert weakest([Grade.MEASURED, Grade.ASSUMED, Grade.ENTERED]) is Grade.ASSUMED
    assert weakest([]) is Grade.MEASURED


def test_rules_that_contradict_each_other_are_told() -> None:
    made, _ = stays(("A", 2e-6, 1.0), ("B", 1e-3, 1.0), ("C", 5e-3, 2.0))
    low, high = BandRule("low", 0.5e-3, 2e-3), BandRule("high", 0.8e-3, 1e-2)
    placement = place(made, (low, high, LogRule()))
    assert placement.overruled[1] == pytest.approx(1 / 3, abs=0.01)
    assert 0 not in placement.overruled
    again = place(made, (low, BandRule("low", 0.8e-3, 1e-2)))
    assert not again.overruled  # two rules for one state do not contradict each other


def test_the_mean_of_a_single_level_may_lie_to_either_side() -> None:
    random = np.random.default_rng(5)
    wander = np.repeat(1e-3 + 2e-5 * random.standard_normal(200), 100)
    made = Made(ArraySeries(wander.astype(np.float32), INTERVAL_S))
    ledger = make_ledger(made, place(made))
    assert len(ledger.all_rows) == 1
    low, high = ledger.interval
    assert low < ledger.mean_a < high


@given(st.data())
def test_a_part_of_the_stays_is_summed_as_if_it_were_all_there_is(data: st.DataObject) -> None:
    parts = data.draw(
        st.lists(
            st.tuples(st.sampled_from("ABC"), st.floats(1e-6, 0.1), st.floats(0.002, 0.3)), min_size=1, max_size=12
        )
    )
    made, _ = stays(*parts, noise=0.1)
    samples = made.current.samples
    values = made.current.read(0, samples).astype(np.float64)
    placement = place(made)
    whole = sum_stays(made, placement, supply_v=2.0)
    first = data.draw(st.integers(0, samples - 1))
    last = data.draw(st.integers(first + 1, samples))
    part = sums_within(whole, made, first, last, supply_v=2.0)
    expected = within(placement, Window(first * INTERVAL_S, last * INTERVAL_S), INTERVAL_S)
    assert part.edges.tolist() == expected.edges.tolist()
    assert part.state.tolist() == expected.state.tolist()
    begins, ends = part.edges[:-1], part.edges[1:]
    owner = np.searchsorted(whole.edges, begins, side="right") - 1
    np.testing.assert_array_equal(part.inner_first, np.maximum(whole.inner_first[owner], begins))
    np.testing.assert_array_equal(part.inner_last, np.minimum(whole.inner_last[owner], ends))
    for name, firsts, lasts in (("charge_c", begins, ends), ("inner_c", part.inner_first, part.inner_last)):
        sums = [values[a:b].sum() * INTERVAL_S for a, b in zip(firsts.tolist(), lasts.tolist(), strict=True)]
        np.testing.assert_allclose(getattr(part, name), sums, rtol=1e-6, atol=1e-15)
    np.testing.assert_allclose(part.peak_a, [values[a:b].max() for a, b in zip(begins, ends, strict=True)], rtol=1e-6)
    np.testing.assert_allclose(part.measured_s, (ends - begins) * INTERVAL_S)
    np.testing.assert_allclose(part.dwell_s, part.measured_s)
    np.testing.assert_allclose(part.energy_j, 2.0 * part.charge_c)
    np.testing.assert_allclose(part.mean_a, part.charge_c / part.measured_s)
