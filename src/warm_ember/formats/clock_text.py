"""Times written as a clock shows them: ``2026-06-14T05:59:00.250Z``, ``14.06.2026 05:59:00,25``, ``05:59:00.25``."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

import numpy as np

from warm_ember.model.arrays import Floats

if TYPE_CHECKING:
    import pyarrow as pa

DAY_S = 86400.0
_CLOCK = r"(?P<hours>\d{1,2}):(?P<minutes>\d{2})(?::(?P<seconds>\d{2})(?:[.,](?P<fraction>\d+))?)?"
_BIG_END_FIRST = r"(?P<year>\d{4})[-/](?P<month>\d{1,2})[-/](?P<day>\d{1,2})"
_DAY_FIRST = r"(?P<dday>\d{1,2})\.(?P<dmonth>\d{1,2})\.(?P<dyear>\d{4})"
_DATE = rf"(?:{_BIG_END_FIRST}|{_DAY_FIRST})"
_ZONE = r"\s*(?P<zone>Z|UTC|[+-]\d{2}:?\d{2})?"
PATTERN = rf"^\s*(?:{_DATE}[T ]\s*)?{_CLOCK}{_ZONE}\s*$"
_CELL = re.compile(PATTERN)


def is_clock(cell: str) -> bool:
    """Answer whether a cell is a time of day, with or without a date.

    Examples
    --------
    >>> [is_clock(cell) for cell in ("05:59:00,25", "2026-06-14 05:59", "14.06.2026 05:59:00", "12.5")]
    [True, True, True, False]
    """
    return _CELL.match(cell) is not None


def start_utc_of(cell: str) -> str:
    """Return the moment of a cell as ISO 8601 text in UTC; empty when it has no date.

    Without a zone the clock is taken as UTC.

    Examples
    --------
    >>> start_utc_of("2026-06-14T07:59:00+02:00"), start_utc_of("05:59:00")
    ('2026-06-14T05:59:00+00:00', '')
    """
    found = _CELL.match(cell)
    if found is None or not (found["year"] or found["dyear"]):
        return ""
    year, month, day = (int(found[a] or found[b]) for a, b in (("year", "dyear"), ("month", "dmonth"), ("day", "dday")))
    try:
        moment = datetime(
            year, month, day, int(found["hours"]), int(found["minutes"]), int(found["seconds"] or 0), tzinfo=UTC
        )
    except ValueError:
        return ""
    fraction = float(f"0.{found['fraction']}") if found["fraction"] else 0.0
    moment += timedelta(seconds=fraction - _zone_s(found["zone"] or ""))
    return moment.isoformat()


def _zone_s(zone: str) -> float:
    if zone in ("", "Z", "UTC"):
        return 0.0
    sign = -1.0 if zone[0] == "-" else 1.0
    return sign * (int(zone[1:3]) * 3600.0 + int(zone[-2:]) * 60.0)


def clock_seconds(column: pa.ChunkedArray) -> Floats:
    """Return clock times as seconds: since 1970 with a date, else since midnight; NaN where a cell is none.

    Notes
    -----
    A zone is the same for a whole file, so it shifts nothing but the start and is left out of the seconds.
    """
    import pyarrow.compute as pc

    parts = pc.extract_regex(column.cast("string"), PATTERN.replace(r"\d", "[0-9]").replace(r"\s", "[ \\t]"))

    def number(*names: str) -> Floats:
        total = np.zeros(len(column))
        for name in names:
            text = pc.struct_field(parts, name)
            text = pc.if_else(pc.equal(text, ""), "0", text)
            total += np.asarray(text.cast("float64").fill_null(float("nan")).to_numpy())
        return total

    fraction = pc.struct_field(parts, "fraction")
    fractions = pc.binary_join_element_wise("0.", pc.fill_null(fraction, ""), "0", "")
    seconds = 3600 * number("hours") + 60 * number("minutes") + number("seconds")
    seconds += np.asarray(fractions.cast("float64").to_numpy())
    years = number("year", "dyear")
    if np.any(years > 0):
        known = ~np.isnan(years)
        months = np.where(known, (years - 1970) * 12 + number("month", "dmonth") - 1, 0).astype("datetime64[M]")
        days = months.astype("datetime64[D]").astype(np.float64) + number("day", "dday") - 1
        seconds += days * DAY_S
    return seconds


class MidnightRoller:
    """Let times of day rise on past midnight, over consecutive batches."""

    def __init__(self) -> None:
        self._last_s = -np.inf
        self._days = 0

    def unrolled(self, seconds: Floats) -> Floats:
        """Return the times with a day added at each midnight."""
        falls = np.diff(seconds, prepend=self._last_s if np.isfinite(self._last_s) else seconds[:1]) < -DAY_S / 2
        if len(seconds):
            self._last_s = float(seconds[-1])
        rolled = seconds + DAY_S * (self._days + np.cumsum(falls))
        self._days += int(falls.sum())
        return np.asarray(rolled)
