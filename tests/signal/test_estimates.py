"""Intervals hold what they promise: drawn again and again from processes whose truth is known."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.model.estimate import NOTHING_KNOWN, Estimate, quotient, total
from warm_ember.signal.estimates import mean, ratio

Drawn = tuple[np.ndarray, np.ndarray]
Process = Callable[[np.random.Generator, int], Drawn]

NORMAL_90 = 3.29


def alike_lengths(random: np.random.Generator, many: int) -> Drawn:
    return 1 + 0.3 * random.standard_normal(many), np.ones(many)


def odd_lengths(random: np.random.Generator, many: int) -> Drawn:
    lengths = random.lognormal(0.0, 1.0, many)
    return lengths * (1 + 0.3 * random.standard_normal(many)), lengths


def like_neighbours(random: np.random.Generator, many: int) -> Drawn:
    steps, value, found = math.sqrt(1 - 0.81) * random.standard_normal(many), random.standard_normal(), []
    for step in steps.tolist():
        value = 0.9 * value + step
        found.append(1 + 0.3 * value)
    return np.array(found), np.ones(many)


def coverage(process: Process, many: int, cases: int) -> tuple[float, float]:
    """Return how often the interval holds the truth, 1, and its width against what the estimate scatters by."""
    found = [ratio(*process(np.random.default_rng([many, case]), many)) for case in range(cases)]
    ends = [one.interval() or (-math.inf, math.inf) for one in found]
    wide = float(np.mean([high - low for low, high in ends])) / NORMAL_90 / float(np.std([one.value for one in found]))
    return float(np.mean([low <= 1 <= high for low, high in ends])), wide


@pytest.mark.parametrize("many", [2, 4, 7, 20, 200])
@pytest.mark.parametrize("process", [alike_lengths, odd_lengths])
def test_nine_of_ten_intervals_hold_the_truth_however_few_entries(process: Process, many: int) -> None:
    held, _ = coverage(process, many, 400)
    assert 0.85 <= held <= 0.975


@pytest.mark.parametrize(("many", "widest"), [(8, 1.4), (30, 1.3), (300, 1.25), (5000, 1.25)])
def test_they_are_no_wider_than_they_have_to_be(many: int, widest: float) -> None:
    assert coverage(alike_lengths, many, 400)[1] <= widest


def test_neighbours_that_are_alike_widen_them() -> None:
    held, _ = coverage(like_neighbours, 500, 200)
    assert held >= 0.85


def test_one_observation_says_nothing_of_its_spread() -> None:
    assert ratio(np.array([2.0]), np.array([4.0])) == Estimate(0.5, math.inf)
    assert ratio(np.array([2.0]), np.array([4.0])).interval() is None
    assert math.isnan(ratio(np.array([]), np.array([])).value)
    assert not NOTHING_KNOWN.is_known
    # What was not measured is no observation.
    assert ratio(np.array([2.0, 0.0, np.nan]), np.array([4.0, 0.0, 1.0])).value == 0.5


@given(st.lists(st.floats(1e-9, 1.0), min_size=2, max_size=200), st.floats(1e-6, 1e6))
def test_an_estimate_scales_with_its_unit(values: list[float], factor: float) -> None:
    one, other = mean(np.array(values)), mean(np.array(values) * factor)
    assert other.value == pytest.approx(one.value * factor)
    assert other.error == pytest.approx(one.error * factor, rel=1e-6, abs=1e-12 * factor)
    low, high = one.interval() or (math.nan, math.nan)
    assert low <= one.value <= high


# The square of an error below 1e-154 is 0 in double precision; no measured charge comes near that.
@given(
    st.lists(st.tuples(st.floats(-1, 1), st.just(0.0) | st.floats(1e-30, 1), st.floats(1, 50)), min_size=1, max_size=6)
)
def test_sums_of_estimates_know_no_order(parts: list[tuple[float, float, float]]) -> None:
    found = [Estimate(*part) for part in parts]
    one, other = total(found), total(found[::-1])
    assert (one.value, one.error, one.freedom) == pytest.approx((other.value, other.error, other.freedom))
    assert one.error >= max(part.error for part in found) * (1 - 1e-12)
    assert one.less(one.times(0.0)).value == one.value


def test_a_sum_with_one_of_unknown_spread_is_unknown() -> None:
    assert not total((Estimate(1.0, 0.1, 5.0), Estimate(1.0, math.inf))).is_known


def test_a_quotient_has_no_end_where_its_divisor_may_be_nothing() -> None:
    low, high = quotient(Estimate(1.0, 0.05), Estimate(2.0, 0.1))
    assert (low, high) == pytest.approx((0.5 * (1 - 0.116), 0.5 * (1 + 0.116)), rel=0.01)
    assert quotient(Estimate(1.0, 0.05), Estimate(0.1, 0.1)) == (-math.inf, math.inf)
    assert quotient(Estimate(1.0, math.inf), Estimate(2.0, 0.1)) == (-math.inf, math.inf)


def test_an_interval_reaches_further_where_rare_large_ones_are_due() -> None:
    random = np.random.default_rng(5)
    low, high = mean(random.lognormal(0, 1.0, 40)).interval() or (0.0, 0.0)
    middle = float(np.mean(np.random.default_rng(5).lognormal(0, 1.0, 40)))
    assert high - middle > 1.15 * (middle - low)
