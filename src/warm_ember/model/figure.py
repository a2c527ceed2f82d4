"""A figure: a number that knows its interval and where it comes from."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

import msgspec


class Grade(StrEnum):
    """Where a figure comes from, strongest first."""

    MEASURED = "measured"
    BOUNDED = "bounded"
    ENTERED = "entered"
    ASSUMED = "assumed"

    @classmethod
    def _missing_(cls, value: object) -> Grade | None:
        # So it was called in projects of the first versions.
        return cls.ENTERED if value == "typed" else None

    @property
    def words(self) -> str:
        """Where the figure comes from, as it is said in a sentence."""
        return "entered by hand" if self is Grade.ENTERED else self.value

    @property
    def weakness(self) -> int:
        """Rank from 0 for the strongest grade."""
        return list(Grade).index(self)


class Bound(StrEnum):
    """On which side of its true value a figure is known to lie."""

    AT_LEAST = "at_least"
    AT_MOST = "at_most"
    BELOW = "below"

    @property
    def opposite(self) -> Bound:
        """What it makes of a figure that falls where this one rises, as a life does with a current."""
        return Bound.AT_MOST if self is Bound.AT_LEAST else Bound.AT_LEAST

    @property
    def sign(self) -> str:
        """The sign that stands before a figure of this kind."""
        return {Bound.AT_LEAST: "≥", Bound.AT_MOST: "≤", Bound.BELOW: "<"}[self]


def signed(bound: Bound | None, text: object) -> str:
    """Return the text of a figure behind the sign of its bound, if it has one."""
    return str(text) if bound is None else f"{bound.sign} {text}"


class Figure(msgspec.Struct, frozen=True):
    """A value with its 90 % interval, its grade and its origin in words.

    Parameters
    ----------
    value
        The value in SI base units; None when nothing was measured.
    low, high
        Ends of the 90 % interval; None when there is no ground for one, or no end on that side.
    grade
        The weakest grade among what the value rests on and what matters to it.
    origin
        What made it so, for instance ``"self-discharge"`` for a life that is assumed because of it.
    bound
        The true value is at least or at most the value, or below the interval's high end; None for a value.
    """

    value: float | None
    low: float | None = None
    high: float | None = None
    grade: Grade = Grade.MEASURED
    origin: str = ""
    bound: Bound | None = None

    @property
    def shown(self) -> float | None:
        """The number to show: of what is below something, that."""
        return self.high if self.bound is Bound.BELOW else self.value


def weakest(grades: Iterable[Grade]) -> Grade:
    """Return the weakest of some grades; `Grade.MEASURED` for none."""
    return max(grades, key=lambda grade: grade.weakness, default=Grade.MEASURED)
