"""Where a current crosses a threshold, and the peaks above it."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Flags, Floats, Indices, Samples
from warm_ember.signal.bands import runs_of
from warm_ember.signal.envelope import envelope
from warm_ember.signal.series import Series, ShouldStop, chunks, never

HYSTERESIS = 0.2
_COLUMNS = 4096


def _above(
    series: Series, threshold_a: float, hysteresis: float, first: int, last: int, should_stop: ShouldStop
) -> Iterator[tuple[int, Samples, Flags]]:
    """Yield pieces of a series with whether each sample counts as above a threshold with hysteresis."""
    low = threshold_a - hysteresis * abs(threshold_a)
    was_above = False
    for start, values in chunks(series, first, last, should_stop=should_stop):
        with np.errstate(invalid="ignore"):
            decided = (values >= threshold_a) | (values < low)
            high = values >= threshold_a
        latest = np.maximum.accumulate(np.where(decided, np.arange(len(values)), -1))
        above = np.where(latest >= 0, high[np.maximum(latest, 0)], was_above)
        was_above = bool(above[-1]) if len(above) else was_above
        yield start, values, above


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
        Sample indices, rising; a capture that begins above the threshold has not crossed it.

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
    found: list[Indices] = [np.empty(0, dtype=np.int64)]
    before: bool | None = None
    for start, _, above in _above(series, threshold_a, hysteresis, 0, series.samples, should_stop):
        joined = np.concatenate(([above[0] if before is None else before], above))
        changed = joined[1:] & ~joined[:-1] if rising else ~joined[1:] & joined[:-1]
        found.append(np.flatnonzero(changed) + start)
        before = bool(above[-1])
    return np.concatenate(found)


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
    for start, values, above in _above(series, threshold, HYSTERESIS, first, last, should_stop):
        for begin, end in runs_of(above).tolist():
            part = values[begin:end]
            at = int(np.nanargmax(part))
            time_s, charge_c = (start + begin + at) * series.interval_s, float(np.nansum(part, dtype=np.float64))
            height = float(part[at])
            if open_until == start + begin:
                known = peaks.pop()
                time_s = time_s if height > known[1] else known[0]
                height, charge_c = max(height, known[1]), charge_c + known[2]
            peaks.append((time_s, height, charge_c))
            open_until = start + end
    table = np.array(peaks, dtype=np.float64).reshape(-1, 3)
    return Peaks(threshold, table[:, 0], table[:, 1], table[:, 2] * series.interval_s)
