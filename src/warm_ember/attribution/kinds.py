"""Wakes from the current alone: sorted into kinds, with what each takes and how it comes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from warm_ember.attribution.burst_ends import reach_of_kinds
from warm_ember.attribution.kind_floors import Stay, find_floors, within_rests
from warm_ember.attribution.kind_overlaps import due_without_a_wake, hidden_under, never_alone, overlapping, usual_of
from warm_ember.attribution.kind_sorting import Sorted, sort_bursts
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.estimate import Estimate
from warm_ember.model.kinds import letter_label, letter_of
from warm_ember.signal.bursts import find_bursts
from warm_ember.signal.courses import read_courses
from warm_ember.signal.estimates import mean
from warm_ember.signal.recurrence import Manner, Recurrence, recurrence_of
from warm_ember.signal.series import Series, ShouldStop, never
from warm_ember.signal.sorting import ALONE
from warm_ember.signal.steps import find_edges

_ODD = 5.0
_PICTURE, _OF_PICTURE = 64, 200
_CUT_ALIKE = 0.35
_ENOUGH = 6
_LEAST_SHARE = 0.02


@dataclass(frozen=True, eq=False)
class Kind:
    """A kind of wakes.

    Parameters
    ----------
    number
        Its number in `Kinds.kind`.
    count
        How many there are, those included in which it overlaps another.
    measured
        How many that are where of each counts what was measured of it.
    recurrence
        How they come.
    awake_s, peak_a
        Usual length and highest current.
    charge
        What one takes above the floor, with what is known of its error.
    charge_spread
        Relative standard deviation of single ones.
    added_a
        What all of them add to the mean current.
    levels_a
        The currents that a usual one goes through, in order.
    odd
        Which wakes of it take far more or less than is usual, indices, the oddest first.
    letter, name
        Its identity, and what the engineer calls it; empty where nobody did.
    """

    number: int
    count: int
    measured: float
    recurrence: Recurrence
    awake_s: float
    peak_a: float
    charge: Estimate
    charge_spread: float
    added_a: float
    levels_a: tuple[float, ...]
    odd: tuple[int, ...] = ()
    letter: str = ""
    name: str = ""

    @property
    def label(self) -> str:
        """Its name, or its letter."""
        return self.name or letter_label(self.letter)


@dataclass(frozen=True, eq=False)
class Kinds:
    """The wakes of a capture, sorted into kinds.

    Parameters
    ----------
    floor
        What flows asleep, with what is known of its error.
    mean_a, duration_s, measured_s, interval_s
        Of the capture; what is added to the mean is over the time that was measured.
    first, last
        First and last-plus-one samples of the wakes, ramps and tails included, rising, shape ``(wakes,)``.
    charge_c
        What each takes above the floor, shape ``(wakes,)``.
    own_c
        Of that what its own kind takes, where others overlap it, shape ``(wakes,)``.
    kind
        The number of each one's kind, `ALONE` for what is like no other, shape ``(wakes,)``; of two that overlap the
        one with more charge.
    mixed
        For wakes in which kinds overlap the numbers of the others, once for each time.
    cut
        Which wakes the capture's ends cut off, shape ``(wakes,)``: they are in no count.
    kinds
        The kinds, the one that adds most first.
    unsorted_a
        What wakes that are like no other add to the mean.
    stays
        What is longer than any wake, and has a floor of its own that wakes rise from.
    """

    floor: Estimate
    mean_a: float
    duration_s: float
    measured_s: float
    interval_s: float
    first: Indices
    last: Indices
    charge_c: Floats
    own_c: Floats
    kind: Indices
    mixed: dict[int, tuple[int, ...]]
    cut: Flags
    kinds: tuple[Kind, ...]
    unsorted_a: float
    stays: tuple[Stay, ...] = ()

    @property
    def unsorted(self) -> Indices:
        """Which wakes are like no other, and whole, shape ``(n,)``."""
        return np.flatnonzero((self.kind == ALONE) & ~self.cut)

    def of(self, number: int) -> Indices:
        """Return which wakes are of a kind, those that overlap with another included, shape ``(n,)``."""
        more = [at for at, others in self.mixed.items() if number in others]
        return np.union1d(np.flatnonzero((self.kind == number) & ~self.cut), np.array(more, dtype=np.int64))


@dataclass(frozen=True, eq=False)
class SortedWakes:
    """The wakes of a capture in kinds that have no names yet.

    Parameters
    ----------
    found
        The wakes, ramps and tails included, with the numbers of their kinds.
    mixed
        For wakes in which kinds overlap the numbers of the others, once for each time.
    floor
        What flows asleep.
    mean_a, measured_s, measured
        Mean of the capture, how much of it was measured, and which share of each wake, shape ``(wakes,)``.
    stays
        What is longer than any wake.
    """

    found: Sorted
    mixed: dict[int, tuple[int, ...]]
    floor: Estimate
    mean_a: float
    measured_s: float
    measured: Floats
    stays: tuple[Stay, ...]

    def with_kinds(self, kind: Indices) -> SortedWakes:
        """Return the same wakes in other kinds, whose numbers begin at 0 and leave none out, shape ``(wakes,)``."""
        found, mixed = self.found, {}
        for at, others in self.mixed.items():
            own = [kind[mine][kind[mine] != ALONE] for mine in (self._pure_of(number) for number in others)]
            moved = [int(np.bincount(numbers).argmax()) for numbers in own if len(numbers)]
            if len(moved) == len(others) and kind[at] != ALONE:
                mixed[at] = tuple(moved)
        return replace(self, found=replace(found, kind=kind), mixed=mixed)

    def _pure_of(self, number: int) -> Indices:
        mine = np.flatnonzero(self.found.kind == number)
        return mine[~np.isin(mine, list(self.mixed))] if len(mine) else mine


def sort_wakes(series: Series, *, should_stop: ShouldStop = never) -> SortedWakes:
    """Find the wakes of a capture in its current alone and sort them into kinds.

    Parameters
    ----------
    series
        The current, A.
    should_stop
        Polled between parts.

    Returns
    -------
    SortedWakes
        Without any where the current never rises from its floor.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    A wake's charge is what flows above the floor from where its kind begins to rise to where it is back, whatever noise
    lets of it be seen: the ends are those of the kind, not of the single wake, so that they are no choice of the noise.
    The floor is the mean of all that is outside wakes and states that are longer than these. Floor and what wakes and
    such states add are the capture's mean.
    """
    bursts = find_bursts(series, should_stop=should_stop)
    found = sort_bursts(series, bursts, should_stop=should_stop)
    before, after = reach_of_kinds(series, found, should_stop=should_stop)
    first, last = within_rests(bursts.rests, found.first, found.last, before, after)
    courses = read_courses(series, first, last, found.floor_a, found.noise_a, should_stop=should_stop)
    found = replace(found, first=first, last=last, courses=courses)
    # A state with a floor of its own is no part of the floor, and its wakes rise from there.
    floors = find_floors(series, found, bursts.rests, should_stop=should_stop)
    found = replace(found, floor_a=floors.of_wakes_a)
    found, mixed = _with_overlaps(found, overlapping(found, usual_of(found)), {})
    due = due_without_a_wake(found, _recurrences(found, mixed, series), series.interval_s)
    hidden = hidden_under(found, usual_of(found), due, series.interval_s)
    found, mixed = _with_overlaps(found, {at: kinds for at, kinds in hidden.items() if at not in mixed}, mixed)
    found, mixed = _with_overlaps(found, never_alone(found, usual_of(found), mixed), mixed)
    return SortedWakes(found, mixed, floors.asleep, floors.mean_a, floors.measured_s, floors.measured, floors.stays)


def sum_kinds(series: Series, wakes: SortedWakes) -> Kinds:
    """Sum a capture over the kinds of its wakes.

    Parameters
    ----------
    series
        The current, A.
    wakes
        Its wakes, `n` of them.

    Returns
    -------
    Kinds
        The kind that adds most is the first, and its letter is A.
    """
    return _summed(series, wakes, _recurrences(wakes.found, wakes.mixed, series))


def find_kinds(series: Series, *, should_stop: ShouldStop = never) -> Kinds:
    """Sort the wakes of a capture into kinds and sum it over these; see `sort_wakes` and `sum_kinds`.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    return sum_kinds(series, sort_wakes(series, should_stop=should_stop))


def _with_overlaps(
    found: Sorted, overlaps: Mapping[int, tuple[int, ...]], mixed: Mapping[int, tuple[int, ...]]
) -> tuple[Sorted, dict[int, tuple[int, ...]]]:
    """Give each wake of several kinds to the first; what then has no wake of its own is no kind any more."""
    place = np.full(found.kinds + 1, ALONE, dtype=np.int64)  # its last one is for what is alone
    kind = found.kind.copy()
    moved = [at for at, kinds in overlaps.items() if kinds[0] != kind[at]]
    kind[moved] = ALONE
    used, counts = np.unique(kind[kind != ALONE], return_counts=True)
    used = used[counts > 1]
    place[used] = np.arange(len(used))
    kind, left = place[kind], dict(mixed)
    left = {at: tuple(place[others].tolist()) for at, others in ((a, list(o)) for a, o in mixed.items())}
    for at, kinds in overlaps.items():
        placed = place[list(kinds)]
        if (placed != ALONE).all():
            kind[at], left[at] = placed[0], tuple(placed[1:].tolist())
    left = {at: others for at, others in left.items() if ALONE not in others and kind[at] != ALONE}
    return replace(found, kind=kind), left


def _recurrences(found: Sorted, mixed: Mapping[int, tuple[int, ...]], series: Series) -> dict[int, Recurrence]:
    """Find out how each kind comes; those that are sure first, since they tell of others."""
    interval_s, duration_s = series.interval_s, series.samples * series.interval_s
    whole = (found.first > 0) & (found.last < series.samples)
    alone = whole.copy()
    alone[list(mixed)] = False
    times_s, hidden = {}, {}
    for kind in range(found.kinds):
        mine = found.kind == kind
        # Where two begin in one wake nobody sees when the second does.
        used = mine & (alone if (mine & alone).sum() >= _ENOUGH else whole)
        times_s[kind] = found.first[used] * interval_s
        hidden[kind] = int((mine & whole & ~used).sum()) + sum(others.count(kind) for others in mixed.values())
    recurrences: dict[int, Recurrence] = {}
    periods_s: tuple[float, ...] = ()
    for kind in sorted(times_s, key=lambda one: -len(times_s[one])):
        others = [one for one in times_s if one != kind]
        found_so = recurrence_of(
            times_s[kind], duration_s, tuple(times_s[one] for one in others), periods_s, hidden=hidden[kind]
        )
        if found_so.manner is Manner.FOLLOWS:
            found_so = replace(found_so, behind=others[found_so.behind])
        recurrences[kind] = found_so
        periods_s += tuple(timer.period_s for timer in found_so.timers)
    return recurrences


def _summed(series: Series, wakes: SortedWakes, recurrences: Mapping[int, Recurrence]) -> Kinds:
    """Return the kinds with what they take."""
    found, mixed = wakes.found, wakes.mixed
    interval_s, duration_s, measured_s = series.interval_s, series.samples * series.interval_s, wakes.measured_s
    charge_c, share = np.nan_to_num(found.charge) * interval_s, wakes.measured
    cut = (found.first <= 0) | (found.last >= series.samples)
    kind = found.kind.copy()
    kinds = []
    pure = np.ones(len(kind), dtype=bool)
    pure[list(mixed)] = False
    kind[cut] = _kinds_of_cut(found, cut)
    means_c = _means(kind, charge_c, pure & ~cut, mixed, found.kinds)
    # What a wake takes of its own kind is what the others in it leave.
    own_c = charge_c.copy()
    for at, others in mixed.items():
        own_c[at] -= float(means_c[list(others)].sum())
    for number in range(found.kinds):
        mine = np.flatnonzero((kind == number) & ~cut)
        alone = mine[pure[mine]]
        alone = alone if len(alone) >= _ENOUGH else mine
        inside = sum(others.count(number) for at, others in mixed.items() if not cut[at])
        # What was not measured is in no mean: of a wake of which half was, half is.
        weight = sum(others.count(number) * float(share[at]) for at, others in mixed.items() if not cut[at])
        ends = (kind == number) & cut
        added_c = float((own_c * share)[mine].sum() + (charge_c * share)[ends].sum()) + weight * float(means_c[number])
        charge = mean(own_c[alone])
        middle_c = float(np.median(own_c[alone])) if len(alone) else 0.0
        kinds.append(
            Kind(
                number,
                len(mine) + inside,
                float(share[mine].sum()) + weight,
                recurrences[number],
                float(found.courses.lasts[alone].mean()) * interval_s,
                float(np.median(found.courses.peak_a[alone])),
                charge,
                float(own_c[alone].std() / charge.value) if charge.value else 0.0,
                added_c / measured_s if measured_s else 0.0,
                _levels(series, found, alone),
                _odd(own_c, alone, middle_c),
            )
        )
    kinds.sort(key=lambda one: -one.added_a)
    kinds = [replace(one, letter=letter_of(place)) for place, one in enumerate(kinds)]
    unsorted_a = float((charge_c * share)[kind == ALONE].sum()) / measured_s if measured_s else 0.0
    return Kinds(
        wakes.floor, wakes.mean_a, duration_s, measured_s, interval_s, found.first, found.last, charge_c, own_c, kind,
        mixed, cut, tuple(kinds), unsorted_a, wakes.stays,
    )  # fmt: skip


def _means(kind: Indices, charge_c: Floats, whole: Flags, mixed: Mapping[int, tuple[int, ...]], kinds: int) -> Floats:
    """Return the mean charge of each kind: of its pure wakes, else of what others leave of those that are not."""
    means_c = np.full(kinds, np.nan)
    for number in range(kinds):
        mine = whole & (kind == number)
        if mine.any():
            means_c[number] = float(charge_c[mine].mean())
    for number in np.flatnonzero(np.isnan(means_c)).tolist():
        left_c = [
            float(charge_c[at] - np.nansum(means_c[list(others)])) for at, others in mixed.items() if kind[at] == number
        ]
        means_c[number] = max(float(np.mean(left_c)), 0.0) if left_c else 0.0
    return means_c


def _odd(charge_c: Floats, mine: Indices, middle_c: float) -> tuple[int, ...]:
    """Return the wakes of a kind whose charge is far from what is usual, the oddest first."""
    if len(mine) < 4:
        return ()
    off = np.abs(charge_c[mine] - middle_c)
    spread = max(1.4826 * float(np.median(off)), 0.01 * abs(middle_c))
    odd = np.flatnonzero(off > _ODD * spread)
    return tuple(mine[odd[np.argsort(-off[odd], kind="stable")]].tolist())


def _levels(series: Series, found: Sorted, mine: Indices) -> tuple[float, ...]:
    """Return the currents that a usual wake of a kind goes through, in order."""
    some = mine[np.unique(np.linspace(0, len(mine) - 1, min(len(mine), _OF_PICTURE)).astype(np.int64))]
    columns = int(np.clip(np.median(found.courses.lasts[some]), 4, _PICTURE))
    courses = read_courses(
        series,
        found.first[some],
        found.last[some],
        found.floor_a[some],
        found.noise_a[some],
        columns=columns,
        whole=True,
    )
    middle = np.median(courses.mean_a, axis=0)
    edges = np.concatenate(([0], find_edges(middle), [columns])).astype(np.int64)
    parts = [middle[begin:end] for begin, end in pairwise(edges.tolist()) if end > begin]
    # What a capacitor's tail falls through is no level.
    floor_a = float(np.median(found.floor_a[some]))
    above = np.array([float((part - floor_a).sum()) for part in parts])
    tells = (above > _LEAST_SHARE * above.sum()) | (np.array([len(part) for part in parts]) > columns / 2)
    return tuple(float(part.mean()) for part, one in zip(parts, tells.tolist(), strict=True) if one)


def _kinds_of_cut(found: Sorted, cut: Flags) -> Indices:
    """Return the kind of each wake that an end of the capture cuts off, as far as its part tells."""
    chosen = []
    for at in np.flatnonzero(cut).tolist():
        lasts = found.courses.lasts[at]
        mean_a = (found.courses.total[at] - found.floor_a[at] * lasts) / max(lasts, 1)
        best, best_off = ALONE, _CUT_ALIKE
        for number in range(found.kinds):
            mine = np.flatnonzero((found.kind == number) & ~cut)
            if not len(mine) or lasts > 1.1 * np.median(found.courses.lasts[mine]):
                continue
            share = float(lasts / np.median(found.courses.lasts[mine]))
            course = np.median(found.courses.mean_a[mine] - found.floor_a[mine][:, None], axis=0)
            course = course if found.first[at] > 0 else course[::-1]
            parts = max(round(share * len(course)), 1)
            off = abs(np.log(max(mean_a, 1e-15) / max(float(course[:parts].mean()), 1e-15)))
            if off < best_off:
                best, best_off = number, float(off)
        chosen.append(best)
    return np.array(chosen, dtype=np.int64)
