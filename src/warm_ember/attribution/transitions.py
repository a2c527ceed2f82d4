"""What lies between states: what entering and leaving one takes, and whether it comes back as it was left."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.placement import UNPLACED, Placement
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import Series, ShouldStop, never

SETTLES_WITHIN_S = 0.05
_NINETY_PERCENT = 1.645
_LONGEST_PATH = 3
_CLEAR_SHARE = 0.02


@dataclass(frozen=True, eq=False)
class Transition:
    """The change from one state to another.

    Parameters
    ----------
    before, after
        The two states.
    count
        How often it happened.
    leaving_c, entering_c
        Charge of one change above the settled level of the state that is left, and of the one that is entered, C,
        with its 90 % interval from the spread over the changes.
    total_c
        Both, of all changes together.
    """

    before: str
    after: str
    count: int
    leaving_c: Figure
    entering_c: Figure
    total_c: float


@dataclass(frozen=True, eq=False)
class StateReturn:
    """A state before and after others: whether it comes back as it was left.

    Parameters
    ----------
    state
        The state on both sides.
    around
        What lay between.
    count
        How often.
    before_a, after_a
        Its mean settled level before and after, A.
    step_a
        The difference, with its 90 % interval from the spread over the pairs.
    """

    state: str
    around: tuple[str, ...]
    count: int
    before_a: float
    after_a: float
    step_a: Figure

    @property
    def differs(self) -> bool:
        """Whether the difference is larger than its spread, and than a fiftieth of the level."""
        low, high = self.step_a.low, self.step_a.high
        if low is None or high is None or low <= 0 <= high:
            return False
        return abs(self.after_a - self.before_a) > _CLEAR_SHARE * max(abs(self.before_a), abs(self.after_a))


@dataclass(frozen=True, eq=False)
class _Stays:
    """All intervals, with charge and time of their beginning, settled middle and end."""

    state: Indices
    begin_c: Floats
    end_c: Floats
    begin_s: Floats
    end_s: Floats
    level_a: Floats


def find_transitions(
    current: Series,
    placement: Placement,
    *,
    within_s: float = SETTLES_WITHIN_S,
    should_stop: ShouldStop = never,
) -> tuple[Transition, ...]:
    """Find what changes of state take, those that take the most first.

    Parameters
    ----------
    current
        The capture's current.
    placement
        Its states.
    within_s
        How long a change may take on each of its sides. A stay shorter than three times that is cut in three.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    The settled level of a stay is its mean apart from so much at its beginning and end. Entering takes the charge of
    the beginning less what the settled level would have taken in that time, leaving the same of the end.
    """
    stays = _measure(current, placement, within_s, should_stop)
    entering = stays.begin_c - stays.level_a * stays.begin_s
    leaving = stays.end_c - stays.level_a * stays.end_s
    first, second = stays.state[:-1], stays.state[1:]
    known = (first != UNPLACED) & (second != UNPLACED)
    known &= ~np.isnan(leaving[:-1]) & ~np.isnan(entering[1:])
    found = []
    for a, b in sorted(set(zip(first[known].tolist(), second[known].tolist(), strict=True))):
        here = np.flatnonzero(known & (first == a) & (second == b))
        left, entered = leaving[here], entering[here + 1]
        found.append(
            Transition(
                placement.names[a],
                placement.names[b],
                len(here),
                _mean(left),
                _mean(entered),
                float(left.sum() + entered.sum()),
            )
        )
    return tuple(sorted(found, key=lambda crossing: -abs(crossing.total_c)))


def find_returns(
    current: Series,
    placement: Placement,
    *,
    within_s: float = SETTLES_WITHIN_S,
    should_stop: ShouldStop = never,
) -> tuple[StateReturn, ...]:
    """Compare each state's level before others with its level after them, the largest steps first.

    Parameters and errors are those of `find_crossings`. At most three states lie between.
    """
    stays = _measure(current, placement, within_s, should_stop)
    pairs: dict[tuple[int, tuple[int, ...]], list[tuple[float, float]]] = {}
    state = stays.state.tolist()
    for first, name in enumerate(state[:-2]):
        if name == UNPLACED or np.isnan(stays.level_a[first]):
            continue
        for last in range(first + 2, min(first + 2 + _LONGEST_PATH, len(state))):
            if state[last] == name:
                around = tuple(state[first + 1 : last])
                if UNPLACED not in around and not np.isnan(stays.level_a[last]):
                    pair = (float(stays.level_a[first]), float(stays.level_a[last]))
                    pairs.setdefault((name, around), []).append(pair)
                break
    found = []
    for (name, around), levels in pairs.items():
        before, after = np.array(levels).T
        found.append(
            StateReturn(
                placement.names[name],
                tuple(placement.names[k] for k in around),
                len(levels),
                float(before.mean()),
                float(after.mean()),
                _mean(after - before),
            )
        )
    return tuple(sorted(found, key=lambda c: (not c.differs, -abs(c.after_a - c.before_a))))


def _mean(values: Floats) -> Figure:
    mean = float(values.mean())
    if len(values) < 2:
        return Figure(mean, grade=Grade.MEASURED, origin="once")
    half = _NINETY_PERCENT * float(values.std(ddof=1)) / float(np.sqrt(len(values)))
    return Figure(mean, mean - half, mean + half, Grade.MEASURED)


def _measure(current: Series, placement: Placement, within_s: float, should_stop: ShouldStop) -> _Stays:
    starts, ends = placement.edges[:-1], placement.edges[1:]
    lengths = ends - starts
    part = np.minimum(max(1, round(within_s / current.interval_s)), lengths // 3)
    cuts = np.column_stack((starts, starts + part, ends - part)).ravel()
    edges = np.append(cuts, placement.edges[-1])
    # A stay of one or two samples has neither beginning nor end: its cuts fall together.
    kept = np.concatenate((np.diff(edges) > 0, [True]))
    sums = interval_sums(current, edges[kept], should_stop=should_stop)
    totals, counts = np.zeros(len(cuts)), np.zeros(len(cuts))
    totals[kept[:-1]], counts[kept[:-1]] = sums.total, sums.count
    charge, time = (values.reshape(-1, 3) * current.interval_s for values in (totals, counts))
    settled = time[:, 1] > 0
    level = np.divide(charge[:, 1], time[:, 1], out=np.full(len(lengths), np.nan), where=settled)
    return _Stays(placement.state, charge[:, 0], charge[:, 2], time[:, 0], time[:, 2], level)
