"""Which build changed a figure, by how much, and how sure that is; and how two builds differ."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from warm_ember.fleet.history import History
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.estimate import NINETY, quantile
from warm_ember.model.figure import Bound, Grade
from warm_ember.signal.change_points import Levels, find_changes
from warm_ember.units import counted

_LEAST_SHARE = 1e-5
_CLIPPED = 2.5


@dataclass(frozen=True)
class Change:
    """A change of level.

    Parameters
    ----------
    place
        Index of the first place after it.
    at
        Its key.
    before, after
        Levels, SI.
    change, low, high
        The difference, with its 90 % interval; None for an end on a side where a level is only bounded.
    confidence
        How sure it is that not chance alone made it.
    grade, bound
        The weakest grade of the runs on both sides, and whether the difference is ``at_least`` or ``at_most`` this.
    """

    place: int
    at: str
    before: float
    after: float
    change: float
    low: float | None
    high: float | None
    confidence: float
    grade: Grade = Grade.MEASURED
    bound: Bound | None = None


@dataclass(frozen=True)
class PlaceDifference:
    """How two places differ, with the 90 % interval of the difference, SI.

    Parameters
    ----------
    before, after
        Their middles, what boards add taken off where that is known.
    change, low, high
        As in `Change`.
    is_real
        Whether the difference is beyond what runs and builds scatter by.
    """

    before: float
    after: float
    change: float
    low: float | None
    high: float | None
    is_real: bool


@dataclass(frozen=True, eq=False)
class Trend:
    """A figure over a history.

    Parameters
    ----------
    history
        The runs.
    changes
        In order.
    board
        Index of each run's board, shape ``(n,)``.
    boards
        Their names.
    levels
        What was found, in logarithms where `is_share`, else SI; None of no runs.
    is_share
        Whether the history is looked at in shares: where all its figures are above 0.
    notes
        What is to be told, a sentence each: that of the history, and what is only bounded.
    """

    history: History
    changes: tuple[Change, ...]
    board: Indices
    boards: tuple[str, ...]
    levels: Levels | None
    is_share: bool
    notes: tuple[str, ...]

    @cached_property
    def level(self) -> Floats:
        """The level that each run belongs to, on its own board, SI, shape ``(n,)``."""
        if self.levels is None:
            return np.zeros(0)
        level = self.levels.level_at(self.history.place) + self.levels.offset[self.board]
        return np.exp(level) if self.is_share else level

    @property
    def scatter(self) -> float:
        """Standard deviation of one run about its level: a share where `is_share`, else SI."""
        return self.levels.scatter if self.levels is not None else 0.0

    @property
    def outlier(self) -> Flags:
        """Which runs lie far off: one run, not a change, shape ``(n,)``."""
        return self.levels.outlier if self.levels is not None else np.zeros(0, dtype=bool)

    @cached_property
    def now(self) -> Flags:
        """Which runs tell what is so now: measured since the last change, and not far off, shape ``(n,)``."""
        return np.asarray((self.history.place >= self.since) & ~self.outlier & (self.history.bounds == 0))

    def bound_of(self, first: int, last: int) -> int:
        """Return on which side of its level the places from `first` to `last` are: 1 at least it, -1 at most, 0 at it.

        So it is where half of their runs or more are bounded.
        """
        begin, end = np.searchsorted(self.history.place, (first, last))
        sides = self.history.bounds[begin:end]
        if 2 * np.count_nonzero(sides) < max(len(sides), 1):
            return 0
        return 1 if np.count_nonzero(sides > 0) >= np.count_nonzero(sides < 0) else -1

    def sign(self, first: int, last: int) -> str:
        """Return what stands before the level of places where it is only bounded, else nothing."""
        side = self.bound_of(first, last)
        return f"{(Bound.AT_LEAST if side > 0 else Bound.AT_MOST).sign} " if side else ""

    @property
    def since(self) -> int:
        """The first place of the level that holds now."""
        return self.changes[-1].place if self.changes else 0


def find_trend(history: History) -> Trend:
    """Find where a history changed its level; see `warm_ember.signal.change_points.find_changes`."""
    values, place = history.values, history.place
    board, boards = history.coded("board")
    is_share = bool((values > 0).all())
    if not len(values):
        return Trend(history, (), board, boards, None, is_share, history.notes)
    found = find_changes(np.log(values) if is_share else values, place, board, least=_LEAST_SHARE if is_share else 0.0)
    told = [*history.notes]
    bounded = int(np.count_nonzero(history.bounds))
    if bounded:
        told.append(f"{counted(bounded, 'run')} of {len(values)} are only bounds, and are taken at them")
    bare = Trend(history, (), board, boards, found, is_share, ())
    changes = [_change(bare, number) for number in range(len(found.changes))]
    unknown = [one.at for one, change in zip(found.changes, changes, strict=True) if change is None]
    if unknown:
        words = f"{counted(len(unknown), 'change')} of bounds alone left out, such as at {history.keys[unknown[0]]!r}"
        told.append(f"{words}: the device may have changed, or only what could be measured of it")
    return replace(bare, changes=tuple(change for change in changes if change is not None), notes=tuple(told))


def _change(trend: Trend, number: int) -> Change | None:
    """Return a change of level in SI; None where bounds alone changed, which may be no change of the device."""
    assert trend.levels is not None
    starts, one = trend.levels.start, trend.levels.changes[number]
    first, last = int(starts[number]), int(starts[number + 2]) if number + 2 < len(starts) else len(trend.history.keys)
    before, after, low, high = one.before, one.after, one.low, one.high
    if trend.is_share:
        before, after = math.exp(before), math.exp(after)
        low, high = before * math.expm1(low), before * math.expm1(high)
    side = 1 if after > before else -1
    sides = trend.bound_of(first, one.at), trend.bound_of(one.at, last)
    # At most so much before, or at least so much after, the difference is no smaller.
    if sides[0] not in (0, -side) or sides[1] not in (0, side):
        return None
    bound = None if sides == (0, 0) else Bound.AT_LEAST if side > 0 else Bound.AT_MOST
    return Change(
        place=one.at,
        at=trend.history.keys[one.at],
        before=before,
        after=after,
        change=after - before,
        low=None if bound is Bound.AT_MOST else low,
        high=None if bound is Bound.AT_LEAST else high,
        confidence=one.confidence,
        grade=weakest_grade(trend.history, first, last) if bound is None else Grade.BOUNDED,
        bound=bound,
    )


def weakest_grade(history: History, first: int, last: int) -> Grade:
    """Return the weakest grade of what was measured at places from `first` to `last`."""
    begin, end = np.searchsorted(history.place, (first, last))
    found = {Grade(text) for text in history.table["grade"].slice(begin, end - begin).unique().to_pylist()}
    return max(found - {Grade.BOUNDED}, key=lambda grade: grade.weakness, default=Grade.MEASURED)


def compare_places(trend: Trend, first: int, second: int) -> PlaceDifference | None:
    """Return how two places of a history differ; None where one of them has no run.

    Notes
    -----
    What is far off counts for at most 2.5 standard deviations. The error of a place is what its runs scatter by, and
    what a place adds to all that was measured there: of two builds measured often that is what is left.
    """
    history, levels = trend.history, trend.levels
    if levels is None or not {first, second} <= set(history.place.tolist()):
        return None
    values = np.log(history.values) if trend.is_share else history.values
    without = values - levels.offset[trend.board]
    middles = []
    for place in (first, second):
        runs = without[slice(*np.searchsorted(history.place, (place, place + 1)))]
        middle, reach = float(np.median(runs)), _CLIPPED * levels.scatter
        middles.append(middle + float(np.mean(np.clip(runs - middle, -reach, reach))))
    freedom = max(len(history.keys) - len(levels.start), 1)
    error = math.sqrt(float(levels.variance[first] + levels.variance[second]))
    reach = quantile((1 + NINETY) / 2, freedom) * error
    difference = middles[1] - middles[0]
    low, high = difference - reach, difference + reach
    before, after = middles
    if trend.is_share:
        before, after = math.exp(before), math.exp(after)
        low, high = before * math.expm1(low), before * math.expm1(high)
    sides = trend.bound_of(first, first + 1), trend.bound_of(second, second + 1)
    is_low_known, is_high_known = sides[0] != 1 and sides[1] != -1, sides[0] != -1 and sides[1] != 1
    return PlaceDifference(
        before=before,
        after=after,
        change=after - before,
        low=low if is_low_known else None,
        high=high if is_high_known else None,
        is_real=(is_low_known and low > 0) or (is_high_known and high < 0),
    )
