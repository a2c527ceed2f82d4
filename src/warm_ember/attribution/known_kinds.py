"""Kinds of wakes recognised: those of a capture by what the project knows of kinds, and those of two captures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from warm_ember.attribution.kind_sorting import logarithms_of
from warm_ember.attribution.kinds import Kind, Kinds, SortedWakes, sum_kinds
from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.kinds import Likeness, SortedWake, WakeKind, letter_of
from warm_ember.signal.courses import COLUMNS, course_distance
from warm_ember.signal.series import Series
from warm_ember.signal.sorting import ALONE

_CHARGE, _LENGTH, _PEAK, _COURSE = 0.9, 0.9, 0.5, 0.5
_SAME_PERIOD, _OF_SAME_PERIOD = 0.01, 0.5
_RECOGNISED = 2.0
_NEARER, _NEAR = 0.5, 0.6
_UNLIKE = 1e6
_DIGITS = 3


def likeness_of(wakes: SortedWakes, members: Indices, interval_s: float, period_s: float | None = None) -> Likeness:
    """Return what some wakes are recognised by: what is usual in them.

    Parameters
    ----------
    wakes
        The wakes of a capture.
    members
        Which of them, indices, at least one, shape ``(n,)``.
    interval_s
        Sample interval.
    period_s
        The period of their timer, where they have one.
    """
    found = wakes.found
    height = found.courses.height
    course = np.median(logarithms_of(found.courses, found.floor_a, found.noise_a)[members], axis=0)
    return Likeness(
        _rounded(float(np.median(height.width[members])) * 12**0.5 * interval_s),
        _rounded(float(np.median(found.charge[members])) * interval_s),
        _rounded(float(np.median((found.courses.peak_a - found.floor_a)[members]))),
        tuple(round(float(one), _DIGITS) for one in course),
        None if period_s is None else _rounded(period_s, 7),
    )


def _rounded(value: float, digits: int = 4) -> float:
    return float(f"{value:.{digits}g}")


def unlikeness(one: Likeness, other: Likeness) -> float:
    """Return how unlike two kinds are; 0 for equal ones, above 2 for those that nobody would take for one.

    Notes
    -----
    Charge, length and peak by their logarithms, and the courses, indifferent to small stretching; half of it where
    both come by timers of one period.
    """
    charges = abs(_logarithm(one.charge_c, other.charge_c)) / _CHARGE
    lengths = abs(_logarithm(one.length_s, other.length_s)) / _LENGTH
    found = charges + lengths + abs(_logarithm(one.peak_a, other.peak_a)) / _PEAK
    if len(one.course) == len(other.course) == COLUMNS:
        found += course_distance(np.array(one.course), np.array(other.course)) / _COURSE
    if one.period_s and other.period_s and abs(one.period_s / other.period_s - 1) < _SAME_PERIOD:
        found *= _OF_SAME_PERIOD
    return found


def _logarithm(one: float, other: float) -> float:
    return float(np.log(max(one, 1e-15) / max(other, 1e-15)))


def paired(some: Sequence[Likeness], others: Sequence[Likeness]) -> list[tuple[int, int]]:
    """Return which kinds are the same: each at most once, and all together as like as they can be.

    References
    ----------
    H. W. Kuhn, "The Hungarian method for the assignment problem", *Naval Research Logistics Quarterly* 2, 1955.
    """
    from scipy.optimize import linear_sum_assignment

    if not some or not others:
        return []
    apart = np.array([[unlikeness(one, other) for other in others] for one in some])
    rows, columns = linear_sum_assignment(np.where(apart <= _RECOGNISED, apart, _UNLIKE))
    return [(int(a), int(b)) for a, b in zip(rows, columns, strict=True) if apart[a, b] <= _RECOGNISED]


def name_kinds(
    series: Series, wakes: SortedWakes, known: tuple[WakeKind, ...], sorted_wakes: tuple[SortedWake, ...]
) -> Kinds:
    """Sum a capture over its kinds as the project knows them.

    Parameters
    ----------
    series
        The current, A.
    wakes
        Its wakes in kinds.
    known
        The project's kinds.
    sorted_wakes
        What was sorted by hand in this capture.

    Returns
    -------
    Kinds
        Kinds that the project knows have its letters and names; others the letters that are free, the one that adds
        most first.
    """
    found = sum_kinds(series, wakes)
    if not known and not sorted_wakes:
        return found
    likes = {
        one.number: likeness_of(wakes, _pure(found, one), series.interval_s, one.recurrence.period_s)
        for one in found.kinds
    }
    numbers = list(likes)
    wanted = [(kind, like) for kind in known for like in kind.likes]
    pairs = paired([likes[number] for number in numbers], [like for _, like in wanted])
    letters = {numbers[one]: wanted[other][0].letter for one, other in pairs}
    taken = {kind.letter for kind in known}
    free = (letter for letter in map(letter_of, range(1000)) if letter not in taken)
    for one in found.kinds:
        letters.setdefault(one.number, next(free) if one.number not in letters else "")
    every = list(dict.fromkeys((*letters.values(), *(kind.letter for kind in known))))
    kind = np.array(
        [every.index(letters[number]) if number != ALONE else ALONE for number in found.kind.tolist()], dtype=np.int64
    )
    parted = [(wanted[k][0].letter, wanted[k][1]) for k in set(range(len(wanted))) - {other for _, other in pairs}]
    kind = _parted(
        wakes, kind, [(every.index(letter), like) for letter, like in parted], likes, found, series.interval_s
    )
    kind = _by_hand(found, kind, every, sorted_wakes)
    used = np.unique(kind[kind != ALONE])
    place = np.full(len(every) + 1, ALONE, dtype=np.int64)
    place[used] = np.arange(len(used))
    summed = sum_kinds(series, wakes.with_kinds(place[kind]))
    names = {one.letter: one.name for one in known}
    of = [every[number] for number in used.tolist()]
    renamed = [replace(one, letter=of[one.number], name=names.get(of[one.number], "")) for one in summed.kinds]
    return replace(summed, kinds=tuple(renamed))


def _pure(kinds: Kinds, kind: Kind) -> Indices:
    mine = np.flatnonzero((kinds.kind == kind.number) & ~kinds.cut)
    pure = mine[~np.isin(mine, list(kinds.mixed))]
    return pure if len(pure) else mine


def _parted(
    wakes: SortedWakes,
    kind: Indices,
    parts: list[tuple[int, Likeness]],
    likes: dict[int, Likeness],
    found: Kinds,
    interval_s: float,
) -> Indices:
    """Give wakes to kinds that none of those found is: those that are far nearer to one than to their own."""
    kind = kind.copy()
    figures = _figures(wakes, interval_s)
    for number, like in parts:
        to_it = np.abs(figures - _logarithms(like)).sum(axis=1)
        own = np.full(len(kind), np.inf)
        for one, its in likes.items():
            mine = found.kind == one
            own[mine] = np.abs(figures[mine] - _logarithms(its)).sum(axis=1)
        kind[(to_it < _NEARER * own) & (to_it < _NEAR) & ~found.cut] = number
    return kind


def _figures(wakes: SortedWakes, interval_s: float) -> Floats:
    found = wakes.found
    charge_c = np.maximum(np.nan_to_num(found.charge) * interval_s, 1e-15)
    length_s = found.courses.height.width * 12**0.5 * interval_s
    peak_a = np.maximum(np.nan_to_num(found.courses.peak_a - found.floor_a), 1e-15)
    return np.asarray(np.log(np.column_stack((length_s, charge_c, peak_a))))


def _logarithms(like: Likeness) -> Floats:
    return np.asarray(np.log(np.maximum((like.length_s, like.charge_c, like.peak_a), 1e-15)))


def _by_hand(found: Kinds, kind: Indices, letters: list[str], sorted_wakes: tuple[SortedWake, ...]) -> Indices:
    """Give wakes to the kinds that somebody gave them to."""
    kind = kind.copy()
    for one in sorted_wakes:
        at = int(np.searchsorted(found.first * found.interval_s, one.at_s, side="right")) - 1
        if at < 0 or one.at_s >= found.last[at] * found.interval_s:
            continue
        if one.letter in letters:
            kind[at] = letters.index(one.letter)
        elif not one.letter:
            kind[at] = ALONE
    return kind
