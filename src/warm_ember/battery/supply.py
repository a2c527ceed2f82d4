"""The supply stage: what the battery gives so that the load gets its current."""

from __future__ import annotations

import numpy as np

from warm_ember.battery.cells import check_curve, interpolate_log
from warm_ember.errors import BadArgumentError
from warm_ember.model.allowed import SUPPLY, Allowed
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import SupplyKind, SupplyStage


def check_supply(stage: SupplyStage) -> None:
    """Check that a supply stage is possible.

    Raises
    ------
    BadArgumentError
        Naming the field, what was expected and what was found.
    """
    for name, allowed in SUPPLY.items():
        value = getattr(stage, name)
        if not allowed.holds(value):
            raise BadArgumentError(f"supply.{name}: expected {allowed.words()}, found {value:g}")
    check_curve("supply.efficiency_by_load", stage.efficiency_by_load, Allowed(above=True), SUPPLY["efficiency"])


def efficiency_at(stage: SupplyStage, load_a: Floats | float) -> Floats:
    """Return the efficiency of a switching stage at some load currents, A, any shape."""
    if stage.efficiency_by_load:
        return interpolate_log(stage.efficiency_by_load, load_a)
    return np.full(np.shape(load_a), stage.efficiency)


def demand(stage: SupplyStage, load_a: float) -> float:
    """Return what a load asks of the stage for each ampere: 1, or one over the efficiency where energy is conserved.

    Loads of different currents have different efficiencies, so it is demands that may be averaged over time.
    """
    return 1.0 / float(efficiency_at(stage, load_a)) if stage.kind is SupplyKind.SWITCHING else 1.0


def battery_current(stage: SupplyStage, demand_a: Floats, open_v: Floats, resistance_ohm: Floats | float) -> Floats:
    """Return what the battery gives for a demand.

    Parameters
    ----------
    stage
        A direct stage passes the load on, a linear one adds its quiescent current, a switching one conserves
        energy: ``v_out i_load = eff v_batt (i_batt - i_q)``.
    demand_a
        Load current, behind a switching stage over its efficiency, A, any shape.
    open_v
        The battery's open-circuit voltage, V, of a shape that broadcasts with it.
    resistance_ohm
        Its internal resistance, Ω, of such a shape.

    Returns
    -------
    Floats
        Battery current, A; infinite where the battery cannot give that power at any voltage. Without a switching
        stage it has the shape of `demand_a`: the voltage does not matter.

    Notes
    -----
    With ``v_batt = v_oc - i_batt r`` the switching stage gives a quadratic equation; its smaller root is the
    working point.

    Examples
    --------
    >>> stage = SupplyStage(kind=SupplyKind.SWITCHING, efficiency=0.9, output_v=1.8)
    >>> round(float(battery_current(stage, 0.003 * demand(stage, 0.003), np.float64(3.0), 0.0)), 9)
    0.002
    """
    if stage.kind is not SupplyKind.SWITCHING:
        return np.asarray(demand_a + stage.quiescent_a)
    power_w = stage.output_v * demand_a
    open_v = open_v - stage.quiescent_a * resistance_ohm
    root = open_v**2 - 4 * resistance_ohm * power_w
    # The stable form of the smaller root: it does not cancel at light loads, nor without a resistance.
    given = 2 * power_w / (open_v + np.sqrt(np.maximum(root, 0.0)))
    return np.where(root >= 0, given + stage.quiescent_a, np.inf)
