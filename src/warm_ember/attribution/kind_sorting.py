"""Bursts sorted into kinds: alike in length, charge, current and course."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.signal.bursts import Bursts
from warm_ember.signal.courses import Courses, course_distance, read_courses
from warm_ember.signal.series import Series, ShouldStop, never
from warm_ember.signal.sorting import ALONE, renumbered, sort_by_likeness

_LENGTH, _CHARGE, _LEVEL, _WIDTH = 0.3, 0.25, 0.25, 0.4
"""How many nepers apart two wakes may be to be just alike: in length, charge, the current at which that flows, and how
wide in time it is spread."""
_PLACE, _SKEW = 0.4, 0.8
"""How far apart where the charge lies in a wake, and how skewed it and the current's logarithm are."""
_GAPS = np.array([0.25, 0.25, 0.25, 0.5, 0.7, 0.7, 0.7])
"""How wide a gap has to be along each of these figures: where a sample begins makes gaps along the course."""
_FEW, _FULL_WIDTH = 2.0, 6.0
_ABOVE_NOISE, _CHARGE_NOISE = 3.0, 4.0
_FLUKES, _FLUKE_SHARE, _NEAR, _FLUKE_NEAR, _SAME_COURSE = 3, 0.25, 1.6, 2.2, 0.15
_ODD_COURSE = 0.35
_OF_SPREAD, _UNSURE = 4.5, 4.0
_OF_NORMAL = 1.4826
_MOSTLY_BESIDE, _FARTHER, _LOOKS = 0.5, 8, (1, 2, 3)
_ALWAYS_BRIDGED, _FRINGE, _SHORT, _MOSTLY, _ROUNDS = 0.1, 0.01, 0.6, 0.8, 6
_TRAIN_GAP, _EVEN, _TRAINS, _IN_TRAINS = 8.0, 3.0, 2, 0.6
_LOOKED_AT = 400


@dataclass(frozen=True, eq=False)
class Sorted:
    """Bursts with their kinds.

    Parameters
    ----------
    first, last
        First and last-plus-one samples, rising, shape ``(n,)``.
    floor_a, noise_a
        Of what each rises from, A, shape ``(n,)``.
    courses
        What is known of each.
    figures
        Their figures, scaled so that two at a distance of 1 are just alike, shape ``(n, figures)``.
    kind
        The number of each one's kind, `ALONE` for what is like no other, shape ``(n,)``.
    """

    first: Indices
    last: Indices
    floor_a: Floats
    noise_a: Floats
    courses: Courses
    figures: Floats
    kind: Indices

    @property
    def kinds(self) -> int:
        """How many kinds there are."""
        return int(self.kind.max(initial=ALONE)) + 1

    @cached_property
    def charge(self) -> Floats:
        """Sum of the samples of each above its floor, A, shape ``(n,)``."""
        return np.asarray(self.courses.total - self.floor_a * self.courses.lasts)


def sort_bursts(series: Series, bursts: Bursts, *, should_stop: ShouldStop = never) -> Sorted:
    """Sort the bursts of a capture into kinds.

    Parameters
    ----------
    series
        The current, A.
    bursts
        Its bursts.
    should_stop
        Polled between parts.

    Returns
    -------
    Sorted
        Fewer bursts than were given, where short returns to the floor within a burst were bridged.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    Length, charge and current are compared by their logarithms, so is how wide in time the charge is spread; of the
    course where in the wake the charge lies, and how skewed both it and the current's logarithm are. These are
    moments, which an edge, a tail or the noise change by degrees only. A burst of few samples is known by its course
    the less. What is sorted apart only because few of it were seen is joined again where the courses are the same,
    indifferent to small stretching. A return to the floor is within a burst where it is short beside both of its
    neighbours, and most of one kind have the other, or their like, just behind or before them; and where it is one of
    an even train with long times between the trains.
    """
    first, last, rest = bursts.first, bursts.last, bursts.rest
    floors = np.array([one.floor.level_a for one in bursts.rests])
    noises = np.array([one.floor.noise_a for one in bursts.rests])
    courses = read_courses(series, first, last, floors[rest], noises[rest], should_stop=should_stop)
    found = _sorted(series, first, last, floors[rest], noises[rest], courses, should_stop)
    inner = np.unique([edge for one in bursts.rests[1:] for edge in (one.first, one.last)])
    for _ in range(_ROUNDS):
        # Between bursts on both sides of a state is that.
        between = np.searchsorted(inner, first, side="right")
        bridged = _bridged(found) & (between[1:] == between[:-1]) if len(rest) else np.zeros(0, dtype=bool)
        if not bridged.any():
            break
        opens, closes = np.flatnonzero(np.append(True, ~bridged)), np.flatnonzero(np.append(~bridged, True))
        first, last, rest = found.first[opens], found.last[closes], rest[opens]
        grown = np.flatnonzero(closes > opens)
        read = read_courses(
            series, first[grown], last[grown], floors[rest[grown]], noises[rest[grown]], should_stop=should_stop
        )
        courses = found.courses.of(opens).with_others(grown, read)
        found = _sorted(series, first, last, floors[rest], noises[rest], courses, should_stop)
    return found


def _sorted(
    series: Series,
    first: Indices,
    last: Indices,
    floor_a: Floats,
    noise_a: Floats,
    courses: Courses,
    should_stop: ShouldStop,
) -> Sorted:
    figures = figures_of(courses, floor_a, noise_a)
    whole = (first > 0) & (last < series.samples) & np.isfinite(courses.total)
    kind = np.full(len(first), ALONE, dtype=np.int64)
    kind[whole] = sort_by_likeness(figures[whole], _GAPS, should_stop=should_stop)
    kind = _joined(kind, whole, figures, logarithms_of(courses, floor_a, noise_a))
    return Sorted(first, last, floor_a, noise_a, courses, figures, kind)


def figures_of(courses: Courses, floor_a: Floats, noise_a: Floats) -> Floats:
    """Return the figures that bursts are sorted by.

    Parameters
    ----------
    courses
        Of `n` bursts.
    floor_a, noise_a
        Of what each rises from, A, shape ``(n,)``.

    Returns
    -------
    Floats
        Two rows at a distance of 1 are just alike, shape ``(n, figures)``; 0 where nothing was measured.
    """
    lasts = courses.lasts.astype(np.float64)
    noise = np.maximum(noise_a * np.sqrt(lasts), 1e-15)
    charge = np.log(np.maximum(courses.total - floor_a * lasts, noise) + _CHARGE_NOISE * noise)
    level = np.log(np.maximum(courses.level_a, _ABOVE_NOISE * noise_a))
    spread, height = courses.charge, courses.height
    # Of few samples where each part begins tells more of the sampling than of the burst.
    weight = np.minimum(height.width / _FULL_WIDTH, 1.0)
    found = np.column_stack((
        np.log(height.width + _FEW) / _LENGTH,
        charge / _CHARGE,
        level / _LEVEL,
        np.log(spread.width + _FEW) / _WIDTH,
        (spread.centre - height.centre) / height.width * weight / _PLACE,
        spread.skew * weight / _SKEW,
        height.skew * weight / _SKEW,
    ))  # fmt: skip
    return np.asarray(np.nan_to_num(found))


def logarithms_of(courses: Courses, floor_a: Floats, noise_a: Floats) -> Floats:
    """Return the courses of bursts above their floors on a logarithmic axis, each around its own mean.

    Parameters
    ----------
    courses, floor_a, noise_a
        As for `figures_of`.

    Returns
    -------
    Floats
        Nepers, shape ``(n, columns)``.
    """
    found = np.log(np.maximum(courses.mean_a - floor_a[:, None], np.maximum(_ABOVE_NOISE * noise_a, 1e-15)[:, None]))
    return np.asarray(found - found.mean(axis=1)[:, None])


def _joined(kind: Indices, whole: Flags, figures: Floats, courses: Floats) -> Indices:
    """Join kinds that are one though a gap parts them, because few of it were seen."""
    kind = kind.copy()
    counts = np.bincount(kind[kind != ALONE]) if (kind != ALONE).any() else np.zeros(0, dtype=np.int64)
    shapes = [np.median(courses[kind == number], axis=0) for number in range(len(counts))]
    for number in np.argsort(counts, kind="stable").tolist():
        best, into = np.inf, ALONE
        mine = figures[kind == number]
        for other in range(len(counts)):
            theirs = figures[kind == other]
            if other == number or len(theirs) < len(mine) or not len(mine):
                continue
            apart = _nearest(mine, theirs)
            if apart < best and _is_one(mine, theirs, apart, shapes[number], shapes[other]):
                best, into = apart, other
        if into != ALONE:
            kind[kind == number] = into
    return renumbered(_with_odd_ones(kind, whole, figures, courses))


def _with_odd_ones(kind: Indices, whole: Flags, figures: Floats, courses: Floats) -> Indices:
    """Give what is alone to the kind whose course it has and that it is not far from: it is an odd one of it."""
    alone = np.flatnonzero((kind == ALONE) & whole)
    numbers = np.unique(kind[kind != ALONE]).tolist()
    if not len(alone) or not numbers:
        return kind
    middles = np.array([np.median(figures[kind == number], axis=0) for number in numbers])
    shapes = [np.median(courses[kind == number], axis=0) for number in numbers]
    found = kind.copy()
    for at in alone.tolist():
        apart = np.sqrt(((middles - figures[at]) ** 2).sum(axis=1))
        nearest = int(apart.argmin())
        if apart[nearest] <= _FLUKE_NEAR and course_distance(courses[at], shapes[nearest]) <= _ODD_COURSE:
            found[at] = numbers[nearest]
    return found


def _is_one(few: Floats, many: Floats, apart: float, course: Floats, other: Floats) -> bool:
    """Return whether two kinds are one: near each other, of one course, and not clearly apart."""
    is_fluke = len(few) <= _FLUKES and len(few) <= _FLUKE_SHARE * len(many)
    if apart > (_FLUKE_NEAR if is_fluke else _NEAR) or course_distance(course, other) > _SAME_COURSE:
        return False
    if is_fluke:
        return True
    gaps = np.maximum(
        few[:, :3].min(axis=0) - many[:, :3].max(axis=0), many[:, :3].min(axis=0) - few[:, :3].max(axis=0)
    )
    spread = np.maximum(_spreads(few[:, :3]), _spreads(many[:, :3])) * (1 + _UNSURE / len(few))
    return bool((gaps <= np.maximum(_OF_SPREAD * spread, 0.0)).all())


def _nearest(some: Floats, others: Floats) -> float:
    """Return the least distance between two groups, of which some members are looked at."""
    some, others = some[:: len(some) // _LOOKED_AT + 1], others[:: len(others) // _LOOKED_AT + 1]
    squares = (some**2).sum(axis=1)[:, None] + (others**2).sum(axis=1) - 2 * some @ others.T
    return float(np.sqrt(max(float(squares.min()), 0.0)))


def _spreads(rows: Floats) -> Floats:
    return np.asarray(_OF_NORMAL * np.median(np.abs(rows - np.median(rows, axis=0)), axis=0))


def _bridged(found: Sorted) -> Flags:
    """Return after which bursts the return to the floor is within a burst, shape ``(n - 1,)``."""
    gaps, lasts = found.first[1:] - found.last[:-1], found.courses.lasts
    shorter, longer = np.minimum(lasts[:-1], lasts[1:]), np.maximum(lasts[:-1], lasts[1:])
    charge = np.nan_to_num(found.charge)
    # What is next to nothing beside its neighbour is what an instrument makes of the neighbour's end.
    is_fringe = np.minimum(charge[:-1], charge[1:]) <= _FRINGE * np.maximum(charge[:-1], charge[1:])
    is_fringe &= gaps <= _ALWAYS_BRIDGED * longer
    is_fringe &= ~_of_the_other(found, charge)
    bridged = (gaps <= _ALWAYS_BRIDGED * shorter) | (is_fringe & ~_comes_alone(found, charge, is_fringe))
    if not found.kinds:
        return np.asarray(bridged)
    counts = np.bincount(found.kind[found.kind != ALONE], minlength=found.kinds)
    left, right = found.kind[:-1], found.kind[1:]
    known = (left != ALONE) & (right != ALONE)
    short = known & (gaps <= _SHORT * shorter)
    pairs, times = np.unique(left[short] * found.kinds + right[short], return_counts=True)
    for pair, count in zip(pairs.tolist(), times.tolist(), strict=True):
        one, other = divmod(pair, found.kinds)
        fewer = min(counts[one], counts[other])
        # A kind follows itself so only within a burst, and never in one that does not end.
        is_usual = (
            count >= _IN_TRAINS * fewer and fewer - count >= _TRAINS if one == other else count >= _MOSTLY * fewer
        )
        if is_usual and count >= _TRAINS:
            bridged |= short & (left == one) & (right == other)
    for number in range(found.kinds):
        bridged |= _in_train(gaps, known & (left == number) & (right == number), int(counts[number]))
    # What is like nothing because another wake lies over it is within a burst where its like would be.
    usual = int(gaps[bridged & known].max(initial=-1))
    return np.asarray(bridged | (~known & (gaps <= np.minimum(usual, _SHORT * shorter))))


def _of_the_other(found: Sorted, charge: Floats) -> Flags:
    """Return where the lesser of two neighbours is much nearer to a greater one on its other side: it is that one's."""
    count = len(found.first)
    lesser = np.arange(count - 1) + (charge[:-1] > charge[1:])
    side = np.where(charge[:-1] > charge[1:], 1, -1)  # where its other side is, seen from the lesser
    gaps = found.first[1:] - found.last[:-1]
    nearer = np.zeros(count - 1, dtype=bool)
    for step in _LOOKS:
        other = lesser + step * side
        known = (other >= 0) & (other < count)
        other = np.clip(other, 0, count - 1)
        apart = np.where(side > 0, found.first[other] - found.last[lesser], found.first[lesser] - found.last[other])
        nearer |= known & (charge[other] > charge[lesser]) & (_FARTHER * apart < gaps)
    return nearer


def _comes_alone(found: Sorted, charge: Floats, is_fringe: Flags) -> Flags:
    """Return where the lesser of two neighbours is of a kind that mostly comes without such a neighbour."""
    lesser = np.arange(len(is_fringe)) + (charge[:-1] > charge[1:])
    kind = found.kind[lesser]
    if not found.kinds:
        return np.zeros(len(is_fringe), dtype=bool)
    counts = np.bincount(found.kind[found.kind != ALONE], minlength=found.kinds)
    beside = np.unique(lesser[is_fringe & (kind != ALONE)])
    fringes = np.bincount(found.kind[beside], minlength=found.kinds)
    return np.asarray((kind != ALONE) & (fringes[kind] < _MOSTLY_BESIDE * counts[kind]), dtype=bool)


def _in_train(gaps: Indices, alike: Flags, count: int) -> Flags:
    """Return which gaps between bursts of one kind are those of even trains with long times between them."""
    nothing = np.zeros(len(gaps), dtype=bool)
    mine = np.sort(gaps[alike])
    if len(mine) < _IN_TRAINS * count or len(mine) < 2 * _TRAINS:
        return nothing
    ratios = mine[1:] / np.maximum(mine[:-1], 1)
    at = int(np.argmax(ratios))
    short, trains = mine[: at + 1], count - (at + 1)
    if ratios[at] < _TRAIN_GAP or short[-1] > _EVEN * short[0] or trains < _TRAINS or len(short) < _IN_TRAINS * count:
        return nothing
    return np.asarray(alike & (gaps <= short[-1]))
