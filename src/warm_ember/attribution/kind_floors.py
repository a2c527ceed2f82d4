"""What wakes rise from: the floor asleep, and that of states which last longer than any wake."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from warm_ember.attribution.kind_sorting import Sorted
from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.estimate import Estimate
from warm_ember.signal.bursts import Rest
from warm_ember.signal.estimates import ratio
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import Series, ShouldStop, never
from warm_ember.signal.stretch import total

_PIECES = 64


@dataclass(frozen=True)
class Stay:
    """A state that lasts longer than any wake, and that wakes rise from as they do from sleep.

    Parameters
    ----------
    first, last
        First and last-plus-one samples.
    level_a
        What flows in it outside wakes.
    added_a
        What that, above the floor asleep, adds to the mean of the capture.
    """

    first: int
    last: int
    level_a: float
    added_a: float


@dataclass(frozen=True, eq=False)
class Floors:
    """What the wakes of a capture rise from.

    Parameters
    ----------
    asleep
        What flows asleep, with what is known of its error.
    of_wakes_a, measured
        What each wake rises from, and which share of it was measured, shape ``(wakes,)``.
    mean_a
        Mean of the capture, of what was measured of it.
    measured_s
        How long that is.
    stays
        States that last longer than any wake, in the order of their beginnings; within one there may be others.
    """

    asleep: Estimate
    of_wakes_a: Floats
    measured: Floats
    mean_a: float
    measured_s: float
    stays: tuple[Stay, ...]


def within_rests(
    rests: Sequence[Rest], first: Indices, last: Indices, before: Indices, after: Indices
) -> tuple[Indices, Indices]:
    """Return bursts, each reaching so far beyond its ends, but not beyond the state that it rises from.

    Parameters
    ----------
    rests
        Stretches with a floor of their own; the first is the whole capture.
    first, last
        First and last-plus-one samples, shape ``(n,)``.
    before, after
        How far each reaches, samples, shape ``(n,)``.
    """
    wide, end = first - before, last + after
    for edge in (one for rest in rests[1:] for one in (rest.first, rest.last)):
        wide = np.where((first >= edge) & (wide < edge), edge, wide)
        end = np.where((last <= edge) & (end > edge), edge, end)
    return wide, end


def find_floors(series: Series, found: Sorted, rests: Sequence[Rest], *, should_stop: ShouldStop = never) -> Floors:
    """Find what flows outside the wakes.

    Parameters
    ----------
    series
        The current, A.
    found
        Its wakes; none crosses the end of a rest.
    rests
        Stretches with a floor of their own; the first is the whole capture.
    should_stop
        Polled before anything is read.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    It is what flows at all less what flows in wakes, piece by piece, so that it need not be read. The floor asleep,
    what the stays add to it and what the wakes take above their own floors are the mean of the capture.
    """
    edges = _pieces(found, rests, series.samples)
    if should_stop():
        raise Cancelled("stopped")
    sums = [total(series, begin, end) for begin, end in pairwise(edges.tolist())]
    totals, counts = np.array([one.total for one in sums]), np.array([one.count for one in sums], dtype=np.float64)
    measured = float(counts.sum())
    mean_a = float(totals.sum() / measured) if measured else 0.0
    owner = np.zeros(len(edges) - 1, dtype=np.int64)
    begun = np.zeros(len(found.first), dtype=np.int64)
    for number, rest in enumerate(rests):
        owner[(edges[:-1] >= rest.first) & (edges[:-1] < rest.last)] = number
        begun[(found.first >= rest.first) & (found.first < rest.last)] = number
    every = counts
    if (counts < np.diff(edges)).any():
        totals, counts, shares = _measured_asleep(series, found, edges, should_stop)
    else:
        shares = np.ones(len(found.first))
        piece = np.searchsorted(edges, found.first, side="right") - 1
        totals = totals - np.bincount(piece, found.courses.total, minlength=len(totals))
        counts = counts - np.bincount(piece, found.courses.lasts, minlength=len(counts))
    asleep = (owner == 0) & (counts > 0)
    floor = ratio(totals[asleep], counts[asleep])
    if not asleep.any():
        floor = Estimate(rests[0].floor.level_a if rests else 0.0)
    floors_a, stays = [floor.value], []
    for number, rest in enumerate(rests[1:], 1):
        mine = (owner == number) & (counts > 0)
        level_a = float(totals[mine].sum() / counts[mine].sum()) if mine.any() else rest.floor.level_a
        share = float(every[owner == number].sum()) / max(measured, 1.0)
        floors_a.append(level_a)
        stays.append(Stay(rest.first, rest.last, level_a, share * (level_a - floor.value)))
    of_wakes_a = np.array(floors_a)[begun] if len(begun) else np.zeros(0)
    return Floors(floor, of_wakes_a, shares, mean_a, measured * series.interval_s, tuple(stays))


def _pieces(found: Sorted, rests: Sequence[Rest], samples: int) -> Indices:
    """Return the ends of pieces that no wake crosses, with those of the stretches that have a floor of their own."""
    ends = np.unique(np.linspace(0, samples, _PIECES + 1).astype(np.int64))
    if len(found.first):
        at = np.searchsorted(found.first, ends, side="left") - 1
        ends = np.where(at >= 0, np.maximum(ends, found.last[np.maximum(at, 0)]), ends)
    inner = [edge for rest in rests[1:] for edge in (rest.first, rest.last)]
    return np.unique(np.concatenate((ends, [0, samples], inner))).astype(np.int64)


def _measured_asleep(
    series: Series, found: Sorted, edges: Indices, should_stop: ShouldStop
) -> tuple[Floats, Floats, Floats]:
    """Return sum and number of samples outside wakes in each piece, and the share of each wake that was measured."""
    cuts = np.unique(np.concatenate((edges, found.first, found.last)))
    sums = interval_sums(series, cuts, should_stop=should_stop)
    at = np.searchsorted(found.first, cuts[:-1], side="right") - 1
    awake = (at >= 0) & (cuts[:-1] < np.append(found.last, 0)[at])
    piece = np.searchsorted(edges, cuts[:-1], side="right") - 1
    counts = sums.count.astype(np.float64)
    totals, asleep = (
        np.bincount(piece, np.where(awake, 0.0, one), minlength=len(edges) - 1).astype(np.float64)
        for one in (sums.total, counts)
    )
    seen = np.bincount(at[awake], counts[awake], minlength=len(found.first))
    return totals, asleep, seen / np.maximum(found.last - found.first, 1)
