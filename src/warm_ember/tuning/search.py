"""The fewest changes that meet the target."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import combinations
from math import comb

from warm_ember.errors import Cancelled
from warm_ember.model.plan import PlanLimits, PlannedChange
from warm_ember.signal.series import ShouldStop, never
from warm_ember.tuning.prediction import PredictionStart, predict

_MOST_TRIED = 4000


@dataclass(frozen=True)
class Costs:
    """What changes cost together."""

    latency_s: float
    accuracy: float
    memory_bytes: float

    def over(self, limits: PlanLimits) -> tuple[str, ...]:
        """Return which limits they break: ``latency``, ``accuracy``, ``memory``."""
        pairs = (
            ("latency", self.latency_s, limits.latency_s),
            ("accuracy", self.accuracy, limits.accuracy),
            ("memory", self.memory_bytes, limits.memory_bytes),
        )
        return tuple(name for name, value, limit in pairs if limit is not None and value > limit)


def costs_of(changes: Iterable[PlannedChange]) -> Costs:
    """Add up what changes cost."""
    chosen = tuple(changes)
    return Costs(
        sum(one.latency_s for one in chosen),
        sum(one.accuracy for one in chosen),
        sum(one.memory_bytes for one in chosen),
    )


@dataclass(frozen=True)
class SmallestSet:
    """The fewest changes that meet the target.

    Parameters
    ----------
    changes
        Which; None when no set of them does.
    mean_a
        The average with them, or the lowest that any set within the limits reaches.
    is_complete
        Whether every smaller set was tried.
    """

    changes: tuple[PlannedChange, ...] | None
    mean_a: float
    is_complete: bool


def smallest_set(
    start: PredictionStart,
    changes: Sequence[PlannedChange],
    budget_a: float,
    limits: PlanLimits,
    *,
    should_stop: ShouldStop = never,
) -> SmallestSet:
    """Search for the fewest changes that bring the average down to a budget, within the limits.

    Parameters
    ----------
    start, changes
        What to change, and how; the order of the changes is kept.
    budget_a
        The average that meets the target.
    limits
        What the changes may cost together.

    Notes
    -----
    Sets are tried by size, so that the first size with any that meets the target is the smallest; of those the one
    with the least effort is taken, then the lowest average.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    lowest_a, tried = predict(start, ()).mean_a, 0
    if lowest_a <= budget_a:
        return SmallestSet((), lowest_a, is_complete=True)
    for size in range(1, len(changes) + 1):
        met: list[tuple[float, float, tuple[PlannedChange, ...]]] = []
        tried += comb(len(changes), size)
        if tried > _MOST_TRIED:
            return _greedy(start, changes, budget_a, limits, lowest_a)
        for chosen in combinations(changes, size):
            if should_stop():
                raise Cancelled("stopped")
            if costs_of(chosen).over(limits):
                continue
            mean_a = predict(start, chosen).mean_a
            lowest_a = min(lowest_a, mean_a)
            if mean_a <= budget_a:
                met.append((sum(one.effort for one in chosen), mean_a, chosen))
        if met:
            _, mean_a, best = min(met, key=lambda one: one[:2])
            return SmallestSet(best, mean_a, is_complete=True)
    return SmallestSet(None, lowest_a, is_complete=True)


def _greedy(
    start: PredictionStart, changes: Sequence[PlannedChange], budget_a: float, limits: PlanLimits, lowest_a: float
) -> SmallestSet:
    """Add the change that helps most, over and over: too many sets to try them all."""
    chosen: list[PlannedChange] = []
    while True:
        left = [one for one in changes if one not in chosen and not costs_of((*chosen, one)).over(limits)]
        if not left:
            return SmallestSet(None, lowest_a, is_complete=False)
        means = [(predict(start, (*chosen, one)).mean_a, number) for number, one in enumerate(left)]
        mean_a, number = min(means)
        chosen.append(left[number])
        lowest_a = min(lowest_a, mean_a)
        if mean_a <= budget_a:
            ordered = tuple(one for one in changes if one in chosen)
            return SmallestSet(ordered, predict(start, ordered).mean_a, is_complete=False)
