"""Floors, bursts, courses, sorts and recurrences against what was made, and against slow obvious definitions."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from warm_ember.errors import Cancelled
from warm_ember.signal.bursts import find_bursts
from warm_ember.signal.courses import course_distance, read_courses
from warm_ember.signal.floor import find_floor
from warm_ember.signal.recurrence import Manner, recurrence_of
from warm_ember.signal.series import ArraySeries
from warm_ember.signal.sorting import ALONE, renumbered, sort_by_likeness

INTERVAL_S = 1e-3


def series(values: np.ndarray) -> ArraySeries:
    return ArraySeries(values.astype(np.float32), INTERVAL_S)


@st.composite
def bursty(draw: st.DrawFn) -> tuple[np.ndarray, list[tuple[int, int]], float, float]:
    """A floor with noise and bursts well above it, none of which touches another."""
    floor_a = 10 ** draw(st.floats(-6, -4))
    noise = draw(st.floats(0.005, 0.2))
    lengths = draw(st.lists(st.tuples(st.integers(20, 400), st.integers(1, 120)), min_size=1, max_size=20))
    random = np.random.default_rng(draw(st.integers(0, 999)))
    pieces, spans, now = [], [], 0
    for quiet, busy in lengths:
        height_a = floor_a * random.uniform(5, 500)
        pieces += [np.full(quiet + 100, floor_a), np.full(busy, height_a)]
        spans.append((now + quiet + 100, now + quiet + 100 + busy))
        now += quiet + 100 + busy
    pieces.append(np.full(200, floor_a))
    values = np.concatenate(pieces)
    return values + noise * floor_a * random.standard_normal(len(values)), spans, floor_a, noise * floor_a


@given(bursty())
def test_the_floor_and_its_noise_are_what_was_made(made) -> None:
    values, _, floor_a, noise_a = made
    found = find_floor(series(values))
    assert found is not None
    assert found.level_a == pytest.approx(floor_a, abs=0.3 * noise_a + 1e-3 * floor_a)
    assert 0.7 * noise_a < found.noise_a < 1.6 * noise_a + 2e-3 * floor_a


@given(bursty(), st.integers(2, 60), st.integers(0, 99))
def test_readings_that_are_held_scatter_as_those_that_are_not(made, longest, seed) -> None:
    """As a logger gives that writes on change: beside a reading stands the same again."""
    values, _, floor_a, noise_a = made
    held = np.repeat(values, np.random.default_rng(seed).integers(2, longest + 1, len(values)))
    found = find_floor(series(held))
    assert found is not None
    assert found.level_a == pytest.approx(floor_a, abs=0.5 * noise_a + 1e-3 * floor_a)
    assert 0.6 * noise_a < found.noise_a < 2 * noise_a + 2e-3 * floor_a


@given(bursty())
def test_every_burst_is_found_to_the_sample(made) -> None:
    values, spans, _, _ = made
    found = find_bursts(series(values))
    ends = list(zip(found.first.tolist(), found.last.tolist(), strict=True))
    assert len(ends) == len(spans)
    for (first, last), (begin, end) in zip(ends, spans, strict=True):
        # What noise adds to an end is a sample or two.
        assert begin - 4 <= first <= begin
        assert end <= last <= end + 4


@given(st.floats(1e-7, 1e-3), st.floats(0, 0.3), st.integers(0, 99), st.sampled_from((100, 5000, 300_000)))
def test_noise_alone_is_no_burst(floor_a, noise, seed, samples) -> None:
    random = np.random.default_rng(seed)
    found = find_bursts(series(floor_a * (1 + noise * random.standard_normal(samples))))
    assert len(found.first) == 0


def test_nothing_measured_has_neither_floor_nor_bursts() -> None:
    for values in (np.zeros(0), np.full(5000, np.nan)):
        assert find_floor(series(values)) is None
        assert len(find_bursts(series(values)).first) == 0


def test_what_lasts_and_has_bursts_of_its_own_is_a_state() -> None:
    random = np.random.default_rng(1)
    values = np.full(60_000, 5e-6)
    values[20_000:45_000] = 1e-3  # the modem idles
    for first in range(1000, 59_000, 3000):
        values[first : first + 40] += 8e-3
    found = find_bursts(series(values * (1 + 0.02 * random.standard_normal(60_000))))
    assert [(rest.first, rest.last) for rest in found.rests[1:]] == [(20_000, 45_000)]
    assert found.rests[1].floor.level_a == pytest.approx(1e-3, rel=0.01)
    assert len(found.first) == len(range(1000, 59_000, 3000))
    inside = (found.first >= 20_000) & (found.first < 45_000)
    np.testing.assert_array_equal(found.rest, inside.astype(int))


def test_looking_for_bursts_can_be_stopped() -> None:
    values = np.full(5000, 1e-6)
    values[100:200] = 1e-3
    with pytest.raises(Cancelled):
        find_bursts(series(values), should_stop=lambda: True)


@given(bursty(), st.floats(0, 0.4))
def test_courses_are_sums_over_their_samples(made, missing) -> None:
    values, spans, floor_a, noise_a = made
    values = values.copy()
    values[np.random.default_rng(3).random(len(values)) < missing] = np.nan
    first, last = (np.array(column) for column in zip(*spans, strict=True))
    count = len(first)
    found = read_courses(
        series(values), first, last, np.full(count, floor_a), np.full(count, noise_a), columns=5, whole=True
    )
    for at, (begin, end) in enumerate(spans):
        part = values[begin:end].astype(np.float32).astype(np.float64)
        if np.isnan(part).all():
            assert np.isnan(found.total[at])
            continue
        assert found.total[at] == pytest.approx(np.nanmean(part) * (end - begin), rel=1e-6)
        assert found.peak_a[at] == np.nanmax(part)
        assert found.mean_a[at].mean() == pytest.approx(np.nanmean(part), rel=1e-6)
        assert 0 <= found.core[at, 0] <= found.core[at, 1] <= end - begin
        filled = np.where(np.isnan(part), np.nanmean(part), part)
        above, times = np.maximum(filled - floor_a, 0), np.arange(end - begin) + 0.5
        centre = (above * times).sum() / above.sum()
        width = math.sqrt((above * (times - centre) ** 2).sum() / above.sum() + 1 / 12)
        assert found.charge.centre[at] == pytest.approx(centre, rel=1e-6)
        assert found.charge.width[at] == pytest.approx(width, rel=1e-6)


@given(bursty(), st.randoms(use_true_random=False))
def test_courses_of_which_some_are_read_anew_are_as_all_read_at_once(made, random) -> None:
    values, spans, floor_a, noise_a = made

    def read(stretches):
        first, last = np.array(stretches, dtype=np.int64).reshape(-1, 2).T
        return read_courses(
            series(values), first, last, np.full(len(first), floor_a), np.full(len(first), noise_a), columns=5
        )

    begin = random.randrange(len(spans))
    end = random.randrange(begin, len(spans))
    joined = [*spans[:begin], (spans[begin][0], spans[end][1]), *spans[end + 1 :]]
    kept = np.array([*range(begin + 1), *range(end + 1, len(spans))])
    found = read(spans).of(kept).with_others(np.array([begin]), read(joined[begin : begin + 1]))
    expected = read(joined)
    assert found.lasts.tolist() == expected.lasts.tolist()
    for name in ("total", "peak_a", "level_a", "core", "mean_a"):
        np.testing.assert_allclose(getattr(found, name), getattr(expected, name), rtol=1e-9, atol=1e-18)
    for one, other in ((found.charge, expected.charge), (found.height, expected.height)):
        np.testing.assert_allclose(
            (one.centre, one.width, one.skew), (other.centre, other.width, other.skew), rtol=1e-6, atol=1e-9
        )


COURSES = st.lists(st.floats(-5, 5), min_size=12, max_size=12).map(np.array)


@given(COURSES, COURSES)
def test_courses_are_as_far_apart_both_ways_and_no_farther_than_point_by_point(one, other) -> None:
    assert course_distance(one, one) == 0
    assert course_distance(one, other) == pytest.approx(course_distance(other, one))
    assert course_distance(one, other) <= np.abs(one - other).mean() + 1e-12


@st.composite
def things(draw: st.DrawFn) -> tuple[np.ndarray, np.ndarray]:
    """Groups that lie well apart, each tight, in three figures."""
    groups = draw(st.integers(1, 6))
    random = np.random.default_rng(draw(st.integers(0, 999)))
    sizes = [draw(st.integers(2, 60)) for _ in range(groups)]
    centres = np.cumsum(random.uniform(3, 6, (groups, 3)), axis=0)
    truth = np.repeat(np.arange(groups), sizes)
    rows = centres[truth] + random.uniform(0.01, 0.12) * random.standard_normal((len(truth), 3))
    order = random.permutation(len(truth))
    return rows[order], truth[order]


@given(things())
def test_what_is_alike_is_one_sort_and_what_is_not_is_none(made) -> None:
    rows, truth = made
    found = sort_by_likeness(rows)
    assert (found != ALONE).all()
    assert len(set(zip(found.tolist(), truth.tolist(), strict=True))) == len(set(truth.tolist()))
    np.testing.assert_array_equal(found, renumbered(found))
    lonely = np.vstack((rows, rows.max(axis=0) + 50))
    assert sort_by_likeness(lonely)[-1] == ALONE


@given(things(), st.integers(0, 99))
def test_the_order_of_things_makes_no_other_sorts(made, seed) -> None:
    rows, truth = made
    order = np.random.default_rng(seed).permutation(len(rows))
    one, other = sort_by_likeness(rows), sort_by_likeness(rows[order])
    assert len(set(zip(one[order].tolist(), other.tolist(), strict=True))) == len(set(truth.tolist()))


def test_sorting_nothing_and_being_stopped() -> None:
    assert len(sort_by_likeness(np.zeros((0, 3)))) == 0
    with pytest.raises(Cancelled):
        sort_by_likeness(np.zeros((4, 2)), should_stop=lambda: True)


@given(st.floats(0.1, 100), st.integers(6, 200), st.floats(0, 0.008), st.floats(-0.9, 0.9), st.integers(0, 99))
def test_a_timer_is_known_to_a_fifth_of_a_per_cent(period_s, count, jitter, phase, seed) -> None:
    random = np.random.default_rng(seed)
    times_s = period_s * (1 + phase + np.arange(count) + jitter * random.standard_normal(count))
    found = recurrence_of(times_s, period_s * (count + 1))
    assert found.manner is Manner.TIMER
    assert found.period_s is not None
    error = max(0.002, 5 * jitter * math.sqrt(12 / count**3))
    assert found.period_s == pytest.approx(period_s, rel=error)
    assert found.jitter_s == pytest.approx(jitter * period_s, rel=0.9, abs=1e-9 * period_s)
    assert found.rate_low_hz <= found.rate_hz <= found.rate_high_hz


@given(st.floats(1, 50), st.integers(30, 120), st.floats(0.06, 0.25), st.integers(0, 99))
def test_a_timer_that_skips_keeps_its_period(period_s, count, skipped, seed) -> None:
    random = np.random.default_rng(seed)
    taken = np.flatnonzero(random.random(count) > skipped)
    assume(len(taken) < 0.95 * count)
    found = recurrence_of(period_s * (0.3 + taken.astype(float)), period_s * count)
    assert found.manner is Manner.SKIPS
    assert found.period_s == pytest.approx(period_s, rel=1e-6)
    # Slots before the first that was taken are not seen.
    assert found.rate_hz == pytest.approx(len(taken) / (count - taken[0]) / period_s, rel=0.1)


@given(st.floats(0.1, 50), st.integers(3, 60), st.floats(0, 0.99), st.integers(4, 500), st.integers(0, 50))
def test_a_timer_that_stops_counts_no_more_than_it_came(period_s, count, phase, after, before) -> None:
    # A modem listens for a while: that its timer would come all day long is not known.
    times_s = period_s * (before + phase + np.arange(count))
    found = recurrence_of(times_s, float(times_s[-1]) + period_s * (after + 0.5))
    assert found.manner is Manner.SKIPS
    assert found.period_s == pytest.approx(period_s, rel=1e-6)
    assert found.timers[0].skipped == 0
    duration_s = period_s * (before + phase + count - 1 + after + 0.5)
    assert found.rate_hz * duration_s == pytest.approx(count, rel=0.1, abs=1)
    assert found.timers[0].slots - found.timers[0].stopped == count


@given(st.floats(0.1, 50), st.integers(6, 60), st.integers(0, 500), st.integers(0, 2))
def test_a_timer_that_begins_late_goes_on_as_it_came(period_s, count, before, after) -> None:
    times_s = period_s * (before + 0.4 + np.arange(count))
    found = recurrence_of(times_s, float(times_s[-1]) + period_s * (after + 0.5))
    assert found.manner is Manner.TIMER
    assert found.rate_hz == pytest.approx(1 / period_s, rel=1e-6)


@settings(max_examples=15)
@given(st.floats(2, 30), st.integers(40, 150), st.integers(0, 99))
def test_what_comes_by_chance_has_no_period(apart_s, count, seed) -> None:
    times_s = np.cumsum(np.random.default_rng(seed).exponential(apart_s, count))
    found = recurrence_of(times_s, float(times_s[-1]) + apart_s)
    assert found.manner is Manner.CHANCE
    assert found.period_s is None
    assert found.rate_low_hz < 1 / apart_s * 1.3
    assert found.rate_high_hz > 1 / apart_s / 1.3


def test_the_interval_of_a_rate_by_chance_holds_it_as_often_as_it_says() -> None:
    random = np.random.default_rng(5)
    held = 0
    for _ in range(400):
        count = int(random.poisson(12.0))
        found = recurrence_of(np.sort(random.uniform(0, 100, count)), 100.0)
        held += found.rate_low_hz <= 0.12 <= found.rate_high_hz
    assert 0.86 <= held / 400 <= 0.97


@given(st.floats(0.02, 0.15), st.floats(0, 0.02), st.integers(0, 99))
def test_what_follows_something_else_does_so(delay, jitter, seed) -> None:
    random = np.random.default_rng(seed)
    leaders_s = np.cumsum(random.exponential(10.0, 60) + 3.0)
    delay_s = delay * 3.0
    followers_s = leaders_s + delay_s * (1 + jitter * random.standard_normal(60))
    found = recurrence_of(followers_s, float(leaders_s[-1]) + 5, (leaders_s,))
    assert (found.manner, found.behind) == (Manner.FOLLOWS, 0)
    assert found.delay_s == pytest.approx(delay_s, rel=0.05)
    assert recurrence_of(followers_s, float(leaders_s[-1]) + 5).manner is Manner.CHANCE


def test_two_moments_are_a_timer_only_where_another_one_speaks_for_it() -> None:
    times_s = np.array([5.0, 65.0])
    assert recurrence_of(times_s, 150.0).period_s is None
    assert recurrence_of(times_s, 150.0, (), (10.0,)).period_s == 60.0
    assert recurrence_of(np.array([5.0, 66.3]), 150.0, (), (10.0,)).period_s is None
    assert recurrence_of(np.array([5.0, 65.0, 125.0]), 150.0).period_s == pytest.approx(60.0)
    assert recurrence_of(np.array([5.0, 65.0, 132.0]), 150.0).period_s is None


def test_a_drifting_timer_says_by_how_much() -> None:
    steps = 1.0 + 200e-6 * np.linspace(0, 1, 400)
    found = recurrence_of(np.cumsum(steps), float(steps.sum()) + 1)
    assert found.timers[0].drift == pytest.approx(200e-6, rel=0.05)
    assert recurrence_of(np.cumsum(np.ones(400)), 401.0).timers[0].drift == 0
