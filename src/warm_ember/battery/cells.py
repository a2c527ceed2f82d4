"""Cells by IEC designation, from the open table that ships beside this module."""

from __future__ import annotations

from functools import cache
from importlib import resources
from itertools import pairwise

import msgspec
import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery, CellCurve
from warm_ember.units import YEAR_S


class Cell(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One library cell: see ``cells.json`` for what the fields mean."""

    what: str
    ocv_v: tuple[tuple[float, float], ...]
    resistance_ohm: float
    self_discharge_per_year: float
    shelf_years: float


class _Library(msgspec.Struct):
    about: str
    cells: dict[str, Cell]


@cache
def library() -> dict[str, Cell]:
    """Return the cells that ship, by designation."""
    text = resources.files("warm_ember.battery").joinpath("cells.json").read_bytes()
    return msgspec.json.decode(text, type=_Library).cells


def check_battery(battery: Battery) -> None:
    """Check that a battery is possible.

    Raises
    ------
    BadArgumentError
        Naming the field, what was expected and what was found.
    """
    expectations = (
        ("capacity_c", battery.capacity_c > 0, "above 0"),
        ("self_discharge_per_year", battery.self_discharge_per_year >= 0, "0 or more"),
        ("reserve", 0 <= battery.reserve < 1, "from 0 to below 1"),
        ("cutoff_v", battery.cutoff_v >= 0, "0 or more"),
        ("resistance_ohm", (battery.resistance_ohm or 0.0) >= 0, "0 or more"),
        ("series", battery.series >= 1, "1 or more"),
        ("parallel", battery.parallel >= 1, "1 or more"),
    )
    for name, holds, expected in expectations:
        value = getattr(battery, name)
        if not holds or (isinstance(value, float) and not np.isfinite(value)):
            raise BadArgumentError(f"battery.{name}: expected {expected}, found {value}")
    if isinstance(battery.cell, str) and battery.cell not in library():
        raise BadArgumentError(f"battery.cell: {battery.cell!r} is not among {', '.join(library())}")
    if isinstance(battery.cell, CellCurve):
        _check_curve(battery.cell)


def _check_curve(curve: CellCurve) -> None:
    charges = [point[0] for point in curve.ocv_v]
    if len(charges) < 2 or any(b <= a for a, b in pairwise(charges)):
        raise BadArgumentError("battery.cell.ocv_v: expected two or more points with a rising state of charge")
    if charges[0] < 0 or charges[-1] > 1:
        raise BadArgumentError("battery.cell.ocv_v: expected states of charge from 0 to 1")


def curve_of(battery: Battery) -> Floats | None:
    """Return the pack's open-circuit voltage as rows of state of charge and V, or None without a cell."""
    if battery.cell is None:
        return None
    points = library()[battery.cell].ocv_v if isinstance(battery.cell, str) else battery.cell.ocv_v
    return np.array(points, dtype=np.float64) * (1.0, battery.series)


def resistance_of(battery: Battery) -> float:
    """Return the pack's internal resistance, ohm."""
    each = battery.resistance_ohm
    if each is None:
        each = library()[battery.cell].resistance_ohm if isinstance(battery.cell, str) else 0.0
    return each * battery.series / battery.parallel


def shelf_life_s(battery: Battery) -> float:
    """Return how long the cells keep on the shelf; infinite when nothing is known of them."""
    return library()[battery.cell].shelf_years * YEAR_S if isinstance(battery.cell, str) else float("inf")
