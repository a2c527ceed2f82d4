"""Times written as a clock shows them, with and without a date, and how long something has gone on.

``2026-06-14T05:59:00.250Z``, ``14.06.2026 05:59:00,25``, ``6/14/2026 5:59:00 AM``, ``20260614T055900Z``,
``05:59:00.25``, ``59:00.25``, ``0 days 05:59:00``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats

if TYPE_CHECKING:
    import pyarrow as pa

DAY_S, HOUR_S = 86400.0, 3600.0
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_NAME = r"(?P<name>[A-Za-z]{3})[a-z]*\.?"
_DATES = {
    "year first": r"(?P<year>\d{4})[-/.](?P<month>\d{1,2})[-/.](?P<day>\d{1,2})",
    "day first": r"(?P<day>\d{1,2})\.(?P<month>\d{1,2})\.(?P<year>\d{4})",
    "open": r"(?P<first>\d{1,2})[-/](?P<second>\d{1,2})[-/](?P<year>\d{4})",
    "day, name": rf"(?P<day>\d{{1,2}})[- ]{_NAME}[- ,]\s*(?P<year>\d{{4}})",
    "name, day": rf"{_NAME}[- ](?P<day>\d{{1,2}}),?[- ]\s*(?P<year>\d{{4}})",
}
_SECONDS = r"(?P<seconds>[0-5]\d|60)"  # 60 is a leap second
_CLOCK = (
    rf"(?P<hours>\d{{1,5}}):(?P<minutes>[0-5]\d)(?::{_SECONDS}(?:[.,:](?P<fraction>\d+))?)?"
    r"(?:\s*(?P<half>[AaPp])\.?[Mm]\.?)?"
)
_ZONE = r"\s*(?P<zone>Z|z|UTC|GMT|[+-]\d{2}(?::?\d{2})?)?"
_BASIC = (
    rf"(?P<year>\d{{4}})(?P<month>\d{{2}})(?P<day>\d{{2}})[T ](?P<hours>\d{{2}})(?P<minutes>[0-5]\d){_SECONDS}"
    r"(?:[.,](?P<fraction>\d+))?"
)
_FORMS = {
    **{name: rf"{date}(?:[T ]\s*|,\s*|_){_CLOCK}{_ZONE}" for name, date in _DATES.items()},
    "basic": _BASIC + _ZONE,
    "days": rf"(?P<days>\d+) days?,?\s+{_CLOCK}",
    "minutes": rf"(?P<minutes>\d{{1,4}}):{_SECONDS}[.,](?P<fraction>\d+)",
    "clock": _CLOCK + _ZONE,
}
_WHOLE = {name: re.compile(rf"\s*{pattern}\s*") for name, pattern in _FORMS.items()}
_WHOLE_DATES = {name: re.compile(rf"\s*{pattern}\s*") for name, pattern in _DATES.items()}


@lru_cache(maxsize=4096)
def is_clock(cell: str) -> bool:
    """Return whether a cell is a time of day, with or without a date, or a duration written like one.

    Examples
    --------
    >>> [is_clock(cell) for cell in ("05:59:00,25", "2026-06-14 05:59", "0 days 00:00:01", "12.5")]
    [True, True, True, False]
    """
    return any(pattern.fullmatch(cell) for pattern in _WHOLE.values())


@lru_cache(maxsize=4096)
def is_date(cell: str) -> bool:
    """Return whether a cell is a date and no time."""
    return any(pattern.fullmatch(cell) for pattern in _WHOLE_DATES.values())


@dataclass(frozen=True)
class ClockForm:
    """How the times, or the dates, of a column are written.

    Parameters
    ----------
    name
        Which form.
    month_first
        Whether the month stands before the day, where nothing in a cell tells; None where nothing in all of them does.
    """

    name: str
    month_first: bool | None = False

    @property
    def has_date(self) -> bool:
        """Whether it tells the day."""
        return self.name not in ("days", "minutes", "clock")

    @property
    def turns_s(self) -> float:
        """After how long it begins anew; infinite where it never does."""
        if self.name == "minutes":
            return HOUR_S
        return DAY_S if self.name == "clock" else float("inf")


def form_of(cells: Sequence[str], *, dates: bool = False, month_first: bool | None = None) -> ClockForm:
    """Find out how the times of a column are written.

    Parameters
    ----------
    cells
        Some of them, from the beginning and the end.
    dates
        Whether they are dates without a time.
    month_first
        Which stands first where nothing tells, if that is known.

    Raises
    ------
    BadArgumentError
        If nothing tells months and days apart, and not all cells are of one day.
    """
    patterns = _WHOLE_DATES if dates else _WHOLE
    fits = {name: sum(pattern.fullmatch(cell) is not None for cell in cells) for name, pattern in patterns.items()}
    name = max(fits, key=lambda one: fits[one])
    if name != "open":
        return ClockForm(name)
    pairs = [(int(found["first"]), int(found["second"])) for cell in cells if (found := patterns[name].fullmatch(cell))]
    if any(first > 12 for first, _ in pairs):
        return ClockForm(name)
    if any(second > 12 for _, second in pairs):
        return ClockForm(name, month_first=True)
    if month_first is not None:
        return ClockForm(name, month_first=month_first)
    if len(set(pairs)) > 1 and any(first != second for first, second in pairs):
        raise BadArgumentError(f"cannot tell whether month or day stands first in dates such as {cells[0]!r}")
    same = pairs[0][0] == pairs[0][1] if pairs else False
    return ClockForm(name, month_first=False if same else None)


def start_utc_of(cell: str, form: ClockForm | None = None) -> str:
    """Return the moment of a cell as ISO 8601 text in UTC; empty when it has no date, or none that is sure.

    Without a zone the clock is taken as UTC.

    Examples
    --------
    >>> start_utc_of("2026-06-14T07:59:00+02:00"), start_utc_of("05:59:00"), start_utc_of("6/14/2026 5:59:00 PM")
    ('2026-06-14T05:59:00+00:00', '', '2026-06-14T17:59:00+00:00')
    """
    import pyarrow as pa

    form = form_of([cell]) if form is None else form
    if not form.has_date or form.month_first is None:
        return ""
    seconds = float(clock_seconds(pa.chunked_array([[cell]]), form)[0])
    return utc_text(seconds)


def utc_text(seconds: float) -> str:
    """Return a time since 1970 as ISO 8601 text; empty where there is none.

    Examples
    --------
    >>> utc_text(1781416740.25), utc_text(float("nan"))
    ('2026-06-14T05:59:00.250000+00:00', '')
    """
    try:
        moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=round(seconds * 1e6))
    except (ValueError, OverflowError):
        return ""
    return moment.isoformat()


def clock_seconds(column: pa.ChunkedArray, form: ClockForm, *, dates: bool = False) -> Floats:
    """Return clock times as seconds: since 1970 with a date, else since midnight.

    With a zone they are the same instants whatever the zone; without one the clock is taken as UTC.

    Parameters
    ----------
    column
        Cells of text, `n` of them.
    form
        How they are written.
    dates
        Whether they begin with a date.

    Returns
    -------
    Floats
        s, NaN where a cell is none, shape ``(n,)``.
    """
    import pyarrow.compute as pc

    pattern = (_DATES if dates else _FORMS)[form.name].replace(r"\d", "[0-9]").replace(r"\s", "[ \\t]")
    parts = pc.extract_regex(column.cast("string"), rf"^[ \t]*{pattern}[ \t]*$")
    names = {field.name for field in parts.type}

    def number(name: str) -> Floats:
        if name not in names:
            return np.zeros(len(column))
        text = pc.struct_field(parts, name)
        text = pc.if_else(pc.equal(text, ""), "0", text)
        return np.asarray(text.cast("float64").fill_null(float("nan")).to_numpy())

    seconds = HOUR_S * number("hours") + 60 * number("minutes") + number("seconds") + DAY_S * number("days")
    if "fraction" in names:
        fraction = pc.binary_join_element_wise("0.", pc.fill_null(pc.struct_field(parts, "fraction"), ""), "0", "")
        seconds = seconds + np.asarray(fraction.cast("float64").to_numpy())
    if "half" in names:
        half = np.array([(one or "").lower() for one in pc.struct_field(parts, "half").to_pylist()])
        twelve = number("hours") == 12
        seconds = seconds + np.where(
            (half == "p") & ~twelve, DAY_S / 2, np.where((half == "a") & twelve, -DAY_S / 2, 0.0)
        )
    if "zone" in names:
        zones = pc.struct_field(parts, "zone").dictionary_encode().combine_chunks()
        shifts = np.array([zone_s(zone or "") for zone in zones.dictionary.to_pylist()] or [0.0])
        seconds = seconds - shifts[np.asarray(zones.indices.fill_null(0).to_numpy(zero_copy_only=False))]
    if "year" in names:
        month, day = number("month"), number("day")
        if "first" in names:
            month, day = (
                (number("first"), number("second")) if form.month_first else (number("second"), number("first"))
            )
        if "name" in names:
            called = [(one or "").lower() for one in pc.struct_field(parts, "name").to_pylist()]
            month = np.array([_MONTHS.index(one) + 1 if one in _MONTHS else np.nan for one in called])
        seconds = seconds + DAY_S * _days(number("year"), month, day)
    return seconds


def _days(year: Floats, month: Floats, day: Floats) -> Floats:
    """Return days since 1970; NaN where there is no such day."""
    known = (month >= 1) & (month <= 12) & (day >= 1)
    months = np.where(known, (year - 1970) * 12 + month - 1, 0).astype("datetime64[M]")
    first, next_first = (
        one.astype("datetime64[D]").astype(np.float64) for one in (months, months + np.timedelta64(1, "M"))
    )
    return np.asarray(np.where(known & (day <= next_first - first), first + day - 1, np.nan))


def zone_s(zone: str) -> float:
    """Return by how much a zone is ahead of UTC, s."""
    if zone[:1] not in ("+", "-"):
        return 0.0
    sign = -1.0 if zone[0] == "-" else 1.0
    digits = zone[1:].replace(":", "")
    return sign * (int(digits[:2]) * HOUR_S + int(digits[2:] or 0) * 60.0)


class Unroller:
    """Let times that begin anew at midnight, or each hour, rise on, over consecutive batches.

    Parameters
    ----------
    turns_s
        After how long they begin anew.
    """

    def __init__(self, turns_s: float) -> None:
        self._turns_s, self._last_s, self._turns = turns_s, -np.inf, 0

    def unrolled(self, seconds: Floats) -> Floats:
        """Return the times, s, shape ``(n,)``, with a turn added at each new beginning."""
        if not np.isfinite(self._turns_s) or not len(seconds):
            return seconds
        falls = (
            np.diff(seconds, prepend=self._last_s if np.isfinite(self._last_s) else seconds[:1]) < -self._turns_s / 2
        )
        self._last_s = float(seconds[-1])
        rolled = seconds + self._turns_s * (self._turns + np.cumsum(falls))
        self._turns += int(falls.sum())
        return np.asarray(rolled)
