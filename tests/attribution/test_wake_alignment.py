"""Wakes moved together within their slack, against the duality of stabbing and packing intervals."""

from __future__ import annotations

from itertools import combinations, pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.attribution.wake_alignment import align, fewest_moments, saving_of
from warm_ember.attribution.wakes import Wakes
from warm_ember.errors import Cancelled

INTERVAL_S, DURATION_S = 1e-3, 60.0

WINDOWS = st.lists(st.tuples(st.integers(0, 200), st.integers(0, 60)), min_size=1, max_size=9)
TIMES = st.lists(st.integers(0, 50_000), min_size=1, max_size=60, unique=True).map(sorted)


def most_apart(windows: list[tuple[int, int]]) -> int:
    """Return how many windows there are of which no two overlap, tried one choice after the other."""
    spans = [(begin, begin + late) for begin, late in windows]
    for size in range(len(spans), 0, -1):
        for chosen in combinations(sorted(spans), size):
            if all(one[1] < other[0] for one, other in pairwise(chosen)):
                return size
    return 0


@given(WINDOWS)
def test_the_fewest_moments_are_as_many_as_windows_that_lie_apart(windows) -> None:
    # The least number of points that stab intervals is the largest number of disjoint ones (T. Gallai).
    ordered = sorted(windows)
    begins, late = (np.array(column, dtype=np.int64) for column in zip(*ordered, strict=True))
    assert fewest_moments(begins, late) == most_apart(ordered)


def wakes_at(times: list[int], sources: int = 2) -> Wakes:
    first = np.array(times, dtype=np.int64)
    names = [f"timer {k % sources}" for k in range(len(times))]
    return Wakes.of(names, first, first + 1)


@given(TIMES, st.floats(0, 5), st.floats(0, 5))
def test_more_slack_never_asks_for_more_wakes(times, one_s, other_s) -> None:
    wakes, costs_c = wakes_at(times), np.linspace(1e-5, 1e-3, len(times))
    less = align(wakes, costs_c, {"timer 0": min(one_s, other_s)}, INTERVAL_S, DURATION_S)
    more = align(wakes, costs_c, {"timer 0": max(one_s, other_s)}, INTERVAL_S, DURATION_S)
    both = align(wakes, costs_c, {"timer 0": max(one_s, other_s), "timer 1": one_s}, INTERVAL_S, DURATION_S)
    assert 0 < both.rate_per_h <= more.rate_per_h <= less.rate_per_h <= len(times) * 3600 / DURATION_S + 1e-9
    assert 0 <= less.saved_a <= more.saved_a <= both.saved_a


@given(TIMES, st.floats(0, 5))
def test_what_is_saved_is_the_cheapest_wake_for_each_that_is_spared(times, slack_s) -> None:
    wakes, costs_c = wakes_at(times), np.linspace(3e-5, 1e-3, len(times))
    found = align(wakes, costs_c, {"timer 0": slack_s}, INTERVAL_S, DURATION_S)
    spared = len(times) - found.rate_per_h * DURATION_S / 3600
    assert spared == pytest.approx(round(spared), abs=1e-6)
    assert found.saved_a == pytest.approx(spared * 3e-5 / DURATION_S, abs=1e-15)


@given(TIMES)
def test_without_slack_every_moment_stays(times) -> None:
    found = align(wakes_at(times), np.ones(len(times)), {}, INTERVAL_S, DURATION_S)
    assert found.saved_a == 0
    assert found.rate_per_h == pytest.approx(len(times) * 3600 / DURATION_S)


def test_without_wakes_there_is_nothing_to_align() -> None:
    nothing = np.zeros(0, dtype=np.int64)
    found = align(Wakes.of((), nothing, nothing), np.zeros(0), {}, INTERVAL_S, DURATION_S)
    assert (found.rate_per_h, found.saved_a) == (0, 0)


@given(TIMES)
def test_the_savings_of_a_source_rise_with_its_slack_and_begin_at_nothing(times) -> None:
    wakes, costs_c = wakes_at(times), np.full(len(times), 2e-5)
    found = saving_of(wakes, costs_c, {"timer 1": 0.5}, "timer 0", INTERVAL_S, DURATION_S)
    assert found.slack_s[0] == found.saved_a[0] == found.spared[0] == 0
    assert (np.diff(found.slack_s) > 0).all()
    assert (np.diff(found.spared) >= 0).all()
    np.testing.assert_allclose(found.saved_a, found.spared * 2e-5 / DURATION_S)
    at_most = align(wakes, costs_c, {"timer 1": 0.5, "timer 0": float(found.slack_s[-1])}, INTERVAL_S, DURATION_S)
    alone = align(wakes, costs_c, {"timer 1": 0.5}, INTERVAL_S, DURATION_S)
    assert found.saved_a[-1] == pytest.approx(at_most.saved_a - alone.saved_a, abs=1e-15)


def test_trying_slacks_can_be_stopped() -> None:
    with pytest.raises(Cancelled):
        saving_of(wakes_at([1, 5]), np.ones(2), {}, "timer 0", INTERVAL_S, DURATION_S, should_stop=lambda: True)


def test_two_timers_with_slack_come_down_to_the_faster_one() -> None:
    every_s, other_s = 1.0, 1.5
    first = sorted(
        [(round(k * every_s / INTERVAL_S), "fast") for k in range(1, 31)]
        + [(round((0.4 + k * other_s) / INTERVAL_S), "slow") for k in range(19)]
    )
    at = np.array([one for one, _ in first], dtype=np.int64)
    wakes = Wakes.of([name for _, name in first], at, at + 1)
    found = align(wakes, np.full(len(at), 1e-5), {"slow": 1.0}, INTERVAL_S, 31.0)
    assert found.rate_per_h * 31.0 / 3600 == pytest.approx(30)
