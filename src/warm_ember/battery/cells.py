"""Cells by IEC designation, from the open table that ships beside this module, and one's own."""

from __future__ import annotations

from functools import cache
from importlib import resources
from itertools import pairwise

import msgspec
import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.allowed import BATTERY, Allowed
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery, Cell, Points
from warm_ember.units import YEAR_S

REFERENCE_C = 20.0
_SHARE = Allowed(0, 1)
_FACTOR = Allowed()
_CURVES = (
    ("ocv_v", _SHARE, Allowed()),
    ("resistance_by_charge", _SHARE, _FACTOR),
    ("resistance_by_temperature", None, _FACTOR),
    ("capacity_by_temperature", None, _SHARE),
    ("capacity_by_load", Allowed(), _SHARE),
)
CELL_NUMBERS = {
    "capacity_c": Allowed(above=True),
    "self_discharge_per_year": Allowed(),
    "self_discharge_doubles_k": Allowed(above=True),
    "resistance_ohm": Allowed(),
    "resistance_growth_per_year": Allowed(),
    "ocv_v_per_k": Allowed(-1.0, 1.0),
    "shelf_years": Allowed(above=True),
}


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
    for name, allowed in BATTERY.items():
        value = getattr(battery, name)
        if value is not None and not allowed.holds(value):
            raise BadArgumentError(f"battery.{name}: expected {allowed.words()}, found {value:g}")
    if isinstance(battery.cell, str) and battery.cell not in library():
        raise BadArgumentError(f"battery.cell: {battery.cell!r} is not among {', '.join(library())}")
    if isinstance(battery.cell, Cell):
        check_cell(battery.cell)


def check_cell(cell: Cell) -> None:
    """Check that a cell is possible.

    Raises
    ------
    BadArgumentError
        Naming the field, what was expected and what was found.
    """
    for name, keys, values in _CURVES:
        check_curve(f"battery.cell.{name}", getattr(cell, name), keys, values)
    if len(cell.ocv_v) < 2:
        raise BadArgumentError("battery.cell.ocv_v: expected two or more points with a rising state of charge")
    for name, allowed in CELL_NUMBERS.items():
        value = getattr(cell, name)
        if value is not None and not allowed.holds(value):
            raise BadArgumentError(f"battery.cell.{name}: expected {allowed.words()}, found {value:g}")


def check_curve(name: str, points: Points, keys: Allowed | None, values: Allowed) -> None:
    """Check that the first numbers of a curve rise within one range and the second lie within another.

    Raises
    ------
    BadArgumentError
        With the curve's name, what was expected and what was found.
    """
    firsts = [point[0] for point in points]
    if any(b <= a for a, b in pairwise(firsts)):
        raise BadArgumentError(f"{name}: expected rising first numbers, found {firsts}")
    for first, second in points:
        if keys is not None and not keys.holds(first):
            raise BadArgumentError(f"{name}: expected first numbers {keys.words()}, found {first:g}")
        if not values.holds(second):
            raise BadArgumentError(f"{name}: expected second numbers {values.words()}, found {second:g}")


def cell_of(battery: Battery) -> Cell | None:
    """Return what is known of the battery's cell, None without one."""
    return library()[battery.cell] if isinstance(battery.cell, str) else battery.cell


def cell_name(battery: Battery) -> str:
    """Return what the battery's cell is called; empty without one."""
    if isinstance(battery.cell, Cell):
        return battery.cell.what or "own cell"
    return battery.cell or ""


def curve_of(battery: Battery) -> Floats | None:
    """Return the pack's open-circuit voltage at 20 °C.

    Returns
    -------
    Floats or None
        State of charge and V, shape ``(points, 2)``; None without a cell.
    """
    cell = cell_of(battery)
    return None if cell is None else np.array(cell.ocv_v, dtype=np.float64) * (1.0, battery.series)


def resistance_of(battery: Battery) -> float:
    """Return the internal resistance of the fresh, full pack at 20 °C, ohm."""
    each, cell = battery.resistance_ohm, cell_of(battery)
    if each is None:
        each = cell.resistance_ohm if cell is not None else 0.0
    return each * battery.series / battery.parallel


def shelf_life_s(battery: Battery) -> float:
    """Return how long the cells keep on the shelf; infinite when nothing is known of them."""
    cell = cell_of(battery)
    return float("inf") if cell is None or cell.shelf_years is None else cell.shelf_years * YEAR_S


def interpolate(points: Points, at: Floats | float) -> Floats:
    """Read a curve, straight between its points and level beyond; 1 where there is none.

    Parameters
    ----------
    points
        Pairs whose first numbers rise; there may be none.
    at
        Where to read it, any shape; NaN gives NaN.

    Returns
    -------
    Floats
        Of the shape of `at`.
    """
    if not points:
        return np.ones(np.shape(at))
    firsts, seconds = zip(*points, strict=True)
    return np.asarray(np.interp(at, firsts, seconds))


def interpolate_log(points: Points, at: Floats | float) -> Floats:
    """Read a curve that is straight over the logarithm of its first number.

    Parameters
    ----------
    points
        Pairs whose first numbers rise and are not negative; there may be none, which gives 1.
    at
        Where to read it, any shape; what is not above 0 reads the lowest point.

    Returns
    -------
    Floats
        Of the shape of `at`.
    """
    lifted = tuple((float(np.log(max(first, 1e-15))), second) for first, second in points)
    return interpolate(lifted, np.log(np.maximum(at, 1e-15)))
