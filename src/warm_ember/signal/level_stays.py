"""What lies at each level of a current: how often it is there, for how long, and the charge that it takes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.levels import Levels
from warm_ember.signal.series import Series, ShouldStop, never


@dataclass(frozen=True, eq=False)
class LevelStays:
    """The levels of one capture with what lies at each.

    Parameters
    ----------
    levels
        The levels, ``k`` of them.
    stays
        How often the current is at each, shape ``(k,)``.
    usual_s
        The median of how long it stays there, shape ``(k,)``; 0 at a level where it never is.
    time_s, charge_c
        Sums over the capture, shape ``(k,)``. What is at no level is in none of them.
    """

    levels: Levels
    stays: Indices
    usual_s: Floats
    time_s: Floats
    charge_c: Floats


def level_stays(current: Series, levels: Levels, *, should_stop: ShouldStop = never) -> LevelStays:
    """Sum a current by its levels.

    Parameters
    ----------
    current
        In A.
    levels
        Its levels, and where it is at which.

    Raises
    ------
    Cancelled
        When it is to stop.
    """
    lengths_s = np.diff(levels.edges) * current.interval_s
    charge_c = interval_sums(current, levels.edges, should_stop=should_stop).total * current.interval_s
    count = len(levels.centres_a)
    here = levels.level >= 0
    of = levels.level[here]
    usual_s = [float(np.median(lengths_s[levels.level == k])) if (of == k).any() else 0.0 for k in range(count)]
    return LevelStays(
        levels,
        np.bincount(of, minlength=count),
        np.array(usual_s),
        np.asarray(np.bincount(of, lengths_s[here], count), dtype=float),
        np.asarray(np.bincount(of, charge_c[here], count), dtype=float),
    )
