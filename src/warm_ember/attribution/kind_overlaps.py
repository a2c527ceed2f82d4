"""Wakes in which two kinds overlap: their charges add up, or a timer's wake is hidden under a longer one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.kind_sorting import Sorted
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.signal.recurrence import Recurrence, Timer
from warm_ember.signal.sorting import ALONE

_OF_NORMAL = 1.4826
_LEAST_SPREAD, _FEW_SPREAD, _FEW = 0.01, 0.05, 5
_ODD, _FITS, _SEEN, _BETTER = 3.5, 4.0, 4.0, 0.35
_SLACK, _LEAST_LENGTH, _PEAK_SLACK = 0.08, 0.7, 0.15
_MOSTLY, _NEARLY_ALL, _RARER = 0.5, 0.8, 0.34
_LOOKED_AT = 60
_SHORTER, _LEAST_OFF, _MOST_HIDDEN = 0.34, 0.01, 8
_SURELY, _RARELY = 0.01, 0.05


@dataclass(frozen=True, eq=False)
class Usual:
    """What is usual in each kind, shape ``(kinds,)``.

    Parameters
    ----------
    count
        How many there are.
    charge, charge_spread
        Sum of the samples above the floor, and how far single ones differ, A.
    lasts, lasts_spread
        Samples.
    peak_a
        Highest current above the floor.
    """

    count: Indices
    charge: Floats
    charge_spread: Floats
    lasts: Floats
    lasts_spread: Floats
    peak_a: Floats


def usual_of(found: Sorted) -> Usual:
    """Return what is usual in each kind; of few wakes the spread is taken to be 5 % at least."""
    charge, peak_a = found.charge, found.courses.peak_a - found.floor_a
    lasts = found.courses.lasts.astype(np.float64)
    rows = []
    for kind in range(found.kinds):
        mine = found.kind == kind
        count = int(mine.sum())
        least = _LEAST_SPREAD if count >= _FEW else _FEW_SPREAD
        middle, length = float(np.median(charge[mine])), float(np.median(lasts[mine]))
        rows.append((
            count,
            middle,
            max(_spread(charge[mine]), least * abs(middle)),
            length,
            max(_spread(lasts[mine]), least * length, 1.0),
            float(np.median(peak_a[mine])),
        ))  # fmt: skip
    columns = np.array(rows, dtype=np.float64).reshape(-1, 6).T
    return Usual(columns[0].astype(np.int64), *columns[1:])


def _spread(values: Floats) -> float:
    return _OF_NORMAL * float(np.median(np.abs(values - np.median(values))))


def overlapping(found: Sorted, usual: Usual) -> dict[int, tuple[int, int]]:
    """Find the bursts that are two kinds at once.

    Parameters
    ----------
    found
        Bursts with their kinds.
    usual
        What is usual in each kind.

    Returns
    -------
    dict
        For each such burst its two kinds, the one with more charge first. A kind of which most are so is none.

    Notes
    -----
    Two kinds explain a burst where their charges add up to its own, and length and peak lie between those of the
    longer, or higher, and of both together. What is usual in its own kind needs no explanation, and two kinds explain
    no third that is more frequent than a third of the rarer of them.
    """
    pairs: dict[int, tuple[int, int]] = {}
    kept: list[int] = []
    # What is explained takes more than what explains it, so that nothing explains itself.
    for kind in np.argsort(usual.charge, kind="stable").tolist():
        mine = np.flatnonzero(found.kind == kind)
        others = [k for k in kept if usual.count[k] * _RARER >= usual.count[kind]]
        some = mine[np.unique(np.linspace(0, len(mine) - 1, min(len(mine), _LOOKED_AT)).astype(np.int64))]
        tried = sum(_pair_of(found, usual, at, others) is not None for at in some.tolist())
        if tried < _MOSTLY * len(some):
            kept.append(kind)
            continue
        explained = {at: pair for at in mine.tolist() if (pair := _pair_of(found, usual, at, others)) is not None}
        if len(explained) >= _MOSTLY * len(mine):
            pairs |= explained
        else:
            kept.append(kind)
    for kind in kept:
        # Odd ones of a kind may have another on top of them.
        mine = np.flatnonzero(found.kind == kind)
        odd = found.charge[mine] - usual.charge[kind] > _ODD * usual.charge_spread[kind]
        for at in mine[odd].tolist():
            pair = _pair_of(found, usual, at, kept, with_kind=kind)
            if pair is not None:
                pairs[at] = pair
    for at in np.flatnonzero((found.kind == ALONE) & np.isfinite(found.courses.total)).tolist():
        pair = _pair_of(found, usual, at, kept)
        if pair is not None:
            pairs[at] = pair
    return pairs


def _pair_of(
    found: Sorted, usual: Usual, at: int, kinds: Sequence[int], with_kind: int | None = None
) -> tuple[int, int] | None:
    """Return the two kinds that explain a burst best, the one with more charge first; None where none do."""
    choice = np.array(kinds, dtype=np.int64)
    if not len(choice):
        return None
    ones = choice if with_kind is None else np.array([with_kind])
    one, other = (part.reshape(-1) for part in np.meshgrid(ones, choice, indexing="ij"))
    charge, lasts = float(found.charge[at]), float(found.courses.lasts[at])
    peak_a = float(found.courses.peak_a[at] - found.floor_a[at])
    off = np.abs(charge - usual.charge[one] - usual.charge[other])
    spread = np.hypot(usual.charge_spread[one], usual.charge_spread[other])
    alone = np.minimum(np.abs(charge - usual.charge[one]), np.abs(charge - usual.charge[other]))
    smaller = np.minimum(usual.charge[one], usual.charge[other])
    longer = np.maximum(usual.lasts[one], usual.lasts[other])
    slack = _SLACK * longer + 3 * np.hypot(usual.lasts_spread[one], usual.lasts_spread[other]) + 4
    higher = np.maximum(usual.peak_a[one], usual.peak_a[other])
    fits = (
        (off <= _FITS * spread)
        & (smaller >= _SEEN * spread / 2**0.5)
        & (off <= _BETTER * np.maximum(alone, smaller))
        & (lasts >= _LEAST_LENGTH * longer - slack)
        & (lasts <= usual.lasts[one] + usual.lasts[other] + slack)
        & (peak_a >= higher * (1 - 2 * _PEAK_SLACK))
        & (peak_a <= (usual.peak_a[one] + usual.peak_a[other]) * (1 + _PEAK_SLACK))
    )
    if not fits.any():
        return None
    best = int(np.flatnonzero(fits)[np.argmin((off / spread)[fits])])
    pair = (int(one[best]), int(other[best]))
    return pair if usual.charge[pair[0]] >= usual.charge[pair[1]] else (pair[1], pair[0])


@dataclass(frozen=True, eq=False)
class Due:
    """When the timers of a capture are due without a wake of theirs.

    Parameters
    ----------
    at_s, off_s
        The moments, rising, and by how much they may be off, s, shape ``(n,)``.
    kind
        Whose they are, shape ``(n,)``.
    """

    at_s: Floats
    off_s: Floats
    kind: Indices

    def within(self, begin_s: float, end_s: float) -> tuple[int, ...]:
        """Return the kinds that are due in a stretch, once for each time."""
        first, last = np.searchsorted(self.at_s, (begin_s - self.off_s.max(initial=0.0), end_s))
        some = slice(int(first), int(last))
        return tuple(self.kind[some][self.at_s[some] + self.off_s[some] >= begin_s].tolist())


def due_without_a_wake(found: Sorted, recurrences: Mapping[int, Recurrence], interval_s: float) -> Due:
    """Find where timers are due, but no wake of theirs begins.

    Parameters
    ----------
    found
        Bursts with their kinds.
    recurrences
        How each kind comes; those with one timer count.
    interval_s
        Sample interval.
    """
    rows: list[tuple[float, float, int]] = []
    end_s = float(found.last[-1]) * interval_s if len(found.last) else 0.0
    for kind, recurrence in recurrences.items():
        mine_s = found.first[found.kind == kind] * interval_s
        if len(recurrence.timers) != 1 or len(mine_s) < 2:
            continue
        timer = recurrence.timers[0]
        begun = np.rint((mine_s - mine_s[0]) / timer.period_s)
        # Between its wakes a timer goes on as these say, beyond them as its period does.
        numbers = np.arange(
            begun[0] - np.floor(mine_s[0] / timer.period_s), begun[-1] + (end_s - mine_s[-1]) // timer.period_s + 1
        )
        due_s = np.interp(numbers, begun, mine_s) + timer.period_s * (
            np.minimum(numbers - begun[0], 0) + np.maximum(numbers - begun[-1], 0)
        )
        off_s = max(4 * timer.jitter_s, _LEAST_OFF * timer.period_s, 2 * interval_s)
        is_taken = np.isin(numbers, begun)
        runs = _runs_at(is_taken, _is_covered(found, due_s, off_s, interval_s), timer)
        rows += [(at_s, off_s, kind) for at_s in due_s[runs & ~is_taken].tolist()]
    rows.sort()
    columns = np.array(rows, dtype=np.float64).reshape(-1, 3).T
    return Due(columns[0], columns[1], columns[2].astype(np.int64))


def _is_covered(found: Sorted, at_s: Floats, off_s: float, interval_s: float) -> Flags:
    """Return which moments lie in a burst, where what is due could be hidden, shape ``(n,)``."""
    before = np.searchsorted(found.first * interval_s, at_s + off_s, side="right") - 1
    return np.asarray((before >= 0) & (found.last[np.maximum(before, 0)] * interval_s >= at_s - off_s))


def _runs_at(is_taken: Flags, is_covered: Flags, timer: Timer) -> Flags:
    """Return at which moments a timer may be due: not where it was seen to fail more often in a row than it skips."""
    fails = np.concatenate(([0], np.cumsum(~is_taken & ~is_covered)))
    patience = max(int(np.log(_SURELY) / np.log(max(timer.skipped, _RARELY))), 1)
    places, taken = np.arange(len(is_taken)), np.flatnonzero(is_taken)
    left = np.searchsorted(taken, places, side="right") - 1
    right = np.searchsorted(taken, places, side="left")
    most = len(is_taken) + 1
    since = np.where(left >= 0, fails[places] - fails[taken[np.maximum(left, 0)]], most)
    until = np.where(right < len(taken), fails[taken[np.minimum(right, len(taken) - 1)]] - fails[places], most)
    return np.asarray(np.minimum(since, until) <= patience)


def hidden_under(found: Sorted, usual: Usual, due: Due, interval_s: float) -> dict[int, tuple[int, ...]]:
    """Find the wakes of timers that are hidden in longer ones, or with which those look like a kind of their own.

    Parameters
    ----------
    found, usual
        Bursts with their kinds, and what is usual in these.
    due
        When timers are due without a wake of theirs.
    interval_s
        Sample interval.

    Returns
    -------
    dict
        For each such burst its own kind, and the kinds that are hidden in it, once for each time.

    Notes
    -----
    Where timers are due in a burst, it holds theirs: a burst of no kind, or of a kind that is much rarer, is one of a
    kind to whose charge theirs add up to its own. Where the charge does not tell, because it scatters by more, a burst
    of a kind that takes three times as much holds them as well.
    """
    spans = np.column_stack((found.first, found.last)) * interval_s
    reach_s = due.off_s.max(initial=0.0)
    first = np.searchsorted(due.at_s, spans[:, 0] - reach_s)
    near = np.flatnonzero(np.searchsorted(due.at_s, spans[:, 1]) > first).tolist()
    inside = {at: kinds for at in near if (kinds := due.within(float(spans[at, 0]), float(spans[at, 1])))}
    chosen: dict[int, tuple[int, ...]] = {}
    kept: list[int] = []
    for own in [*np.argsort(usual.charge, kind="stable").tolist(), ALONE]:
        every = (found.kind == own) & np.isfinite(found.courses.total)
        mine = [at for at in inside if every[at]]
        explained = {}
        for at in mine:
            others = tuple(kind for kind in inside[at] if kind in kept)
            parts = _parts_of(found, usual, at, others, np.array(kept, dtype=np.int64))
            if parts is not None:
                explained[at] = parts
        if own == ALONE or len(explained) >= _least_explained(usual, own, explained) * every.sum():
            chosen |= explained
            continue
        kept.append(own)
        least = _SHORTER * usual.charge[own]
        for at in mine:
            others = tuple(k for k in inside[at] if k != own and k in kept and usual.charge[k] <= least)
            if others:
                chosen[at] = (own, *others)
    return chosen


def _least_explained(usual: Usual, own: int, explained: Mapping[int, tuple[int, ...]]) -> float:
    """Return which share of a kind has to be explained for it to be none: most of it by what is as frequent."""
    rarest = min((int(usual.count[parts[0]]) for parts in explained.values()), default=0)
    return _MOSTLY if rarest * _RARER >= usual.count[own] else _NEARLY_ALL


def _parts_of(found: Sorted, usual: Usual, at: int, due: tuple[int, ...], kept: Indices) -> tuple[int, ...] | None:
    """Return the kind that a burst is of, and those hidden in it where timers are due; None where none fit.

    Of what is due one more may be what is seen itself, or may have been skipped.
    """
    if not due or len(due) > _MOST_HIDDEN:
        return None
    charge, lasts = float(found.charge[at]), float(found.courses.lasts[at])
    best, parts = _FITS, None
    for hidden in (due, *(due[:k] + due[k + 1 :] for k in range(len(due)))):
        inner = list(hidden)
        if not inner:
            continue
        rest, longest = charge - float(usual.charge[inner].sum()), float(usual.lasts[inner].sum())
        spread = np.sqrt(usual.charge_spread[kept] ** 2 + float((usual.charge_spread[inner] ** 2).sum()))
        slack = _SLACK * usual.lasts[kept] + 3 * usual.lasts_spread[kept] + 4
        off = np.abs(rest - usual.charge[kept]) / spread
        fits = (lasts >= _LEAST_LENGTH * usual.lasts[kept] - slack) & (lasts <= usual.lasts[kept] + longest + slack)
        off = np.where(fits, off, np.inf)
        if off.min(initial=np.inf) < best:
            best, parts = float(off.min()), (int(kept[off.argmin()]), *hidden)
    return parts


def never_alone(found: Sorted, usual: Usual, mixed: Mapping[int, tuple[int, ...]]) -> dict[int, tuple[int, ...]]:
    """Find the kinds that never come alone and are, without what is hidden in them, another that does.

    Parameters
    ----------
    found, usual
        Bursts with their kinds, and what is usual in these.
    mixed
        What is hidden in which burst.

    Returns
    -------
    dict
        For each burst of such a kind the kind it is of, and those that are hidden in it.
    """
    chosen: dict[int, tuple[int, ...]] = {}
    pure = np.ones(len(found.kind), dtype=bool)
    pure[list(mixed)] = False
    seen = [kind for kind in range(found.kinds) if (pure & (found.kind == kind)).sum() > 1]
    for kind in sorted(set(range(found.kinds)) - set(seen)):
        mine = [at for at in np.flatnonzero(found.kind == kind).tolist() if at in mixed]
        if not mine or kind in {other for others in mixed.values() for other in others}:
            continue
        left = np.mean([float(found.charge[at]) - float(usual.charge[list(mixed[at])].sum()) for at in mine])
        off = {
            other: abs(left - usual.charge[other]) / usual.charge_spread[other]
            for other in seen
            if _LEAST_LENGTH < usual.lasts[kind] / usual.lasts[other] < 1 / _LEAST_LENGTH
        }
        best = min(off, key=lambda other: off[other], default=None)
        if best is not None and off[best] <= _FITS:
            chosen |= {at: (best, *mixed[at]) for at in mine}
    return chosen
