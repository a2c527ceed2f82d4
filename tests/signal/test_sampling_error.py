"""The error of a mean of readings that are a sample of the current."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.model.estimate import Estimate
from warm_ember.signal.sampling_error import no_better_than, sampling_estimates
from warm_ember.signal.series import ArraySeries


@given(
    st.lists(st.one_of(st.floats(0.0, 1.0, width=32), st.just(float("nan"))), min_size=1, max_size=300),
    st.lists(st.integers(-1, 2), min_size=1, max_size=8),
)
def test_moments_are_those_of_the_samples(values: list[float], groups: list[int]) -> None:
    """Against the obvious definition, group by group."""
    samples = np.array(values, dtype=np.float32)
    edges = np.unique(np.linspace(0, len(samples), len(groups) + 1).astype(np.int64))
    group = np.array(groups[: len(edges) - 1])
    owner = np.repeat(group, np.diff(edges))
    found = sampling_estimates(ArraySeries(samples, 0.5), edges, group, 3, 0.5)
    for number, estimate in enumerate(found):
        mine = samples[(owner == number) & ~np.isnan(samples)].astype(np.float64)
        if len(mine) < 2:
            assert not estimate.is_known
            continue
        assert estimate.value == pytest.approx(mine.mean(), rel=1e-6)
        assert estimate.error == pytest.approx(mine.std(ddof=1) / math.sqrt(len(mine)), rel=1e-5, abs=1e-12)
        third = float(np.mean((mine - mine.mean()) ** 3))
        assert estimate.skew == pytest.approx(third / len(mine) ** 2, rel=1e-4, abs=1e-12)


def test_readings_that_are_held_count_once() -> None:
    values = np.repeat(np.random.default_rng(1).uniform(1e-3, 2e-3, 100), 10).astype(np.float32)
    edges, group = np.array([0, 1000]), np.array([0])
    (held,) = sampling_estimates(ArraySeries(values, 0.01), edges, group, 1, 0.1)
    (each,) = sampling_estimates(ArraySeries(values[::10], 0.1), np.array([0, 100]), group, 1, 0.1)
    assert held.error == pytest.approx(each.error)
    assert held.freedom == pytest.approx(each.freedom)


def test_a_few_pulses_leave_little_freedom() -> None:
    values = np.full(2000, 1e-6, dtype=np.float32)
    values[::400] = 1e-3
    (found,) = sampling_estimates(ArraySeries(values, 0.1), np.array([0, 2000]), np.array([0]), 1, 0.1)
    assert found.freedom == pytest.approx(2 * 5, rel=0.05)
    low, high = found.interval()
    assert high - found.value > found.value - low > found.error  # more of them may have been due


def test_the_larger_error_counts_and_the_value_stays() -> None:
    small, large = Estimate(1.0, 0.1, 5.0), Estimate(1.2, 0.3, 8.0, 0.01)
    assert no_better_than(small, large) == Estimate(1.0, 0.3, 8.0, 0.01)
    assert no_better_than(large, small) == large
    assert no_better_than(Estimate(1.0, math.inf), small).error == math.inf


@pytest.mark.parametrize(("pulse_s", "rate_hz"), [(0.008, 1.0), (0.008, 0.2), (0.3, 0.2)])
def test_the_interval_of_a_polled_mean_holds_the_truth(pulse_s: float, rate_hz: float) -> None:
    """Readings of 20 ms every 100 ms over two minutes of pulses by chance, 60 times."""
    from attribution.made import Made
    from warm_ember.attribution.ledger import make_ledger
    from warm_ember.attribution.placing import place
    from warm_ember.model.capture import CaptureInfo

    holds = 0
    for seed in range(60):
        random = np.random.default_rng(seed)
        current = np.full(120_000, 5e-6)  # of a millisecond each
        for at_s in np.cumsum(random.exponential(1 / rate_hz, round(360 * rate_hz) + 5)):
            current[round(at_s * 1e3) : round((at_s + pulse_s) * 1e3)] = 3e-3
        begin = int(random.integers(0, 80))
        readings = current.reshape(-1, 100)[:, begin : begin + 20].mean(axis=1)
        readings *= 1 + 0.005 * random.standard_normal(len(readings))
        info = CaptureInfo(0.1, reading_interval_s=0.1, aperture_s=0.02)
        recording = Made(ArraySeries(readings.astype(np.float32), 0.1), info=info)
        interval = make_ledger(recording, place(recording)).estimate.interval()
        holds += interval is not None and interval[0] <= current.mean() <= interval[1]
    assert holds >= 51
