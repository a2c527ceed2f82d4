"""The heat ramp: one colour for each decade of current, in the whole application.

Lightness is monotonic, rising with the current at night and falling by day, so the ramp survives colour
blindness and greyscale print. Colours are quantised to an eighth of a decade.
"""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtGui import QColor

from warm_ember.model.arrays import Floats

FIRST_DECADE = -9
STEPS_PER_DECADE = 8

NIGHT_DECADES = (
    "#4b5158", "#5a5364", "#6c5772", "#805c82", "#a35a80", "#cb5d66", "#e9683f", "#f58a2d", "#fbb84a", "#fbe9b0",
)  # fmt: skip
DAY_DECADES = (
    "#b9bcc4", "#b5adbf", "#b19ab9", "#b68ab2", "#bf7296", "#c25568", "#b9451f", "#934400", "#6a3d00", "#392805",
)  # fmt: skip


class Ramp:
    """Currents to colours.

    Parameters
    ----------
    decades
        Colours at 1 nA, 10 nA, and so on to 1 A.
    """

    def __init__(self, decades: tuple[str, ...]) -> None:
        anchors = np.array([(c.red(), c.green(), c.blue()) for c in map(QColor, decades)], dtype=np.float64)
        positions = np.arange((len(decades) - 1) * STEPS_PER_DECADE + 1) / STEPS_PER_DECADE
        table = np.column_stack(
            [np.interp(positions, np.arange(len(decades)), anchors[:, channel]) for channel in range(3)]
        )
        self._table = np.rint(table).astype(np.uint32)
        self._packed = (
            np.uint32(0xFF000000) | self._table[:, 0] << 16 | self._table[:, 1] << 8 | self._table[:, 2]
        ).astype(np.uint32)
        self._colors = [QColor(*row) for row in self._table.tolist()]

    def _index(self, current_a: Floats) -> np.ndarray:
        with np.errstate(divide="ignore", invalid="ignore"):
            decades = np.log10(np.maximum(current_a, 1e-30)) - FIRST_DECADE
        steps = np.nan_to_num(np.rint(decades * STEPS_PER_DECADE), nan=0.0)
        return np.asarray(np.clip(steps, 0, len(self._packed) - 1), dtype=np.int64)

    def packed(self, current_a: Floats) -> np.ndarray:
        """Return colours as 0xAARRGGBB for an array of currents."""
        return np.asarray(self._packed[self._index(np.asarray(current_a, dtype=np.float64))])

    def color(self, current_a: float | None) -> QColor:
        """Return the colour of one current."""
        step = 0
        if current_a is not None and current_a > 0:
            step = round((math.log10(current_a) - FIRST_DECADE) * STEPS_PER_DECADE)
        # A copy: whoever makes it more transparent must not do so for all.
        return QColor(self._colors[min(max(step, 0), len(self._colors) - 1)])
