"""Pulses that are shorter than the sampling shows, and readings that break out where the level changes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices, Samples
from warm_ember.signal.medians import row_medians
from warm_ember.signal.series import Series, ShouldStop, chunks, never

_CALM_BEFORE, _FALLS_WITHIN, _PULSE = 2, 6, 16
_CALM, _FALLS = 0.2, 0.6
_OVER, _IN_NOISE = 0.03, 3.0
_BEFORE, _AFTER = 12, 14
_EDGES = 20_000


@dataclass(frozen=True, eq=False)
class PulseWidths:
    """How wide the pulses of a capture are.

    Parameters
    ----------
    short
        Samples at which those begin that are shorter than the sampling shows, shape ``(n,)``.
    wide
        How many pulses last some samples; what stays for longer is no pulse.
    height_a
        Median height of the short ones.
    """

    short: Indices
    wide: int
    height_a: float


def pulse_widths(series: Series, noise_a: float, *, should_stop: ShouldStop = never) -> PulseWidths:
    """Tell pulses that are shorter than the sampling shows from longer ones.

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

    Notes
    -----
    A pulse rises out of two calm samples by at least half of what they show and twenty times the noise. It is short
    when it reaches its height within a sample's length and falls from there without a stay, each reading at most
    three fifths of the one before as an instrument settles within two samples, down to calm samples at the old level
    in which nothing is left of it.
    """
    found, heights, wide = [np.empty(0, dtype=np.int64)], [np.empty(0)], 0
    carried: Samples = np.empty(0, dtype=np.float32)
    for first, values in chunks(series, should_stop=should_stop):
        joined = np.concatenate((carried, values)) if len(carried) else values
        short, rising = _pulses(joined, noise_a)
        start = first - len(carried)
        found.append(short[0] + start)
        heights.append(short[1])
        wide += rising - len(short[0])
        carried = joined[-(_CALM_BEFORE + _PULSE) :].copy()  # the next piece decides about them
    every = np.concatenate(heights)
    return PulseWidths(np.concatenate(found), wide, float(np.median(every)) if len(every) else 0.0)


def _pulses(values: Samples, noise_a: float) -> tuple[tuple[Indices, Floats], int]:
    if len(values) <= _CALM_BEFORE + _PULSE:
        return (np.empty(0, dtype=np.int64), np.empty(0)), 0
    before = values[_CALM_BEFORE - 1 : -_PULSE - 1]
    with np.errstate(invalid="ignore"):
        rise = values[_CALM_BEFORE:-_PULSE] - before
        # Out of the noise rise but few: only of these the share of what they rise from is worked out.
        out = np.flatnonzero(rise > 20 * noise_a)
        candidates = _CALM_BEFORE + out[rise[out] > 0.5 * np.abs(before[out])]
        shifts = np.arange(-_CALM_BEFORE, _FALLS_WITHIN + 1)
        heights = values[candidates[:, np.newaxis] + shifts].astype(np.float64)
        heights -= heights[:, _CALM_BEFORE - 1, np.newaxis]
        rises = np.abs(heights[:, _CALM_BEFORE - 2]) < _CALM * heights[:, _CALM_BEFORE]
        after = heights[:, _CALM_BEFORE:]
        later = after[:, 1] > after[:, 0]  # it lies across the edge of two samples
        rows = np.arange(len(after))[:, np.newaxis]
        falling = after[rows, later[:, np.newaxis] + np.arange(_FALLS_WITHIN)]
        peak = falling[:, :1]
        comes_back = np.abs(values[candidates + _PULSE] - values[candidates - 1]) < _CALM * peak[:, 0]
        rests = np.abs(falling) < _CALM * peak
        falls = (falling[:, 1:] <= _FALLS * falling[:, :-1]) | rests[:, 1:]
        calm = rests[:, -2:].all(axis=1) & (falling.min(axis=1) > -_CALM * peak[:, 0])
        # After one that breaks out at the edge of a longer pulse that pulse goes on.
        further = values[candidates[:, np.newaxis] + np.arange(_FALLS_WITHIN + 1, _PULSE)]
        stays = row_medians(further) - values[candidates - 1]
        over = np.abs(stays) < np.maximum(_OVER * peak[:, 0], _IN_NOISE * noise_a)
        shaped = rises & comes_back & calm & falls.all(axis=1) & (~later | (after[:, 0] <= _FALLS * after[:, 1]))
        short = shaped & over
    return (candidates[short], peak[short, 0]), int((rises & comes_back & (over | ~shaped)).sum())


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
    values = _around(series, inside, should_stop)
    known = ~np.isnan(values).any(axis=1)
    values, edges = values[known], inside[known]
    before, after = values[:, : _BEFORE - 3], values[:, _BEFORE + 4 :]
    ends = np.sort(np.column_stack((row_medians(before), row_medians(after))), axis=1)
    low, high = ends[:, :1], ends[:, 1:]
    spread = np.maximum(before.std(axis=1), after.std(axis=1))[:, None]
    # Without a change of the level it is a short pulse.
    changes = (high - low > np.maximum(8 * spread, 0.2 * np.abs(low)))[:, 0]
    part = values[:, _BEFORE - 3 : _BEFORE + 4]
    beyond = np.where(part > high, part - high, np.where(part < low, part - low, 0.0))
    out = np.abs(beyond) > np.maximum(0.5 * (high - low), 8 * spread)
    broken = changes & (out.sum(axis=1) >= 1) & (out.sum(axis=1) <= 2)
    charge_c = float(beyond[broken][out[broken]].sum()) * series.interval_s
    return EdgeBreakouts(edges[broken], len(inside), charge_c)


def _around(series: Series, edges: Indices, should_stop: ShouldStop) -> Floats:
    """Return the samples about each edge, shape ``(edges, window)``."""
    found = np.empty((len(edges), _BEFORE + _AFTER))
    for row, edge in enumerate(edges.tolist()):
        if should_stop():
            raise Cancelled("stopped")
        found[row] = series.read(edge - _BEFORE, edge + _AFTER)
    return found
