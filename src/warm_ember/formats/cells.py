"""Cells of a table in text: numbers in any of the usual ways to write one, missing ones, and those out of range."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

from warm_ember.formats.column_words import Unit, unit_of

MISSING = frozenset(("", "nan", "na", "n/a", "null", "none", "#n/a", "-", "--", "---", "nil", "nul", "missing"))
OVERRANGE = frozenset(
    ("ol", "o.l", "o.l.", "0l", "0.l", "-ol", "+ol", "ovld", "-ovld", "+ovld", "ovfl", "ovrng", "over", "overload",
     "overflow", "overrange", "over range", "out of range", "oor")
)  # fmt: skip
TRUTHS = {
    "true": 1.0, "false": 0.0, "on": 1.0, "off": 0.0, "high": 1.0, "low": 0.0, "yes": 1.0, "no": 0.0, "h": 1.0,
    "l": 0.0, "t": 1.0, "f": 0.0,
}  # fmt: skip
BLANKS = " \u00a0\u202f\u2009"
_NUMBER = re.compile(r"[+\-−]?(?:[0-9][0-9.,'’ \u00a0\u202f\u2009]*|[.,][0-9]+)(?:[eE][+\-−]?[0-9]{1,3})?")
_WITH_UNIT = re.compile(rf"({_NUMBER.pattern}?)\s*([A-Za-zµμΩ°%]+)")
_GROUPS = {",": ",", ".": r"\.", "'": "['’]", " ": f"[{BLANKS}]"}


@dataclass(frozen=True)
class Numerals:
    """How numbers are written.

    Parameters
    ----------
    decimal
        ``"."`` or ``","``.
    group
        What parts thousands: a comma, a point, an apostrophe or a blank; empty for nothing.
    """

    decimal: str = "."
    group: str = ""

    def read(self, cell: str) -> float | None:
        """Return a cell as a number; NaN when it is missing, None when it is something else."""
        text = cell.strip()
        if text.casefold() in MISSING:
            return math.nan
        if "_" in text or (self.decimal == "," and not self.group and "." in text):
            return None
        if self.group:
            if not self._grouped().fullmatch(text):
                return None
            text = re.sub(_GROUPS[self.group], "", text)
        text = text.replace("−", "-")
        if self.decimal == ",":
            text = text.replace(",", ".")
        try:
            return float(text)
        except ValueError:
            return None

    def _grouped(self) -> re.Pattern[str]:
        sign = _GROUPS[self.group]
        return re.compile(
            rf"[+\-−]?(?:[1-9][0-9]{{0,2}}(?:{sign}[0-9]{{3}})+|[0-9]*)(?:{re.escape(self.decimal)}[0-9]*)?(?:[eE][+\-−]?[0-9]+)?"
        )


WAYS = (
    Numerals("."), Numerals(","), Numerals(".", ","), Numerals(",", "."), Numerals(".", "'"), Numerals(",", "'"),
    Numerals(",", " "), Numerals(".", " "),
)  # fmt: skip
"""How numbers may be written, the plain ways first."""


def looks_like_number(cell: str) -> bool:
    """Return whether a cell may be a number, with a unit behind it or not; a missing one may.

    Examples
    --------
    >>> [looks_like_number(cell) for cell in ("1.5", "2,5 mA", "1'234.5", "", "OL", "12:30", "abc")]
    [True, True, True, True, True, False, False]
    """
    text = cell.strip()
    if text.casefold() in MISSING or text.casefold() in OVERRANGE or _NUMBER.fullmatch(text) is not None:
        return True
    return split_unit(text) is not None or text.casefold().lstrip("+-") in ("inf", "infinity")


class NumberWithUnit(NamedTuple):
    """The number of a cell as it stands there, and its unit."""

    number: str
    unit: Unit


class FoundNumerals(NamedTuple):
    """How numbers are written, None where no way fits all of them.

    It is ambiguous where another way gives other numbers, as for ``1,234``.
    """

    numerals: Numerals | None
    is_ambiguous: bool


def split_unit(cell: str) -> NumberWithUnit | None:
    """Return number and unit of a cell such as ``"2.5 mA"``, None where it is none."""
    found = _WITH_UNIT.fullmatch(cell.strip())
    if found is None or not any(sign.isdigit() for sign in found[1]):
        return None
    unit = unit_of(found[2])
    return None if unit is None else NumberWithUnit(found[1].strip(), unit)


def numerals_of(cells: Iterable[str], wanted: str | None = None) -> FoundNumerals:
    """Find out how the numbers of a column are written.

    Parameters
    ----------
    cells
        Some of them, without their units.
    wanted
        The decimal sign, if anybody says.
    """
    some = [cell.strip() for cell in cells if cell.strip().casefold() not in MISSING | OVERRANGE]
    fitting = [
        way for way in WAYS if wanted in (None, way.decimal) and all(way.read(cell) is not None for cell in some)
    ]
    if not fitting:
        return FoundNumerals(None, is_ambiguous=False)
    first = fitting[0]
    values = [first.read(cell) for cell in some]
    others = ([way.read(cell) for cell in some] for way in fitting[1:])
    return FoundNumerals(first, any(other != values for other in others))
