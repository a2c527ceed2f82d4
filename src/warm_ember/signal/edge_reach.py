"""How far into a quiet state what lies beside it can reach.

A sample that an edge falls into belongs to one state wholly, and an instrument takes a while to settle. Of a busy
state that is a small part; of sleep at a thousandth of what flows beside it, it may be more than the sleep itself.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.placement import UNPLACED
from warm_ember.signal.series import Series, ShouldStop, never

_LOOKED_AT, _WINDOW, _MIDDLE = 96, 512, 256
_LEAST_SAMPLES = 4
_QUIET = 2.0
_SURE = 3.0
_MOST_SHARE = 4
_SETTLES_S, _LEAST_REACH, _CLOCK_OFF = 10e-3, 3, 3.0


@dataclass(frozen=True, eq=False)
class EdgeReach:
    """How many samples of each stay in a state what lies beside it may reach into.

    Parameters
    ----------
    after, before
        From its begin on and up to its end, shape ``(stays,)``; 0 where nothing reaches in.
    """

    after: Indices
    before: Indices


@dataclass(frozen=True, eq=False)
class InsideCuts:
    """A capture cut at the edges of stays, and where within them what lies beside a stay reaches no further.

    Parameters
    ----------
    cuts
        Sample indices, rising, shape ``(pieces + 1,)``.
    owner
        The stay that each piece is of, shape ``(pieces,)``.
    is_inside
        Whether nothing reaches into it, shape ``(pieces,)``.
    """

    cuts: Indices
    owner: Indices
    is_inside: Flags


def cut_inside(edges: Indices, first: Indices, last: Indices) -> InsideCuts:
    """Cut stays where what lies beside them reaches no further.

    Parameters
    ----------
    edges
        Of the stays, sample indices, rising, shape ``(stays + 1,)``.
    first, last
        From which sample on and up to which of each stay nothing reaches, shape ``(stays,)``; nowhere where the last
        is not above the first.
    """
    is_free = last > first
    cuts = np.unique(np.concatenate((edges, first[is_free], last[is_free])))
    owner = np.searchsorted(edges, cuts[:-1], side="right") - 1
    is_inside = is_free[owner] & (cuts[:-1] >= first[owner]) & (cuts[:-1] < last[owner])
    return InsideCuts(cuts, owner, is_inside)


def find_edge_reach(
    current: Series, edges: Indices, state: Indices, *, clock_off_s: float = 0.0, should_stop: ShouldStop = never
) -> EdgeReach:
    """Find how far the neighbours of quiet states reach into them.

    Parameters
    ----------
    current
        The current, A.
    edges, state
        Of its stays: sample indices, rising, shape ``(stays + 1,)``, and in which state each is, shape ``(stays,)``.
    clock_off_s
        How far the clock may be off by which the edges were placed.
    should_stop
        Polled between states.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    A state is quiet beside one that draws twice as much. Some of its entries are read at that edge: what lies above the
    middle of the entries by more than their own spread explains is reach, up to a quarter
    of an entry, and to as long as an instrument may take to settle or the log's clock be off. What goes on for longer
    is the state's own. Where the edges lie on samples and nothing settles it is none.
    """
    most = max(_LEAST_REACH, round(max(_SETTLES_S, _CLOCK_OFF * clock_off_s) / current.interval_s))
    stays = len(state)
    after, before = np.zeros(stays, dtype=np.int64), np.zeros(stays, dtype=np.int64)
    lengths, states = np.diff(edges), np.unique(state)
    levels = {one: _level(current, edges, np.flatnonzero(state == one)) for one in states.tolist()}
    level = np.array([levels[one] for one in state.tolist()])
    rises = np.append(level[1:] > _QUIET * np.maximum(level[:-1], 0.0), False) if stays else np.zeros(0, dtype=bool)
    falls = np.append(False, level[:-1] > _QUIET * np.maximum(level[1:], 0.0)) if stays else np.zeros(0, dtype=bool)
    for one in states.tolist():
        mine = state == one
        for reach, beside, at_end in ((after, falls, False), (before, rises, True)):
            if should_stop():
                raise Cancelled("stopped")
            quiet = np.flatnonzero(mine & beside)
            if one != UNPLACED and len(quiet):
                found = _reach(current, edges, quiet, at_end=at_end)
                reach[quiet] = np.minimum(min(found, most), np.maximum(lengths[quiet] // _MOST_SHARE, 1))
    return EdgeReach(after, before)


def _some(indices: Indices) -> Indices:
    return indices[np.unique(np.linspace(0, len(indices) - 1, min(len(indices), _LOOKED_AT)).astype(np.int64))]


def _level(current: Series, edges: Indices, mine: Indices) -> float:
    """Return about what a state draws: the median of the middles of some of its entries; NaN where none is measured."""
    found = [_middle(current, int(edges[index]), int(edges[index + 1])) for index in _some(mine)]
    means = np.array([values.mean() for values in found if len(values)])
    return float(np.median(means)) if len(means) else float("nan")


def _middle(current: Series, first: int, last: int) -> Floats:
    """Return the measured samples in the middle of an entry, float64."""
    count = min(max((last - first) // 2, 1), _MIDDLE)
    begin = (first + last - count) // 2
    values = current.read(begin, begin + count).astype(np.float64)
    return values[~np.isnan(values)]


def _reach(current: Series, edges: Indices, quiet: Indices, *, at_end: bool) -> int:
    """Return how far what lies beside some entries of one state reaches into them, in samples."""
    lengths = edges[quiet + 1] - edges[quiet]
    tells = _some(quiet[lengths >= _LEAST_SAMPLES])
    if not len(tells):
        return 1
    window = int(min(_WINDOW, max(np.median(edges[tells + 1] - edges[tells]) // 2, 1)))
    near = np.full((len(tells), window), np.nan)
    middles: list[Floats] = []
    for row, index in enumerate(tells.tolist()):
        first, last = int(edges[index]), int(edges[index + 1])
        count = min(window, (last - first) // 2)
        values = current.read(last - count, last)[::-1] if at_end else current.read(first, first + count)
        near[row, :count] = values
        middles.append(_middle(current, first, last))
    middle = np.concatenate(middles)
    if not len(middle):
        return 0
    settled_a, spread_a = float(middle.mean()), float(middle.std())
    # Further out the samples are looked at in groups, each half as long as its distance.
    begin = 0
    while begin < window:
        end = min(begin + max(1, begin // 2), window)
        group = near[:, begin:end]
        seen = ~np.isnan(group).all(axis=1)
        if not seen.any():
            break
        above_a = float(np.nanmean(group)) - settled_a
        if above_a <= _SURE * spread_a / float((~np.isnan(group)).sum()) ** 0.5:
            break
        begin = end
    return begin
