"""Sums over many consecutive intervals of a capture at once."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.series import Series, ShouldStop, chunks, never
from warm_ember.signal.stretch import total

_PASS_SAMPLES_PER_LOOKUP = 100_000


@dataclass(frozen=True, eq=False)
class IntervalSums:
    """Per interval the sum, number and highest of the measured samples, each of shape ``(intervals,)``."""

    total: Floats
    count: Indices
    high: Floats

    @property
    def mean(self) -> Floats:
        """Mean of the measured samples of each interval, shape ``(n,)``; 0 where nothing was measured."""
        return np.where(self.count > 0, self.total / np.maximum(self.count, 1), 0.0)


def interval_sums(series: Series, edges: Indices, *, should_stop: ShouldStop = never) -> IntervalSums:
    """Sum a series over the intervals between edges.

    Parameters
    ----------
    series
        The channel.
    edges
        Sample indices, strictly rising, shape ``(intervals + 1,)``.

    Notes
    -----
    Few long intervals are looked up in the pyramid, many short ones take one pass over the samples.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    intervals = len(edges) - 1
    if intervals * _PASS_SAMPLES_PER_LOOKUP < series.samples:
        found = [total(series, int(a), int(b)) for a, b in pairwise(edges)]
        return IntervalSums(
            np.array([f.total for f in found]),
            np.array([f.count for f in found], dtype=np.int64),
            np.array([f.high for f in found]),
        )
    sums = IntervalSums(np.zeros(intervals), np.zeros(intervals, dtype=np.int64), np.full(intervals, np.nan))
    for first, values in chunks(series, int(edges[0]), int(edges[-1]), should_stop=should_stop):
        _add_chunk(sums, edges, first, values)
    return sums


def integrals(series: Series, edges_s: Floats, *, should_stop: ShouldStop = never) -> Floats:
    """Integrate a series over intervals whose edges need not lie on sample edges; missing samples add nothing.

    Parameters
    ----------
    series
        The channel.
    edges_s
        Rising times within the series, s, shape ``(intervals + 1,)``.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    found = np.zeros(len(edges_s) - 1)
    places = np.clip(edges_s / series.interval_s, 0, series.samples)
    begin, end = math.floor(places[0]), min(math.ceil(places[-1]), series.samples)
    for first, values in chunks(series, begin, end, should_stop=should_stop):
        last = first + len(values)
        running = np.concatenate(([0.0], np.cumsum(np.nan_to_num(values), dtype=np.float64)))
        low = max(int(np.searchsorted(places, first, side="right")) - 1, 0)
        high = int(np.searchsorted(places, last, side="left")) + 1
        # Per chunk, and not over the whole series: after an hour of radio a second of sleep would drown in rounding.
        local = np.interp(np.clip(places[low:high], first, last) - first, np.arange(len(running)), running)
        found[low : low + len(local) - 1] += np.diff(local)
    return found * series.interval_s


def _add_chunk(sums: IntervalSums, edges: Indices, first: int, values: np.ndarray) -> None:
    last = first + len(values)
    begin = int(np.searchsorted(edges, first, side="right")) - 1
    end = int(np.searchsorted(edges, last, side="left"))
    starts = np.maximum(edges[begin:end], first) - first
    measured = ~np.isnan(values)
    part = slice(begin, end)
    if measured.all():
        sums.total[part] += np.add.reduceat(values, starts, dtype=np.float64)
        sums.count[part] += np.diff(np.append(starts, len(values)))
    else:
        sums.total[part] += np.add.reduceat(np.where(measured, values, 0.0), starts, dtype=np.float64)
        sums.count[part] += np.add.reduceat(measured, starts, dtype=np.int64)
    sums.high[part] = np.fmax(sums.high[part], np.fmax.reduceat(values, starts))
