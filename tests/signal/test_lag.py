"""The lag between two channels is found where they show the same changes, and not made up where they do not."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.signal.lag import find_lag

RATE_HZ = 2000.0


def course(random: np.random.Generator, samples: int, changes: int) -> np.ndarray:
    """Return a current that changes now and then."""
    at = np.sort(random.integers(0, samples, changes))
    return np.repeat(random.uniform(1e-6, 0.2, changes + 1), np.diff(at, prepend=0, append=samples))


@settings(max_examples=40)
@given(st.integers(0, 10**6), st.integers(-300, 300), st.integers(1, 40), st.sampled_from([0.2, -1.5]))
def test_a_lag_is_found_whatever_the_sign(seed: int, lag: int, changes: int, gain: float) -> None:
    random = np.random.default_rng(seed)
    whole = course(random, 6000, changes)
    one, other = whole[500:5500], whole[500 - lag : 5500 - lag] * gain + 3.0
    noisy = other + 1e-3 * abs(gain) * random.standard_normal(len(other))
    found = find_lag(one.astype(np.float32), noisy.astype(np.float32), 1 / RATE_HZ, 0.2)
    if np.abs(np.diff(one[400:-400])).max() > 0.02:  # something worth the name happens where both see it
        assert found is not None
        assert found.lag_s == pytest.approx(lag / RATE_HZ, abs=0.6 * found.step_s)


def test_nothing_is_made_up(random: np.random.Generator) -> None:
    apart = [find_lag(course(random, 4000, 12), course(random, 4000, 12), 1 / RATE_HZ, 0.2) for _ in range(100)]
    assert sum(one is not None for one in apart) <= 5
    noise = [random.standard_normal(4000).astype(np.float32) for _ in range(2)]
    assert find_lag(*noise, 1 / RATE_HZ, 0.2) is None
    regular = np.tile(np.repeat(np.float32([1, 2]), 20), 100)
    assert find_lag(regular, regular, 1 / RATE_HZ, 0.2) is None  # each period would fit
    still = np.ones(4000, dtype=np.float32)
    assert find_lag(still, course(random, 4000, 5), 1 / RATE_HZ, 0.2) is None
    assert find_lag(np.full(4000, np.nan, np.float32), still, 1 / RATE_HZ, 0.2) is None


def test_long_stretches_and_gaps(random: np.random.Generator) -> None:
    whole = course(random, 310_000, 60).astype(np.float32)
    one, other = whole[5000:305_000].copy(), whole[5000 - 700 : 305_000 - 700].copy()
    one[40_000:60_000] = np.nan
    found = find_lag(one, other, 1 / RATE_HZ, 2.0)
    assert found is not None
    assert found.lag_s == pytest.approx(700 / RATE_HZ, abs=found.step_s)
