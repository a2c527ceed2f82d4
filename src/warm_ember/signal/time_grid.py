"""From the times a logger wrote to the uniform grid of a capture.

Three kinds of time column occur. *Regular* ones, with jitter or coarse stamps, are counted: each row is the next
sample. *Gaps* in them become NaN. *Irregular* ones (a logger that writes on change) are resampled: each value
holds until the next, and a grid sample is the mean of what held during it, so that charge is kept exactly.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats, Indices

_LARGEST_GAP = 1 << 31
_MOST_GAPS = 0.2
_PIECE = 1 << 20
_SHORTEST, _OF_SHORTEST, _ON_CHANGE, _MOST_FOR_EDGES = 0.01, 16, 0.33, 4_000_000
_ROUNDING = 1e-9
"""By so much of a sample a time may be short of a sample's end, however it was rounded."""


@dataclass(frozen=True, slots=True)
class TimeKind:
    """What the first rows say about a time column.

    Parameters
    ----------
    interval_s
        Estimated sample interval.
    irregular
        Whether rows come at no steady rate.
    jitter_s
        Spread of the times around the steady grid, including the steps of coarse stamps.
    shared
        Whether several rows share each time, so that a stamp is coarser than the interval.
    """

    interval_s: float
    irregular: bool
    jitter_s: float
    shared: bool = False


def inspect_times(times: Floats) -> TimeKind:
    """Tell regular from irregular times and estimate the interval.

    Parameters
    ----------
    times
        The first rows' times, s, not falling, shape ``(n,)`` with at least two.

    Raises
    ------
    BadArgumentError
        If all times are equal.
    """
    steps = np.diff(times)
    typical = float(np.median(steps))
    shared = typical <= 0 or bool(np.mean(steps <= 0) > 0.2)  # stamps coarser than the interval
    if shared:
        typical = _between_rises(times, steps)
    if not typical > 0:
        raise BadArgumentError("the times do not rise: all first rows carry the same time")
    coarse = float(steps[steps > 0].min())
    gaps = _gaps(steps, max(typical, coarse if np.any(steps <= 0) else 0.0))
    interval_s = typical
    if not np.all(gaps) and np.any(steps[~gaps] > 0):
        interval_s = float(steps[~gaps].mean())
    closed = np.cumsum(np.where(gaps, interval_s, steps))
    residual = closed - interval_s * np.arange(1, len(closed) + 1)
    residual -= np.median(residual)
    worst = float(np.quantile(np.abs(residual), 0.99)) if len(residual) else 0.0
    allowed = max(0.75 * interval_s, 1.5 * coarse if np.any(steps <= 0) else 0.0)
    irregular = bool(np.mean(gaps) > _MOST_GAPS or worst > allowed)
    if irregular:
        interval_s = float(np.quantile(steps[steps > 0], 0.05))
    return TimeKind(typical if shared and not irregular else interval_s, irregular, worst, shared)


def _between_rises(times: Floats, steps: Floats) -> float:
    """Return the interval of rows that share stamps: from where these first go on to where they last do."""
    rises = np.flatnonzero(steps > 0) + 1
    if len(rises) < 2:
        return float(times[-1] - times[0]) / len(steps)
    return float(times[rises[-1]] - times[rises[0]]) / float(rises[-1] - rises[0])


def _gaps(steps: Floats, interval_s: float) -> np.ndarray:
    """Flag steps that skip samples: long ones that the next step does not make up for."""
    if not len(steps) or float(steps.max()) <= 1.5 * interval_s:
        return np.zeros(len(steps), dtype=bool)
    following = np.append(steps[1:], interval_s)
    return np.asarray((steps > 1.5 * interval_s) & (steps + following > 2.5 * interval_s))


def nice_interval(interval_s: float, samples: int, tolerance_s: float) -> float:
    """Return the roundest interval, or reciprocal of a round rate, that the times allow.

    Parameters
    ----------
    interval_s
        Estimate from first to last time.
    samples
        Number of intervals it rests on.
    tolerance_s
        How far the last time may be off.

    Examples
    --------
    >>> nice_interval(0.00033333334, 100_000, 1e-6), 1 / nice_interval(0.0099999, 50, 1e-3)
    (0.0003333333333333333, 100.0)
    """
    allowed = max(min(0.5 * interval_s, tolerance_s) / max(samples, 1), 1e-9 * interval_s)
    for digits in range(1, 8):
        candidates = (1.0 / float(f"{1 / interval_s:.{digits - 1}e}"), float(f"{interval_s:.{digits - 1}e}"))
        for candidate in candidates:
            if abs(candidate - interval_s) <= allowed:
                return candidate
    return interval_s


def held_interval(times: Floats, kind: TimeKind) -> float:
    """Return the interval of a grid for values that hold until the next, fine enough for what holds shortest.

    Readings that come about evenly get a sample each. Where they hold for several times as long on average as the
    short ones a logger writes on change: its rows stand at the edges of the current, and a coarse grid would blur
    these together, with every peak. Then the shortest get sixteen samples each, as long as the rows that are looked
    at become no more than four million.

    Parameters
    ----------
    times
        The first rows' times, s, not falling, shape ``(n,)`` with at least two that differ.
    kind
        What `inspect_times` says of them.
    """
    steps = np.diff(times)
    shortest_s, interval_s = float(np.quantile(steps[steps > 0], _SHORTEST)), kind.interval_s
    if interval_s < _ON_CHANGE * float(steps.mean()):
        finest_s = float(times[-1] - times[0]) / _MOST_FOR_EDGES
        interval_s = min(interval_s, max(shortest_s / _OF_SHORTEST, finest_s))
    return nice_interval(interval_s, 1, 0.1 * interval_s)


class RegularTimes:
    """Count rows on a steady grid and open gaps where rows are missing.

    Parameters
    ----------
    kind
        From `inspect_times`.
    stamp_step_s
        The finest step that the written times can show.
    holds
        Whether the last value holds in gaps, instead of being missing.
    """

    def __init__(self, kind: TimeKind, stamp_step_s: float, *, holds: bool = False) -> None:
        self._kind, self._holds = kind, holds
        self._last: list[float] = []
        self._tolerance_s = max(stamp_step_s, 2 * kind.jitter_s)
        self._gap_interval_s = max(kind.interval_s, stamp_step_s)
        self._first_s = math.nan
        self._last_s = math.nan
        self._index = -1
        self._risen: tuple[float, int] | None = None
        self._rose: tuple[float, int] | None = None
        self.missing = 0

    def place(self, times: Floats, columns: list[Floats]) -> Iterator[list[Floats]]:
        """Yield the columns with NaN where rows are missing, in pieces of bounded length however long a gap is.

        Parameters
        ----------
        times
            Of the rows, s, rising, going on from those before, shape ``(n,)``; there may be none.
        columns
            Their values, each of shape ``(n,)``.

        Yields
        ------
        list of Floats
            The columns on the grid, all of one shape ``(m,)``.

        Raises
        ------
        BadArgumentError
            If a gap is too long to be filled.
        """
        if not len(times):
            return
        if math.isnan(self._first_s):
            self._first_s = float(times[0])
            self._last_s = float(times[0]) - self._kind.interval_s
        steps = np.diff(times, prepend=self._last_s)
        gaps = _gaps(steps, self._gap_interval_s)
        self._last_s = float(times[-1])
        held = self._last or [math.nan] * len(columns)
        self._last = [float(column[-1]) for column in columns]
        self._note_rises(times, steps, gaps)
        if not gaps.any():
            self._index += len(times)
            yield columns
            return
        advance = np.ones(len(times), dtype=np.int64)
        longest = float(steps[gaps].max())
        if longest / self._kind.interval_s > _LARGEST_GAP:
            raise BadArgumentError(f"a gap of {longest:.4g} s is too long to be filled")
        advance[gaps] = np.maximum(1, np.rint(steps[gaps] / self._kind.interval_s)).astype(np.int64)
        places = np.cumsum(advance) - 1
        self._index += int(places[-1]) + 1
        self.missing += int(advance.sum()) - len(times)
        for first in range(0, int(places[-1]) + 1, _PIECE):
            yield self._filled(places, columns, held, first, min(first + _PIECE, int(places[-1]) + 1))

    def _filled(self, places: Indices, columns: list[Floats], held: list[float], first: int, last: int) -> list[Floats]:
        """Return grid samples ``[first, last)`` of a batch whose rows are at `places`."""
        from_row, to_row = np.searchsorted(places, (first, last)).tolist()
        filled = []
        for column, before in zip(columns, held, strict=True):
            values = np.full(last - first, np.nan)
            values[places[from_row:to_row] - first] = column[from_row:to_row]
            if self._holds:
                latest = np.searchsorted(places[from_row:to_row], np.arange(first, last), side="right")
                known = column[from_row - 1] if from_row else before
                values = np.concatenate(([known], column[from_row:to_row]))[latest]
            filled.append(values)
        return filled

    def _note_rises(self, times: Floats, steps: Floats, gaps: np.ndarray) -> None:
        """Note where coarse stamps first and last went on: several rows share each, and those at the ends are cut."""
        if not self._kind.shared:
            return
        rises = np.flatnonzero(steps > 0)
        places = self._index + np.cumsum(np.where(gaps, np.maximum(np.rint(steps / self._kind.interval_s), 1), 1))
        for row in rises[-1:].tolist():
            self._rose = (float(times[row]), int(places[row]))
        if self._risen is None:
            begins = rises[(rises > 0) | (self._index >= 0)]
            if len(begins):
                self._risen = (float(times[begins[0]]), int(places[begins[0]]))

    @property
    def interval_s(self) -> float:
        """The sample interval, refined by the whole length."""
        if self._index < 1:
            return nice_interval(self._kind.interval_s, 1, 0.0)
        if self._risen is not None and self._rose is not None and self._rose[1] > self._risen[1]:
            rows = self._rose[1] - self._risen[1]
            return nice_interval((self._rose[0] - self._risen[0]) / rows, rows, self._kind.interval_s)
        mean_s = (self._last_s - self._first_s) / self._index
        return nice_interval(mean_s, self._index, self._tolerance_s)


class HeldTimes:
    """Resample rows that come at no steady rate onto a grid, each value holding until the next.

    Parameters
    ----------
    kind
        From `inspect_times`.
    interval_s
        Of the grid, such as `held_interval` gives.
    """

    def __init__(self, kind: TimeKind, interval_s: float) -> None:
        self.interval_s = interval_s
        self._typical_s = kind.interval_s
        self._first_s = math.nan
        self._next_edge = 0
        self._times: Floats = np.empty(0)
        self._columns: list[Floats] = []

    @property
    def usual_s(self) -> float:
        """For how long a value holds of which nothing says when it ends."""
        return self._typical_s

    def place(self, times: Floats, columns: list[Floats]) -> Iterator[list[Floats]]:
        """Yield the grid samples that these rows complete, in pieces of bounded length.

        Parameters
        ----------
        times
            Of the rows, s, rising, going on from those before, shape ``(n,)``; there may be none.
        columns
            Their values, each of shape ``(n,)``; a value holds until the next row.

        Yields
        ------
        list of Floats
            The columns on the grid, all of one shape ``(m,)``.

        Raises
        ------
        BadArgumentError
            If the rows span more samples than can be filled.
        """
        if math.isnan(self._first_s) and len(times):
            self._first_s = float(times[0])
            self._columns = [np.empty(0) for _ in columns]
        self._times = np.concatenate((self._times, times - self._first_s))
        self._columns = [np.concatenate((old, new)) for old, new in zip(self._columns, columns, strict=True)]
        yield from self._emit()

    def finish(self) -> Iterator[list[Floats]]:
        """Yield the last grid samples, all of one shape ``(m,)``: the last value holds for one typical interval."""
        if not len(self._times):
            return
        self._times = np.append(self._times, self._times[-1] + self._typical_s)
        self._columns = [np.append(column, column[-1]) for column in self._columns]
        yield from self._emit(final=True)

    def _emit(self, *, final: bool = False) -> Iterator[list[Floats]]:
        reach = self._times[-1] / self.interval_s + _ROUNDING
        # What was given out is not given out again, however the division is rounded.
        last_edge = max(round(reach), self._next_edge + 1) if final else max(math.floor(reach), self._next_edge)
        if last_edge - self._next_edge > _LARGEST_GAP:
            raise BadArgumentError(f"times spread over {self._times[-1]:.4g} s need too many samples")
        for first in range(self._next_edge, last_edge, _PIECE):
            edges = np.arange(first, min(first + _PIECE, last_edge) + 1) * self.interval_s
            yield [self._mean_between(column, edges) for column in self._columns]
        # Keep the row that holds at the last edge, and all after it.
        keep = max(0, int(np.searchsorted(self._times, last_edge * self.interval_s, side="right")) - 1)
        self._times = self._times[keep:]
        self._columns = [column[keep:] for column in self._columns]
        self._next_edge = last_edge

    def _mean_between(self, column: Floats, edges: Floats) -> Floats:
        lengths = np.diff(self._times)
        known = ~np.isnan(column[:-1])
        sums = np.concatenate(([0.0], np.cumsum(np.where(known, column[:-1], 0.0) * lengths)))
        spans = np.concatenate(([0.0], np.cumsum(known * lengths)))
        charge = np.diff(np.interp(edges, self._times, sums))
        measured = np.diff(np.interp(edges, self._times, spans))
        enough = measured > 0.5 * self.interval_s
        # Nothing stands for what was not read, however short it held: where it lies a sample is missing.
        unread = np.flatnonzero(~known)
        amid = np.searchsorted(edges, (self._times[unread] + self._times[unread + 1]) / 2, side="right") - 1
        enough[amid[(amid >= 0) & (amid < len(enough))]] = False
        means = np.divide(charge, measured, out=np.full(len(charge), np.nan), where=enough)
        # Where one value holds all through a sample it is that value, not what is left of it after sums.
        begins = np.searchsorted(self._times, edges[:-1], side="right") - 1
        is_one = begins == np.searchsorted(self._times, edges[1:], side="left") - 1
        means[is_one] = column[begins[is_one]]
        return np.asarray(means)
