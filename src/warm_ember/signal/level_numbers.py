"""By which number a level goes: by what it draws, as its state's mean current is told."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from warm_ember.signal.edge_reach import cut_inside, find_edge_reach
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.levels import Levels
from warm_ember.signal.series import Series, ShouldStop, never


def numbered(current: Series, levels: Levels, *, should_stop: ShouldStop = never) -> Levels:
    """Return levels numbered by their mean current, from 1 for the lowest.

    Short pulses within a level may lift its mean above that of a level with a higher centre. What lies beside a stay
    and reaches into it does not count, but for a level that is too short to have anything else.

    Parameters
    ----------
    current
        What flowed, A.
    levels
        Found in it.
    should_stop
        Polled on long passes.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    count, level = len(levels.centres_a), levels.level
    reach = find_edge_reach(current, levels.edges, level, should_stop=should_stop)
    cut = cut_inside(levels.edges, levels.edges[:-1] + reach.after, levels.edges[1:] - reach.before)
    sums, of_level = interval_sums(current, cut.cuts, should_stop=should_stop), level[cut.owner]
    mean_a = levels.centres_a.copy()
    for counts in (of_level >= 0, (of_level >= 0) & cut.is_inside):
        total_a = np.bincount(of_level[counts], sums.total[counts], minlength=count)
        samples = np.bincount(of_level[counts], sums.count[counts], minlength=count)
        mean_a[samples > 0] = total_a[samples > 0] / samples[samples > 0]
    number = np.empty(count, dtype=np.int64)
    number[np.argsort(mean_a, kind="stable")] = np.arange(1, count + 1)
    return replace(levels, number=number)
