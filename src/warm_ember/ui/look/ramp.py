"""The heat ramp as Qt's colours, for the whole application."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtGui import QColor

from warm_ember.model.arrays import Floats
from warm_ember.model.heat_ramp import FIRST_DECADE, STEPS_PER_DECADE, ramp_steps, ramp_table


class Ramp:
    """Currents to colours.

    Parameters
    ----------
    decades
        Colours at 1 nA, 10 nA, and so on to 1 A.
    """

    def __init__(self, decades: tuple[str, ...]) -> None:
        self._table = ramp_table(decades).astype(np.uint32)
        self._packed = (
            np.uint32(0xFF000000) | self._table[:, 0] << 16 | self._table[:, 1] << 8 | self._table[:, 2]
        ).astype(np.uint32)
        self._colors = [QColor(*row) for row in self._table.tolist()]

    def packed(self, current_a: Floats) -> np.ndarray:
        """Return colours as 0xAARRGGBB for an array of currents."""
        return np.asarray(self._packed[ramp_steps(np.asarray(current_a, dtype=np.float64))])

    def color(self, current_a: float | None) -> QColor:
        """Return the colour of one current."""
        step = 0
        if current_a is not None and current_a > 0:
            step = round((math.log10(current_a) - FIRST_DECADE) * STEPS_PER_DECADE)
        # A copy: whoever makes it more transparent must not do so for all.
        return QColor(self._colors[min(max(step, 0), len(self._colors) - 1)])
