"""What a log of wakes and sleeps leaves out, told by the current: lost lines, and wakes that nobody logged."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from warm_ember.attribution.wake_causes import by_periods
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import Series, ShouldStop, never

_ALIKE_CHARGE, _ALIKE_LENGTH = 0.5, 0.3
_GAP_FACTOR, _USUALLY, _LEAST_GAP = 3.0, 0.8, 5
_SLOP, _SNAP = 3, 2
_FACTOR, _FEW = 2.0, 3


class SpottedWakes(NamedTuple):
    """First and last-plus-one samples of wakes, shapes ``(wakes,)``, and the source of each."""

    first: Indices
    last: Indices
    sources: list[str]


class StretchCharges(NamedTuple):
    """The charges of stretches, C, and how many samples each lasts, shapes ``(n,)``."""

    charge_c: Floats
    samples: Floats


def add_unlogged_wakes(
    current: Series,
    starts: Indices,
    names: list[str],
    sleeps: Indices,
    find_stays: Callable[[], Indices],
    unknown: str,
    *,
    should_stop: ShouldStop = never,
) -> SpottedWakes:
    """Return the wakes that a log tells of, and those whose lines it lost.

    Parameters
    ----------
    current
        The current.
    starts, names
        Where the log tells of wakes, sample indices, rising, shape ``(n,)``, and by what.
    sleeps
        Where it tells of sleep, sample indices, rising, shape ``(m,)``.
    find_stays
        Returns where the current is above sleep, first and last-plus-one samples, shape ``(stays, 2)``; none when that
        cannot be told. Asked only when lines are missing.
    unknown
        What to call wakes that nobody logged.

    Returns
    -------
    SpottedWakes
        In the order of time; the last sample lies beyond the capture where a wake outlasts it.

    Notes
    -----
    In a log that lost lines, a wake ends where the current falls for longer than it usually does within wakes by the
    same source. A sleep without a wake since the last one, after the current has risen, ends a wake whose line
    was lost. In a log that lost such lines, what rises while it says asleep is a wake when it takes as much and as
    long as those that are logged, and when there are no more of them than such a log would lose as a whole: lines
    that are lost one by one leave far more wakes halved than gone. What rises more often, in a log that lost next to
    nothing or in one in which wakes and sleeps alternate, are pulses that supervise a supply, or a radio that listens;
    of those only what fills a gap in a row of wakes with a period is a wake. Wakes that begin in one sample are both
    there until the sleep after them.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    end = current.samples + 1
    later = _following(starts, end)
    asleep = np.append(sleeps, end)[np.searchsorted(sleeps, starts, side="right")]
    ends = np.minimum(later, asleep)
    is_whole = (asleep <= later) & (asleep < end)
    alternates = is_whole[:-1].all() and (np.diff(np.searchsorted(starts, sleeps)) > 0).all()
    stays = find_stays() if not alternates else np.zeros((0, 2), dtype=np.int64)
    lost = np.zeros((0, 2), dtype=np.int64)
    if len(stays):
        starts, sleeps = _snapped(starts, stays[:, 0]), _snapped(sleeps, stays[:, 1])
        ends = np.minimum(_following(starts, end), np.append(sleeps, end)[np.searchsorted(sleeps, starts, "right")])
        said, kinds = ends.copy(), np.array(names)
        longest = _longest_gaps(stays, starts, ends)
        usual = {name: _usual(longest[is_whole & (kinds == name)]) for name in dict.fromkeys(names)}
        for index, name in enumerate(names):
            if not is_whole[index] or longest[index] > usual[name]:
                ends[index] = _falls(stays, int(starts[index]), int(ends[index]), usual[name])
        lost = _lost(starts, ends, sleeps, stays)
        if len(lost) or (ends < said).any():
            sound = is_whole & (ends == said)
            whole, gap = (starts[sound], ends[sound]), max(usual.values(), default=_LEAST_GAP)
            more = _unlogged(current, stays, _with(starts, ends, lost), whole, gap, should_stop)
            halved = len(lost) + int((~is_whole | (ends < said)).sum())
            if len(more) > _FEW + _FACTOR * halved**2 / max(int(sound.sum()), 1):
                more = _in_gaps(current.interval_s, starts, names, more)
            lost = np.concatenate((lost, more))
    keep = ends > starts
    first = np.concatenate((starts[keep], lost[:, 0]))
    last = np.concatenate((ends[keep], lost[:, 1]))
    sources = [name for name, one in zip(names, keep.tolist(), strict=True) if one] + [unknown] * len(lost)
    order = np.argsort(first, kind="stable")
    return SpottedWakes(first[order], last[order], [sources[index] for index in order.tolist()])


def _following(starts: Indices, end: int) -> Indices:
    """Return for each start the next one that is later; the end after the last."""
    return np.append(starts, end)[np.searchsorted(starts, starts, side="right")]


def _in_gaps(interval_s: float, starts: Indices, names: list[str], more: Indices) -> Indices:
    """Return which of many rises fill a gap in a row of logged wakes with a period."""
    first = np.concatenate((starts, more[:, 0]))
    order = np.argsort(first, kind="stable")
    sources = np.array([*names, *([""] * len(more))])[order]
    open_at = np.flatnonzero(order >= len(starts))
    fits = np.array([bool(name) for name in by_periods(interval_s, first[order], sources, open_at)], dtype=bool)
    return more[order[open_at[fits]] - len(starts)] if fits.any() else more[:0]


def _snapped(places: Indices, edges: Indices) -> Indices:
    """Move what the log says to the edge of the current that it is about: its clock may be off by a sample."""
    right = np.minimum(np.searchsorted(edges, places), len(edges) - 1)
    left = np.maximum(right - 1, 0)
    nearest = edges[np.where(np.abs(edges[left] - places) < np.abs(edges[right] - places), left, right)]
    return np.asarray(np.where(np.abs(nearest - places) <= _SNAP, nearest, places))


def _with(first: Indices, last: Indices, more: Indices) -> tuple[Indices, Indices]:
    order = np.argsort(np.concatenate((first, more[:, 0])), kind="stable")
    return np.concatenate((first, more[:, 0]))[order], np.concatenate((last, more[:, 1]))[order]


def _longest_gaps(stays: Indices, first: Indices, last: Indices) -> Indices:
    """Return for how many samples the current falls at most within each wake."""
    longest = np.zeros(len(first), dtype=np.int64)
    if len(stays) > 1:
        begins, lasts = stays[:-1, 1], stays[1:, 0]
        owner = np.searchsorted(first, begins, side="right") - 1
        inside = (owner >= 0) & (lasts + _SLOP < last[np.maximum(owner, 0)])
        np.maximum.at(longest, owner[inside], (lasts - begins)[inside])
    return longest


def _usual(gaps: Indices) -> int:
    """Return for how long the current may fall within a wake, by how long it usually does at most."""
    return max(_LEAST_GAP, int(_GAP_FACTOR * np.quantile(gaps, _USUALLY, method="lower"))) if len(gaps) else _LEAST_GAP


def _falls(stays: Indices, start: int, end: int, gap: int) -> int:
    """Return where the current falls for longer than a gap after a start; the end when it does not before that."""
    at = int(np.searchsorted(stays[:, 1], start, side="right"))
    if at >= len(stays) or stays[at, 0] > start + max(gap, _LEAST_GAP):
        return end
    while at + 1 < len(stays) and stays[at + 1, 0] - stays[at, 1] <= gap and stays[at + 1, 0] < end - _SLOP:
        at += 1
    return int(min(stays[at, 1], end))


def _lost(starts: Indices, ends: Indices, sleeps: Indices, stays: Indices) -> Indices:
    """Return the wakes of which only the sleep after them was logged."""
    found = []
    owner = np.searchsorted(starts, sleeps, side="left") - 1
    previous = np.maximum(np.append(0, sleeps[:-1]), np.where(owner >= 0, ends[np.maximum(owner, 0)], 0))
    for sleep, since in zip(sleeps.tolist(), previous.tolist(), strict=True):
        # The stay that goes on until the sleep.
        at = int(np.searchsorted(stays[:, 0], sleep, side="left")) - 1
        if since and at >= 0 and stays[at, 0] > since + _SLOP and stays[at, 1] >= sleep - _LEAST_GAP:
            found.append((int(stays[at, 0]), sleep))
    return np.array(found, dtype=np.int64).reshape(-1, 2)


def _unlogged(
    current: Series,
    stays: Indices,
    known: tuple[Indices, Indices],
    whole: tuple[Indices, Indices],
    gap: int,
    should_stop: ShouldStop,
) -> Indices:
    """Return stays that nobody logged and that are like wakes that somebody did."""
    free = stays[_outside(stays, known) & (stays[:, 0] > 0) & (stays[:, 1] < current.samples)]
    if not len(free) or not len(whole[0]):
        return np.zeros((0, 2), dtype=np.int64)
    opens = np.append(True, free[1:, 0] - free[:-1, 1] > gap)
    merged = np.column_stack((free[opens, 0], free[np.append(opens[1:], True), 1]))
    usual_c, usual = charges(current, *whole, should_stop)
    charge_c, lasts = charges(current, merged[:, 0], merged[:, 1], should_stop)
    alike = (charge_c >= _ALIKE_CHARGE * np.quantile(usual_c, 0.1)) & (lasts >= _ALIKE_LENGTH * np.quantile(usual, 0.1))
    return merged[alike]


def _outside(stays: Indices, known: tuple[Indices, Indices]) -> Flags:
    """Return which stays touch no known wake."""
    first, last = known
    before = np.searchsorted(first, stays[:, 1] + _SLOP, side="left") - 1
    return np.asarray((before < 0) | (last[np.maximum(before, 0)] + _SLOP <= stays[:, 0]))


def charges(current: Series, first: Indices, last: Indices, should_stop: ShouldStop) -> StretchCharges:
    """Return the charge of stretches that do not overlap, and how many samples they last.

    Parameters
    ----------
    current
        The current, A.
    first, last
        First and last-plus-one samples, shapes ``(n,)``, in any order.

    Returns
    -------
    StretchCharges
        Of each stretch in the order given.
    """
    edges = np.unique(np.concatenate((first, last)))
    sums = interval_sums(current, edges, should_stop=should_stop)
    at = np.searchsorted(edges, first)
    lasts = (last - first).astype(float)
    return StretchCharges(sums.mean[at] * lasts * current.interval_s, lasts)
