"""The average over a device's life with its interval."""

from __future__ import annotations

from warm_ember.model.figure import Bound, Figure, Grade
from warm_ember.session.run_results import RunResults
from warm_ember.tuning.difference import ComparedRun, average


def average_figure(run: RunResults) -> Figure:
    """Return the average over the life of a run.

    The interval does not reach below what the lowest state, or the base between activities, draws; it has no end on a
    side where the figure is only bounded.
    """
    if not run.load.costs:
        return run.modelled.mean
    found = average(ComparedRun(run.by_state, run.modelled, run.load))
    low, high = found.interval() or (None, None)
    if low is not None:
        low = max(low, min(run.modelled.lowest_a, run.load.base_a, found.value))
    bound = run.load.bound
    return Figure(
        found.value,
        None if bound in (Bound.AT_MOST, Bound.BELOW) else low,
        None if bound is Bound.AT_LEAST else high,
        Grade.MEASURED if bound is None else Grade.BOUNDED,
        bound=Bound.AT_MOST if bound is Bound.BELOW else bound,
    )
