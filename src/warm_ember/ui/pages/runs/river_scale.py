"""How a river is laid on the screen: places to the right, current upwards on a log axis."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from PySide6.QtCore import QRectF

_LEAST_A = 1e-15


@dataclass(frozen=True)
class RiverScale:
    """One window of places on one piece of the screen.

    Parameters
    ----------
    plot
        Where it is.
    first, last
        The places at its ends.
    low, high
        Decimal logarithms of the currents, A, at its foot and its top.
    """

    plot: QRectF
    first: float
    last: float
    low: float
    high: float

    @property
    def per_place(self) -> float:
        """How wide one place is, in pixels."""
        return self.plot.width() / (self.last - self.first)

    def x_of(self, place: Any) -> Any:
        """Return where a place begins, or each of an array of them."""
        return self.plot.left() + (place - self.first) * self.per_place

    def y_of(self, current_a: float) -> float:
        """Return where a current is, within the plot."""
        return self._y(math.log10(max(current_a, _LEAST_A)))

    def ys_of(self, currents_a: np.ndarray) -> np.ndarray:
        """Return where currents are, within the plot, shape as theirs."""
        share = np.clip((np.log10(np.maximum(currents_a, _LEAST_A)) - self.low) / (self.high - self.low), 0.0, 1.0)
        return np.asarray(self.plot.bottom() - share * self.plot.height())

    def _y(self, decade: float) -> float:
        share = (decade - self.low) / (self.high - self.low)
        return self.plot.bottom() - min(max(share, 0.0), 1.0) * self.plot.height()

    def current_at(self, y: float) -> float:
        """Return which current is at a height, A."""
        return float(10.0 ** (self.low + (self.plot.bottom() - y) / self.plot.height() * (self.high - self.low)))

    def holds(self, current_a: float | None) -> bool:
        """Return whether a current is between foot and top."""
        return bool(current_a) and self.low < math.log10(float(current_a or 1.0)) < self.high

    def shown(self, first: int, last: int) -> tuple[int, int]:
        """Return which of the places from `first` to `last` are in the window, with one more at either side."""
        return max(first, math.floor(self.first) - 1), min(last, math.ceil(self.last) + 1)
