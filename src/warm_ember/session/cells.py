"""Cells in files of their own, and cells made from measured discharges."""

from __future__ import annotations

from pathlib import Path

import msgspec

from warm_ember.battery.cells import CELL_NUMBERS, REFERENCE_C, cell_name, cell_of, check_cell, library
from warm_ember.battery.measured_cell import cell_from
from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats.discharge_table import read_discharge
from warm_ember.formats.source import check_regular
from warm_ember.model.battery import Cell
from warm_ember.model.measured_discharge import MeasuredDischarge
from warm_ember.store.new_file import write_new

__all__ = [
    "CELL_NUMBERS",
    "REFERENCE_C",
    "cell_name",
    "cell_of",
    "library",
    "measured_cell",
    "read_cell",
    "read_discharge",
    "write_cell",
]


def read_cell(path: Path) -> Cell:
    """Read a cell from JSON.

    Raises
    ------
    BadFileError
        Naming the field, what was expected and what was found.
    """
    try:
        check_regular(path)
        cell = msgspec.json.decode(path.read_bytes(), type=Cell)
        check_cell(cell)
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    except (msgspec.MsgspecError, UnicodeDecodeError, BadArgumentError) as error:
        raise BadFileError(path, f"this is no cell: {error}", remedy="see docs/formats.md") from error
    return cell


def write_cell(cell: Cell, path: Path) -> None:
    """Write a cell as JSON.

    Raises
    ------
    BadFileError
        If it cannot be written.
    """
    try:
        write_new(path.resolve(), msgspec.json.format(msgspec.json.encode(cell), indent=1) + b"\n")
    except OSError as error:
        raise BadFileError(path, f"cannot be written: {error.strerror}") from error


def measured_cell(
    paths: tuple[Path, ...], like: Cell, current_a: float | None = None
) -> tuple[Cell, tuple[MeasuredDischarge, ...]]:
    """Make a cell from the tables of one or more discharges; it is named after the first file.

    Parameters
    ----------
    paths
        The tables.
    like
        A cell whose other properties are kept.
    current_a
        The current where the tables do not tell it.

    Raises
    ------
    BadFileError
        If a table cannot be read or used.
    """
    discharges = tuple(read_discharge(path, current_a) for path in paths)
    try:
        return cell_from(discharges, like, paths[0].stem), discharges
    except BadArgumentError as error:
        raise BadFileError(paths[0], str(error)) from error
