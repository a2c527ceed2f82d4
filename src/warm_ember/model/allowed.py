"""What the figures of a battery and its supply stage may be: one place for the check and for where they are typed."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Allowed:
    """A range of values.

    Parameters
    ----------
    low, high
        Its ends; the high one may be infinite.
    above, below
        Whether the low and the high end itself is left out.
    """

    low: float = 0.0
    high: float = math.inf
    above: bool = False
    below: bool = False

    def holds(self, value: float) -> bool:
        """Return whether a value is in the range and finite."""
        if not math.isfinite(value):
            return False
        over = value > self.low if self.above else value >= self.low
        return over and (value < self.high if self.below else value <= self.high)

    def clipped(self, value: float) -> float:
        """Return the value in the range that is nearest; where an end is left out, next to it."""
        low = math.nextafter(self.low, math.inf) if self.above else self.low
        high = math.nextafter(self.high, -math.inf) if self.below else self.high
        return min(max(value, low), high)

    def words(self, write: Callable[[float], str] = lambda value: f"{value:g}") -> str:
        """Return the range in words.

        Examples
        --------
        >>> Allowed(above=True).words(), Allowed(0, 1, below=True).words()
        ('above 0', 'from 0 to below 1')
        """
        if self.high == math.inf:
            return f"above {write(self.low)}" if self.above else f"{write(self.low)} or more"
        start = f"above {write(self.low)}, " if self.above else f"from {write(self.low)} to "
        if self.above:
            return start + ("below " if self.below else "at most ") + write(self.high)
        return start + ("below " if self.below else "") + write(self.high)


MOST_CELLS = 1000
HOT_C = 150.0
COLD_C = -80.0

BATTERY = {
    "capacity_c": Allowed(above=True),
    "self_discharge_per_year": Allowed(),
    "reserve": Allowed(0, 1, below=True),
    "cutoff_v": Allowed(),
    "resistance_ohm": Allowed(),
    "series": Allowed(1, MOST_CELLS),
    "parallel": Allowed(1, MOST_CELLS),
}
SUPPLY = {
    "efficiency": Allowed(0, 1, above=True),
    "quiescent_a": Allowed(),
    "output_v": Allowed(above=True),
    "min_v": Allowed(),
    "input_f": Allowed(),
}
TARGET_S = Allowed(above=True)
TEMPERATURE_C = Allowed(COLD_C, HOT_C)
