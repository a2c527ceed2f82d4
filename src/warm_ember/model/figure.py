"""A figure: a number that knows its interval and where it comes from."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

import msgspec


class Grade(StrEnum):
    """Where a figure comes from, strongest first."""

    MEASURED = "measured"
    BOUNDED = "bounded"
    TYPED = "typed"
    ASSUMED = "assumed"

    @property
    def weakness(self) -> int:
        """Rank from 0 for the strongest grade."""
        return list(Grade).index(self)


class Figure(msgspec.Struct, frozen=True):
    """A value with its 90 % interval, its grade and its origin in words.

    Parameters
    ----------
    value
        The value in SI base units; None when nothing was measured.
    low, high
        Ends of the 90 % interval; None when there is no ground for one.
    grade
        The weakest grade among what the value rests on and what matters to it.
    origin
        What made it so, for instance ``"self-discharge"`` for a life that is assumed because of it.
    """

    value: float | None
    low: float | None = None
    high: float | None = None
    grade: Grade = Grade.MEASURED
    origin: str = ""


def weakest(grades: Iterable[Grade]) -> Grade:
    """Return the weakest of some grades; `Grade.MEASURED` for none."""
    return max(grades, key=lambda grade: grade.weakness, default=Grade.MEASURED)
