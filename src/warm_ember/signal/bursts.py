"""Bursts of a current: from the floor up and back to the floor, told by the noise's own measure."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Flags, Indices
from warm_ember.signal.bands import runs_of
from warm_ember.signal.floor import Floor, find_floor
from warm_ember.signal.pyramid import BLOCK_SAMPLES
from warm_ember.signal.series import CHUNK_SAMPLES, Series, ShouldStop, never

_RISES, _FALLS = 6.5, 2.5
_DEEPER = 1.5
_BRIDGED = 2
_BLOCKS_AT_ONCE = 1 << 16
_TOGETHER = 32
_LONG, _VERY_LONG, _ON_ITS_FLOOR, _SOME = 0.1, 0.25, 0.5, 3
_DEEPEST = 3


@dataclass(frozen=True, eq=False)
class Rest:
    """A stretch with a floor of its own, that bursts rise from.

    Parameters
    ----------
    first, last
        Its samples.
    floor
        Its floor.
    """

    first: int
    last: int
    floor: Floor


@dataclass(frozen=True, eq=False)
class Bursts:
    """The bursts of a capture, in order; none overlaps another.

    Parameters
    ----------
    first, last
        First and last-plus-one samples, shape ``(bursts,)``.
    rest
        Which stretch each rises from, shape ``(bursts,)``.
    rests
        The stretches that have a floor, in the order of their beginnings; the first is the whole capture, and the
        others are what is too long for a burst.
    """

    first: Indices
    last: Indices
    rest: Indices
    rests: tuple[Rest, ...]


def find_bursts(series: Series, *, should_stop: ShouldStop = never) -> Bursts:
    """Find where a current rises from its floor and comes back to it.

    Parameters
    ----------
    series
        The current, A.
    should_stop
        Polled between pieces.

    Returns
    -------
    Bursts
        Those that the capture's ends cut off begin at its first or end at its last sample. Empty without samples.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    A burst begins above 6.5 times the noise of its floor, and half as far again as noise reaches below it, and reaches
    to both sides as long as the current stays above 2.5 times the noise; up to two samples below that do not end it.
    What lasts for more than a tenth of the capture is looked at for a floor of its own: where the current is on it for
    half of the time, and it either goes on beyond the capture, is longer than a quarter of it, or has several bursts
    of its own, it is a state, and its bursts rise from there. Only those summary blocks are read that reach above the
    noise, and their neighbours.
    """
    found = _within(series, 0, series.samples, series.samples, 0, should_stop)
    if found is None:
        nothing = np.zeros(0, dtype=np.int64)
        return Bursts(nothing, nothing, nothing, ())
    rests, stays = found
    first = np.concatenate([stay[:, 0] for stay in stays])
    last = np.concatenate([stay[:, 1] for stay in stays])
    rest = np.repeat(np.arange(len(rests)), [len(stay) for stay in stays])
    order = np.argsort(first, kind="stable")
    return Bursts(first[order], last[order], rest[order], tuple(rests))


def _within(
    series: Series, first: int, last: int, samples: int, depth: int, should_stop: ShouldStop
) -> tuple[list[Rest], list[Indices]] | None:
    """Return the stretches with a floor within one, itself the first, and the bursts of each."""
    floor = find_floor(series, first, last)
    if floor is None:
        return None
    stays = _above(series, first, last, floor, should_stop)
    rests, found = [Rest(first, last, floor)], [stays]
    if depth < _DEEPEST:
        kept = np.ones(len(stays), dtype=bool)
        for at in np.flatnonzero(stays[:, 1] - stays[:, 0] > _LONG * samples).tolist():
            begin, end = stays[at].tolist()
            inner = _within(series, begin, end, samples, depth + 1, should_stop)
            if inner is not None and _is_state(begin, end, samples, inner[0][0].floor, len(inner[1][0])):
                kept[at] = False
                rests += inner[0]
                found += inner[1]
        found[0] = stays[kept]
    return rests, found


def _is_state(begin: int, end: int, samples: int, floor: Floor, bursts: int) -> bool:
    """Return whether what is above a floor for long is a state with a floor of its own."""
    if floor.share < _ON_ITS_FLOOR:
        return False
    is_cut = begin == 0 or end == samples
    return is_cut or end - begin > _VERY_LONG * samples or bursts >= _SOME


def _above(series: Series, first: int, last: int, floor: Floor, should_stop: ShouldStop) -> Indices:
    """Return the stays above a floor's noise as rows of first and last-plus-one sample."""
    high_a = floor.level_a + max(_RISES * floor.noise_a, _DEEPER * floor.deepest_a)
    low_a = floor.level_a + _FALLS * floor.noise_a
    found = [np.zeros((0, 2), dtype=np.int64)]
    for begin, end in _to_read(series, first, last, low_a, high_a, should_stop).tolist():
        parts, touched = [], []
        for start in range(begin, end, CHUNK_SAMPLES):
            if should_stop():
                raise Cancelled("stopped")
            values = series.read(start, min(start + CHUNK_SAMPLES, end))
            above = values >= np.float32(low_a)
            runs = runs_of(above)
            if not len(runs):
                continue
            # Between the runs it is looked too, and left out again.
            highest = np.fmax.reduceat(np.append(values, np.float32(np.nan)), runs.reshape(-1))[::2]
            parts.append(runs + start)
            touched.append(highest >= np.float32(high_a))
        if parts:
            found.append(_bridged(np.concatenate(parts), np.concatenate(touched)))
    return np.concatenate(found)


def _bridged(runs: Indices, touched: Flags) -> Indices:
    """Join runs with next to nothing between them, and keep those that reach high enough anywhere."""
    if not len(runs):
        return runs.reshape(-1, 2)
    starts = np.flatnonzero(np.append(True, runs[1:, 0] - runs[:-1, 1] > _BRIDGED))
    ends = np.append(starts[1:], len(runs)) - 1
    return np.column_stack((runs[starts, 0], runs[ends, 1]))[np.logical_or.reduceat(touched, starts)]


def _to_read(series: Series, first: int, last: int, low_a: float, high_a: float, should_stop: ShouldStop) -> Indices:
    """Return the stretches that have to be read, rows of first and last-plus-one sample."""
    begin, end = first // BLOCK_SAMPLES, -(-last // BLOCK_SAMPLES)
    hot, lifted = [], []
    for start in range(begin, end, _BLOCKS_AT_ONCE):
        if should_stop():
            raise Cancelled("stopped")
        blocks = series.blocks(0, start, min(start + _BLOCKS_AT_ONCE, end))
        with np.errstate(invalid="ignore", divide="ignore"):
            hot.append(blocks["max"] >= high_a)
            lifted.append(blocks["sum"] >= low_a * blocks["count"])
    reaches = np.concatenate(hot)
    # A block whose mean is lifted belongs to what goes on beside it, and one to either side may hold an end.
    wanted = reaches | np.concatenate(lifted)
    runs = runs_of(wanted)
    some = np.concatenate(([0], np.cumsum(reaches)))
    runs = runs[some[runs[:, 1]] > some[runs[:, 0]]]
    wide = np.column_stack((np.maximum(runs[:, 0] - 1, 0), np.minimum(runs[:, 1] + 1, end - begin)))
    if len(wide):
        # Reading a little that is quiet takes less than reading twice.
        starts = np.flatnonzero(np.append(True, wide[1:, 0] - wide[:-1, 1] > _TOGETHER))
        ends = np.append(starts[1:], len(wide)) - 1
        wide = np.column_stack((wide[starts, 0], wide[ends, 1]))
    return np.asarray(np.clip((wide + begin) * BLOCK_SAMPLES, first, last))
