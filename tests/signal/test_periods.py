"""Timers found in moments that are mixed with each other and with chance."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.signal.timer_periods import find_periods, period_of


def ticks(period_s: float, length_s: float, jitter: float, random: np.random.Generator) -> np.ndarray:
    times_s = np.arange(random.uniform(0, period_s), length_s, period_s)
    return times_s + jitter * period_s * random.standard_normal(len(times_s))


@given(st.integers(0, 1 << 30), st.floats(0.5, 2.0), st.floats(3.3, 9.7))
@settings(max_examples=40, deadline=None)
def test_two_timers_and_chance_are_told_apart(seed: int, quick_s: float, slow_s: float) -> None:
    random = np.random.default_rng(seed)
    mixed = (ticks(quick_s, 300.0, 0.002, random), ticks(slow_s, 300.0, 0.002, random), random.uniform(0, 300, 12))
    times_s = np.sort(np.concatenate(mixed))
    found = sorted(period.period_s for period in find_periods(times_s)[:2])
    multiple = abs(slow_s / quick_s - round(slow_s / quick_s)) < 0.1  # then they are one to anybody who looks
    assert found[0] == pytest.approx(quick_s, rel=0.01)
    if not multiple:
        assert found[1] == pytest.approx(slow_s, rel=0.01)


@given(st.integers(0, 1 << 30))
@settings(max_examples=40, deadline=None)
def test_chance_has_hardly_any_period(seed: int) -> None:
    times_s = np.sort(np.random.default_rng(seed).uniform(0, 600, 60))
    assert sum(len(period.members) for period in find_periods(times_s)) <= 15
    assert period_of(times_s) is None


@given(st.integers(0, 1 << 30), st.floats(0.01, 100.0), st.floats(0.0, 0.3))
@settings(max_examples=40, deadline=None)
def test_a_timer_is_measured_with_some_of_its_ticks_missing(seed: int, period_s: float, missing: float) -> None:
    random = np.random.default_rng(seed)
    times_s = ticks(period_s, 200 * period_s, 0.003, random)
    found = period_of(times_s[random.random(len(times_s)) >= missing])
    assert found is not None
    assert found.period_s == pytest.approx(period_s, rel=1e-3)
    assert found.jitter_s < 0.01 * period_s


def test_few_moments_have_no_period() -> None:
    assert find_periods(np.array([1.0, 2.0, 3.0])) == ()
    assert period_of(np.array([])) is None
    assert period_of(np.full(9, 4.0)) is None
