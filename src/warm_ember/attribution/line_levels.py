"""Whether digital lines tell the states: each of their combinations draws one level."""

from __future__ import annotations

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.levels import BLOCK_S, Levels

_LEAST_SAMPLES = 3
_LEAST_BLOCKS = 2
_MATTERS = 0.02
_EDGE = 0.1
_APART = 1.5
_MOST_TIME = 0.1
_MOST_CHARGE = 0.35


def draw_one_level_each(edges: Indices, values: Indices, levels: Levels, interval_s: float) -> bool:
    """Return whether each combination of the lines draws one level.

    Parameters
    ----------
    edges
        Where the lines change, sample indices, shape ``(intervals + 1,)``.
    values
        The combination in each interval, shape ``(intervals,)``.
    levels
        The levels of the current.
    interval_s
        Sample interval, s.

    Notes
    -----
    A pulse on a line, or in the current, that is too short to have a level says nothing. Nor does what lies at the
    ends of an entry and is short beside it: a pin is set when the core is up, and cleared before it is down. A
    combination that takes next to none of the time and of the charge is not asked.
    """
    if not len(levels.centres_a):
        return True
    shortest = max(_LEAST_SAMPLES, _LEAST_BLOCKS * BLOCK_S / interval_s)
    cuts = np.unique(np.concatenate((edges, levels.edges)))
    cuts = cuts[(cuts >= 0) & (cuts <= min(edges[-1], levels.edges[-1]))]
    first, last = cuts[:-1], cuts[1:]
    entry = np.searchsorted(edges, first, side="right") - 1
    level = levels.level[np.searchsorted(levels.edges, first, side="right") - 1]
    length, entry_length = last - first, np.diff(edges)[entry]
    at_end = (first == edges[entry]) | (last == edges[entry + 1])
    tells = (level >= 0) & (length >= shortest) & ~(at_end & (length <= _EDGE * entry_length))
    combination, number = np.unique(values[entry[tells]], return_inverse=True)
    time = np.zeros((len(combination), len(levels.centres_a)))
    np.add.at(time, (number, level[tells]), length[tells])
    return all(_is_one(row, time, levels) for row in time)


def _is_one(row: Floats, of_all: Floats, levels: Levels) -> bool:
    """Return whether next to all of one combination's time and charge lies on one level, or it does not matter."""
    centres_a = np.abs(levels.centres_a)
    charge = row * centres_a
    all_charge = float((of_all * centres_a).sum())
    if row.sum() < _MATTERS * of_all.sum() and charge.sum() < _MATTERS * all_charge:
        return True
    lifted = np.maximum(levels.centres_a, 0.0) + levels.scale_a
    ratio = lifted / lifted[np.argmax(row)]
    off = (ratio > _APART) | (ratio < 1 / _APART)
    return bool(row[off].sum() <= _MOST_TIME * row.sum() and charge[off].sum() <= _MOST_CHARGE * charge.sum())
