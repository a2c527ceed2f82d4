"""Readings cut off at the end of the instrument's range."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices, Samples
from warm_ember.signal.bands import runs_of
from warm_ember.signal.pyramid import BLOCK_SAMPLES
from warm_ember.signal.series import Series, ShouldStop, never

_BLOCKS_PER_STEP = 1 << 16
_EXAMINED_BLOCKS = 20_000
_COMPARED_BLOCKS = 400
_SAME = 2.0**-22
_LEAST_RUN = 3
_LEAST_PAIRS = 20
_MOST_EQUAL = 0.3
_FINEST = 2.0**-23
_STANDS_OUT = 3
_LEAST_RELATIVE = 0.005


@dataclass(frozen=True, eq=False)
class Clipping:
    """Readings that stand at one highest value.

    Parameters
    ----------
    limit_a
        That value.
    samples
        How many stand at it in runs of three and more.
    stretches
        First and last-plus-one sample of each run, shape ``(runs, 2)``.
    seen_at_high_current
        Whether readings at comparable current differ from each other. Otherwise only those of sleep do, and a burst
        without any noise of its own would look the same.
    """

    limit_a: float
    samples: int
    stretches: Indices
    seen_at_high_current: bool


def find_clipping(series: Series, *, should_stop: ShouldStop = never) -> Clipping | None:
    """Find readings cut off at the top of the range.

    Parameters
    ----------
    series
        The current, A.
    should_stop
        Polled between pieces.

    Returns
    -------
    Clipping or None
        None when no runs stand at the highest value, or when neighbouring readings are as often equal elsewhere
        (a coarse or noiseless instrument shows flat tops that are none).

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    Only blocks whose maximum is the capture's are read, found through the pyramid; at most 20000 of them.
    """
    highest = _highest(series)
    if not highest > 0:
        return None
    limit = highest * (1 - _SAME)
    at_limit, below = _blocks_by_height(series, limit, should_stop)
    if len(at_limit) > _EXAMINED_BLOCKS:
        at_limit = at_limit[np.linspace(0, len(at_limit) - 1, _EXAMINED_BLOCKS).astype(np.int64)]
    runs = _runs_at(series, at_limit, limit, should_stop)
    runs = runs[runs[:, 1] - runs[:, 0] >= _LEAST_RUN]
    if not len(runs):
        return None
    count = -(-series.samples // BLOCK_SAMPLES)
    beside = np.unique(np.concatenate((at_limit[:_COMPARED_BLOCKS], below[:_COMPARED_BLOCKS])))
    if not _stands_out(series, at_limit[:_COMPARED_BLOCKS], highest, limit):
        return None
    steps = _steps(series, beside, 0.25 * limit, limit)
    at_high = len(steps) >= _LEAST_PAIRS
    if not at_high:
        anywhere = np.unique(np.linspace(0, count - 1, _COMPARED_BLOCKS).astype(np.int64))
        steps, of = _steps(series, anywhere, -np.inf, limit), _steps(series, anywhere, -np.inf, limit, relative=True)
        # Noise finer than single precision shows at this height would vanish there without any clipping.
        steps = np.where((steps < _FINEST * highest) & (of < _LEAST_RELATIVE), 0.0, steps)
    if len(steps) < _LEAST_PAIRS or np.mean(steps == 0) > _MOST_EQUAL:
        return None
    return Clipping(highest, int((runs[:, 1] - runs[:, 0]).sum()), runs, at_high)


def _highest(series: Series) -> float:
    top = len(series.levels) - 1
    blocks = series.blocks(top, 0, -(-series.samples // series.levels[top]))
    known = blocks["max"][~np.isnan(blocks["max"])]
    return float(known.max()) if len(known) else 0.0


def _blocks_by_height(series: Series, limit: float, should_stop: ShouldStop) -> tuple[Indices, Indices]:
    """Return the indices of finest blocks that reach the limit, and some of those that come near it."""
    count = -(-series.samples // BLOCK_SAMPLES)
    reach, near = [], []
    for first in range(0, count, _BLOCKS_PER_STEP):
        if should_stop():
            raise Cancelled("stopped")
        heights = series.blocks(0, first, min(first + _BLOCKS_PER_STEP, count))["max"]
        with np.errstate(invalid="ignore"):
            reach.append(first + np.flatnonzero(heights >= limit))
            near.append(first + np.flatnonzero((heights < limit) & (heights >= 0.25 * limit))[:_COMPARED_BLOCKS])
    return np.concatenate(reach), np.concatenate(near)


def _runs_at(series: Series, blocks: Indices, limit: float, should_stop: ShouldStop) -> Indices:
    """Return the runs of samples at the limit within neighbouring blocks."""
    found = [np.empty((0, 2), dtype=np.int64)]
    for group in np.split(blocks, np.flatnonzero(np.diff(blocks) > 1) + 1):
        if should_stop():
            raise Cancelled("stopped")
        if len(group):
            first = int(group[0]) * BLOCK_SAMPLES
            values = series.read(first, min((int(group[-1]) + 1) * BLOCK_SAMPLES, series.samples))
            found.append(runs_of(values >= limit) + first)
    return np.concatenate(found)


def _stands_out(series: Series, blocks: Indices, highest: float, limit: float) -> bool:
    """Return whether far more readings stand at the limit than at the next value below it.

    The highest value of coarse readings is the tail of their noise, and rarer than the one below it.
    """
    at_limit, below = 0, [np.empty(0, dtype=np.float32)]
    for block in blocks.tolist():
        values = series.read(block * BLOCK_SAMPLES, min((block + 1) * BLOCK_SAMPLES, series.samples))
        with np.errstate(invalid="ignore"):
            at_limit += int((values >= limit).sum())
            below.append(values[(values < limit) & (values > 0.9 * highest)])
    values, counts = np.unique(np.concatenate(below), return_counts=True)
    return not len(values) or at_limit > _STANDS_OUT * int(counts[-1])


def _steps(series: Series, blocks: Indices, low: float, high: float, *, relative: bool = False) -> Floats:
    """Return how far neighbouring readings, both within a band, are apart; relative to their size if asked for."""
    found = [np.empty(0)]
    for block in blocks.tolist():
        values: Samples = series.read(block * BLOCK_SAMPLES, min((block + 1) * BLOCK_SAMPLES, series.samples))
        with np.errstate(invalid="ignore"):
            inside = (values >= low) & (values < high)
        both = inside[1:] & inside[:-1]
        exact = values.astype(np.float64)
        steps = np.abs(np.diff(exact))[both]
        if relative:
            steps /= np.maximum(np.abs(exact[1:][both]), 1e-300)
        found.append(steps)
    return np.concatenate(found)
