"""What the timers of all standards have in common: a code, the time it stands for, and the nearest code of a time."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass

from warm_ember.errors import BadArgumentError
from warm_ember.units import duration_text, parse_quantity

ACTIVE, DEACTIVATED = "active", "deactivated"
EXACT, ROUNDED = "exact", "rounded"
_CLOSE = 1e-9
_LEAST_DIGITS = 3
_NUMBER = re.compile(r"\d+(?:[.,]\d+)?")


@dataclass(frozen=True)
class TimerValue:
    """One value of a timer.

    Parameters
    ----------
    input
        As it was given.
    seconds
        What it stands for; None when the timer is deactivated.
    state
        Of a code ``active`` or ``deactivated``, of a time ``exact``, ``rounded`` or ``deactivated``.
    octet
        The code, as bits.
    """

    input: str
    seconds: float | None
    state: str
    octet: str


def _is_rounded(text: str, seconds: float, exact_s: float) -> bool:
    """Return whether a time is another one, rounded to the digits that it is written with: three or more, as here."""
    number = _NUMBER.search(text)
    if number is None or not math.isfinite(seconds) or seconds <= 0:
        return False
    written = float(number[0].replace(",", "."))
    digits = len(number[0].replace(",", "").replace(".", "").lstrip("0"))
    return digits >= _LEAST_DIGITS and float(f"{exact_s * written / seconds:.{digits}g}") == written


@dataclass(frozen=True)
class TimerCode:
    """How a timer is coded.

    Parameters
    ----------
    name
        What it is.
    codes
        Each code with its time, s; None for deactivated. What a standard reads as another code is left out.
    read_as
        Codes that are read as others.
    """

    name: str
    codes: Mapping[str, float | None]
    read_as: Mapping[str, str]

    @property
    def bits(self) -> int:
        """Length of a code."""
        return len(next(iter(self.codes)))

    def decode(self, text: str) -> TimerValue:
        """Return what a code stands for.

        Raises
        ------
        BadArgumentError
            If it is no code of this timer.
        """
        code = text.strip().strip('"')
        if len(code) != self.bits or set(code) - {"0", "1"}:
            raise BadArgumentError(
                f"{self.name}: expected {self.bits} bits such as {next(iter(self.codes))}, found {text!r}"
            )
        seconds = self.codes[self.read_as.get(code, code)]
        return TimerValue(text, seconds, DEACTIVATED if seconds is None else ACTIVE, code)

    def encode(self, text: str) -> TimerValue:
        """Return the code of a time, or of the nearest one that there is.

        Raises
        ------
        BadArgumentError
            If it is no time, or beyond what the timer can hold.
        """
        if text.strip().lower() in (DEACTIVATED, "off"):
            off = next((code for code, seconds in self.codes.items() if seconds is None), None)
            if off is None:
                raise BadArgumentError(f"{self.name} cannot be deactivated by its value")
            return TimerValue(text, None, DEACTIVATED, off)
        try:
            wanted_s = parse_quantity(text, "s")
        except ValueError:
            raise BadArgumentError(f"{self.name}: expected a time such as 10 min, found {text!r}") from None
        # Of codes for one time the first counts: it has the finest step.
        known = {seconds: code for code, seconds in reversed(tuple(self.codes.items())) if seconds is not None}
        times_s = sorted(known)
        is_within = times_s[0] * (1 - _CLOSE) <= wanted_s <= times_s[-1] * (1 + _CLOSE)
        if not is_within and not any(_is_rounded(text, wanted_s, end_s) for end_s in (times_s[0], times_s[-1])):
            reach = f"{duration_text(times_s[0])} to {duration_text(times_s[-1])}"
            raise BadArgumentError(f"{self.name} holds {reach}, found {text!r}")
        nearest_s = min(times_s, key=lambda one: abs(one - wanted_s))
        exact = abs(nearest_s - wanted_s) <= _CLOSE * max(wanted_s, 1.0)
        return TimerValue(text, nearest_s, EXACT if exact else ROUNDED, known[nearest_s])

    def ways(self, seconds: float) -> tuple[str, ...]:
        """Return all codes for a time."""
        return tuple(code for code, one in self.codes.items() if one is not None and abs(one - seconds) < _CLOSE)
