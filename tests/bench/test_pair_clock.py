"""The clocks of two instruments are laid on each other as well as is said, however they run."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.bench.pair_clock import PairClock

INTERVAL_S = 1e-3
LENGTH_S = 24.0


def followed(clock: PairClock, seed: int, late_s: float, fast: float, noise: float) -> float:
    """Let a clock look at a load that both measure, and return by how much it is off in the end."""
    random = np.random.default_rng(seed)
    changes_s = np.cumsum(random.uniform(0.05, 0.4, 400)) - 1.0
    levels = random.uniform(1e-3, 0.1, 401)
    own = np.arange(round(LENGTH_S / INTERVAL_S) + 2000)
    # Its sample k is taken late_s + k * interval / (1 + fast) after the first one's first.
    second = 3.0 - 2.0 * levels[np.searchsorted(changes_s, late_s + (own + 0.5) * INTERVAL_S / (1 + fast))]
    second += noise * random.standard_normal(len(second))
    for first in range(0, round(LENGTH_S / INTERVAL_S), 250):
        moments_s = (np.arange(first, first + 250) + 0.5) * INTERVAL_S
        one = levels[np.searchsorted(changes_s, moments_s)] + 1e-5 * random.standard_normal(250)
        places = np.clip(np.floor((moments_s - clock.apart_s) / INTERVAL_S), 0, len(own) - 1).astype(int)
        clock.add(one.astype(np.float32), second[places].astype(np.float32))
    end = (LENGTH_S - late_s) * (1 + fast)  # what the second one's own clock shows at the end
    return clock.apart_s - (LENGTH_S - end)


@settings(max_examples=25)
@given(st.integers(0, 10**6), st.floats(-0.12, 0.12), st.floats(-3e-4, 3e-4), st.floats(1e-5, 4e-3))
def test_they_are_laid_on_each_other_within_what_is_said(seed: int, late_s: float, fast: float, noise: float) -> None:
    clock = PairClock(INTERVAL_S, 0.0, 0.5e-3)
    off_s = followed(clock, seed, late_s, fast, noise)
    assert "by what both saw change" in clock.words
    # The last look was up to two stretches ago.
    assert abs(off_s) <= 3 * clock.residual_s + 4.0 * abs(fast) + 1e-3


def test_two_circuits_and_slow_readings_are_laid_by_when_they_began() -> None:
    for clock in (
        PairClock(INTERVAL_S, 0.004, 0.5e-3, share_changes=False),
        PairClock(INTERVAL_S, 0.004, 0.5e-3, slowest_s=0.05),
    ):
        followed(clock, 1, 0.05, 0.0, 1e-3)
        assert clock.apart_s == 0.004
        assert clock.words.startswith("laid on by when they began, within 500 µs and what each takes to begin")


def test_what_is_never_alike_changes_nothing() -> None:
    random = np.random.default_rng(2)
    clock = PairClock(INTERVAL_S, 0.01, 1e-3)
    for _ in range(100):
        clock.add(*(random.standard_normal(250).astype(np.float32) for _ in range(2)))
    assert clock.apart_s == 0.01
    assert "began" in clock.words
