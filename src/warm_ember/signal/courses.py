"""The courses of many stretches: how long each is, what flows in it, and how its current goes on the way."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields
from typing import Any

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices, Samples
from warm_ember.signal.series import CHUNK_SAMPLES, Series, ShouldStop, never

COLUMNS = 12
_APART = 1 << 16
_STRETCHED = 2
_HEIGHT = 10.0
_HALF_OF_EVEN = 3.0**0.5


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
    level_a
        At which current the charge of each flows on average: the mean current weighted by itself, above the floor, A,
        shape ``(n,)``. A single sample that is off hardly moves it, as it does the peak.
    charge, height
        How what flows, and the logarithm of the current, are spread over each.
    core
        Between which samples, from its beginning, each is seen to stand above the noise: as long as an even stretch
        that is as wide as its `height`. Shape ``(n, 2)``.
    mean_a
        Mean current in equal parts of each core, A, shape ``(n, columns)``.
    """

    lasts: Indices
    total: Floats
    peak_a: Floats
    level_a: Floats
    charge: Spread
    height: Spread
    core: Floats
    mean_a: Floats

    def of(self, rows: Indices) -> Courses:
        """Return those of some of the stretches, their numbers of shape ``(m,)``."""
        return _each(lambda all_of: all_of[rows], self)

    def with_others(self, rows: Indices, others: Courses) -> Courses:
        """Return them with others in place of those of some of the stretches, their numbers of shape ``(m,)``."""

        def put(mine: np.ndarray, theirs: np.ndarray) -> np.ndarray:
            put_in = mine.copy()
            put_in[rows] = theirs
            return put_in

        return _each(put, self, others)


@dataclass(frozen=True, eq=False)
class Spread:
    """How something is spread over the time of each stretch: what an edge or a tail does to it, it does by degrees.

    Parameters
    ----------
    centre, width
        Mean and standard deviation of the time at which it comes, samples from the beginning, shape ``(n,)``.
    skew
        Its third standardised moment: above 0 where most comes early, shape ``(n,)``.
    """

    centre: Floats
    width: Floats
    skew: Floats


def _each(function: Callable[..., np.ndarray], *courses: Courses) -> Courses:
    """Return courses whose every array is what a function makes of that of those."""

    def made(kind: type, *parts: object) -> Any:
        values = {field.name: [getattr(part, field.name) for part in parts] for field in fields(kind)}
        return kind(
            **{
                name: made(Spread, *those) if isinstance(those[0], Spread) else function(*those)
                for name, those in values.items()
            }
        )

    found: Courses = made(Courses, *courses)
    return found


def read_courses(
    series: Series,
    first: Indices,
    last: Indices,
    floor_a: Floats,
    noise_a: Floats,
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
    floor_a, noise_a
        What each rises from, and its noise, A, shape ``(n,)``.
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
    total, peak_a, mean_a = np.zeros(count), np.full(count, np.nan), np.zeros((count, columns))
    level_a = np.zeros(count)
    charge, height, core = np.zeros((3, count)), np.zeros((3, count)), np.zeros((count, 2))
    for begin, end in _together(first, last):
        if should_stop():
            raise Cancelled("stopped")
        part, start = slice(begin, end), int(first[begin])
        values = _Stretches(series.read(start, int(last[end - 1])), first[part] - start, last[part] - start)
        total[part], peak_a[part] = values.total, values.highest
        above = values.inside - np.repeat(floor_a[part], values.lasts)
        charge[:, part] = values.spread(np.maximum(above, 0.0))
        level_a[part] = values.weighted_mean(np.maximum(above, 0.0))
        height[:, part] = values.spread(
            np.log1p(np.maximum(above, 0.0) / np.repeat(_HEIGHT * noise_a[part], values.lasts))
        )
        lasts = values.lasts.astype(np.float64)
        core[part, 0] = np.maximum(height[0, part] - _HALF_OF_EVEN * height[1, part], 0.0)
        core[part, 1] = np.minimum(height[0, part] + _HALF_OF_EVEN * height[1, part], lasts)
        ends = np.column_stack((np.zeros(len(lasts)), lasts)) if whole else core[part]
        mean_a[part] = values.means(ends[:, 0], ends[:, 1], columns)
    return Courses(np.asarray(last - first), total, peak_a, level_a, Spread(*charge), Spread(*height), core, mean_a)


def _together(first: Indices, last: Indices) -> list[tuple[int, int]]:
    """Return which stretches are read at once: neighbours, up to a chunk, and no long gaps."""
    if not len(first):
        return []
    opens = np.append(True, first[1:] - last[:-1] > _APART)
    starts = np.flatnonzero(opens)
    found = []
    for begin, end in zip(starts.tolist(), np.append(starts[1:], len(first)).tolist(), strict=True):
        at = begin
        while at < end:  # as many as a chunk holds, and one at least
            after = int(np.searchsorted(last[at:end], first[at] + CHUNK_SAMPLES, side="right")) + at
            found.append((at, max(after, at + 1)))
            at = found[-1][1]
    return found


class _Stretches:
    """Samples and the stretches in them; what was not measured is as the rest of its stretch."""

    def __init__(self, values: Samples, first: Indices, last: Indices) -> None:
        self.lasts = last - first
        # The highest between stretches is looked for too, and left out again.
        bounds = np.column_stack((first, last)).reshape(-1)
        self.highest = np.fmax.reduceat(np.append(values, np.float32(np.nan)), bounds)[::2].astype(np.float64)
        missing = np.isnan(values)
        if missing.any():
            values = _filled(values, missing, first, last)
        self._starts = np.concatenate(([0], np.cumsum(self.lasts)[:-1]))
        within = np.arange(int(self.lasts.sum())) - np.repeat(self._starts, self.lasts)
        self.inside = values[np.repeat(first, self.lasts) + within].astype(np.float64)
        self._share = (within + 0.5) / np.repeat(self.lasts, self.lasts)
        sums = np.add.reduceat(self.inside, self._starts)
        self.total = np.where(np.isnan(self.highest), np.nan, sums)

    def spread(self, weights: Floats) -> Floats:
        """Return centre and width in samples, and skew, of weights over each stretch, shape ``(3, stretches)``."""
        sums = np.maximum(np.add.reduceat(weights, self._starts), 1e-300)
        weighted = weights * self._share
        centre = np.add.reduceat(weighted, self._starts) / sums
        off = self._share - np.repeat(centre, self.lasts)
        squares = weights * off**2
        # A sample is itself a twelfth of its length squared wide.
        width = np.sqrt(np.add.reduceat(squares, self._starts) / sums + 1 / (12 * self.lasts.astype(np.float64) ** 2))
        skew = np.add.reduceat(squares * off, self._starts) / sums / width**3
        return np.array((centre * self.lasts, width * self.lasts, skew))

    def weighted_mean(self, values: Floats) -> Floats:
        """Return the mean of values weighted by themselves over each stretch, shape ``(stretches,)``."""
        sums = np.maximum(np.add.reduceat(values, self._starts), 1e-300)
        return np.asarray(np.add.reduceat(values**2, self._starts) / sums)

    def means(self, begin: Floats, end: Floats, columns: int) -> Floats:
        """Return the mean in equal parts that need not begin on samples, shape ``(stretches, columns)``."""
        running = np.concatenate(([0.0], np.cumsum(self.inside)))
        places = self._starts[:, None] + begin[:, None] + np.arange(columns + 1) / columns * (end - begin)[:, None]
        whole = np.minimum(places.astype(np.int64), len(self.inside) - 1)
        sums = running[whole] + (places - whole) * self.inside[whole]
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
