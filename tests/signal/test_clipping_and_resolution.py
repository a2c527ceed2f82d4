"""Tops that an instrument cut off, and what it tells from nothing, against currents whose truth is known."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import Cancelled
from warm_ember.signal.clipping import find_clipping
from warm_ember.signal.levels import find_levels
from warm_ember.signal.resolution import level_noise, smallest_reading, tells_within
from warm_ember.signal.series import ArraySeries

INTERVAL_S = 1e-4
FLOOR_A = 20e-6


def bursts(*, seed: int, peak_a: float, noise: float, bursts: int = 12, length: int = 300) -> np.ndarray:
    """Sleep with bursts that rise to a peak and fall again, each sample with noise of its own."""
    random = np.random.default_rng(seed)
    values = np.full(40_000, FLOOR_A)
    for first in np.linspace(500, len(values) - length - 500, bursts).astype(int):
        values[first : first + length] = peak_a * np.sin(np.linspace(0.05, np.pi - 0.05, length))
    return values * (1 + noise * random.standard_normal(len(values)))


def series(values: np.ndarray) -> ArraySeries:
    return ArraySeries(values.astype(np.float32), INTERVAL_S)


@given(st.integers(0, 99), st.floats(5e-3, 0.3), st.floats(0.005, 0.05), st.floats(0.3, 0.9))
def test_what_stands_at_the_end_of_a_range_is_found_sample_by_sample(seed, peak_a, noise, share) -> None:
    true_a = bursts(seed=seed, peak_a=peak_a, noise=noise)
    limit_a = np.float32(share * peak_a)
    read = np.minimum(true_a.astype(np.float32), limit_a)
    found = find_clipping(series(read))
    assert found is not None
    assert found.limit_a == limit_a
    at_limit = read >= limit_a
    marked = np.zeros(len(read), dtype=bool)
    for first, last in found.stretches.tolist():
        assert last - first >= 3
        assert at_limit[first:last].all()
        assert not at_limit[first - 1]
        assert not at_limit[last]
        marked[first:last] = True
    assert found.samples == marked.sum()
    # What is left out stood there for one or two samples only.
    alone = np.flatnonzero(at_limit & ~marked)
    assert all(at_limit[max(at - 2, 0) : at + 3].sum() <= 4 for at in alone.tolist())


@given(st.integers(0, 99), st.floats(5e-3, 0.3), st.floats(0.005, 0.05))
def test_a_current_that_no_range_cuts_off_is_not_clipped(seed, peak_a, noise) -> None:
    assert find_clipping(series(bursts(seed=seed, peak_a=peak_a, noise=noise))) is None


@given(st.integers(0, 99), st.floats(5e-3, 0.3), st.sampled_from((64, 256, 1024)))
def test_flat_tops_of_a_coarse_instrument_are_none(seed, peak_a, steps) -> None:
    step_a = peak_a / steps
    values = bursts(seed=seed, peak_a=peak_a, noise=1e-4)
    assert find_clipping(series(np.round(values / step_a) * step_a)) is None


@pytest.mark.parametrize("values", [np.zeros(5000), np.full(5000, -1e-6), np.full(5000, np.nan), np.full(5000, 3e-3)])
def test_where_nothing_varies_nothing_is_clipped(values) -> None:
    assert find_clipping(series(values)) is None


def test_looking_for_clipped_readings_can_be_stopped() -> None:
    values = np.minimum(bursts(seed=1, peak_a=0.1, noise=0.02), 0.04)
    with pytest.raises(Cancelled):
        find_clipping(series(values), should_stop=lambda: True)


def two_levels(random: np.random.Generator, low_a: float, noise_a: float, samples: int = 60_000) -> np.ndarray:
    values = np.full(samples, low_a)
    for first in range(2000, samples, 6000):
        values[first : first + 1500] = 1000 * low_a
    return values + noise_a * random.standard_normal(samples)


@given(st.integers(0, 99), st.floats(1e-6, 1e-4), st.floats(0.01, 0.1))
def test_the_noise_of_a_level_is_that_of_its_readings(seed, low_a, noise) -> None:
    current = series(two_levels(np.random.default_rng(seed), low_a, noise * low_a))
    found = level_noise(current, find_levels(current), 0)
    assert found is not None
    assert found.level_a == pytest.approx(low_a, rel=0.02)
    assert found.noise_a == pytest.approx(noise * low_a, rel=0.1)
    assert found.step_a == 0
    assert found.samples > 1000


@given(st.integers(0, 99), st.floats(1e-6, 1e-4), st.integers(3, 8))
def test_the_step_of_coarse_readings_is_found(seed, low_a, steps) -> None:
    step_a = low_a / steps
    values = two_levels(np.random.default_rng(seed), low_a, 0.6 * step_a)
    current = series(np.round(values / step_a) * step_a)
    found = level_noise(current, find_levels(current), 0)
    assert found is not None
    assert found.step_a == pytest.approx(step_a, rel=1e-3)


@given(st.integers(0, 99), st.floats(1e-6, 1e-4), st.floats(0.01, 0.1))
def test_a_first_look_agrees_with_the_level(seed, low_a, noise) -> None:
    random = np.random.default_rng(seed)
    current = series(low_a * (1 + noise * random.standard_normal(20_000)))
    assert tells_within(current, 0, current.samples) == pytest.approx(noise * low_a, rel=0.1)


def test_nothing_is_told_where_nothing_is_measured() -> None:
    current = series(np.full(5000, np.nan))
    assert tells_within(current, 0, 5000) == 0
    assert smallest_reading(current, np.array([0, 2500])) == 0
    assert smallest_reading(current, np.array([], dtype=np.int64)) == 0


@given(st.lists(st.sampled_from((0.0, np.nan, -3e-9, 2e-9, 7e-6)), min_size=40, max_size=60))
def test_the_smallest_reading_is_the_least_in_size_that_is_not_nothing(values) -> None:
    read = np.array(values, dtype=np.float32)
    sizes = np.abs(read[np.isfinite(read) & (read != 0)])
    edges = np.arange(4, len(read), 8)
    seen = np.unique(np.concatenate([np.arange(max(e - 8, 0), min(e + 8, len(read))) for e in edges.tolist()]))
    near = np.abs(read[seen])
    near = near[near > 0]
    found = smallest_reading(series(read), edges)
    assert found == (pytest.approx(float(near.min())) if len(near) else 0)
    assert not len(sizes) or found >= sizes.min() * (1 - 1e-6)
