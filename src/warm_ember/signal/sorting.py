"""Things sorted by likeness, without a number of sorts being given.

A thing is a row of figures, scaled so that two things at a distance of 1 are just alike. Sorts are dense in this space
and have gaps between them; a thing that is alone is of no sort.
"""

from __future__ import annotations

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.signal.series import ShouldStop, never

ALONE = -1
_RADIUS = 0.4
_ROWS_AT_ONCE = 2048
_GAP_OF_SPREAD, _UNSURE, _LEAST_GAP = 4.5, 4.0, 0.25
_STRAY = 0.01
_OF_NORMAL = 1.4826
_DEEPEST = 12


def sort_by_likeness(rows: Floats, gaps: Floats | None = None, *, should_stop: ShouldStop = never) -> Indices:
    """Sort things by likeness.

    Parameters
    ----------
    rows
        Their figures, finite, shape ``(things, figures)``.
    gaps
        How wide a gap along each figure has to be at least to part a sort, shape ``(figures,)``; a quarter where it is
        not given.
    should_stop
        Polled between parts.

    Returns
    -------
    Indices
        The sort of each, from 0 upward by the first of it, `ALONE` for what is like nothing, shape ``(things,)``.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    Three steps, none of which compares all with all. *Leaders*: each thing goes to the first one before it that is
    within 0.4, or leads from then on. *Linking*: leaders that are alike are linked, and what hangs together is a
    sort. *Gaps*: a sort is parted where along one figure there is a gap, wider than 4.5 times the spread to either
    side of it (three times as much where only two things are on one side), in which next to nothing lies. Time grows
    with the things times the leaders, which are as many as there are distinct things.

    References
    ----------
    J. A. Hartigan, *Clustering Algorithms*, 1975, chapter 3 (leaders); M. Ester et al., "A density-based algorithm for
    discovering clusters in large spatial databases with noise", *Proc. KDD*, 1996 (linking what is dense).
    """
    if not len(rows):
        return np.zeros(0, dtype=np.int64)
    least = np.full(rows.shape[1], _LEAST_GAP) if gaps is None else gaps
    leader, leaders = _leaders(rows, should_stop)
    group = _linked(rows[leaders], should_stop)[leader]
    labels, after = np.full(len(rows), ALONE, dtype=np.int64), 0
    for number in range(int(group.max()) + 1):
        for part in _parted(rows, np.flatnonzero(group == number), least):
            if len(part) > 1:
                labels[part] = after
                after += 1
    return renumbered(labels)


def renumbered(labels: Indices) -> Indices:
    """Return labels, shape ``(n,)``, from 0 upward in the order in which they first appear; what is alone stays so.

    Examples
    --------
    >>> renumbered(np.array([7, ALONE, 3, 7])).tolist()
    [0, -1, 1, 0]
    """
    known = labels != ALONE
    values, first, inverse = np.unique(labels[known], return_index=True, return_inverse=True)
    rank = np.empty(len(values), dtype=np.int64)
    rank[np.argsort(first)] = np.arange(len(values))
    found = np.full(len(labels), ALONE, dtype=np.int64)
    found[known] = rank[inverse]
    return found


def _leaders(rows: Floats, should_stop: ShouldStop) -> tuple[Indices, Indices]:
    """Return for each thing the number of its leader, and which things lead."""
    leader = np.empty(len(rows), dtype=np.int64)
    leaders: list[int] = []
    for begin in range(0, len(rows), _ROWS_AT_ONCE):
        if should_stop():
            raise Cancelled("stopped")
        some = rows[begin : begin + _ROWS_AT_ONCE]
        open_at = np.arange(len(some))
        if leaders:
            # The nearest one has the highest score; in single precision and without roots it takes a tenth as long.
            others = rows[leaders].astype(np.float32)
            score = some.astype(np.float32) @ others.T - (others**2).sum(axis=1) / 2
            nearest = score.argmax(axis=1)
            near = ((some - rows[leaders][nearest]) ** 2).sum(axis=1) <= _RADIUS**2
            leader[begin + open_at[near]] = nearest[near]
            open_at = open_at[~near]
        while len(open_at):
            leads = int(open_at[0])
            near = ((some[open_at] - some[leads]) ** 2).sum(axis=1) <= _RADIUS**2
            leader[begin + open_at[near]] = len(leaders)
            leaders.append(begin + leads)
            open_at = open_at[~near]
    return leader, np.array(leaders, dtype=np.int64)


def _apart(some: Floats, others: Floats) -> Floats:
    """Return the distances between two sets of rows, shape ``(some, others)``."""
    squares = (some**2).sum(axis=1)[:, None] + (others**2).sum(axis=1) - 2 * some @ others.T
    return np.asarray(np.sqrt(np.maximum(squares, 0.0)))


def _linked(rows: Floats, should_stop: ShouldStop) -> Indices:
    """Return the number of the group that each row hangs together with."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    pairs = []
    for begin in range(0, len(rows), _ROWS_AT_ONCE):
        if should_stop():
            raise Cancelled("stopped")
        one, other = np.nonzero(_apart(rows[begin : begin + _ROWS_AT_ONCE], rows) <= 1.0)
        pairs.append(np.column_stack((one + begin, other)))
    ends = np.concatenate(pairs)
    links = coo_array((np.ones(len(ends), dtype=bool), (ends[:, 0], ends[:, 1])), shape=(len(rows), len(rows)))
    return np.asarray(connected_components(links, directed=False)[1], dtype=np.int64)


def _parted(rows: Floats, members: Indices, least: Floats) -> list[Indices]:
    """Part a sort where there is a gap along one of its figures, and its parts again."""
    parts, done = [(members, 0)], []
    while parts:
        mine, depth = parts.pop()
        cut = _gap(rows[mine], least) if len(mine) >= 4 and depth < _DEEPEST else None
        if cut is None:
            done.append(mine)
        else:
            parts += [(mine[cut], depth + 1), (mine[~cut], depth + 1)]
    return done


def _gap(rows: Floats, least: Floats) -> Flags | None:
    """Return which rows lie below the clearest gap along a figure; None where there is none."""
    best, found = 1.0, None
    for column, least_gap in zip(rows.T, least.tolist(), strict=True):
        order = np.argsort(column, kind="stable")
        values = column[order]
        stray = int(_STRAY * len(values))
        # The widest stretch with no more than a stray thing or two in it.
        widths = values[1 + stray :] - values[: len(values) - 1 - stray]
        at = int(np.argmax(widths))
        left, right = values[: at + 1], values[at + 1 + stray :]
        if min(len(left), len(right)) < 2:
            continue
        # Of few things hardly anything is known of the spread.
        spread = max(_spread(left), _spread(right)) * (1 + _UNSURE / min(len(left), len(right)))
        score = float(widths[at]) / max(_GAP_OF_SPREAD * spread, least_gap)
        if score > best:
            best, found = score, column <= (values[at] + values[at + 1 + stray]) / 2
    return found


def _spread(values: Floats) -> float:
    """Return a robust standard deviation; of a few values half of their range at least."""
    robust = _OF_NORMAL * float(np.median(np.abs(values - np.median(values))))
    return max(robust, (float(values[-1]) - float(values[0])) / 2) if len(values) < 6 else robust
