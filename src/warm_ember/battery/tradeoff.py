"""What may be traded for life: one parameter against it, what alone would meet the target, and what never can."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from warm_ember.battery.life import life_of
from warm_ember.battery.parameters import Parameter, parameters
from warm_ember.model.arrays import Floats
from warm_ember.model.load import LifeModel

_POINTS = 49
_REACH = 32.0
_TOLERANCE = 1e-7
_SMALLEST = 1e-6


@dataclass(frozen=True, eq=False)
class LifeCurve:
    """The life against one parameter, arrays of shape ``(n,)``; `needed` is where it meets the target."""

    name: str
    write: Callable[[float], str]
    values: Floats
    life_s: Floats
    now: float
    now_s: float
    needed: float | None


@dataclass(frozen=True, eq=False)
class SingleParameterSolution:
    """One parameter changed alone until the target is met.

    Parameters
    ----------
    name
        The parameter.
    now
        Its value as text.
    needed
        The value that meets the target as text; None when none does.
    factor
        That value over the one now; None when none does.
    """

    name: str
    now: str
    needed: str | None
    factor: float | None

    @property
    def effort(self) -> float:
        """How far it has to go, in factors of e to either side; infinite when it cannot."""
        if self.factor is None:
            return math.inf
        return abs(math.log(max(self.factor, _SMALLEST)))


@dataclass(frozen=True, eq=False)
class FeasibleRegion:
    """For one activity, which base current and how often it may come meet a budget.

    Parameters
    ----------
    name
        The activity.
    interval_s
        From one occurrence to the next, shape ``(n,)``.
    base_a
        The base current that just meets the budget at that interval; below 0 none does, shape ``(n,)``.
    shortest_s
        At a shorter interval the budget is missed whatever the base is; infinite when at every interval.
    now_s, now_a
        The interval and the base as they are.
    """

    name: str
    interval_s: Floats
    base_a: Floats
    shortest_s: float
    now_s: float
    now_a: float

    @property
    def is_impossible(self) -> bool:
        """Whether the budget is missed at any interval and any base: the other activities alone exceed it."""
        return math.isinf(self.shortest_s)


def course(parameter: Parameter, target_s: float | None = None) -> LifeCurve:
    """Return the life against one parameter, over a factor of 32 to either side as far as it may go.

    The value where it meets the target is among those tried.
    """
    needed = needed_value(parameter, target_s) if target_s is not None else None
    reach = _REACH
    if needed is not None and needed > 0:
        reach = max(reach, 2 * max(needed / parameter.value, parameter.value / needed))
    low = max(parameter.lowest, parameter.value / reach)
    high = min(parameter.highest, parameter.value * reach)
    values = np.geomspace(low, high, _POINTS)
    if needed is not None and needed > 0:
        values = np.union1d(values, [needed])
    values = np.union1d(values, [parameter.value])
    lives = np.array([life_of(parameter.model_at(float(value))) for value in values])
    now_s = life_of(parameter.model_at(parameter.value))
    return LifeCurve(parameter.name, parameter.write, values, lives, parameter.value, now_s, needed)


def needed_value(parameter: Parameter, target_s: float) -> float | None:
    """Return the value nearest to the one now at which the target is met, changing nothing else.

    Returns
    -------
    float or None
        The value now where the target is met already; None when no value meets it.

    Notes
    -----
    The life is monotone in each parameter, so a bisection between the value now and the end that is better finds it.
    """

    def meets(value: float) -> bool:
        return life_of(parameter.model_at(value)) >= target_s

    if meets(parameter.value):
        return parameter.value
    for end in (parameter.lowest, min(parameter.highest, parameter.value * 1e6)):
        if not meets(end):
            continue
        good, bad = end, parameter.value
        while abs(good - bad) > _TOLERANCE * bad and bad > _TOLERANCE * _SMALLEST * parameter.value:
            middle = math.sqrt(good * bad) if good > _SMALLEST * bad else (good + bad) / 2
            good, bad = (middle, bad) if meets(middle) else (good, middle)
        return good
    return None


def ways(model: LifeModel, target_s: float) -> tuple[SingleParameterSolution, ...]:
    """Say for each parameter what value alone would meet the target: the smallest change first, what cannot last."""
    found = []
    for parameter in parameters(model):
        needed = needed_value(parameter, target_s)
        text = parameter.write(needed) if needed is not None else None
        factor = needed / parameter.value if needed is not None else None
        found.append(SingleParameterSolution(parameter.name, parameter.write(parameter.value), text, factor))
    return tuple(sorted(found, key=lambda way: way.effort))


def region(model: LifeModel, activity: str, budget_a: float) -> FeasibleRegion:
    """Return which base current goes with which interval of one activity so that the average meets a budget.

    Parameters
    ----------
    model
        The model.
    activity
        The activity whose interval is varied.
    budget_a
        The average current that the target allows.

    Notes
    -----
    The average is ``base + sum(rate (charge - base duration))``; set to the budget it is solved for the base:
    ``base = (budget - sum(rate charge)) / (1 - sum(rate duration))``. Where the charge alone exceeds the budget no
    base meets it: the target is impossible at any sleep current.
    """
    costs = model.load.costs
    mine = next(cost for cost in costs if cost.name == activity)
    others = [cost for cost in costs if cost is not mine]
    charged_a = sum(cost.rate_hz * cost.charge_c for cost in others)
    busy = sum(cost.rate_hz * cost.duration_s for cost in others)
    left_a = budget_a - charged_a
    shortest_s = max(mine.charge_c / left_a, mine.duration_s) if left_a > 0 else math.inf
    now_s = 1 / mine.rate_hz if mine.rate_hz > 0 else math.inf
    middle_s = now_s if math.isfinite(now_s) else max(mine.duration_s, 1.0)
    low = max(middle_s / _REACH, mine.duration_s, 1e-9)
    high = max(middle_s * _REACH, 4 * shortest_s if math.isfinite(shortest_s) else 0.0)
    interval_s = np.geomspace(low, high, _POINTS)
    if low < shortest_s < high:
        interval_s = np.union1d(interval_s, [shortest_s])
    free = 1 - busy - mine.duration_s / interval_s
    base_a = np.where(free > 0, (left_a - mine.charge_c / interval_s) / np.where(free > 0, free, 1.0), -np.inf)
    return FeasibleRegion(activity, interval_s, base_a, shortest_s, now_s, model.load.base_a)
