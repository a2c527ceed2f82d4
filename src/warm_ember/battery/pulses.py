"""The highest current that reaches the battery once a capacitor across it carries the short pulses."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from warm_ember.battery.cells import interpolate_log
from warm_ember.battery.supply import demand
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Points, SupplyStage
from warm_ember.model.load import ActivityCost, Load

CONSTANTS_S = tuple(np.geomspace(1e-6, 1e3, 37).tolist())
"""Time constants at which it is tabulated, four to a decade."""


def behind(cost: ActivityCost, constant_s: Floats) -> Floats:
    """Return the highest current of an activity that is left behind a resistance and a capacitance.

    Parameters
    ----------
    cost
        The activity.
    constant_s
        Resistance times capacitance, s, above 0, any shape.

    Returns
    -------
    Floats
        A, of the shape of `constant_s`.

    Notes
    -----
    Where the current was measured, what was found in it counts. Else a pulse of `i` that lasts `d` leaves
    ``i (1 - exp(-d / RC))``, with `d` as typed, or as long as the activity's charge and length allow.
    """
    if cost.pulses:
        return interpolate_log(cost.pulses, constant_s)
    lasts_s = cost.peak_s
    if lasts_s is None:
        lasts_s = cost.charge_c / cost.peak_a if cost.peak_a > 0 else 0.0
        lasts_s = min(lasts_s, cost.duration_s) if cost.duration_s > 0 else lasts_s
    return np.asarray(-cost.peak_a * np.expm1(-lasts_s / constant_s))


class PulseDemand(NamedTuple):
    """The highest demand of pulses, A, and what is left of it by time constant, s; empty without a capacitor."""

    highest_a: float
    left_a: Points


def pulse_demand(load: Load, stage: SupplyStage) -> PulseDemand:
    """Return the highest demand of any activity, and by time constant what is left of it behind a capacitor if any.

    See `warm_ember.battery.supply.demand`.
    """
    highest = max((cost.peak_a * demand(stage, cost.peak_a) for cost in load.costs), default=0.0)
    if not stage.input_f:
        return PulseDemand(highest, ())
    constants = np.array(CONSTANTS_S)
    left = np.zeros(len(constants))
    for cost in load.costs:
        left = np.maximum(left, behind(cost, constants) * demand(stage, cost.peak_a))
    return PulseDemand(highest, tuple(zip(CONSTANTS_S, left.tolist(), strict=True)))
