"""How a report writes its figures: with the unit lighter than the number, and the grade by the look."""

from __future__ import annotations

import math
import re

from markupsafe import Markup, escape

from warm_ember.units import (
    THIN_SPACE,
    ampere_hours_text,
    duration_text,
    format_significant,
    interval_text,
    percent_text,
    quantity_text,
)

_SIGNS = {"at_least": "≥", "at_most": "≤", "below": "<"}
_LONGEST = 160
_NARROW = "\u202f"
"""A space within a number at which no line ends."""
_WHOLE = "\u00a0"
_LONG_WORD = re.compile(r"\S{25,}")
_NUMBER = re.compile(r"(?:[<≥≤][\u202f\u00a0])?[−-]?\d[\d.\u202f]*")


def safe(text: object, longest: int = _LONGEST) -> Markup:
    """Return a text that may come from anywhere: control characters as dots, markup as text, what is endless cut."""
    plain = "".join(c if c.isprintable() or c == _NARROW else "·" for c in str(text).replace(THIN_SPACE, _NARROW))
    return escape(plain if len(plain) <= longest else f"{plain[:longest]}…")


def breakable(text: object, longest: int = _LONGEST) -> Markup:
    """Return a text that may come from anywhere, as `safe`, whose long words may be broken anywhere.

    Those alone, as a table's columns are found twice as fast where words stay whole.
    """
    return Markup(_LONG_WORD.sub(r'<span class="long">\g<0></span>', str(safe(text, longest))))


def figure(text: object, grade: str = "measured", bound: str | None = None) -> Markup:
    """Return a figure: its number in the look of its grade behind the sign of its bound, its unit plain.

    No line ends within it: by its spaces, as an element around each would take as long to set as the figure itself.
    """
    plain = str(text).replace(THIN_SPACE, _NARROW).replace(" ", _WHOLE)
    found = _NUMBER.search(plain)
    before, number, after = (plain[: found.start()], found[0], plain[found.end() :]) if found else ("", plain, "")
    sign = f"{_SIGNS[bound]}{_NARROW}" if bound else ""
    return Markup('{}<b class="{}">{}{}</b>{}').format(before, grade, sign, number, after)


def amperes(
    value: float | None, grade: str = "measured", bound: str | None = None, high: float | None = None
) -> Markup:
    """Return a current; of what is below something, that."""
    return figure(quantity_text(high if bound == "below" and high is not None else value, "A"), grade, bound)


def coulombs(value: float | None, grade: str = "measured", bound: str | None = None) -> Markup:
    """Return a charge."""
    return figure(quantity_text(value, "C"), grade, bound)


def seconds(value: float | None) -> Markup:
    """Return a length of time."""
    return figure(duration_text(value))


def share(value: float | None) -> Markup:
    """Return a share in per cent."""
    return figure(percent_text(value))


def months(hours: float | None, grade: str = "measured", bound: str | None = None) -> Markup:
    """Return a life, in months without the word."""
    if hours is None or math.isnan(hours):
        return Markup("–")
    text = "∞" if math.isinf(hours) else format_significant(hours / (8760 / 12))
    return figure(text, grade, bound)


def reach(low: float | None, high: float | None, unit: str) -> str:
    """Return a 90 % interval, or a dash where nothing is known of it."""
    if low is not None and high is not None:
        return interval_text(low, high, unit)
    if low is not None:
        return f"at least {quantity_text(low, unit)}"
    return f"at most {quantity_text(high, unit)}" if high is not None else "–"


FILTERS = {
    "breakable": breakable,
    "safe_text": safe,
    "amperes": amperes,
    "coulombs": coulombs,
    "seconds": seconds,
    "share": share,
    "months": months,
    "ampere_hours": lambda value: figure(ampere_hours_text(value)),
}
