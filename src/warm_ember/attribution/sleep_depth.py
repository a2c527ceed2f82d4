"""Whether sleep was deep enough: each idle stretch compared with the mode that costs least for its length."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.wakes import Wakes
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.wakes import SleepMode

_ROUNDING_S = 1e-9
_OF_NORMAL, _OF_MEDIAN, _SOME = 1.4826, 1.2533, 3
_LEAST_SPREAD, _TINY_C2 = 1e-3, 1e-24
_OFTEN, _SURELY = 5, 3.0


@dataclass(frozen=True)
class IdleRow:
    """How one sleep mode was used.

    Parameters
    ----------
    mode
        Its name.
    count, time_s
        Whole stretches of sleep in it, and their time: what the capture's ends cut off is longer than it looks.
    too_shallow, too_deep
        How many of them a deeper, or a lighter, mode would have served at less charge.
    lost_a
        What that cost of the average current.
    mean_a
        What flowed in all stretches of it; None where nothing is known of it.
    judged
        How many of the stretches could be held against another mode.
    """

    mode: str
    count: int
    time_s: float
    too_shallow: int
    too_deep: int
    lost_a: float
    mean_a: float | None = None
    judged: int = 0


@dataclass(frozen=True, eq=False)
class IdleStretches:
    """Stretches in which the device, or a part of it, idles.

    Parameters
    ----------
    first, lasts_s, charge_c
        First samples, lengths, and what flowed, shape ``(stretches,)``.
    is_whole
        Whether both ends are in the capture.
    mode
        Index of the mode of each.
    in_wakes
        Whether they are idle stretches within wakes.
    stays
        First and last-plus-one samples of what wakes rise from as they do from sleep: all that idles in one of these
        was entered once.
    """

    first: Indices
    lasts_s: Floats
    charge_c: Floats
    is_whole: Flags
    mode: Indices
    in_wakes: Flags
    stays: tuple[tuple[int, int], ...] = ()

    @property
    def in_stay(self) -> Flags:
        """Which of them lie in a stay, shape ``(stretches,)``."""
        inside = np.zeros(len(self.first), dtype=bool)
        for begin, end in self.stays:
            inside |= (self.first >= begin) & (self.first < end)
        return inside

    def entries(self, chosen: Flags) -> int:
        """Return how often some stretches, chosen of shape ``(stretches,)``, were entered."""
        begins = np.array([begin for begin, _ in self.stays], dtype=np.int64)
        inside = chosen & self.in_stay
        stays = len(np.unique(np.searchsorted(begins, self.first[inside], side="right")))
        return int((chosen & ~inside).sum()) + stays


@dataclass(frozen=True)
class Mode:
    """A sleep mode with what it takes.

    Parameters
    ----------
    name, part
        Its name and what sleeps in it.
    floor_a, transition_charge_c
        What it draws, and the charge to enter and leave it beyond that of the first mode of its part; NaN where
        nothing tells.
    typed
        What the project says of it.
    crossing_is_typed
        Whether somebody typed the charge to enter and leave it.
    """

    name: str
    part: str
    floor_a: float
    transition_charge_c: float
    typed: SleepMode
    crossing_is_typed: bool

    @property
    def latency_s(self) -> float | None:
        """Time until the device answers; None when nobody said so."""
        return self.typed.latency_s


@dataclass(frozen=True)
class BreakEven:
    """From which length on a deeper mode takes less than a lighter one."""

    lighter: str
    deeper: str
    from_s: float


@dataclass(frozen=True, eq=False)
class SleepDepth:
    """The modes of a capture and how well they were chosen.

    Parameters
    ----------
    modes
        All modes, used or only typed.
    stretches
        The idle stretches.
    best
        Index of the mode that each of them should have had, shape ``(stretches,)``.
    lost_c
        What the mode it had took more, shape ``(stretches,)``.
    rows
        The modes that were used, the one with most time first.
    by_rule_a
        What a rule that knows the timers, and nothing else, would still lose of the average current.
    duration_s
        Of the capture.
    """

    modes: tuple[Mode, ...]
    stretches: IdleStretches
    best: Indices
    lost_c: Floats
    rows: tuple[IdleRow, ...]
    by_rule_a: float
    duration_s: float

    @property
    def lost_a(self) -> float:
        """What wrong choices cost of the average current; the best possible prediction would have lost nothing."""
        return float(self.lost_c.sum()) / self.duration_s if self.duration_s else 0.0

    def mode(self, name: str) -> Mode:
        """Return a mode by its name."""
        return next(mode for mode in self.modes if mode.name == name)

    def break_evens(self, name: str) -> tuple[BreakEven, ...]:
        """Return where a mode's stretches cross to another mode of its part, rising; shorter ones want the lighter."""
        mine = self.mode(name)
        found = []
        for other in self.modes:
            if other is mine or other.part != mine.part:
                continue
            lighter, deeper = (mine, other) if _is_lighter(mine, other) else (other, mine)
            if deeper.typed.residency_s is not None:
                found.append(BreakEven(lighter.name, deeper.name, deeper.typed.residency_s))
                continue
            more_c, less_a = deeper.transition_charge_c - lighter.transition_charge_c, lighter.floor_a - deeper.floor_a
            if np.isfinite(more_c) and less_a > 0:
                found.append(BreakEven(lighter.name, deeper.name, max(more_c / less_a, 0.0)))
        return tuple(sorted(found, key=lambda one: one.from_s))


def _is_lighter(one: Mode, other: Mode) -> bool:
    if one.typed.residency_s is not None and other.typed.residency_s is not None:
        return one.typed.residency_s < other.typed.residency_s
    return one.floor_a > other.floor_a


def judge(
    wakes: Wakes,
    stretches: IdleStretches,
    names: Sequence[str],
    cost_c: Floats,
    typed: Sequence[SleepMode],
    timer_s: Floats,
    duration_s: float,
) -> SleepDepth:
    """Hold the mode of each idle stretch against those of the same part.

    Parameters
    ----------
    wakes
        The wakes, `n` of them.
    stretches, names
        The idle stretches, `m` of them, and the names of their modes.
    cost_c
        The charge of each wake above the floor, C, shape ``(n,)``.
    typed
        What the project says of modes.
    timer_s
        For each stretch the time to the next wake by a timer, s, NaN where there is none, shape ``(m,)``.
    duration_s
        Of the capture.

    Notes
    -----
    Nothing is judged without two modes that somebody entered, or that were each seen five times and differ by more
    than chance makes of them. The best mode for a stretch of `t` is the one with the least ``Q + i t``. What entering
    and leaving a mode costs more than another is typed, or is how much more the wakes of the same sources cost after
    it.

    References
    ----------
    L. Benini, A. Bogliolo, G. De Micheli, "A survey of design techniques for system-level dynamic power management",
    *IEEE Transactions on VLSI Systems* 8, 2000, p. 299: the break-even time of a sleep state.
    """
    of = {mode.name: mode for mode in typed}
    every = tuple(dict.fromkeys((*names, *of)))
    used = stretches.mode
    measured_c = _transition_costs(wakes, stretches, len(names), cost_c)
    modes = []
    for index, name in enumerate(every):
        mine = used == index
        said = of.get(name, SleepMode(name))
        floor_a = said.floor_a
        if floor_a is None:
            time_s = float(stretches.lasts_s[mine].sum())
            floor_a = float(stretches.charge_c[mine].sum()) / time_s if time_s > 0 else np.nan
        transition_charge_c = said.transition_charge_c
        if transition_charge_c is None:
            transition_charge_c = float(measured_c[index]) if index < len(names) else np.nan
        modes.append(Mode(name, said.part, floor_a, transition_charge_c, said, said.transition_charge_c is not None))
    best, lost_c, rule_c = _choose(modes, stretches, timer_s)
    rows = tuple(_row(modes, index, stretches, best, lost_c, duration_s) for index in range(len(names)))
    by_rule_a = float(rule_c.sum()) / duration_s if duration_s else 0.0
    rows = tuple(sorted(rows, key=lambda row: -row.time_s))
    return SleepDepth(tuple(modes), stretches, best, lost_c, rows, by_rule_a, duration_s)


def _choose(modes: list[Mode], stretches: IdleStretches, timer_s: Floats) -> tuple[Indices, Floats, Floats]:
    """Return the best mode of each stretch, what the used one lost, and what a rule that knows the timers loses."""
    used, lasts_s = stretches.mode, stretches.lasts_s
    best, lost_c, rule_c = used.copy(), np.zeros(len(used)), np.zeros(len(used))
    for part in dict.fromkeys(mode.part for mode in modes):
        group = np.array([index for index, mode in enumerate(modes) if mode.part == part])
        if any(modes[index].typed.residency_s is not None for index in group.tolist()):
            _by_residency(modes, group, stretches, timer_s, (best, lost_c, rule_c))
            continue
        # A mode of unknown cost cannot be judged, nor a stretch that the capture cuts off: it is longer than it looks.
        transition_charge_c = np.array([modes[index].transition_charge_c for index in group.tolist()])
        floor_a = np.array([modes[index].floor_a for index in group.tolist()])
        known = np.isfinite(transition_charge_c) & np.isfinite(floor_a) & _tells(modes, group, stretches)
        at = np.flatnonzero(np.isin(used, group[known]) & stretches.is_whole)
        if len(group) < 2 or not len(at):
            continue
        transition_charge_c, floor_a = np.where(known, transition_charge_c, np.inf), np.where(known, floor_a, 0.0)

        def takes(
            length_s: Floats, transition_charge_c: Floats = transition_charge_c, floor_a: Floats = floor_a
        ) -> Floats:
            return np.asarray(transition_charge_c[None, :] + floor_a[None, :] * length_s[:, None])

        taken, rows = takes(lasts_s[at]), np.arange(len(at))
        mine = np.searchsorted(group, used[at])
        chosen = taken.argmin(axis=1)
        # Modes that take the same for a length are equally good.
        chosen = np.where(taken[rows, mine] <= taken[rows, chosen], mine, chosen)
        best[at] = group[chosen]
        lost_c[at] = taken[rows, mine] - taken[rows, chosen]
        expected_s = np.where(np.isnan(timer_s[at]), np.inf, timer_s[at])
        rule = np.where(np.isinf(expected_s), int(np.argmin(np.where(known, floor_a, np.inf))), 0)
        finite = np.isfinite(expected_s)
        rule[finite] = takes(expected_s[finite]).argmin(axis=1)
        rule_c[at] = taken[rows, rule] - taken[rows, chosen]
    return best, lost_c, rule_c


def _tells(modes: list[Mode], group: Indices, stretches: IdleStretches) -> Flags:
    """Return which modes of a group may be compared: those that somebody entered, or that were seen often and differ.

    Two names, or two levels, make no two modes: each has to be entered five times, and what flows in it has to differ
    from what flows in another by more than chance makes of it.
    """
    entered = np.array([modes[index].typed != SleepMode(modes[index].name) for index in group.tolist()])
    means_a = np.full(len(group), np.nan)
    errors_a = np.zeros(len(group))
    for place, index in enumerate(group.tolist()):
        mine = (stretches.mode == index) & stretches.is_whole & (stretches.lasts_s > 0)
        if stretches.entries(mine) >= _OFTEN:
            each_a = stretches.charge_c[mine] / stretches.lasts_s[mine]
            means_a[place], errors_a[place] = float(each_a.mean()), float(each_a.std()) / float(mine.sum()) ** 0.5
    apart = np.abs(means_a[:, None] - means_a) > _SURELY * np.hypot(errors_a[:, None], errors_a)
    return np.asarray(entered | (np.isfinite(means_a) & (apart.any(axis=1) | entered.any())))


def _by_residency(
    modes: list[Mode], group: Indices, stretches: IdleStretches, timer_s: Floats, found: tuple[Indices, Floats, Floats]
) -> None:
    """Judge by the length from which on a mode pays, as its maker says: the deepest that it reaches is best.

    The charge to enter and leave is what makes two neighbouring modes take the same for that length.
    """
    best, lost_c, rule_c = found
    residency_s = np.array([modes[index].typed.residency_s or 0.0 for index in group.tolist()])
    order = np.argsort(residency_s, kind="stable")
    group, residency_s = group[order], residency_s[order]
    floor_a = np.array([modes[index].floor_a for index in group.tolist()])
    at = np.flatnonzero(np.isin(stretches.mode, group) & stretches.is_whole)
    lasts_s, place = stretches.lasts_s[at], np.empty(len(modes), dtype=np.int64)
    place[group] = np.arange(len(group))
    used = place[stretches.mode[at]]
    chosen = np.searchsorted(residency_s, lasts_s + _ROUNDING_S, side="right") - 1
    chosen = np.maximum(chosen, 0)
    expected_s = np.where(np.isnan(timer_s[at]), np.inf, timer_s[at])
    rule = np.maximum(np.searchsorted(residency_s, expected_s, side="right") - 1, 0)
    transition_charge_c = np.append(0.0, np.cumsum(-np.diff(floor_a) * residency_s[1:]))

    def takes(mode: Indices) -> Floats:
        return np.asarray(np.nan_to_num(transition_charge_c[mode] + floor_a[mode] * lasts_s))

    known = np.isfinite(transition_charge_c + floor_a)
    both = known[used] & known[chosen]
    best[at] = group[chosen]
    lost_c[at] = np.where(both, np.maximum(takes(used) - takes(chosen), 0.0), 0.0)
    rule_c[at] = np.where(known[rule] & known[chosen], np.maximum(takes(rule) - takes(chosen), 0.0), 0.0)


def _row(
    modes: list[Mode], index: int, stretches: IdleStretches, best: Indices, lost_c: Floats, duration_s: float
) -> IdleRow:
    mine = (stretches.mode == index) & stretches.is_whole
    floors = np.array([mode.floor_a for mode in modes])
    wrong, deeper = mine & (best != index), floors[best] < floors[index]
    residencies = np.array([mode.typed.residency_s or 0.0 for mode in modes])
    if residencies.any():
        deeper = residencies[best] > residencies[index]
    lost_a = float(lost_c[mine].sum()) / duration_s if duration_s else 0.0
    return IdleRow(
        modes[index].name,
        int(mine.sum()),
        float(stretches.lasts_s[mine].sum()),
        int((wrong & deeper).sum()),
        int((wrong & ~deeper).sum()),
        lost_a,
        None if np.isnan(floors[index]) else float(floors[index]),
        int(mine.sum()) if len(modes) > 1 or residencies.any() else 0,
    )


def _uncertain_c2(costs_c: Floats) -> float:
    """Return the variance of the median of some wakes' charges; of one or two wakes hardly anything is known."""
    middle = float(np.median(costs_c))
    spread = float(np.median(np.abs(costs_c - middle))) * _OF_NORMAL if len(costs_c) >= _SOME else abs(middle)
    return float((_OF_MEDIAN * spread) ** 2 / len(costs_c) + (_LEAST_SPREAD * middle) ** 2 + _TINY_C2)


def _transition_costs(wakes: Wakes, stretches: IdleStretches, modes: int, cost_c: Floats) -> Floats:
    """Return how much more each mode's wakes cost than the first mode's, NaN where no source woke from both.

    A source may do very different things: its median wake is what leaving a mode shows in, and a source counts as much
    as that is certain.
    """
    costs = np.full(modes, np.nan)
    asleep = np.flatnonzero(~stretches.in_wakes)
    if not modes or not len(asleep):
        return costs
    reference = int(stretches.mode[asleep[0]])
    costs[reference] = 0.0
    before = np.searchsorted(stretches.first[asleep], wakes.first, side="left") - 1
    left = np.where(before >= 0, stretches.mode[asleep[np.maximum(before, 0)]], -1)
    for mode in range(modes):
        if mode == reference:
            continue
        more, weights = [], []
        for source in np.unique(wakes.number[left == mode]).tolist():
            of_source = wakes.number == source
            these, those = cost_c[of_source & (left == mode)], cost_c[of_source & (left == reference)]
            if len(those):
                more.append(float(np.median(these) - np.median(those)))
                weights.append(1 / (_uncertain_c2(these) + _uncertain_c2(those)))
        if more:
            costs[mode] = float(np.average(more, weights=weights))
    return costs
