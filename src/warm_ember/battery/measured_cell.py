"""A cell from its measured discharge, and the check that the model gives that discharge back."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from warm_ember.battery.cells import check_cell, interpolate
from warm_ember.battery.discharge import Variants, discharge
from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery, Cell, Climate, Points, SupplyStage
from warm_ember.model.measured_discharge import MeasuredDischarge

_POINTS = 24
_LEAST_POINTS = 4
_SAME_CURRENT = 0.02


@dataclass(frozen=True, eq=False)
class DischargeCheck:
    """A measured discharge beside the one that the model of the cell gives.

    Parameters
    ----------
    measured
        What was measured.
    modelled_v
        The model's voltage at the measured charges; NaN where it is empty already, shape ``(n,)``.
    modelled_c
        What the model gives down to the lowest voltage that was measured.
    """

    measured: MeasuredDischarge
    modelled_v: Floats
    modelled_c: float

    @property
    def worst_v(self) -> float:
        """The largest difference of the voltages."""
        return float(np.nanmax(np.abs(self.modelled_v - self.measured.voltage_v)))

    @property
    def charge_difference(self) -> float:
        """How much more the model gives than was measured, as a share."""
        return self.modelled_c / self.measured.charge_c - 1


def check_discharge(measured: MeasuredDischarge) -> None:
    """Check that a discharge can be used.

    Raises
    ------
    BadArgumentError
        Saying what was expected and what was found.
    """
    if not measured.current_a > 0:
        raise BadArgumentError(f"a discharge needs a current above 0, found {measured.current_a:g} A")
    if len(measured.drawn_c) < _LEAST_POINTS:
        raise BadArgumentError(f"a discharge needs {_LEAST_POINTS} points or more, found {len(measured.drawn_c)}")
    if not (np.diff(measured.drawn_c) > 0).all():
        at = int(np.argmin(np.diff(measured.drawn_c))) + 1
        raise BadArgumentError(f"the charge drawn must rise, but falls at point {at + 1}")
    if not (measured.voltage_v > 0).all():
        raise BadArgumentError("the voltage must stay above 0")


def cell_from(discharges: tuple[MeasuredDischarge, ...], like: Cell, what: str) -> Cell:
    """Make a cell from one or more measured discharges.

    Parameters
    ----------
    discharges
        At one temperature. Two or more currents tell the internal resistance; with one that of `like` is kept.
    like
        A cell whose other properties are kept.
    what
        What to call it.

    Raises
    ------
    BadArgumentError
        If a discharge cannot be used.

    Notes
    -----
    With ``v = v_oc(s) - i r(s)`` and two or more currents, ``v_oc`` and ``r`` at each state of charge are the straight
    line through voltage over current, by least squares. The slowest discharge tells the charge; what a faster one
    gives less is the capacity by load.
    """
    for one in discharges:
        check_discharge(one)
    ordered = sorted(discharges, key=lambda one: one.current_a)
    slowest, fastest = ordered[0], ordered[-1]
    capacity_c = max(one.charge_c for one in ordered)
    share = np.linspace(0.0, 1.0, _POINTS)
    volts = np.array([np.interp((1 - share) * capacity_c, one.drawn_c, one.voltage_v) for one in ordered])
    currents = np.array([one.current_a for one in ordered])
    if fastest.current_a > slowest.current_a * (1 + _SAME_CURRENT):
        # Only where all were measured does the difference tell the resistance; below, it stays as it is there.
        reached = (1 - share) * capacity_c <= min(one.charge_c for one in ordered)
        centred = currents - currents.mean()
        ohm = np.maximum(-(centred @ volts) / (centred @ centred), 0.0)
        ohm = np.where(reached, ohm, ohm[reached][0])
        fresh_ohm = float(ohm[-1])
        by_charge: Points = tuple(zip(share.tolist(), (ohm / fresh_ohm).tolist(), strict=True)) if fresh_ohm else ()
    else:
        fresh_ohm, by_charge = like.resistance_ohm, like.resistance_by_charge
        ohm = fresh_ohm * interpolate(by_charge, share)
    open_v = volts[0] + slowest.current_a * ohm
    by_load = tuple({one.current_a: min(one.charge_c / capacity_c, 1.0) for one in ordered}.items())
    cell = Cell(
        ocv_v=tuple(zip(share.tolist(), np.maximum(open_v, 0.0).tolist(), strict=True)),
        what=what,
        origin=f"measured, {len(ordered)} discharge{'s' if len(ordered) > 1 else ''}",
        capacity_c=capacity_c,
        self_discharge_per_year=like.self_discharge_per_year,
        self_discharge_doubles_k=like.self_discharge_doubles_k,
        resistance_ohm=fresh_ohm,
        resistance_by_charge=by_charge,
        resistance_by_temperature=like.resistance_by_temperature,
        resistance_growth_per_year=like.resistance_growth_per_year,
        ocv_v_per_k=like.ocv_v_per_k,
        capacity_by_temperature=like.capacity_by_temperature,
        capacity_by_load=by_load if len(by_load) > 1 else like.capacity_by_load,
        shelf_years=like.shelf_years,
    )
    check_cell(cell)
    return cell


class DischargeCurve(NamedTuple):
    """Charge drawn, C, rising from 0, and the voltage under the current, V, shapes ``(n,)``."""

    drawn_c: Floats
    loaded_v: Floats


def constant_discharge(cell: Cell, current_a: float, end_v: float, temperature_c: float) -> DischargeCurve:
    """Empty one cell by a constant current, as the life does it.

    Parameters
    ----------
    cell
        Its capacity has to be known.
    current_a
        Above 0.
    end_v
        The voltage under the current at which it ends.
    temperature_c
        The same all the time.

    Returns
    -------
    DischargeCurve
        From full down to the end.

    Raises
    ------
    BadArgumentError
        If the capacity is not known.
    """
    if cell.capacity_c is None:
        raise BadArgumentError("the cell's capacity is not known: enter it first")
    battery = Battery(capacity_c=cell.capacity_c, cutoff_v=end_v, cell=cell)
    nothing = np.zeros(1)
    variants = Variants(np.array([[current_a]]), nothing, np.array([cell.capacity_c]), nothing, nothing)
    run = discharge(battery, SupplyStage(), Climate((temperature_c,)), variants)
    kept = run.time_s[0] <= run.life_s[0]
    end_c = float(run.life_s[0]) * current_a
    drawn_c = np.append(run.time_s[0][kept] * current_a, end_c)
    volts = np.interp(drawn_c, run.time_s[0] * current_a, run.rest_v[0])
    return DischargeCurve(drawn_c, volts)


def check_cell_against(cell: Cell, measured: MeasuredDischarge) -> DischargeCheck:
    """Empty a cell by the current of a measured discharge and compare.

    Raises
    ------
    BadArgumentError
        If the discharge cannot be used, or the cell's capacity is not known.
    """
    check_discharge(measured)
    end_v = float(measured.voltage_v.min())
    warm_c = 20.0 if measured.temperature_c is None else measured.temperature_c
    drawn_c, volts = constant_discharge(cell, measured.current_a, end_v, warm_c)
    modelled_v = np.interp(measured.drawn_c, drawn_c, volts, right=np.nan)
    return DischargeCheck(measured, modelled_v, float(drawn_c[-1]))
