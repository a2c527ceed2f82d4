"""What the river shows: the history of a data set by build, its changes with the state behind each, boards and lot."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from warm_ember.fleet.boards import Board, Lot, find_boards, find_lot
from warm_ember.fleet.data_set import DataSet
from warm_ember.fleet.history import History, read_histories
from warm_ember.fleet.trend import Change, PlaceDifference, Trend, compare_places, find_trend
from warm_ember.model.arrays import Floats
from warm_ember.model.figure import Bound
from warm_ember.tuning.difference import Difference

_NEAR = 1
BOUND_OF_SIDE = {0: None, 1: Bound.AT_LEAST, -1: Bound.AT_MOST}
"""What a side of the truth is called, see `Trend.bound_of`."""

_SURE = 0.95
_LEAST_A = 1e-15


@dataclass(frozen=True, eq=False)
class Band:
    """A figure by place, NaN where a place has no run, shape ``(places,)`` each.

    Parameters
    ----------
    low, median, high
        10 %, half and 90 % of the runs lie below.
    """

    low: Floats
    median: Floats
    high: Floats


@dataclass(frozen=True, eq=False)
class StateRiver:
    """What one state adds to the average.

    Parameters
    ----------
    name
        The state.
    trend, band
        By place.
    adds_a, share
        Since its last change, A, and of all that the states add.
    """

    name: str
    trend: Trend
    band: Band
    adds_a: float
    share: float


@dataclass(frozen=True)
class Cause:
    """The state that a change of the average comes from."""

    state: str
    mean_a: float
    share: float | None
    confidence: float


@dataclass(frozen=True, eq=False)
class River:
    """All that the river shows.

    Parameters
    ----------
    address
        The data set; empty for the runs of a project.
    trend, band
        Of the average.
    dates
        The day of each place; empty where no clock was right.
    causes
        Of each change, where a state changed with it.
    states
        What adds most first.
    boards, lot, usual
        Since the last change; the lot without odd boards, where there are any.
    lives_h
        Averages and lives of the runs, the average rising, shape ``(2, n)``.
    waiting
        What each state adds, by ``adds:NAME``, until it is looked at.
    """

    address: str
    trend: Trend
    band: Band
    dates: tuple[str, ...]
    causes: tuple[Cause | None, ...]
    states: tuple[StateRiver, ...]
    boards: tuple[Board, ...]
    lot: Lot | None
    usual: Lot | None
    lives_h: Floats
    waiting: Mapping[str, History]

    @property
    def history(self) -> History:
        """The runs."""
        return self.trend.history

    def compared(self, a: int, b: int) -> PlaceDifference | None:
        """Return how the averages of two places differ; None where one has no run, or both are one."""
        places = range(len(self.history.keys))
        return compare_places(self.trend, a, b) if a != b and a in places and b in places else None

    def differences(self, a: int, b: int) -> tuple[Difference, ...]:
        """Return how what each state adds differs between two places, the largest first; of states that both have."""
        found = []
        for one in self.states:
            own = {key: place for place, key in enumerate(one.trend.history.keys)}
            places = [own.get(self.history.keys[at], -1) for at in (a, b)]
            difference = compare_places(one.trend, *places) if min(places) >= 0 else None
            if difference is not None:
                bounds = tuple(BOUND_OF_SIDE[one.trend.bound_of(place, place + 1)] for place in places)
                found.append(
                    Difference(
                        one.name, difference.before, difference.after, difference.low, difference.high,
                        bounds=(bounds[0], bounds[1]),
                    )
                )  # fmt: skip
        return tuple(sorted(found, key=lambda one: -abs(one.change_a)))

    def run_near(self, place: int, board: str = "", value: float | None = None) -> int:
        """Return which run of a place is meant: that on a board, or the nearest to a value; -1 where there is none."""
        first, last = np.searchsorted(self.history.place, (place, place + 1)).tolist()
        if first == last or place < 0:
            return -1
        boards = self.history.table["board"].slice(first, last - first).to_pylist()
        if value is None and board in boards:
            return int(first + boards.index(board))
        values = self.history.values[first:last]
        wanted = float(np.median(values)) if value is None else value
        away = np.abs(np.log(np.maximum(values, _LEAST_A)) - math.log(max(wanted, _LEAST_A)))
        return int(first + np.argmin(away))

    def rank(self, run: int) -> int:
        """Return which place a run has among all, the lowest average first, from 1."""
        return int(np.count_nonzero(self.history.values < self.history.values[run])) + 1


def read_river(address: str, by: str = "") -> River:
    """Read a data set as a river, whose states are still to be looked at; see `with_states`.

    Raises
    ------
    BadFileError
        If there is no data set.
    BadArgumentError
        If its runs cannot be placed by that.
    """
    histories = read_histories(DataSet(address), ("average", "life"), by, with_states=True)
    return river_of(address, histories.pop("average"), histories.pop("life"), histories)


def river_of(address: str, average: History, lives: History, waiting: Mapping[str, History]) -> River:
    """Return the river of some histories: the average, the life, and for later what each state adds, by its name."""
    trend = find_trend(average)
    boards = find_boards(trend)
    odd = frozenset(board.name for board in boards if board.is_odd)
    known = dict(zip(lives.table["run_hash"].to_pylist(), lives.values.tolist(), strict=True))
    matched = np.array([known.get(one, math.nan) for one in average.table["run_hash"].to_pylist()], dtype=np.float64)
    use = np.argsort(average.values, kind="stable")
    use = use[np.isfinite(matched[use])]
    return River(
        address=address,
        trend=trend,
        band=band_of(average, len(average.keys)),
        dates=_dates(average),
        causes=(None,) * len(trend.changes),
        states=(),
        boards=boards,
        lot=find_lot(trend, lives, target_h=lives.target_h),
        usual=find_lot(trend, lives, target_h=lives.target_h, without=odd) if odd else None,
        lives_h=np.stack((average.values[use], matched[use])),
        waiting=waiting,
    )


def with_states(river: River) -> River:
    """Return a river with what each state adds, and the state that each change comes from."""
    keys = river.history.keys
    states = sorted((_state(of, one, keys) for of, one in river.waiting.items()), key=lambda one: -one.adds_a)
    adds_a = sum(one.adds_a for one in states) or 1.0
    return replace(
        river,
        causes=tuple(_cause(change, states) for change in river.trend.changes),
        states=tuple(replace(one, share=one.adds_a / adds_a) for one in states),
        waiting={},
    )


def band_of(history: History, places: int) -> Band:
    """Return how a history's runs lie at each of so many places."""
    bounds = np.full((3, places), np.nan)
    if len(history.values):
        values = history.values[np.lexsort((history.values, history.place))]
        there, first, count = np.unique(history.place, return_index=True, return_counts=True)
        at = np.array([[0.1], [0.5], [0.9]]) * (count - 1)
        below = at.astype(np.int64)
        above = np.minimum(below + 1, count - 1)
        bounds[:, there] = values[first + below] + (at - below) * (values[first + above] - values[first + below])
    return Band(*bounds)


def _state(of: str, history: History, keys: tuple[str, ...]) -> StateRiver:
    """Return one state's river on the places of the average, where it may be missing at some."""
    trend, places = find_trend(history), {key: place for place, key in enumerate(keys)}
    found = band_of(history, len(history.keys))
    own = [(number, places[key]) for number, key in enumerate(history.keys) if key in places]
    wide = np.full((3, len(keys)), np.nan)
    for bounds, values in zip(wide, (found.low, found.median, found.high), strict=True):
        bounds[[place for _, place in own]] = values[[number for number, _ in own]]
    since = history.values[history.place >= trend.since]
    return StateRiver(of.partition(":")[2], trend, Band(*wide), float(np.median(since)) if len(since) else 0.0, 0.0)


def _dates(history: History) -> tuple[str, ...]:
    first: dict[int, str] = {}
    for place, when in zip(history.place.tolist(), history.table["recorded_utc"].to_pylist(), strict=True):
        if when:
            first.setdefault(place, when[:10])
    return tuple(first.get(place, "") for place in range(len(history.keys)))


def _cause(change: Change, states: list[StateRiver]) -> Cause | None:
    """Return the state that changed where the average did, and the same way, by most."""
    found: list[tuple[float, StateRiver, Change]] = []
    for state in states:
        keys = state.trend.history.keys
        for one in state.trend.changes:
            is_near = abs(keys.index(one.at) - (keys.index(change.at) if change.at in keys else -9)) <= _NEAR
            if is_near and one.change * change.change > 0 and one.confidence >= _SURE:
                found.append((abs(one.change), state, one))
    if not found:
        return None
    _, state, one = max(found, key=lambda each: each[0])
    return Cause(state.name, one.after, one.change / one.before if one.before > 0 else None, one.confidence)
