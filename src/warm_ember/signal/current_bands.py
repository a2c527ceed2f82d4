"""How long a current stays in which band, and what charge flows there: a histogram on the log axis."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.bands import runs_of
from warm_ember.signal.pyramid import BLOCK_SAMPLES
from warm_ember.signal.series import Series, ShouldStop, chunks, never

PER_DECADE = 8
_LOWEST_DECADE, _HIGHEST_DECADE = -12, 3
_BANDS = (_HIGHEST_DECADE - _LOWEST_DECADE) * PER_DECADE
_SUMMARY_BLOCKS = 1 << 14


@dataclass(frozen=True, eq=False)
class CurrentBands:
    """Time and charge by current band.

    Parameters
    ----------
    edges_a
        Ends of the bands, eight a decade, shape ``(bands + 1,)``; empty when nothing was above zero.
    time_s, charge_c
        Per band, shape ``(bands,)``.
    below_s, below_c
        Time and charge of what lies at or below zero.
    """

    edges_a: Floats
    time_s: Floats
    charge_c: Floats
    below_s: float
    below_c: float


def current_bands(series: Series, from_s: float, to_s: float, *, should_stop: ShouldStop = never) -> CurrentBands:
    """Sort the samples of a stretch by current.

    Parameters
    ----------
    series
        The current, A.
    from_s, to_s
        The stretch; missing samples count nowhere.
    should_stop
        Polled between pieces.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    Blocks of the summary that lie within one band are added as a whole; only the others are read.

    Examples
    --------
    >>> from warm_ember.signal.series import ArraySeries
    >>> bands = current_bands(ArraySeries(np.float32([1.2e-3, 1.2e-3, 1.5, 0]), 0.5), 0, 2)
    >>> bands.time_s[[0, -1]].tolist(), float(bands.charge_c[-1]), bands.below_s
    ([1.0, 0.5], 0.75, 0.5)
    """
    first = min(max(round(from_s / series.interval_s), 0), series.samples)
    last = min(max(round(to_s / series.interval_s), first), series.samples)
    counts, sums = np.zeros(_BANDS + 1), np.zeros(_BANDS + 1)
    begin, end = -(-first // BLOCK_SAMPLES), last // BLOCK_SAMPLES
    if begin >= end:
        _add_samples(series, first, last, counts, sums, should_stop)
    else:
        _add_samples(series, first, begin * BLOCK_SAMPLES, counts, sums, should_stop)
        for start in range(begin, end, _SUMMARY_BLOCKS):
            _add_blocks(series, start, min(start + _SUMMARY_BLOCKS, end), counts, sums, should_stop)
        _add_samples(series, end * BLOCK_SAMPLES, last, counts, sums, should_stop)
    used = np.flatnonzero(counts[1:])
    low, high = (int(used[0]), int(used[-1]) + 1) if len(used) else (0, 0)
    edges = 10.0 ** (_LOWEST_DECADE + np.arange(low, high + 1) / PER_DECADE) if len(used) else np.empty(0)
    dt = series.interval_s
    return CurrentBands(
        edges, counts[1:][low:high] * dt, sums[1:][low:high] * dt, float(counts[0]) * dt, float(sums[0]) * dt
    )


def _band(current_a: np.ndarray) -> Indices:
    """Return the band of each current: 0 for what lies at or below zero, then from the lowest band up."""
    with np.errstate(divide="ignore", invalid="ignore"):
        places = np.floor((np.log10(current_a) - _LOWEST_DECADE) * PER_DECADE) + 1
    return np.asarray(np.clip(np.where(current_a > 0, places, 0), 0, _BANDS), dtype=np.int64)


def _add_samples(series: Series, first: int, last: int, counts: Floats, sums: Floats, should_stop: ShouldStop) -> None:
    for _, values in chunks(series, first, last, should_stop=should_stop):
        known = values[~np.isnan(values)]
        index = _band(known)
        counts += np.bincount(index, minlength=_BANDS + 1)
        sums += np.bincount(index, weights=known, minlength=_BANDS + 1)


def _add_blocks(series: Series, first: int, last: int, counts: Floats, sums: Floats, should_stop: ShouldStop) -> None:
    """Add summary blocks as a whole where they lie within one band, and the samples of the others."""
    found = series.blocks(0, first, last)
    lowest = _band(found["min"])
    pure = (lowest == _band(found["max"])) | (found["count"] == 0)
    counts += np.bincount(lowest[pure], weights=found["count"][pure], minlength=_BANDS + 1)
    sums += np.bincount(lowest[pure], weights=found["sum"][pure], minlength=_BANDS + 1)
    for begin, end in (runs_of(~pure) + first).tolist():
        _add_samples(series, begin * BLOCK_SAMPLES, end * BLOCK_SAMPLES, counts, sums, should_stop)
