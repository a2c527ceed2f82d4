"""Cases of the calibration about states: means, and what cannot be measured."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from calibration_devices import SAME_CLOCK, SLEEP_A, WORK_A, Stay, capture_of, quick_capture

from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.limits import find_limits
from warm_ember.attribution.placing import place
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries

RATE_HZ = 200.0


def entries(many: int, lengths: str, likeness: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the interval of a state's mean against the process's."""
    lasts_s = np.full(many, 0.1) if lengths == "even" else 0.1 * random.lognormal(0, 1.0, many)
    lasts_s = np.maximum(np.rint(lasts_s * RATE_HZ), 1) / RATE_HZ
    apart, value = [], float(random.standard_normal())
    for step in random.standard_normal(many).tolist():
        value = likeness * value + np.sqrt(1 - likeness**2) * step
        apart.append(value)
    now_s, stays = 0.1, []
    for length_s, off in zip(lasts_s.tolist(), apart, strict=True):
        stays.append(Stay("Work", round(now_s, 6), round(now_s + length_s, 6), WORK_A * (1 + 0.3 * off), "timer"))
        now_s += length_s + 0.1
    recording = quick_capture(stays, now_s + 0.1, RATE_HZ, random)
    row = make_ledger(recording, place(recording, clock=SAME_CLOCK)).row("Work")
    assert row is not None
    assert row.entries == many
    low, high = row.mean.low, row.mean.high
    assert low is not None
    assert high is not None
    return low <= WORK_A <= high, row.mean.value or 0.0, high - low


def edges(rate_hz: float, settles_s: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the mean of a sleep against what it takes, beside work a thousand times higher, with edges anywhere."""
    work, now_s = [], 0.3
    for _ in range(40):
        work.append(Stay("Work", now_s, now_s + random.uniform(0.05, 0.15), 5e-3, "timer"))
        now_s += random.uniform(0.6, 1.4)
    recording = capture_of(work, now_s, rate_hz, random, settles_s=settles_s)
    row = make_ledger(recording, place(recording, clock=SAME_CLOCK)).row("Sleep")
    assert row is not None
    low = -np.inf if row.mean.low is None else row.mean.low
    high = np.inf if row.mean.high is None else row.mean.high
    return low <= SLEEP_A <= high, (row.mean.value or 0.0) / SLEEP_A, np.nan


def beyond(what: str, random: np.random.Generator) -> tuple[bool, float, float]:
    """Say whether a figure that the instrument cannot measure is a bound, and one that holds the truth."""
    floor_a = 10 ** random.uniform(np.log10(3e-8), np.log10(3e-7))
    most_a = np.inf
    noise_a, offset_a, step_a = {
        "noise of 1 µA": (1e-6, 0.0, 0.0),
        "offset of -0.5 µA": (2e-8, -5e-7, 0.0),
        "step of 1 µA": (0.0, 0.0, 1e-6),
        "step of 1 µA, noise of 0.3 µA": (3e-7, 0.0, 1e-6),
        "range ends at 0.9 of what flows": (2e-8, 0.0, 0.0),
    }[what]
    if what.startswith("range"):
        most_a = 0.9 * WORK_A
    work, now_s = [], 0.3
    for _ in range(20):
        work.append(Stay("Work", now_s, now_s + 0.1, WORK_A, "timer"))
        now_s += random.uniform(1.0, 3.0)
    recording = quick_capture(work, now_s, 1000.0, random, noise_a=0.0)
    values = recording.current.read(0, recording.current.samples).astype(np.float64)
    values = np.where(values < WORK_A / 2, floor_a, values) + offset_a + noise_a * random.standard_normal(len(values))
    values = np.minimum(np.rint(values / step_a) * step_a if step_a else values, most_a)
    recording = replace(recording, current=ArraySeries(values.astype(np.float32), 1e-3))
    limits = find_limits(recording, lambda: find_levels(recording.current))
    name, true_a = ("Work", WORK_A) if np.isfinite(most_a) else ("Sleep", floor_a)
    row = make_ledger(recording, place(recording, clock=SAME_CLOCK), limits=limits).row(name)
    assert row is not None
    found = row.mean
    low, high = (-np.inf if found.low is None else found.low), (np.inf if found.high is None else found.high)
    return found.bound is not None and low <= true_a <= high, (found.value or 0.0) / true_a, np.nan
