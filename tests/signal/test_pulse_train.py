"""Periodic pulses in quiet stretches: their period and what they add, and nothing where there are none."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from warm_ember.signal.pulse_train import find_pulse_train
from warm_ember.signal.series import ArraySeries

RATE_HZ, LONGEST_S = 10e3, 0.05


def smeared(values: np.ndarray, constant_s: float) -> np.ndarray:
    """Smear a current as a capacitor does."""
    share = 1 - np.exp(-1 / (RATE_HZ * constant_s))
    state, out = values[0], np.empty_like(values)
    for index, value in enumerate(values):
        state += share * (value - state)
        out[index] = state
    return out


def pulses(random, period_s: float, lasts_s: float, height_a: float, seconds: float = 4.0) -> np.ndarray:
    """Return the mean of each sample of pulses that begin anywhere in a sample."""
    edges = np.arange(round(seconds * RATE_HZ) + 1) / RATE_HZ
    starts = np.arange(random.uniform(0, period_s), seconds + period_s, period_s)
    begun = np.repeat(np.arange(len(starts)), 2) + np.tile((0, 1), len(starts))
    return np.diff(np.interp(edges, np.column_stack((starts, starts + lasts_s)).ravel(), begun)) * (
        lasts_s * height_a * RATE_HZ
    )


def look(values: np.ndarray, stretches: int = 4):
    edges = np.linspace(0, len(values), stretches + 1).astype(np.int64)
    return find_pulse_train(ArraySeries(values.astype(np.float32), 1 / RATE_HZ), edges[:-1], edges[1:], LONGEST_S)


@given(st.integers(0, 1 << 30), st.sampled_from([1e-3, 1 / 1024, 2e-3, 5e-3, 0.01, 0.02]), st.floats(0, 0.25e-3))
@example(1, 1e-3, 0.0)  # shorter than a sample, and down for the rest of the period
@example(20, 1 / 1024, 0.0)
@settings(max_examples=20)
def test_a_tick_is_found_with_its_period_and_what_it_adds(seed: int, period_s: float, constant_s: float) -> None:
    random = np.random.default_rng(seed)
    lasts_s, height_a = random.uniform(0.03, 0.08) * period_s, random.uniform(1e-3, 6e-3)
    floor_a = 10 ** random.uniform(-6, -4)
    values = floor_a + pulses(random, period_s, lasts_s, height_a)
    if constant_s > 1e-5:
        values = smeared(values, constant_s)
    found = look(values + 2e-7 * random.standard_normal(len(values)))
    assert found is not None
    assert found.period_s == pytest.approx(period_s, rel=5e-3)
    added_a = lasts_s * height_a / period_s
    assert found.mean_a == pytest.approx(added_a, rel=0.12)
    assert found.base_a == pytest.approx(floor_a, abs=0.12 * added_a)


@given(st.integers(0, 1 << 30))
@settings(max_examples=20)
def test_noise_hum_and_rare_pulses_are_no_tick(seed: int) -> None:
    random = np.random.default_rng(seed)
    time_s = np.arange(40_000) / RATE_HZ
    noise = 1e-5 + 3e-7 * random.standard_normal(len(time_s))
    assert look(noise) is None
    for mains_hz in (50, 60):
        wave = np.sin(2 * np.pi * mains_hz * time_s + random.uniform(0, 6))
        assert look(noise + 3e-6 * wave) is None
        assert look(noise + 3e-6 * np.abs(wave)) is None
    assert look(noise + 5e-5 * (time_s % 0.25 < 1e-3)) is None
    assert look(np.full(40_000, 1e-5)) is None
    assert look(noise[:40]) is None


def test_stretches_with_holes_are_left_out(random) -> None:
    values = 1e-5 + pulses(random, 1e-3, 6e-5, 3e-3)
    values[5000] = np.nan
    assert look(values) is not None
    assert look(np.full(1000, np.nan)) is None
