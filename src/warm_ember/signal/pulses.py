"""Pulses that are shorter than a sample, and readings that break out where the level changes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices, Samples
from warm_ember.signal.series import Series, ShouldStop, chunks, never

_BEFORE, _AFTER = 12, 14
_EDGES = 20_000


@dataclass(frozen=True, eq=False)
class PulseWidths:
    """How wide the pulses of a capture are.

    Parameters
    ----------
    single
        Samples that stand alone above both sides, shape ``(n,)``.
    wide
        How many pulses last longer.
    height_a
        Median height of the single ones.
    """

    single: Indices
    wide: int
    height_a: float


def pulse_widths(series: Series, noise_a: float, *, should_stop: ShouldStop = never) -> PulseWidths:
    """Tell pulses of one sample from longer ones.

    A pulse rises out of two calm samples by at least half of what they show and twenty times the noise. It is single
    when the two samples after it are calm again at the old level.

    Parameters
    ----------
    series
        The current, A.
    noise_a
        Noise of the lowest level.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    found, heights, wide = [np.empty(0, dtype=np.int64)], [np.empty(0)], 0
    carried: Samples = np.empty(0, dtype=np.float32)
    for first, values in chunks(series, should_stop=should_stop):
        joined = np.concatenate((carried, values)) if len(carried) else values
        single, rising = _pulses(joined, noise_a)
        start = first - len(carried)
        found.append(single[0] + start)
        heights.append(single[1])
        wide += rising - len(single[0])
        carried = joined[-4:].copy()  # the next piece decides about them
    every = np.concatenate(heights)
    return PulseWidths(np.concatenate(found), wide, float(np.median(every)) if len(every) else 0.0)


def _pulses(values: Samples, noise_a: float) -> tuple[tuple[Indices, Floats], int]:
    if len(values) < 5:
        return (np.empty(0, dtype=np.int64), np.empty(0)), 0
    with np.errstate(invalid="ignore"):
        candidates = 2 + np.flatnonzero(
            values[2:-2] - values[1:-3] > np.maximum(0.5 * np.abs(values[1:-3]), 20 * noise_a)
        )
        before2, before, here, after, after2 = (
            values[candidates + shift].astype(np.float64) for shift in (-2, -1, 0, 1, 2)
        )
        height = here - before
        rises = np.abs(before - before2) < 0.2 * height
        falls = (
            (here - after > 0.8 * height)
            & (np.abs(after2 - after) < 0.2 * height)
            & (np.abs(after - before) < 0.2 * height)
        )
    single = rises & falls
    return (candidates[single], height[single]), int(rises.sum())


@dataclass(frozen=True, eq=False)
class EdgeBreakouts:
    """Readings beside a change of level that lie beyond both levels.

    Parameters
    ----------
    edges
        The changes at which there are any, sample indices, shape ``(n,)``.
    looked_at
        How many changes were looked at.
    charge_c
        What these readings add or take, all together.
    """

    edges: Indices
    looked_at: int
    charge_c: float


def edge_breakouts(series: Series, edges: Indices, *, should_stop: ShouldStop = never) -> EdgeBreakouts:
    """Look for readings that break out for one or two samples where the level changes.

    Parameters
    ----------
    series
        The current, A.
    edges
        Sample indices of changes of the level, rising, shape ``(n,)``.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    An instrument that changes its range at that moment does this; so does an inrush current, but then upward only.
    """
    inside = edges[(edges >= _BEFORE) & (edges <= series.samples - _AFTER)]
    if len(inside) > _EDGES:
        inside = inside[np.linspace(0, len(inside) - 1, _EDGES).astype(np.int64)]
    found, charge_c = [], 0.0
    for edge in inside.tolist():
        if should_stop():
            raise Cancelled("stopped")
        values = series.read(edge - _BEFORE, edge + _AFTER).astype(np.float64)
        before, after = values[: _BEFORE - 3], values[_BEFORE + 4 :]
        if np.isnan(values).any():
            continue
        low, high = sorted((float(np.median(before)), float(np.median(after))))
        spread = max(float(before.std()), float(after.std()))
        if high - low <= max(8 * spread, 0.2 * abs(low)):
            continue  # a short pulse, no change of the level
        part = values[_BEFORE - 3 : _BEFORE + 4]
        beyond = np.where(part > high, part - high, np.where(part < low, part - low, 0.0))
        out = np.abs(beyond) > max(0.5 * (high - low), 8 * spread)
        if 1 <= out.sum() <= 2:
            found.append(edge)
            charge_c += float(beyond[out].sum()) * series.interval_s
    return EdgeBreakouts(np.array(found, dtype=np.int64), len(inside), charge_c)
