"""SI text to number and back.

Everything inside the program is in SI base units; this module is where ``"12.5 µA"`` and ``"3h 20m"``
become numbers and numbers become text with three significant digits.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from warm_ember.errors import ParseError

HOUR_S = 3600.0
DAY_S = 24 * HOUR_S
YEAR_S = 8760 * HOUR_S
MONTH_S = YEAR_S / 12
AMPERE_HOUR_C = 3600.0

_PREFIXES = {
    "f": 1e-15, "p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "μ": 1e-6, "m": 1e-3,
    "": 1.0, "k": 1e3, "M": 1e6, "G": 1e9,
}  # fmt: skip
_DURATIONS_S = {
    "ns": 1e-9, "us": 1e-6, "µs": 1e-6, "μs": 1e-6, "ms": 1e-3, "s": 1.0, "sec": 1.0, "m": 60.0, "min": 60.0,
    "h": HOUR_S, "hour": HOUR_S, "hours": HOUR_S, "d": DAY_S, "day": DAY_S, "days": DAY_S,
    "month": MONTH_S, "months": MONTH_S, "mo": MONTH_S, "y": YEAR_S, "year": YEAR_S, "years": YEAR_S,
}  # fmt: skip
THIN_SPACE = "\u2009"
_LEAST_PERCENT = 0.001
_NUMBER = r"[-+−]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][-+]?\d+)?"
_QUANTITY = re.compile(rf"\s*({_NUMBER})\s*([A-Za-zµμΩ%°]*)\s*\Z")
_DURATION_PART = re.compile(rf"\s*({_NUMBER})\s*([A-Za-zµμ]*)")


@dataclass(frozen=True, slots=True)
class QuantityText:
    """A number and its unit as they are shown, kept apart because they are set in different weights."""

    number: str
    unit: str

    def __str__(self) -> str:
        return f"{self.number} {self.unit}".strip()

    @property
    def rich(self) -> str:
        """The same with the number between ``**``, as the interface's texts mark it."""
        return f"**{self.number}** {self.unit}".strip()


def _number(text: str) -> float:
    return float(text.replace(",", ".").replace("−", "-"))


def parse_quantity(text: str, unit: str) -> float:
    """Read a quantity such as ``"12u"``, ``"0.3 mA"`` or ``"4,8m"``.

    Parameters
    ----------
    text
        A number, an optional SI prefix, and optionally the unit itself.
    unit
        The expected unit, ``"A"``, ``"V"``, ``"C"``, ``"Ω"``, ``"%"`` or ``""``. For ``"s"`` see
        `parse_duration`.

    Returns
    -------
    float
        The value in the base unit; for ``"%"`` the fraction.

    Raises
    ------
    ParseError
        If the text is no number or carries another unit.

    Examples
    --------
    >>> parse_quantity("12u", "A"), parse_quantity("0.3 mA", "A"), parse_quantity("4,8m", "A")
    (1.2e-05, 0.0003, 0.0048)
    >>> parse_quantity("6 Ah", "C")
    21600.0
    >>> parse_quantity("12 %", "%")
    0.12
    """
    if unit == "s":
        return parse_duration(text)
    match = _QUANTITY.match(text)
    if match is None:
        raise ParseError(f"{text!r} is not a number with a unit such as '12 µ{unit}'")
    value, suffix = _number(match[1]), match[2]
    if unit == "%":
        if suffix not in ("", "%"):
            raise ParseError(f"{text!r}: expected a percentage")
        return value / 100
    if unit == "C" and suffix.lower().endswith("ah"):
        suffix, value = suffix[:-2], value * AMPERE_HOUR_C
    elif unit and suffix.endswith(unit):
        suffix = suffix[: -len(unit)]
    if suffix not in _PREFIXES:
        raise ParseError(f"{text!r}: expected {unit or 'a plain number'}, found {match[2]!r}")
    # Dividing by a whole power of ten keeps "0.3 m" at the float nearest to 0.0003.
    scale = _PREFIXES[suffix]
    return value / round(1 / scale) if scale < 1 else value * scale


def parse_duration(text: str) -> float:
    """Read a length of time such as ``"15 min"``, ``"3h 20m"``, ``"250 ms"`` or ``"36 months"``.

    A bare number is seconds. A month is a twelfth of 8760 hours.

    Raises
    ------
    ParseError
        If the text is not a length of time.

    Examples
    --------
    >>> parse_duration("3h 20m"), parse_duration("2.5"), parse_duration("36 months") / 3600
    (12000.0, 2.5, 26280.0)
    """
    total, position = 0.0, 0
    stripped = text.strip()
    while position < len(stripped):
        match = _DURATION_PART.match(stripped, position)
        if match is None or (match[2] or "s") not in _DURATIONS_S:
            raise ParseError(f"{text!r} is not a length of time such as '15 min' or '3h 20m'")
        total += _number(match[1]) * _DURATIONS_S[match[2] or "s"]
        position = match.end()
    if not stripped:
        raise ParseError("a length of time such as '15 min' is missing")
    return total


def format_significant(value: float, digits: int = 3) -> str:
    """Write a number with so many significant digits, never in exponent form, with a true minus.

    Examples
    --------
    >>> format_significant(12.345), format_significant(-0.5), format_significant(1234.5), format_significant(99.96)
    ('12.3', '−0.500', '1\u2009234', '100')
    """
    if not math.isfinite(value):
        return "–"
    if value == 0:
        return "0"
    rounded = float(f"{value:.{digits - 1}e}")
    decimals = max(0, digits - 1 - math.floor(math.log10(abs(rounded))))
    return f"{rounded:.{decimals}f}".replace("-", "−") if decimals else count_text(value)


def count_text(value: float) -> str:
    """Write a whole number, its digits grouped by a thin space.

    Examples
    --------
    >>> count_text(299999), count_text(-1234.4), count_text(12)
    ('299\u2009999', '−1\u2009234', '12')
    """
    return f"{value:,.0f}".replace(",", THIN_SPACE).replace("-", "−")


def counted(count: float, one: str, many: str = "") -> str:
    """Write how many of something there are.

    Parameters
    ----------
    count
        The number.
    one, many
        What one, and what several are called; several get an s by default.

    Examples
    --------
    >>> counted(1, "change"), counted(2, "change"), counted(0, "entry", "entries"), counted(39874, "reading")
    ('1 change', '2 changes', '0 entries', '39\u2009874 readings')
    """
    return f"{count_text(count)} {one if count == 1 else many or f'{one}s'}"


def format_trimmed(value: float, digits: int = 3) -> str:
    """Write a number that was typed, without the zeros that `format_significant` would add.

    Examples
    --------
    >>> format_trimmed(36.0), format_trimmed(2.5), format_trimmed(19515.2)
    ('36', '2.5', '19\u2009500')
    """
    if not math.isfinite(value):
        return "–"
    rounded = float(f"{value:.{digits - 1}e}") if value else 0.0
    text = count_text(rounded) if abs(rounded) >= 1000 else f"{rounded:.{digits}g}"
    return text.replace("-", "−")


_STEPS = (
    ("G", 1e9), ("M", 1e6), ("k", 1e3), ("", 1.0), ("m", 1e-3), ("µ", 1e-6), ("n", 1e-9), ("p", 1e-12),
)  # fmt: skip
_WITHOUT_PREFIX = frozenset({"months", "%", "°C", "ppm"})


def _step(size: float, unit: str) -> tuple[str, float]:
    """Return the prefix that leaves one to three digits before the point, and its factor."""
    if unit in _WITHOUT_PREFIX:
        return "", 1.0
    return next((step for step in _STEPS if size >= step[1]), _STEPS[-1])


def quantity_text(value: float | None, unit: str, digits: int = 3) -> QuantityText:
    """Write a quantity with an SI prefix that leaves one to three digits before the point.

    Examples
    --------
    >>> str(quantity_text(0.000318, "A")), str(quantity_text(-1.28e-3, "A")), str(quantity_text(None, "A"))
    ('318 µA', '−1.28 mA', '–')
    """
    if value is None or not math.isfinite(value):
        return QuantityText("–", "")
    if value == 0:
        return QuantityText("0", unit)
    rounded = abs(float(f"{value:.{digits - 1}e}"))
    prefix, scale = _step(rounded, unit)
    return QuantityText(format_significant(value / scale, digits), prefix + unit)


def column_writer(values: Iterable[float | None], unit: str) -> Callable[[float | None], QuantityText]:
    """Return what writes the quantities of a column in one unit, so that they can be compared at a glance.

    Parameters
    ----------
    values
        All of them; None where one is not known.
    unit
        Their unit. Its prefix is that of the smallest, as long as the largest stays below a million.

    Examples
    --------
    >>> write = column_writer([9.41e-3, 21.3e-6, None, 0.127], "A")
    >>> [str(write(value)) for value in (9.41e-3, 21.3e-6, None, 0.127, 0.0)]
    ['9\u2009410 µA', '21.3 µA', '–', '127\u2009000 µA', '0 µA']
    """
    known = [abs(float(f"{value:.2e}")) for value in values if value is not None and math.isfinite(value) and value]
    if not known:
        return lambda value: quantity_text(value, unit)
    steps = [(prefix, scale) for prefix, scale in _STEPS if max(known) / scale < 1e6]
    prefix, scale = next((one for one in steps if min(known) >= one[1]), steps[-1])

    def write(value: float | None) -> QuantityText:
        if value is None or not math.isfinite(value):
            return QuantityText("–", "")
        if value == 0:
            return QuantityText("0", prefix + unit)
        rounded = float(f"{value:.2e}") / scale
        return QuantityText(format_significant(rounded, 3), prefix + unit)

    return write


def uncertainty_text(half: float | None, unit: str) -> QuantityText:
    """Write an uncertainty with two digits, which is all that is ever known of one.

    Examples
    --------
    >>> [str(uncertainty_text(half, "A")) for half in (8.99e-7, 3.43e-6, 6.11e-10, 2.13e-5)]
    ['0.90 µA', '3.4 µA', '0.61 nA', '21 µA']
    """
    if half is None or not math.isfinite(half):
        return QuantityText("–", "")
    if half == 0:
        return QuantityText("0", unit)
    rounded = abs(float(f"{half:.1e}"))
    prefix, scale = _step(10 * rounded, unit)
    return QuantityText(format_significant(rounded / scale, 2), prefix + unit)


def interval_numbers(low: float, high: float) -> tuple[str, str]:
    """Write the ends of an interval no finer than two digits of its half width.

    Examples
    --------
    >>> interval_numbers(19.23, 30.71), interval_numbers(1.234, 9.876), interval_numbers(159.214, 159.873)
    (('19.2', '30.7'), ('1.2', '9.9'), ('159.21', '159.87'))
    >>> interval_numbers(12.0, 456.0), interval_numbers(5.0, 5.0)
    (('10', '460'), ('5.00', '5.00'))
    """
    half = abs(high - low) / 2
    if half == 0 or not math.isfinite(half):
        return format_significant(low), format_significant(high)
    place = math.floor(math.log10(half)) - 1
    ends = (round(low, -place), round(high, -place))
    first, last = (f"{end:,.{max(-place, 0)}f}".replace(",", THIN_SPACE).replace("-", "−") for end in ends)
    return first, last


def interval_text(low: float, high: float, unit: str) -> str:
    """Write an interval in one unit, no finer than two digits of its half width.

    Examples
    --------
    >>> interval_text(1.923e-4, 3.071e-4, "A"), interval_text(-2e-6, 3.1e-6, "A")
    ('192 to 307 µA', '−2.0 to 3.1 µA')
    """
    if not math.isfinite(high - low):
        return f"{quantity_text(low, unit)} to {quantity_text(high, unit)}"
    largest = abs(float(f"{max(abs(low), abs(high)):.2e}"))
    prefix, scale = _step(largest, unit)
    first, last = interval_numbers(low / scale, high / scale)
    return f"{first} to {last} {prefix}{unit}".strip()


def format_distinct(one: float, other: float, unit: str) -> tuple[QuantityText, QuantityText]:
    """Write two quantities with as many digits as it takes to tell them apart, at most eight.

    Examples
    --------
    >>> [str(text) for text in (*format_distinct(2.9981, 2.9987, "V"), *format_distinct(0.0, 1.0, "C"))]
    ['2.998 V', '2.999 V', '0 C', '1.00 C']
    """
    for digits in range(3, 9):
        texts = quantity_text(one, unit, digits), quantity_text(other, unit, digits)
        if one == other or texts[0] != texts[1]:
            break
    return texts


def duration_text(seconds: float | None, digits: int = 3) -> QuantityText:
    """Write a length of time in the unit people use for it, from ns to years.

    Examples
    --------
    >>> [str(duration_text(t)) for t in (0.0847, 9.62, 300, 21600)]
    ['84.7 ms', '9.62 s', '5.00 min', '6.00 h']
    """
    if seconds is None or not math.isfinite(seconds):
        return QuantityText("–", "")
    size = abs(seconds)
    if size < 99.95:
        return quantity_text(seconds, "s", digits)
    for unit, scale, limit in (("min", 60.0, 5400.0), ("h", HOUR_S, 2 * DAY_S), ("days", DAY_S, 2 * MONTH_S)):
        if size < limit:
            return QuantityText(format_significant(seconds / scale, digits), unit)
    return months_text(seconds, digits)


def months_text(seconds: float | None, digits: int = 3) -> QuantityText:
    """Write a battery life in months of a twelfth of 8760 hours."""
    if seconds is None or not math.isfinite(seconds):
        return QuantityText("–", "")
    return QuantityText(format_significant(seconds / MONTH_S, digits), "months")


def ampere_hours_text(charge_c: float | None, digits: int = 3) -> QuantityText:
    """Write a battery's charge in Ah."""
    return quantity_text(None if charge_c is None else charge_c / AMPERE_HOUR_C, "Ah", digits)


def percent_text(share: float | None) -> QuantityText:
    """Write a share as a percentage, with enough digits for a small one, down to a thousandth of a percent.

    Examples
    --------
    >>> [str(percent_text(s)) for s in (0.339, 1.0, 73.79, 0.00045, 1.2e-8, 0.0)]
    ['33.9 %', '100 %', '7\u2009379 %', '0.045 %', '< 0.001 %', '0 %']
    """
    if share is None or not math.isfinite(share):
        return QuantityText("–", "")
    percent = share * 100
    if percent == 0:
        return QuantityText("0", "%")
    if abs(percent) < _LEAST_PERCENT:
        return QuantityText(f"< {_LEAST_PERCENT:g}", "%")
    if abs(percent) >= 99.95:
        return QuantityText(count_text(percent), "%")
    return QuantityText(
        f"{percent:.1f}".replace("-", "−") if abs(percent) >= 1 else format_significant(percent, 2), "%"
    )


def decade(current_a: float) -> float:
    """Return the base-10 logarithm of a current's size, with zero and below at the bottom of the ramp (1 nA)."""
    return math.log10(current_a) if current_a > 1e-9 else -9.0


@dataclass(frozen=True, slots=True)
class Rate:
    """How often something happens: every so many seconds, or so many times a day; one of the two."""

    interval_s: float | None = None
    per_day: float | None = None


def rate_text(rate_hz: float) -> str:
    """Write a rate as people say it: every so long, or so many a day.

    Examples
    --------
    >>> rate_text(1 / 21600), rate_text(412 / 86400), rate_text(1.0)
    ('every 6.00 h', '412 a day', 'every 1.00 s')
    """
    if rate_hz <= 0:
        return "never"
    per_day = rate_hz * DAY_S
    if 12 <= per_day <= 5000:
        return f"{QuantityText(f'{per_day:.0f}', 'a day')}"
    return f"every {duration_text(1 / rate_hz)}"


def parse_rate(text: str) -> Rate:
    """Read how often: ``"every 6 h"`` or ``"each 6 h"``, ``"15 min"``, ``"412 a day"``, ``"4/day"``, a bare number.

    Raises
    ------
    ParseError
        If it is no rate, or not above 0.

    Examples
    --------
    >>> parse_rate("every 6 h"), parse_rate("412 a day")
    (Rate(interval_s=21600.0, per_day=None), Rate(interval_s=None, per_day=412.0))
    """
    stripped = text.strip().lower()
    daily = re.match(rf"({_NUMBER})\s*(?:(?:times\s*)?(?:a|per|/)\s*d(?:ay)?)?\Z", stripped)
    rate = (
        Rate(per_day=_number(daily[1]))
        if daily
        else Rate(interval_s=parse_duration(stripped.removeprefix("every").removeprefix("each")))
    )
    if not (rate.per_day or rate.interval_s or 0.0) > 0:
        raise ParseError(f"{text!r} must be above 0")
    return rate
