"""The supply stage: what the battery gives so that the load gets its current."""

from __future__ import annotations

import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import SupplyKind, SupplyStage


def check_supply(stage: SupplyStage) -> None:
    """Check that a supply stage is possible.

    Raises
    ------
    BadArgumentError
        Naming the field, what was expected and what was found.
    """
    expectations = (
        ("efficiency", 0 < stage.efficiency <= 1, "above 0, at most 1"),
        ("quiescent_a", 0 <= stage.quiescent_a < np.inf, "0 or more"),
        ("output_v", 0 < stage.output_v < np.inf, "above 0"),
        ("min_v", 0 <= stage.min_v < np.inf, "0 or more"),
    )
    for name, holds, expected in expectations:
        if not holds:
            raise BadArgumentError(f"supply.{name}: expected {expected}, found {getattr(stage, name)}")


def battery_current(stage: SupplyStage, load_a: Floats, open_v: Floats, resistance_ohm: float) -> Floats:
    """Return what the battery gives for a load.

    Parameters
    ----------
    stage
        A direct stage passes the load on, a linear one adds its quiescent current, a switching one conserves
        energy: ``v_out i_load = eff v_batt (i_batt - i_q)``.
    load_a
        Load current, A.
    open_v
        The battery's open-circuit voltage, V; broadcast against `load_a`.
    resistance_ohm
        Its internal resistance.

    Returns
    -------
    Floats
        Battery current, A; infinite where the battery cannot give that power at any voltage.

    Notes
    -----
    With ``v_batt = v_oc - i_batt r`` the switching stage gives a quadratic equation; its smaller root is the
    working point.

    Examples
    --------
    >>> stage = SupplyStage(kind=SupplyKind.SWITCHING, efficiency=0.9, output_v=1.8)
    >>> float(battery_current(stage, np.float64(0.003), np.float64(3.0), 0.0))
    0.002
    """
    if stage.kind is not SupplyKind.SWITCHING:
        return np.asarray(load_a + stage.quiescent_a + 0.0 * open_v)
    power_w = stage.output_v * load_a / stage.efficiency
    open_v = open_v - stage.quiescent_a * resistance_ohm
    if resistance_ohm == 0:
        return np.asarray(power_w / open_v + stage.quiescent_a)
    root = open_v**2 - 4 * resistance_ohm * power_w
    # The stable form of the smaller root: it does not cancel at light loads.
    given = 2 * power_w / (open_v + np.sqrt(np.maximum(root, 0.0)))
    return np.where(root >= 0, given + stage.quiescent_a, np.inf)
