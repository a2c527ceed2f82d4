"""The table of a discharge: voltage against charge drawn or time, as battery testers and bench meters write it."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.formats.column_words import HeaderColumn, Quantity, split_headers
from warm_ember.formats.text_dialect import find_dialect, numbers_of
from warm_ember.model.arrays import Floats
from warm_ember.model.measured_discharge import MeasuredDischarge

_STEADY = 0.1
_LEAST_ROWS = 4
_MOST_BYTES = 64 << 20


def read_discharge(path: Path, current_a: float | None = None) -> MeasuredDischarge:
    """Read the table of a discharge by a constant current.

    Parameters
    ----------
    path
        Delimited text with a header. Columns are told by their units: a voltage, and a charge, or a time. A current
        column tells the current.
    current_a
        The current where there is no such column; it goes before one.

    Raises
    ------
    BadFileError
        Naming what was expected and what was found.
    """
    try:
        if path.stat().st_size > _MOST_BYTES:
            raise BadFileError(path, "a discharge of more than 64 MB was not expected", remedy="thin it out first")
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    dialect = find_dialect(path)
    if dialect.header is None:
        raise BadFileError(
            path,
            "expected a header row that names each column with its unit",
            where="line 1",
            remedy="such as charge_mAh,voltage_V,current_mA",
        )
    columns = split_headers(dialect.header)
    rows = numbers_of(path, dialect)
    voltage_v = _needed(path, columns, rows, Quantity.VOLTAGE, "voltage", "V, mV, uV")
    currents_a, drawn_c = _found(columns, rows, Quantity.CURRENT), _found(columns, rows, Quantity.CHARGE)
    if current_a is None:
        current_a = _steady_current(path, currents_a)
    if drawn_c is None:
        times_s = _needed(path, columns, rows, Quantity.TIME, "charge or time", "Ah, mAh, C, s, ms, min, h")
        drawn_c = (times_s - times_s[0]) * current_a
    drawn_c = np.abs(drawn_c - drawn_c[0])
    kept = np.concatenate(([True], np.diff(np.maximum.accumulate(drawn_c)) > 0))
    drawn_c, voltage_v = drawn_c[kept], voltage_v[kept]
    if len(drawn_c) < _LEAST_ROWS:
        raise BadFileError(path, f"expected {_LEAST_ROWS} or more rows with a rising charge, found {len(drawn_c)}")
    if not (voltage_v > 0).all():
        line = dialect.first_line + int(np.flatnonzero(kept)[int(np.argmin(voltage_v))])
        raise BadFileError(path, f"expected a voltage above 0, found {voltage_v.min():g} V", where=f"line {line}")
    return MeasuredDischarge(current_a, drawn_c, voltage_v)


def _found(columns: list[HeaderColumn], rows: Floats, quantity: Quantity) -> Floats | None:
    for column in columns:
        measure = column.measure
        if measure is not None and measure.quantity is quantity:
            return np.asarray(rows[:, column.index] * measure.scale)
    return None


def _needed(
    path: Path, columns: list[HeaderColumn], rows: Floats, quantity: Quantity, what: str, such_as: str
) -> Floats:
    values = _found(columns, rows, quantity)
    if values is None:
        found = ", ".join(f"{column.name} ({column.unit or 'no unit'})" for column in columns)
        raise BadFileError(path, f"expected a column with a {what} in {such_as}; found {found}")
    return values


def _steady_current(path: Path, currents_a: Floats | None) -> float:
    if currents_a is None:
        raise BadFileError(
            path, "it has no current column", remedy="enter the current, or add a column such as current_mA"
        )
    middle_a = float(np.median(np.abs(currents_a)))
    spread_a = float(np.quantile(np.abs(currents_a), 0.95) - np.quantile(np.abs(currents_a), 0.05))
    if not middle_a > 0 or spread_a > _STEADY * middle_a:
        low, high = np.quantile(np.abs(currents_a), (0.05, 0.95)).tolist()
        raise BadFileError(path, f"expected a discharge by a constant current, found {low:.4g} A to {high:.4g} A")
    return middle_a
