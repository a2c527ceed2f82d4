"""Where a current crosses a threshold, and the peaks above it."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from warm_ember.errors import BadArgumentError, Cancelled
from warm_ember.model.arrays import Blocks, Floats, Indices, Samples
from warm_ember.signal.bands import UNDECIDED, decided_pieces, runs_of
from warm_ember.signal.envelope import envelope
from warm_ember.signal.pyramid import BLOCK_SAMPLES
from warm_ember.signal.series import Series, ShouldStop, chunks, never

HYSTERESIS = 0.2
_COLUMNS = 4096


@dataclass(frozen=True, eq=False)
class _Stay:
    """A stretch above a threshold, or a part of one: its samples, where they had to be read."""

    first: int
    last: int
    values: Samples | None


def _stays(
    series: Series, threshold_a: float, hysteresis: float, first: int, last: int, should_stop: ShouldStop
) -> Iterator[_Stay]:
    """Yield the stretches above a threshold with hysteresis, in order; neighbours belong together.

    What the summary decides is not read: blocks that lie wholly above the threshold or wholly below its lower end.
    """
    low = threshold_a - hysteresis * abs(threshold_a)
    was_above = False

    def decide(blocks: Blocks) -> Indices:
        return np.where(blocks["min"] >= threshold_a, 1, np.where(blocks["max"] < low, 0, UNDECIDED))

    for begin, end, decided in decided_pieces(series, first, last, decide):
        if decided != UNDECIDED:
            was_above = decided == 1
            if should_stop():
                raise Cancelled("stopped")
            if was_above:
                yield _Stay(begin, end, None)
            continue
        for start, values in chunks(series, begin, end, should_stop=should_stop):
            with np.errstate(invalid="ignore"):
                high = values >= threshold_a
                known = high | (values < low)
            latest = np.maximum.accumulate(np.where(known, np.arange(len(values)), -1))
            above = np.where(latest >= 0, high[np.maximum(latest, 0)], was_above)
            was_above = bool(above[-1])
            for one, other in runs_of(above).tolist():
                yield _Stay(start + one, start + other, values[one:other])


def crossings(
    series: Series,
    threshold_a: float,
    *,
    rising: bool = True,
    hysteresis: float = HYSTERESIS,
    should_stop: ShouldStop = never,
) -> Indices:
    """Find where a current crosses a threshold.

    Parameters
    ----------
    series
        The current, A.
    threshold_a
        It is crossed upward at the first sample that is not below it, downward at the first that is below it by
        `hysteresis` of its size.
    rising
        Upward or downward.
    hysteresis
        As a share of the threshold.

    Returns
    -------
    Indices
        Sample indices, rising, shape ``(n,)``; a capture that begins above the threshold has not crossed it.

    Raises
    ------
    BadArgumentError
        If the threshold is no number.
    Cancelled
        If `should_stop` answered yes.

    Examples
    --------
    >>> from warm_ember.signal.series import ArraySeries
    >>> crossings(ArraySeries(np.float32([0, 5, 3.9, 5, 0, 5]), 1.0), 4.0).tolist()
    [1, 5]
    """
    if not math.isfinite(threshold_a):
        raise BadArgumentError(f"the threshold must be a current, found {threshold_a}")
    joined: list[list[int]] = []
    for stay in _stays(series, threshold_a, hysteresis, 0, series.samples, should_stop):
        if joined and joined[-1][1] == stay.first:
            joined[-1][1] = stay.last
        else:
            joined.append([stay.first, stay.last])
    ends = np.array(joined, dtype=np.int64).reshape(-1, 2)
    crossed = ends[ends[:, 0] > 0, 0] if rising else ends[ends[:, 1] < series.samples, 1]
    return np.asarray(crossed, dtype=np.int64)


@dataclass(frozen=True, eq=False)
class Peaks:
    """The peaks of a stretch.

    Parameters
    ----------
    threshold_a
        What lies above it belongs to a peak.
    times_s, heights_a
        The highest sample of each, shape ``(peaks,)``.
    charges_c
        Charge while above the threshold, shape ``(peaks,)``.
    """

    threshold_a: float
    times_s: Floats
    heights_a: Floats
    charges_c: Floats

    @property
    def intervals_s(self) -> Floats:
        """Time from each peak to the next, shape ``(peaks - 1,)``."""
        return np.diff(self.times_s)


def default_threshold(series: Series, from_s: float, to_s: float) -> float:
    """Return a threshold halfway between the median and the highest reading of a stretch, on the log axis.

    Where the median is not above zero it is half the highest reading.
    """
    bins = envelope(series, from_s, to_s, _COLUMNS)
    known = bins.mean[~np.isnan(bins.mean)]
    if not len(known):
        return 0.0
    middle, highest = float(np.median(known)), float(np.nanmax(bins.high))
    return math.sqrt(middle * highest) if middle > 0 < highest else highest / 2


def find_peaks(
    series: Series, from_s: float, to_s: float, *, threshold_a: float | None = None, should_stop: ShouldStop = never
) -> Peaks:
    """Find the peaks of a stretch: each is one stay above a threshold with hysteresis.

    Parameters
    ----------
    series
        The current, A.
    from_s, to_s
        The stretch.
    threshold_a
        None takes `default_threshold`.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    threshold = default_threshold(series, from_s, to_s) if threshold_a is None else threshold_a
    first = min(max(round(from_s / series.interval_s), 0), series.samples)
    last = min(max(round(to_s / series.interval_s), first), series.samples)
    peaks: list[tuple[float, float, float]] = []
    open_until = -1
    for stay in _stays(series, threshold, HYSTERESIS, first, last, should_stop):
        time_s, height, charge = _highest(series, stay)
        if open_until == stay.first:
            known = peaks.pop()
            time_s = time_s if height > known[1] else known[0]
            height, charge = max(height, known[1]), charge + known[2]
        peaks.append((time_s, height, charge))
        open_until = stay.last
    table = np.array(peaks, dtype=np.float64).reshape(-1, 3)
    return Peaks(threshold, table[:, 0], table[:, 1], table[:, 2] * series.interval_s)


def _highest(series: Series, stay: _Stay) -> tuple[float, float, float]:
    """Return the moment and height of the highest sample of a stretch, and the sum of its samples."""
    if stay.values is not None:
        heights = np.where(np.isnan(stay.values), -np.inf, stay.values)  # a part of a stay may be a hole
        at = int(np.argmax(heights))
        height = float(heights[at])
        return (stay.first + at) * series.interval_s, height, float(np.nansum(stay.values, dtype=np.float64))
    blocks = series.blocks(0, stay.first // BLOCK_SAMPLES, stay.last // BLOCK_SAMPLES)
    first = stay.first + int(np.argmax(blocks["max"])) * BLOCK_SAMPLES
    values = series.read(first, first + BLOCK_SAMPLES)
    at = int(np.argmax(values))
    return (first + at) * series.interval_s, float(values[at]), float(blocks["sum"].sum())
