"""The battery as a programmable source plays it: voltage and resistance against the charge that was drawn."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.battery.cells import REFERENCE_C, check_battery
from warm_ember.battery.pack import Pack
from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery
from warm_ember.units import YEAR_S

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


def emulation(battery: Battery, *, temperature_c: float = REFERENCE_C, years: float = 0.0) -> Emulation:
    """Tabulate a pack; the corners of its cell's curves are among the points, so that linear between them is exact.

    Parameters
    ----------
    battery
        The pack.
    temperature_c, years
        How warm it is kept, and how old it is.

    Raises
    ------
    BadArgumentError
        If the battery is impossible, or no cell was chosen: its voltage is not known then.
    """
    check_battery(battery)
    pack = Pack(battery)
    if not pack.has_voltage:
        raise BadArgumentError("the battery has no cell, so its voltage is not known: choose one on the Battery page")
    share = np.union1d(np.linspace(0.0, 1.0, _POINTS), pack.corners)[::-1]
    drawn_c = (1.0 - share) * battery.capacity_c
    ohm = pack.resistance_ohm(share, pack.resistance_factor(temperature_c, years * YEAR_S))
    return Emulation(drawn_c, share, pack.open_v(share, pack.warmer_v(temperature_c)), ohm)
