"""The table of a battery to play, as ``export ... battery`` writes it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.formats.text_dialect import find_dialect, numbers_of
from warm_ember.model.arrays import Floats

COLUMNS = ("drawn_c", "open_v", "resistance_ohm")


@dataclass(frozen=True, eq=False)
class BatteryTable:
    """Charge drawn, rising, with the voltage without a load and the resistance in series, shape ``(n,)``."""

    drawn_c: Floats
    open_v: Floats
    resistance_ohm: Floats


def read_battery_table(path: Path) -> BatteryTable:
    """Read the table of a battery from delimited text with a header.

    Raises
    ------
    BadFileError
        Naming what was expected and what was found.
    """
    dialect = find_dialect(path)
    header = [] if dialect.header is None else [title.strip().casefold() for title in dialect.header]
    missing = [name for name in COLUMNS if name not in header]
    if missing:
        found = ", ".join(header) or "no header"
        raise BadFileError(path, f"expected columns {', '.join(COLUMNS)}; {missing[0]} is missing, found {found}")
    rows = numbers_of(path, dialect)
    drawn_c, open_v, resistance_ohm = (rows[:, header.index(name)] for name in COLUMNS)
    if len(rows) < 2 or not (np.diff(drawn_c) > 0).all():
        raise BadFileError(path, "expected two or more rows with a rising drawn_c")
    if not ((open_v >= 0) & (resistance_ohm >= 0)).all():
        raise BadFileError(path, "expected open_v and resistance_ohm of 0 or more")
    return BatteryTable(drawn_c, open_v, resistance_ohm)
