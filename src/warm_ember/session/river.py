"""What the river shows: the history of a data set by build, its changes with the state behind each, boards and lot."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.fleet.boards import Board, Lot, find_boards, find_lot
from warm_ember.fleet.data_set import DataSet
from warm_ember.fleet.history import History, read_histories
from warm_ember.fleet.trend import Change, PlaceDifference, Trend, compare_places, find_trend
from warm_ember.model.arrays import Floats

_NEAR = 1
_SURE = 0.95


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
        The data set.
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

    @property
    def history(self) -> History:
        """The runs."""
        return self.trend.history

    def compared(self, a: int, b: int) -> PlaceDifference | None:
        """Return how the averages of two places differ; None where one has no run, or both are one."""
        places = range(len(self.history.keys))
        return compare_places(self.trend, a, b) if a != b and a in places and b in places else None


def read_river(address: str, by: str = "") -> River:
    """Read a data set as a river.

    Raises
    ------
    BadFileError
        If there is no data set.
    BadArgumentError
        If its runs cannot be placed by that.
    """
    histories = read_histories(DataSet(address), ("average", "life"), by, with_states=True)
    average, lives = histories.pop("average"), histories.pop("life")
    trend, keys = find_trend(average), average.keys
    states = sorted((_state(of, one, keys) for of, one in histories.items()), key=lambda one: -one.adds_a)
    adds_a = sum(one.adds_a for one in states) or 1.0
    boards = find_boards(trend)
    odd = frozenset(board.name for board in boards if board.is_odd)
    known = sorted(
        (run.value, life_h) for run, life_h in zip(average.runs, _matched(average, lives), strict=True) if life_h
    )
    return River(
        address=address,
        trend=trend,
        band=band_of(average, len(keys)),
        dates=_dates(average),
        causes=tuple(_cause(change, states) for change in trend.changes),
        states=tuple(StateRiver(one.name, one.trend, one.band, one.adds_a, one.adds_a / adds_a) for one in states),
        boards=boards,
        lot=find_lot(trend, lives, target_h=lives.target_h),
        usual=find_lot(trend, lives, target_h=lives.target_h, without=odd) if odd else None,
        lives_h=np.array(known).T.reshape(2, -1),
    )


def band_of(history: History, places: int) -> Band:
    """Return how a history's runs lie at each of so many places."""
    bounds = np.full((3, places), np.nan)
    values, first = history.values, np.searchsorted(history.place, np.arange(places + 1))
    for at in np.unique(history.place).tolist():
        bounds[:, at] = np.quantile(values[first[at] : first[at + 1]], (0.1, 0.5, 0.9))
    return Band(*bounds)


def _state(of: str, history: History, keys: tuple[str, ...]) -> StateRiver:
    """Return one state's river on the places of the average, where it may be missing at some."""
    trend = find_trend(history)
    found = band_of(history, len(history.keys))
    at = np.searchsorted(np.arange(len(keys)), [keys.index(key) for key in history.keys])
    wide = np.full((3, len(keys)), np.nan)
    wide[:, at] = found.low, found.median, found.high
    since = history.values[history.place >= trend.since]
    return StateRiver(of.partition(":")[2], trend, Band(*wide), float(np.median(since)) if len(since) else 0.0, 0.0)


def _matched(average: History, lives: History) -> list[float | None]:
    known = {run.run_hash: run.value for run in lives.runs}
    return [known.get(run.run_hash) for run in average.runs]


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
