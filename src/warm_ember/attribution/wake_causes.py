"""Causes of wakes that the log does not name: the line that had an edge just before, or the period that one fits."""

from __future__ import annotations

import numpy as np

from warm_ember.attribution.clock import line_rises_s
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.signal.bits import LineSeries
from warm_ember.signal.timer_periods import period_of

_BEFORE_S = 5e-3
_ROUNDED = 3
"""A line's edge may come by so many samples after where its wake begins: both are rounded, and a wake's end is wide."""
_MOSTLY, _MIRRORS = 0.5, 0.8
_MOST_SLOTS = 64.0
_FITS, _LEAST_SHARE = 4.0, 2e-3


def by_lines(lines: LineSeries, first: Indices, last: Indices, open_at: Indices) -> list[str]:
    """Find for each open wake the line that had an edge just before it.

    A line counts as a source when most of its edges of one direction come with a wake. A line that is high exactly
    while the device is awake only tells that it is.

    Parameters
    ----------
    lines
        The digital lines.
    first, last
        All wakes, sample indices, rising, shapes ``(n,)``.
    open_at
        Which of them are open, indices, shape ``(m,)``.

    Returns
    -------
    list of str
        For each open wake the line, empty where none had an edge.
    """
    interval_s = lines.interval_s
    chosen = [""] * len(open_at)
    nearest = np.full(len(open_at), np.inf)
    for name in lines.names:
        for rising in (True, False):
            edges = np.round(line_rises_s(lines, name, rising=rising) / interval_s).astype(np.int64)
            back = np.round(line_rises_s(lines, name, rising=not rising) / interval_s).astype(np.int64)
            if not len(edges) or _mirrors(edges, back, first, last):
                continue
            at = np.searchsorted(first + _ROUNDED, edges)
            wakes_after = (at < len(first)) & (_ahead(first, edges, at) * interval_s <= _BEFORE_S)
            if wakes_after.mean() < _MOSTLY:
                continue
            before = np.searchsorted(edges, first[open_at] + _ROUNDED, side="right") - 1
            gap_s = np.where(before >= 0, (first[open_at] - edges[np.maximum(before, 0)]) * interval_s, np.inf)
            for index in np.flatnonzero((gap_s <= _BEFORE_S) & (gap_s < nearest)).tolist():
                chosen[index], nearest[index] = name, gap_s[index]
    return chosen


def _ahead(first: Indices, edges: Indices, at: Indices) -> Indices:
    return np.asarray(first[np.minimum(at, len(first) - 1)] - edges)


def _mirrors(edges: Indices, back: Indices, first: Indices, last: Indices) -> bool:
    """Return whether a line changes where wakes begin and changes back where they end."""
    inside = _near(edges, first) & _near(_next(back, edges), last)
    return bool(inside.mean() > _MIRRORS)


def _near(places: Indices, others: Indices) -> Flags:
    right = np.minimum(np.searchsorted(others, places), len(others) - 1)
    left = np.maximum(right - 1, 0)
    return np.asarray(np.minimum(np.abs(others[right] - places), np.abs(others[left] - places)) <= 2)


def _next(back: Indices, edges: Indices) -> Indices:
    """Return the first change back after each edge; far away where there is none."""
    return np.append(back, np.iinfo(np.int64).max // 2)[np.searchsorted(back, edges, side="right")]


def by_periods(
    interval_s: float, first: Indices, sources: np.ndarray, open_at: Indices, unknown: str = ""
) -> list[str]:
    """Find for each open wake the source in whose row of periodic wakes it fills a gap.

    Parameters
    ----------
    interval_s
        Sample interval.
    first
        Where all wakes begin, sample indices, rising, shape ``(n,)``.
    sources
        By what, names, shape ``(n,)``.
    open_at
        Which of them are open, indices, shape ``(m,)``.
    unknown
        A source that is none.

    Returns
    -------
    list of str
        For each open wake the source, empty where it fills no gap.
    """
    chosen = [""] * len(open_at)
    nearest = np.full(len(open_at), np.inf)
    times_s = first[open_at].astype(np.float64) * interval_s
    for source in dict.fromkeys(sources.tolist()):
        mine = first[sources == source].astype(np.float64) * interval_s
        period = period_of(mine) if source not in (sources[open_at[0]], unknown) else None
        if period is None:
            continue
        allowed_s = max(_FITS * period.jitter_s, _LEAST_SHARE * period.period_s, 2 * interval_s)
        off_s = _off_slot(times_s, mine, period.period_s)
        for index in np.flatnonzero((off_s <= allowed_s) & (off_s / allowed_s < nearest)).tolist():
            chosen[index], nearest[index] = source, off_s[index] / allowed_s
    return chosen


def _off_slot(times_s: Floats, known_s: Floats, period_s: float) -> Floats:
    """Return how far moments are from the nearest empty slot of a row with a period, in both directions from it."""
    after = np.searchsorted(known_s, times_s)
    off_s = np.full(len(times_s), np.inf)
    for neighbour in (after - 1, after):
        there = (neighbour >= 0) & (neighbour < len(known_s))
        gap_s = np.abs(times_s - known_s[np.clip(neighbour, 0, len(known_s) - 1)])
        slots = np.round(gap_s / period_s)
        fits = there & (slots >= 1) & (slots <= _MOST_SLOTS)
        # Jitter adds up over empty slots.
        away_s = np.abs(gap_s - slots * period_s) / np.sqrt(np.maximum(slots, 1.0))
        off_s = np.where(fits, np.minimum(off_s, away_s), off_s)
    return off_s
