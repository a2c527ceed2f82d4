"""Where a series of repeated measurements changed its level, and where it only scattered."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.estimate import NINETY, quantile

LEVEL = 0.01
"""How likely chance alone may be to make a change of a series that has none."""

_NORMAL = 1.4826
_CLIPPED = 2.5
_FAR = 4.0
_BOUND = 3.0
_MOST_BLOCKS = 1024
_SHORTEST = 4
_MANY = 120
_ORDERS, _ORDERS_OF_MANY = 999, 80
_FAR_BEYOND = 1e-4
_AT_A_TIME = 40_000
_LEAST_SHARED = 3
_FEWEST = 6
"""Of fewer measurements of a level none lies far off."""
_SEED = 20260719


@dataclass(frozen=True)
class LevelChange:
    """One change of level.

    Parameters
    ----------
    at
        The first place after it.
    before, after
        Levels on both sides, of a board like most.
    low, high
        90 % interval of the difference.
    confidence
        How sure it is that not chance alone made it, 0 to 1.
    """

    at: int
    before: float
    after: float
    low: float
    high: float
    confidence: float


@dataclass(frozen=True, eq=False)
class Levels:
    """A series as levels with changes between them.

    Parameters
    ----------
    changes
        In order.
    start
        First place of each level, shape ``(levels,)``.
    level
        Shape ``(levels,)``.
    offset
        By how much each board lies above one like most, shape ``(boards,)``.
    scatter
        Standard deviation of one measurement about its level, its board's offset taken off.
    outlier
        Which measurements lie far from the level they belong to, where that has several, shape ``(n,)``.
    variance
        Of the mean of each place about its level: what the place adds, and what its measurements scatter by, shape
        ``(places,)``.
    """

    changes: tuple[LevelChange, ...]
    start: Indices
    level: Floats
    offset: Floats
    scatter: float
    outlier: Flags
    variance: Floats

    def level_at(self, places: Indices) -> Floats:
        """Return the level at places, shape as theirs."""
        return self.level[np.searchsorted(self.start, places, side="right") - 1]


def find_changes(
    values: Floats, place: Indices, board: Indices | None = None, *, least: float = 0.0, seed: int = _SEED
) -> Levels:
    """Find where the level of a series changed.

    Parameters
    ----------
    values
        Measurements, finite, shape ``(n,)``.
    place
        To which place of the series each belongs, such as the build that it is of: 0 to ``places - 1``, each taken at
        least once, in any order, shape ``(n,)``.
    board
        On which board each was made, 0 to ``boards - 1``, shape ``(n,)``; one board by default.
    least
        Scatter below which none is believed, in the unit of `values`.
    seed
        Of the orders by chance.

    Returns
    -------
    Levels
        One level and no change for a single place.

    Raises
    ------
    BadArgumentError
        If there are no values, or one is not finite.

    Notes
    -----
    A measurement is its place's level, plus what its board always adds, plus what its place adds to all that was
    measured there, plus its own scatter. Offsets of boards come from places that several boards share. How much the
    places scatter beyond their measurements comes from neighbouring ones, so that a place measured fifty times counts
    for little more than one measured ten times.

    What lies further than 2.5 standard deviations from the middle of a stretch counts as if it lay there: one wild run
    changes nothing, several in one place do. The stretch is cut where the difference of both sides is largest for its
    error, over intervals of all lengths, so that a level that comes and goes is not hidden by the long ones about it.
    The cut holds if fewer than `LEVEL` of the orders by chance of the same places show as large a difference anywhere;
    the parts are then searched the same way. It is laid to the place that explains the runs best, each counting for at
    most three standard deviations. At last each cut is tested again between its neighbours, and dropped if it fails.

    Of more than 120 places few orders are tried, and how rarely chance makes as much is read off the extreme value
    distribution that they follow; of fewer places too where that is so rare that all orders could not show it.

    Cost: orders by chance times ``places * log(places)``; of more than 1024 places neighbours are searched together,
    and the cut is then laid between single ones. Neighbouring places that drift together are taken for changes.

    References
    ----------
    S. Kovács, P. Bühlmann, H. Li, A. Munk, "Seeded binary segmentation: a general methodology for fast and optimal
    changepoint detection", *Biometrika* 110, 2023, for the intervals. P. Fearnhead, G. Rigaill, "Changepoint detection
    in the presence of outliers", *Journal of the American Statistical Association* 114, 2019, for bounding what one
    measurement may do. B. Phipson, G. K. Smyth, "Permutation P-values should never be zero", *Statistical
    Applications in Genetics and Molecular Biology* 9, 2010.

    Examples
    --------
    >>> series = np.repeat([5.0, 5.4], 12) + np.tile([0.01, -0.01, 0.0, 0.02], 6)
    >>> found = find_changes(series, np.arange(24))
    >>> [(change.at, round(change.after - change.before, 2)) for change in found.changes]
    [(12, 0.4)]
    """
    if not len(values) or not np.isfinite(values).all():
        raise BadArgumentError("changes are looked for in finite values, at least one")
    offset = _offsets(values, place, np.zeros(len(values), dtype=np.int64) if board is None else board)
    without = values if board is None else values - offset[board]
    search = _Search(without, place, least, np.random.default_rng(seed))
    cuts = search.confirmed(sorted(search.cuts(0, search.places)))
    start = np.array([0, *cuts], dtype=np.int64)
    ends = [*start[1:].tolist(), search.places]
    level = np.array([search.level(first, last).value for first, last in zip(start.tolist(), ends, strict=True)])
    own_level = np.searchsorted(start, place, side="right") - 1
    own, many = level[own_level], np.bincount(own_level, minlength=len(start))
    return Levels(
        changes=tuple(search.change(start, at) for at in range(1, len(start))),
        start=start,
        level=level,
        offset=offset,
        scatter=search.scatter,
        outlier=(np.abs(without - own) > _FAR * search.scatter) & (many[own_level] >= _FEWEST),
        variance=search.variance,
    )


def _offsets(values: Floats, place: Indices, board: Indices) -> Floats:
    """Return what each board adds, by places that it shares with others, shape ``(boards,)``."""
    boards = int(board.max()) + 1
    offset = np.zeros(boards)
    _, firsts = np.unique(place * boards + board, return_index=True)
    shared = np.bincount(place[firsts]) > 1  # places with several boards
    use = shared[place]
    count = np.bincount(board[use], minlength=boards)
    for _ in range(4):
        rest = values - offset[board]
        middle = _medians(rest, place)
        for one in np.flatnonzero(count >= _LEAST_SHARED):
            offset[one] += np.median((rest - middle[place])[use & (board == one)])
    return offset - np.median(offset[count >= _LEAST_SHARED]) if (count >= _LEAST_SHARED).any() else offset


def _medians(values: Floats, group: Indices) -> Floats:
    """Return the median of each group, shape ``(groups,)``; every group has members."""
    order = np.lexsort((values, group))
    counts = np.bincount(group)
    first = np.cumsum(counts) - counts
    low, high = values[order][first + (counts - 1) // 2], values[order][first + counts // 2]
    return np.asarray((low + high) / 2)


@dataclass(frozen=True)
class _Level:
    value: float
    error: float
    places: int


@dataclass(frozen=True)
class _Cut:
    """Where a stretch is best cut, between which places that shows most, and how sure it is."""

    at: int
    first: int
    last: int
    confidence: float


class _Search:
    """One series being cut into levels.

    Parameters
    ----------
    values, place
        As for `find_changes`, without what boards add.
    least
        Scatter below which none is believed.
    chance
        Where orders by chance come from.

    Attributes
    ----------
    places
        How many there are.
    scatter
        Standard deviation of one measurement.
    variance
        Of the mean of each place about its level, shape ``(places,)``.
    """

    def __init__(self, values: Floats, place: Indices, least: float, chance: np.random.Generator) -> None:
        self._chance = chance
        order = np.argsort(place, kind="stable")
        self._values, self._place = values[order], place[order]
        self._count = np.bincount(self._place)
        self.places = len(self._count)
        self._ends = np.concatenate(([0], np.cumsum(self._count)))
        several = self._count > 1
        means = np.bincount(self._place, self._values) / self._count
        own = (self._values - means[self._place]) / np.sqrt(1 - 1 / np.maximum(self._count, 2))[self._place]
        own_variance = _spread(own[several[self._place]]) ** 2
        neighbours = np.diff(_medians(self._values, self._place))
        within = own_variance / self._count
        expected = float(np.median(within[1:] + within[:-1])) if len(neighbours) else 0.0
        shared = max(_spread(neighbours) ** 2 - expected, 0.0) / 2
        self.scatter = max(math.sqrt(own_variance + shared), least, 1e-9 * float(np.abs(values).max()), 1e-100)
        floor = max(self.scatter**2 - own_variance - shared, 0.0)  # what is believed beyond what was seen
        self.variance = shared + floor + within
        self._found: dict[tuple[int, int], _Cut] = {}

    def _runs(self, first: int, last: int) -> Floats:
        """Return the measurements of places, shape ``(n,)``."""
        return np.asarray(self._values[self._ends[first] : self._ends[last]])

    def _scores(self, first: int, last: int) -> Floats:
        """Return how far each place lies from the middle, wild measurements bounded, shape ``(last - first,)``."""
        runs = self._runs(first, last)
        reach = _CLIPPED * self.scatter
        bounded = np.clip(runs - np.median(runs), -reach, reach)
        starts = self._ends[first:last] - self._ends[first]
        return np.asarray(np.add.reduceat(bounded, starts) / self._count[first:last])

    def level(self, first: int, last: int) -> _Level:
        """Return the level of places, with its standard error."""
        weights = 1 / self.variance[first:last]
        middle = float(np.median(self._runs(first, last)))
        above = float(np.sum(weights * self._scores(first, last)) / weights.sum())
        return _Level(middle + above, math.sqrt(1 / weights.sum()), last - first)

    def cuts(self, first: int, last: int) -> Iterator[int]:
        """Yield where places from `first` to `last` change, in no order."""
        waiting = [(first, last)]
        while waiting:
            low, high = waiting.pop()
            found = self._best_cut(low, high)
            if found.confidence >= 1 - LEVEL:
                at = self._laid(found)
                yield at
                waiting += [(low, at), (at, high)]

    def confirmed(self, cuts: list[int]) -> list[int]:
        """Return the cuts that hold between their neighbours, the least sure dropped first."""
        while cuts:
            sure = [self._best_cut(low, high).confidence for low, high in self._about(cuts)]
            worst = int(np.argmin(sure))
            if sure[worst] >= 1 - LEVEL:
                break
            del cuts[worst]
        return cuts

    def _about(self, cuts: list[int]) -> list[tuple[int, int]]:
        ends = [0, *cuts, self.places]
        return list(zip(ends[:-2], ends[2:], strict=True))

    def change(self, start: Indices, which: int) -> LevelChange:
        """Return the change that a level begins with."""
        ends = [*start.tolist(), self.places]
        before, after = self.level(ends[which - 1], ends[which]), self.level(ends[which], ends[which + 1])
        reach = quantile((1 + NINETY) / 2, max(before.places + after.places - 2, 1)) * math.hypot(
            before.error, after.error
        )
        difference = after.value - before.value
        confidence = self._best_cut(ends[which - 1], ends[which + 1]).confidence
        return LevelChange(ends[which], before.value, after.value, difference - reach, difference + reach, confidence)

    def _best_cut(self, first: int, last: int) -> _Cut:
        """Return where a stretch is best cut, and how sure it is that it changes at all."""
        key = (first, last)
        if key not in self._found:
            self._found[key] = self._found_cut(first, last)
        return self._found[key]

    def _found_cut(self, first: int, last: int) -> _Cut:
        if last - first < 2:
            return _Cut(first, first, last, 0.0)
        together = -(-(last - first) // _MOST_BLOCKS)
        begins = np.arange(0, last - first, together)
        weights = 1 / self.variance[first:last]
        weighed = np.add.reduceat(weights * self._scores(first, last), begins)
        weights = np.add.reduceat(weights, begins)
        largest, (low, at, high) = _largest_difference(weighed[None], weights[None])
        begins = np.append(begins, last - first)
        cut, begin, end = (first + int(begins[one[0]]) for one in (at, low, high))
        return _Cut(cut, begin, end, 1 - self._chance_of(float(largest[0]), weighed, weights))

    def _chance_of(self, largest: float, weighed: Floats, weights: Floats) -> float:
        """Return how likely an order by chance shows a difference as large as the largest."""
        is_many = len(weights) > _MANY
        orders = _ORDERS_OF_MANY if is_many else _ORDERS
        tried: list[float] = []
        reached = 0
        for some in _portions(orders, len(weights)):
            if len(tried) == _ORDERS_OF_MANY and reached == 0 and _beyond(largest, tried) < _FAR_BEYOND:
                return 1 / (orders + 1)  # the others would reach it no more
            order = self._chance.permuted(np.broadcast_to(np.arange(len(weights)), (some, len(weights))), axis=1)
            tried += _largest_difference(weighed[order], weights[order])[0].tolist()
            reached = sum(one >= largest * (1 - 1e-9) for one in tried)
            if reached > max(3 * LEVEL * orders, 3):
                return max(reached / len(tried), 2 * LEVEL)  # it is none, however the rest falls
        return _beyond(largest, tried) if is_many else (reached + 1) / (orders + 1)

    def _laid(self, cut: _Cut) -> int:
        """Return the place at which a cut explains the measurements best, each bounded."""
        first, last, at = cut.first, cut.last, cut.at
        reach = 12 + 2 * -(-self.places // _MOST_BLOCKS)
        for _ in range(3):
            low, high = max(first + 1, at - reach), min(last, at + reach + 1)
            before, after = float(np.median(self._runs(first, at))), float(np.median(self._runs(at, last)))
            runs = self._runs(low - 1, high)
            bound = (_BOUND * self.scatter) ** 2
            gain = np.minimum((runs - before) ** 2, bound) - np.minimum((runs - after) ** 2, bound)
            starts = self._ends[low - 1 : high] - self._ends[low - 1]
            # Runs of one place share what the place adds: many of them count for no more than that lets them.
            own = np.add.reduceat(gain, starts) / self._count[low - 1 : high] / self.variance[low - 1 : high]
            found = low + int(np.argmin(np.cumsum(own)[: high - low]))
            if found == at:
                break
            at = found
        return at


def _beyond(largest: float, tried: list[float]) -> float:
    """Return how rarely as much comes, by the extreme value distribution that what was tried follows."""
    width = max(float(np.std(tried, ddof=1)) * math.sqrt(6) / math.pi, 1e-9)
    return -math.expm1(-math.exp(-(largest - float(np.mean(tried)) + np.euler_gamma * width) / width))


def _spread(values: Floats) -> float:
    """Return a robust standard deviation of values about 0, and 0 of none."""
    return float(_NORMAL * np.median(np.abs(values))) if len(values) else 0.0


def _portions(orders: int, blocks: int) -> Iterator[int]:
    """Yield how many orders are tried at a time, so that memory stays bounded; a few at first."""
    at_a_time = max(_AT_A_TIME // blocks, 1)
    done = 0
    for end in (min(_ORDERS_OF_MANY, orders), orders):
        while done < end:
            yield min(at_a_time, end - done)
            done += min(at_a_time, end - done)


def _largest_difference(weighed: Floats, weights: Floats) -> tuple[Floats, tuple[Indices, Indices, Indices]]:
    """Return for each row the largest difference of two neighbouring stretches over its error, and where.

    Parameters
    ----------
    weighed, weights
        Scores times weights, and weights, shape ``(rows, blocks)``, two blocks or more.

    Returns
    -------
    tuple
        The differences, shape ``(rows,)``; the first block of the one stretch, of the other, and the one after it,
        each of shape ``(rows,)``.
    """
    rows, blocks = weights.shape
    best = np.full(rows, -1.0)
    low, at, high = (np.zeros(rows, dtype=np.int64) for _ in range(3))
    length = blocks
    while length >= min(_SHORTEST, blocks):
        step = max(length // 2, 1)
        begins = np.unique(np.append(np.arange(0, blocks - length + 1, step), blocks - length))
        sums = sliding_window_view(weighed, length, axis=1)[:, begins].cumsum(axis=2)
        masses = sliding_window_view(weights, length, axis=1)[:, begins].cumsum(axis=2)
        before, mass = sums[:, :, :-1], masses[:, :, :-1]
        after, left = sums[:, :, -1:] - before, masses[:, :, -1:] - mass
        difference = np.abs(before / mass - after / left) / np.sqrt(1 / mass + 1 / left)
        flat = difference.reshape(rows, -1)
        which = flat.argmax(axis=1)
        found = flat[np.arange(rows), which]
        window, inside = np.divmod(which, length - 1)
        better = found > best
        low[better] = begins[window][better]
        at[better], high[better] = (low + inside + 1)[better], (low + length)[better]
        best = np.maximum(best, found)
        length = length // 2
    return best, (low, at, high)
