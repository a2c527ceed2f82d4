"""How far edges reach, what an instrument could not tell, and what a sequence of states says of the mean."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import lfilter

from attribution.made import INTERVAL_S, Made, stays
from warm_ember.attribution.budget import budget_by_activity, budget_by_state
from warm_ember.attribution.cpu_wakes import covered, cpu_spans, cpus_of
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.limits import NO_LIMITS, MeasurementLimits, find_limits
from warm_ember.attribution.placing import place
from warm_ember.attribution.sequence import Sequence, added_by, mean_of_sequence, recurring
from warm_ember.attribution.unseen import Unseen, at_its_limit, with_unseen
from warm_ember.errors import Cancelled
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.figure import Bound, Figure, Grade
from warm_ember.model.load import ActivityCost, Load
from warm_ember.model.placement import Placement
from warm_ember.model.rules import LevelsRule
from warm_ember.signal.edge_reach import find_edge_reach
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries


def two_states(entries: int, *, tail: int, seed: int, quiet_a: float = 1e-5) -> tuple[ArraySeries, Placement]:
    """Sleep and bursts; after each burst the current settles for `tail` samples."""
    random = np.random.default_rng(seed)
    quiet, busy = 800, 200
    values, edges, state = [], [0], []
    for entry in range(entries):
        for number, length in ((0, quiet), (1, busy)):
            piece = np.full(length, (quiet_a, 1e-2)[number])
            if number == 0 and entry and tail:
                piece[:tail] += 3e-3 * np.exp(-np.arange(tail) / (tail / 3))
            values.append(piece)
            edges.append(edges[-1] + length)
            state.append(number)
    all_a = np.concatenate(values) * (1 + 0.01 * random.standard_normal(edges[-1]))
    placement = Placement(("Sleep", "Burst"), np.array(edges), np.array(state), ("log", "log"))
    return ArraySeries(all_a.astype(np.float32), INTERVAL_S), placement


@settings(max_examples=15)
@given(st.integers(4, 20), st.integers(0, 9))
def test_where_nothing_settles_nothing_reaches_in(entries, seed) -> None:
    current, placement = two_states(entries, tail=0, seed=seed)
    reach = find_edge_reach(current, placement.edges, placement.state)
    assert reach.after.max() <= 1
    assert reach.before.max() <= 1
    assert (reach.after[placement.state == 1] == 0).all()  # nothing quiet reaches into a burst


@settings(max_examples=15)
@given(st.integers(4, 20), st.integers(3, 10), st.integers(0, 9))
def test_what_settles_after_a_burst_is_reach(entries, tail, seed) -> None:
    current, placement = two_states(entries, tail=tail, seed=seed)
    after = find_edge_reach(current, placement.edges, placement.state).after[placement.state == 0][1:]
    # It ends within a quarter of an entry, and at what an instrument may take to settle.
    assert (after >= min(tail, 3) - 1).all()
    assert (after <= max(10, 2 * tail)).all()


def test_looking_for_reach_can_be_stopped() -> None:
    current, placement = two_states(4, tail=0, seed=0)
    with pytest.raises(Cancelled):
        find_edge_reach(current, placement.edges, placement.state, should_stop=lambda: True)


@settings(max_examples=40)
@given(
    st.lists(st.floats(-6.0, -1.0), min_size=2, max_size=5),
    st.integers(1, 40),
    st.floats(0.0, 3.0),
    st.sampled_from([0.0, 0.01, 0.05]),
    st.integers(0, 99),
)
def test_levels_are_named_from_the_one_that_draws_least(decades, per_sample, settles, noise, seed) -> None:
    """However an instrument blurs the changes: what of a burst lies in the sample beside it lifts no sleep's name."""
    random = np.random.default_rng(seed)
    drawn_a = 10.0 ** np.array(decades)
    stays_a = drawn_a[random.integers(0, len(drawn_a), 120)]
    fine_a = np.repeat(stays_a, random.integers(20, 60, len(stays_a)) * per_sample)
    means_a = fine_a[: len(fine_a) // per_sample * per_sample].reshape(-1, per_sample).mean(axis=1)
    if settles:
        means_a = lfilter([1 - np.exp(-1 / settles)], [1, -np.exp(-1 / settles)], means_a)
    values = means_a * (1 + noise * random.standard_normal(len(means_a)))
    made = Made(ArraySeries(values.astype(np.float32), INTERVAL_S))
    ledger = make_ledger(made, place(made, (LevelsRule(),)))
    told = sorted((int(row.name.removeprefix("level ")), row.mean.value) for row in ledger.rows)
    assert [number for number, _ in told] == list(range(1, len(told) + 1))
    assert np.diff([mean_a for _, mean_a in told]).min(initial=0.0) >= 0


STRETCHES = st.lists(st.integers(1, 30), min_size=0, max_size=12)


@given(STRETCHES, st.lists(st.integers(0, 400), min_size=2, max_size=20, unique=True).map(sorted))
def test_an_interval_is_clipped_where_a_stretch_lies_in_it(lengths, edges) -> None:
    ends = np.cumsum(lengths) if lengths else np.zeros(0, dtype=np.int64)
    pairs = np.array(list(zip(ends[::2].tolist(), ends[1::2].tolist(), strict=False)), dtype=np.int64).reshape(-1, 2)
    marked = np.zeros(1000, dtype=bool)
    for first, last in pairs.tolist():
        marked[first:last] = True
    found = MeasurementLimits(clipped=pairs).clips(np.array(edges))
    for at, (first, last) in enumerate(itertools.pairwise(edges)):
        assert found[at] == marked[first:last].any()
    assert not NO_LIMITS.clips(np.array(edges)).any()


@given(st.floats(-1e-6, 1e-1), st.floats(0, 1e-2), st.booleans())
def test_a_reading_below_what_is_resolved_is_a_bound(mean_a, least_a, is_clipped) -> None:
    figure = MeasurementLimits(least_a).read(mean_a, is_clipped=is_clipped)
    if is_clipped:
        assert (figure.bound, figure.low) == (Bound.AT_LEAST, mean_a)
    elif mean_a < least_a:
        assert (figure.bound, figure.high, figure.grade) == (Bound.BELOW, least_a, Grade.BOUNDED)
    else:
        assert figure == Figure(mean_a)
    assert MeasurementLimits(least_a).read(None, is_clipped=is_clipped).value is None


@settings(max_examples=10)
@given(st.floats(1e-6, 1e-4), st.floats(0.02, 0.3), st.integers(0, 9))
def test_the_noise_of_sleep_is_what_limits_it(floor_a, noise, seed) -> None:
    random = np.random.default_rng(seed)
    values = np.full(20_000, floor_a)
    values[::2000] = values[1::2000] = 5e-3
    current = ArraySeries((values + noise * floor_a * random.standard_normal(20_000)).astype(np.float32), INTERVAL_S)
    recording = Made(current)
    limits = find_limits(recording, lambda: find_levels(current))
    assert limits.least_a == pytest.approx(noise * floor_a, rel=0.15)
    assert limits.why == "noise"
    stated = find_limits(Made(current, info=CaptureInfo(INTERVAL_S, resolution_a=1e-2)), lambda: find_levels(current))
    assert (stated.least_a, stated.why) == (1e-2, "stated resolution")


@given(st.lists(st.floats(1e-6, 1e-2), min_size=2, max_size=40), st.floats(0.5, 5.0))
def test_what_recurs_adds_its_charges_over_the_time(charges_c, every_s) -> None:
    begins_s = every_s * (0.5 + np.arange(len(charges_c)))
    found = recurring(begins_s, np.array(charges_c), every_s * len(charges_c))
    assert found.value == pytest.approx(sum(charges_c) / (every_s * len(charges_c)))
    assert found.error >= 0
    once = recurring(begins_s[:1], np.array(charges_c[:1]), 10.0)
    assert once.value == once.error == pytest.approx(charges_c[0] / 10.0)
    assert recurring(np.zeros(0), np.zeros(0), 10.0).value == 0


@settings(max_examples=15)
@given(
    st.lists(st.tuples(st.sampled_from(("Sleep", "Count", "Report")), st.floats(0.05, 0.4)), min_size=6, max_size=25)
)
def test_the_states_of_a_sequence_add_up_to_its_mean(parts) -> None:
    levels_a = {"Sleep": 2e-5, "Count": 3e-3, "Report": 5e-2}
    recording, truth = stays(*((name, levels_a[name], round(length_s, 3)) for name, length_s in parts), noise=0.01)
    edges = np.concatenate(([0], np.cumsum([round(round(length_s, 3) / INTERVAL_S) for _, length_s in parts])))
    names = list(dict.fromkeys(name for name, _ in parts))
    state = np.array([names.index(name) for name, _ in parts])
    sums = interval_sums(recording.current, edges)
    sequence = Sequence(state, edges, sums.total * INTERVAL_S, sums.count * INTERVAL_S, recording.current)
    mean_a = sum(truth.values()) / sequence.duration_s
    assert mean_of_sequence(sequence).value == pytest.approx(mean_a, rel=1e-9)
    added = [added_by(sequence, number).value for number in range(len(names))]
    assert sum(added) == pytest.approx(mean_a, rel=1e-6)
    for number, name in enumerate(names):
        assert added[number] == pytest.approx(truth[name] / sequence.duration_s, rel=1e-6)


COST = ActivityCost("Send", 0.02, 2.0, 0.1, 1e-3, 0.05, 0.1, Grade.MEASURED, "r1", (), {})


@given(st.floats(1e-6, 1e-3), st.lists(st.floats(1e-3, 1.0), min_size=1, max_size=5))
def test_a_budget_adds_up_to_the_average(base_a, charges_c) -> None:
    costs = tuple(
        ActivityCost(f"act {k}", c, 1.0, 0.1, 1e-3, 0.0, 0.0, Grade.ENTERED, "entered", (), {})
        for k, c in enumerate(charges_c)
    )
    load = Load(Figure(base_a), "Sleep", costs)
    recording, _ = stays(("Sleep", base_a, 1.0), ("Count", 1e-3, 0.1))
    placement = Placement(("Sleep", "Count"), np.array([0, 1000, 1100]), np.array([0, 1]), ("log", "log"))
    ledger = make_ledger(recording, placement)
    for segments in (budget_by_activity(load), budget_by_state(load, ledger)):
        assert sum(one.added_a for one in segments) == pytest.approx(load.mean_a, rel=1e-9)
        assert [one.added_a for one in segments] == sorted((one.added_a for one in segments), reverse=True)
    without = budget_by_state(Load(Figure(base_a), "Sleep", ()), ledger)
    assert sum(one.added_a for one in without) == pytest.approx(ledger.mean_a)


@given(st.floats(1.0, 1e6), st.floats(1e-6, 1.0))
def test_what_was_never_seen_is_seen_in_nine_of_ten_captures_at_its_limit(looked_s, charge_c) -> None:
    unseen, load = Unseen(looked_s, charge_c), Load(Figure(1e-5), "Sleep", (COST,))
    assert 1 - math.exp(-looked_s / unseen.interval_s) == pytest.approx(0.9)
    worst, middle = at_its_limit(load, unseen), with_unseen(load, unseen)
    assert load.mean_a < middle.mean_a < worst.mean_a
    assert worst.mean_a - load.mean_a == pytest.approx(charge_c / unseen.interval_s)
    assert middle.costs[-1].unseen_for_s == looked_s


@given(st.lists(st.tuples(st.integers(0, 80), st.integers(1, 40)), max_size=12))
def test_how_many_spans_lie_over_an_interval_is_counted(spans) -> None:
    first = np.array([begin for begin, _ in spans], dtype=np.int64)
    last = np.array([begin + length for begin, length in spans], dtype=np.int64)
    edges = np.unique(np.concatenate((first, last, [0, 200])))
    found = covered(first, last, edges)
    for at in range(len(edges) - 1):
        middle = (edges[at] + edges[at + 1]) / 2
        assert found[at] == ((first < middle) & (last > middle)).sum()


@given(st.lists(st.tuples(st.integers(0, 2), st.integers(2, 50), st.integers(2, 50)), min_size=1, max_size=20))
def test_each_cpu_wakes_and_sleeps_on_its_own(steps) -> None:
    now, events, wakes, idle, asleep = dict.fromkeys(range(3), 0), [], [], [], {}
    for cpu, sleeps, works in steps:
        begin, end = now[cpu] + sleeps, now[cpu] + sleeps + works
        events += [
            Event(begin * INTERVAL_S, "wake", "timer", f"cpu={cpu}"),
            Event(end * INTERVAL_S, "sleep", "C2", f"cpu={cpu}"),
        ]  # fmt: skip
        wakes.append((begin, end, cpu))
        if cpu in asleep:
            idle.append((asleep[cpu], begin, cpu))
        now[cpu] = asleep[cpu] = end
    by_cpu = cpus_of([*events, Event(0.0, "wake", "no CPU"), Event(0.1, "log", "cpu=1", "cpu=1")])
    assert set(by_cpu) == {cpu for cpu, _, _ in steps}
    spans = cpu_spans(by_cpu, lambda time_s: time_s, INTERVAL_S, 10_000, "unknown")
    assert list(zip(spans.first.tolist(), spans.last.tolist(), spans.cpu.tolist(), strict=True)) == sorted(wakes)
    found = list(zip(spans.idle_first.tolist(), spans.idle_last.tolist(), spans.idle_cpu.tolist(), strict=True))
    assert found == sorted(idle)
    np.testing.assert_allclose(spans.idle_s, (spans.idle_last - spans.idle_first) * INTERVAL_S, atol=1e-9)
    for cpu in by_cpu:
        one = spans.only(cpu)
        assert (one.cpu == cpu).all()
        assert len(one.source) == len(one.first)
