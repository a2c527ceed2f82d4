"""A line of the target's console as it came."""

from __future__ import annotations

import re
from dataclasses import dataclass

_STAMP = re.compile(r"\[\s*(\d{1,15}(?:\.\d{1,15})?)\]\s*")


@dataclass(frozen=True)
class ConsoleLine:
    """A line of the console.

    Parameters
    ----------
    received_s
        When its end came, by `time.monotonic`.
    text
        Without the target's own time.
    target_s
        The time that the target wrote before it in brackets; None without.
    sent
        Whether it was typed here.
    """

    received_s: float
    text: str
    target_s: float | None = None
    sent: bool = False


def line_of(text: str, received_s: float) -> ConsoleLine:
    """Return a line as it came, its time stamp taken off.

    Examples
    --------
    >>> line_of("[  12.5] state Deep sleep", 3.0)
    ConsoleLine(received_s=3.0, text='state Deep sleep', target_s=12.5, sent=False)
    """
    stamp = _STAMP.match(text)
    return ConsoleLine(received_s, text[stamp.end() :] if stamp else text, float(stamp[1]) if stamp else None)
