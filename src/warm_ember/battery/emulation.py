"""The battery as a programmable source plays it: voltage and resistance against the charge that was drawn."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.battery.cells import check_battery, curve_of, resistance_of
from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery

_POINTS = 101


@dataclass(frozen=True, eq=False)
class Emulation:
    """A pack, full to empty, arrays of shape ``(n,)``.

    Parameters
    ----------
    drawn_c
        Charge that was drawn, rising from 0 to the capacity.
    charge_share
        State of charge, falling from 1 to 0.
    open_v
        Voltage of the pack without a load.
    resistance_ohm
        What is in series with it.
    """

    drawn_c: Floats
    charge_share: Floats
    open_v: Floats
    resistance_ohm: Floats


def emulation(battery: Battery) -> Emulation:
    """Tabulate a pack; the corners of its cell's curve are among the points, so that linear between them is exact.

    Raises
    ------
    BadArgumentError
        If the battery is impossible, or no cell was chosen: its voltage is not known then.
    """
    check_battery(battery)
    curve = curve_of(battery)
    if curve is None:
        raise BadArgumentError("the battery has no cell, so its voltage is not known: choose one on the Battery page")
    corners = curve[(curve[:, 0] >= 0) & (curve[:, 0] <= 1), 0]
    share = np.union1d(np.linspace(0.0, 1.0, _POINTS), corners)[::-1]
    open_v = np.interp(share, curve[:, 0], curve[:, 1])
    drawn_c = (1.0 - share) * battery.capacity_c
    return Emulation(drawn_c, share, open_v, np.full(len(share), resistance_of(battery)))
