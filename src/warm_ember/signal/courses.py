"""The courses of many stretches: how long each is, what flows in it, and how its current goes on the way."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices, Samples
from warm_ember.signal.series import CHUNK_SAMPLES, Series, ShouldStop, never

COLUMNS = 12
_APART = 1 << 16
_STRETCHED = 2
_SHARES = np.array([0.01, 0.25, 0.5, 0.75, 0.99])


@dataclass(frozen=True, eq=False)
class Courses:
    """What is known of some stretches.

    Parameters
    ----------
    lasts
        Their lengths in samples, shape ``(n,)``.
    total, peak_a
        Sum of the samples and the highest one, A, shape ``(n,)``; what was not measured is taken to be as the rest of
        its stretch, and NaN where nothing was.
    core
        Within what of each, in samples from its beginning, all of the charge flows but a hundredth at either end: what
        noise and a slow tail make of a length does not change it. Shape ``(n, 2)``.
    quarters
        When a quarter, a half and three quarters of the charge have flowed, as shares of the core, shape ``(n, 3)``.
    mean_a
        Mean current in equal parts of each core, A, shape ``(n, columns)``.
    """

    lasts: Indices
    total: Floats
    peak_a: Floats
    core: Floats
    quarters: Floats
    mean_a: Floats


def read_courses(
    series: Series,
    first: Indices,
    last: Indices,
    *,
    columns: int = COLUMNS,
    whole: bool = False,
    should_stop: ShouldStop = never,
) -> Courses:
    """Read stretches of a current.

    Parameters
    ----------
    series
        The current, A.
    first, last
        First and last-plus-one samples, rising and not overlapping, shape ``(n,)``.
    columns
        In how many parts each core is cut; parts shorter than a sample share what is in it.
    whole
        Whether all of each is cut into parts, and not only its core.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    count = len(first)
    total, peak_a = np.zeros(count), np.full(count, np.nan)
    core, quarters, mean_a = np.zeros((count, 2)), np.zeros((count, 3)), np.zeros((count, columns))
    for begin, end in _together(first, last):
        if should_stop():
            raise Cancelled("stopped")
        part, start = slice(begin, end), int(first[begin])
        values = _Running(series.read(start, int(last[end - 1])), first[part] - start, last[part] - start)
        total[part], peak_a[part] = values.total, values.highest
        times = values.times_of(_SHARES)
        core[part] = times[:, [0, -1]] - values.first[:, None]
        ends = np.column_stack((values.first, values.last)).astype(np.float64) if whole else times[:, [0, -1]]
        length = np.maximum(times[:, -1] - times[:, 0], 1e-9)
        quarters[part] = (times[:, 1:-1] - times[:, :1]) / length[:, None]
        mean_a[part] = values.means(ends[:, 0], ends[:, 1], columns)
    return Courses(np.asarray(last - first), total, peak_a, core, quarters, mean_a)


def _together(first: Indices, last: Indices) -> list[tuple[int, int]]:
    """Return which stretches are read at once: neighbours, up to a chunk, and no long gaps."""
    found, begin = [], 0
    starts, ends = first.tolist(), last.tolist()
    for at in range(1, len(starts) + 1):
        if at == len(starts) or starts[at] - ends[at - 1] > _APART or ends[at] - starts[begin] > CHUNK_SAMPLES:
            found.append((begin, at))
            begin = at
    return found


class _Running:
    """Samples with their running sums, and the stretches in them; what was not measured is as the rest of a stretch."""

    def __init__(self, values: Samples, first: Indices, last: Indices) -> None:
        self.first, self.last = first, last
        # The highest between stretches is looked for too, and left out again.
        bounds = np.column_stack((first, last)).reshape(-1)
        self.highest = np.fmax.reduceat(np.append(values, np.float32(np.nan)), bounds)[::2].astype(np.float64)
        missing = np.isnan(values)
        if missing.any():
            values = _filled(values, missing, first, last)
        self._values = np.append(values, np.float32(0.0))
        self._sums = np.concatenate(([0.0], np.cumsum(values, dtype=np.float64)))
        self.total = np.where(np.isnan(self.highest), np.nan, self._sums[last] - self._sums[first])

    def times_of(self, shares: Floats) -> Floats:
        """Return when shares of what flows in each stretch have flowed, in samples, shape ``(stretches, shares)``."""
        rising = np.concatenate(([0.0], np.cumsum(np.maximum(self._values[:-1], 0.0), dtype=np.float64)))
        wanted = rising[self.first, None] + shares * (rising[self.last] - rising[self.first])[:, None]
        at = np.clip(np.searchsorted(rising, wanted, side="right") - 1, 0, len(rising) - 2)
        step = rising[at + 1] - rising[at]
        part = np.where(step > 0, (wanted - rising[at]) / np.where(step > 0, step, 1.0), 0.0)
        return np.asarray(np.clip(at + np.clip(part, 0, 1), self.first[:, None], self.last[:, None]))

    def means(self, begin: Floats, end: Floats, columns: int) -> Floats:
        """Return the mean in equal parts of stretches that need not begin on samples, shape ``(stretches, columns)``."""
        places = begin[:, None] + np.arange(columns + 1) / columns * (end - begin)[:, None]
        whole = np.minimum(places.astype(np.int64), len(self._values) - 1)
        sums = self._sums[whole] + (places - whole) * self._values[whole]
        return np.asarray(np.diff(sums, axis=1) * (columns / np.maximum(end - begin, 1e-9))[:, None])


def _filled(values: Samples, missing: np.ndarray, first: Indices, last: Indices) -> Samples:
    """Return samples in which the mean of each stretch stands where it was not measured."""
    values = np.where(missing, np.float32(0.0), values)
    known = np.concatenate(([0], np.cumsum(~missing)))
    running = np.concatenate(([0.0], np.cumsum(values, dtype=np.float64)))
    for at in np.flatnonzero(known[last] - known[first] < last - first).tolist():
        begin, end = int(first[at]), int(last[at])
        measured = known[end] - known[begin]
        mean = (running[end] - running[begin]) / measured if measured else 0.0
        values[begin:end][missing[begin:end]] = mean
    return values


def course_distance(one: Floats, other: Floats) -> float:
    """Return how unlike two courses are on a logarithmic axis, indifferent to small stretching.

    Parameters
    ----------
    one, other
        Logarithms of the current in equal parts, shape ``(columns,)``.

    Returns
    -------
    float
        Mean distance along the best way to lay one on the other, in nepers; 0 for equal ones.

    Notes
    -----
    Dynamic time warping within a band of two columns, divided by the number of columns.

    References
    ----------
    H. Sakoe, S. Chiba, "Dynamic programming algorithm optimization for spoken word recognition", *IEEE Transactions
    on Acoustics, Speech, and Signal Processing* 26, 1978, p. 43.

    Examples
    --------
    >>> course_distance(np.array([0.0, 0.0, 2.0, 2.0]), np.array([0.0, 2.0, 2.0, 2.0]))
    0.0
    >>> course_distance(np.array([0.0, 0.0, 2.0, 2.0]), np.array([2.0, 2.0, 0.0, 0.0]))
    2.0
    """
    columns = len(one)
    apart = np.abs(one[:, None] - other[None, :])
    best = np.full((columns + 1, columns + 1), np.inf)
    best[0, 0] = 0.0
    for row in range(columns):
        for column in range(max(0, row - _STRETCHED), min(columns, row + _STRETCHED + 1)):
            before = min(best[row, column], best[row, column + 1], best[row + 1, column])
            best[row + 1, column + 1] = apart[row, column] + before
    return float(best[columns, columns]) / columns
