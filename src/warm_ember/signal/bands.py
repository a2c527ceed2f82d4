"""Stays of a current within a band, with hysteresis and a shortest length."""

from __future__ import annotations

import numpy as np

from warm_ember.model.arrays import Flags, Indices
from warm_ember.signal.series import Series, ShouldStop, chunks, never


def runs_of(flags: Flags) -> Indices:
    """Return the runs of true values as rows of first and last-plus-one index, shape ``(runs, 2)``.

    Examples
    --------
    >>> runs_of(np.array([True, True, False, True])).tolist()
    [[0, 2], [3, 4]]
    """
    changes = np.flatnonzero(np.diff(flags.astype(np.int8), prepend=0, append=0))
    return changes.reshape(-1, 2)


def band_stays(
    series: Series,
    low_a: float,
    high_a: float,
    *,
    hysteresis: float = 0.0,
    shortest_s: float = 0.0,
    should_stop: ShouldStop = never,
) -> Indices:
    """Find where a current stays within a band.

    A stay begins inside the band and lasts while the current is inside the band widened by the hysteresis.
    Leaves shorter than `shortest_s` are bridged first, then stays shorter than it are dropped.

    Returns
    -------
    Indices
        Rows of first and last-plus-one sample, shape ``(stays, 2)``.
    """
    wide_low, wide_high = low_a - abs(low_a) * hysteresis, high_a + abs(high_a) * hysteresis
    parts: list[Indices] = []
    touched: list[Flags] = []
    for first, values in chunks(series, should_stop=should_stop):
        inside = (values >= low_a) & (values <= high_a)
        runs = runs_of((values >= wide_low) & (values <= wide_high))
        counts = np.concatenate(([0], np.cumsum(inside)))
        parts.append(runs + first)
        touched.append(counts[runs[:, 1]] > counts[runs[:, 0]])
    if not parts:
        return np.empty((0, 2), dtype=np.int64)
    stays, begun = _joined(np.concatenate(parts), np.concatenate(touched), longest_gap=0)
    shortest = shortest_s / series.interval_s
    stays, begun = _joined(stays[begun], begun[begun], longest_gap=int(np.ceil(shortest)) - 1)
    return stays[(stays[:, 1] - stays[:, 0]) >= shortest]


def _joined(runs: Indices, marks: Flags, *, longest_gap: int) -> tuple[Indices, Flags]:
    """Join runs with at most so many samples between them; a joined run is marked when any of its parts is."""
    if len(runs) == 0:
        return runs, marks
    apart = runs[1:, 0] - runs[:-1, 1] > longest_gap
    starts = np.flatnonzero(np.concatenate(([True], apart)))
    ends = np.append(starts[1:], len(runs)) - 1
    return np.column_stack((runs[starts, 0], runs[ends, 1])), np.logical_or.reduceat(marks, starts)
