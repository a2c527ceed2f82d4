"""Stays of a current within a band, with hysteresis and a shortest length."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Blocks, Flags, Indices
from warm_ember.signal.pyramid import BLOCK_SAMPLES
from warm_ember.signal.series import Series, ShouldStop, chunks, never

UNDECIDED = -1
_SUMMARY_BLOCKS = 1 << 14


def runs_of(flags: Flags) -> Indices:
    """Return the runs of true values as rows of first and last-plus-one index, shape ``(runs, 2)``.

    Examples
    --------
    >>> runs_of(np.array([True, True, False, True])).tolist()
    [[0, 2], [3, 4]]
    """
    if not len(flags):
        return np.empty((0, 2), dtype=np.int64)
    changes = np.flatnonzero(flags[1:] != flags[:-1]) + 1
    ends = (np.zeros(int(flags[0]), dtype=np.int64), changes, np.full(int(flags[-1]), len(flags)))
    return np.concatenate(ends).reshape(-1, 2)


def decided_pieces(
    series: Series, first: int, last: int, decide: Callable[[Blocks], Indices]
) -> Iterator[tuple[int, int, int]]:
    """Cut a stretch into pieces about which the summary decides, and pieces that have to be read.

    Parameters
    ----------
    series
        The channel.
    first, last
        The stretch, samples.
    decide
        Gives for summary blocks, shape ``(n,)``, a number each, shape ``(n,)``: what is decided about all of its
        samples, or `UNDECIDED`. It is not asked about blocks with missing samples.

    Yields
    ------
    tuple
        First and last-plus-one sample, and the number.
    """
    begin, end = -(-first // BLOCK_SAMPLES), last // BLOCK_SAMPLES
    if begin >= end:
        if last > first:
            yield first, last, UNDECIDED
        return
    if first < begin * BLOCK_SAMPLES:
        yield first, begin * BLOCK_SAMPLES, UNDECIDED
    for start in range(begin, end, _SUMMARY_BLOCKS):
        found = series.blocks(0, start, min(start + _SUMMARY_BLOCKS, end))
        kind = np.where(found["count"] == BLOCK_SAMPLES, decide(found), UNDECIDED)
        starts = np.flatnonzero(np.diff(kind, prepend=UNDECIDED - 1))
        for one, other in zip(starts.tolist(), np.append(starts[1:], len(kind)).tolist(), strict=True):
            yield (start + one) * BLOCK_SAMPLES, (start + other) * BLOCK_SAMPLES, int(kind[one])
    if end * BLOCK_SAMPLES < last:
        yield end * BLOCK_SAMPLES, last, UNDECIDED


def band_stays(
    series: Series,
    low_a: float,
    high_a: float,
    *,
    hysteresis: float = 0.0,
    shortest_s: float = 0.0,
    absorb_s: float | None = None,
    should_stop: ShouldStop = never,
) -> Indices:
    """Find where a current stays within a band.

    A stay begins inside the band and lasts while the current is inside the band widened by the hysteresis.
    Leaves shorter than `absorb_s` (`shortest_s` when None) are bridged first, then stays shorter than `shortest_s` are
    dropped. What the summary decides is not read: blocks that lie wholly inside the band, or wholly outside.

    Returns
    -------
    Indices
        Rows of first and last-plus-one sample, shape ``(stays, 2)``.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    wide_low, wide_high = low_a, high_a
    if hysteresis:  # without, an open band's infinity would become no number
        wide_low, wide_high = low_a - abs(low_a) * hysteresis, high_a + abs(high_a) * hysteresis

    def decide(blocks: Blocks) -> Indices:
        inside = (blocks["min"] >= low_a) & (blocks["max"] <= high_a)
        outside = (blocks["max"] < wide_low) | (blocks["min"] > wide_high)
        return np.where(inside, 1, np.where(outside, 0, UNDECIDED))

    parts: list[Indices] = []
    touched: list[Flags] = []
    for begin, end, decided in decided_pieces(series, 0, series.samples, decide):
        if decided == 1:
            parts.append(np.array([[begin, end]]))
            touched.append(np.array([True]))
        elif decided == 0 and should_stop():
            raise Cancelled("stopped")
        if decided != UNDECIDED:
            continue
        for first, values in chunks(series, begin, end, should_stop=should_stop):
            runs = runs_of((values >= wide_low) & (values <= wide_high))
            counts = np.concatenate(([0], np.cumsum((values >= low_a) & (values <= high_a))))
            parts.append(runs + first)
            touched.append(counts[runs[:, 1]] > counts[runs[:, 0]])
    if not parts:
        return np.empty((0, 2), dtype=np.int64)
    stays, begun = _joined(np.concatenate(parts), np.concatenate(touched), longest_gap=0)
    shortest = shortest_s / series.interval_s
    absorbed = shortest if absorb_s is None else absorb_s / series.interval_s
    stays, begun = _joined(stays[begun], begun[begun], longest_gap=int(np.ceil(absorbed)) - 1)
    return stays[(stays[:, 1] - stays[:, 0]) >= shortest]


def _joined(runs: Indices, marks: Flags, *, longest_gap: int) -> tuple[Indices, Flags]:
    """Join runs with at most so many samples between them; a joined run is marked when any of its parts is."""
    if len(runs) == 0:
        return runs, marks
    apart = runs[1:, 0] - runs[:-1, 1] > longest_gap
    starts = np.flatnonzero(np.concatenate(([True], apart)))
    ends = np.append(starts[1:], len(runs)) - 1
    return np.column_stack((runs[starts, 0], runs[ends, 1])), np.logical_or.reduceat(marks, starts)


def absorbed(edges: Indices, state: Indices, shortest: float) -> tuple[Indices, Indices]:
    """Let short stays become part of what surrounds them.

    Parameters
    ----------
    edges, state
        Intervals and the state of each, shapes ``(n + 1,)`` and ``(n,)``.
    shortest
        Stays of fewer samples are absorbed: by both neighbours where these are alike, else by the longer one.

    Returns
    -------
    tuple of Indices
        Fewer edges and states; neighbours of one state are one interval. The shortest stays go first, so that a row of
        short ones is not handed from one to the next.

    Examples
    --------
    >>> edges, state = absorbed(np.array([0, 50, 53, 100]), np.array([0, 1, 0]), 10)
    >>> edges.tolist(), state.tolist()
    ([0, 100], [0])
    """
    edges, state = _merged(edges, state)
    limit = 1.0
    while limit < shortest:
        limit = min(2 * limit, shortest)
        while True:
            lengths = np.diff(edges)
            short = (lengths < limit) & (len(lengths) > 1)
            left, right = np.append(np.inf, lengths[:-1]), np.append(lengths[1:], np.inf)
            # Of neighbours that are both short only the shorter gives way at a time.
            shorter_left = np.append(False, short[:-1]) & (left <= lengths)
            shorter_right = np.append(short[1:], False) & (right < lengths)
            short &= ~shorter_left & ~shorter_right
            if not short.any():
                break
            state = state.copy()
            index = np.flatnonzero(short)
            before, after = np.maximum(index - 1, 0), np.minimum(index + 1, len(state) - 1)
            to_left = (index > 0) & ((index == len(state) - 1) | (left[index] >= right[index]))
            state[index] = np.where(to_left, state[before], state[after])
            edges, state = _merged(edges, state)
    return edges, state


def _merged(edges: Indices, state: Indices) -> tuple[Indices, Indices]:
    starts = np.flatnonzero(np.diff(state, prepend=np.iinfo(np.int64).min))
    return np.append(edges[:-1][starts], edges[-1]), state[starts]
