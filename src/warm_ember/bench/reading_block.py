"""What an instrument gave since it was last asked."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Bits, Samples
from warm_ember.model.readings import Readings


@dataclass(frozen=True, eq=False)
class ReadingBlock:
    """Samples that were fetched together, each channel shape ``(n,)``; NaN is missing.

    Parameters
    ----------
    current, voltage, lines
        The channels on the capture's grid; None where the instrument has none.
    readings
        What they were made of, where an instrument does not sample evenly.
    """

    current: Samples
    voltage: Samples | None
    lines: Bits | None
    readings: Readings | None = None

    @classmethod
    def missing(cls, count: int, *, with_voltage: bool, with_lines: bool) -> ReadingBlock:
        """Return samples that nobody took."""
        nothing = np.full(count, np.nan, dtype=np.float32)
        return cls(nothing, nothing if with_voltage else None, np.zeros(count, dtype=np.uint32) if with_lines else None)

    def first(self, count: int) -> ReadingBlock:
        """Return the first samples; all readings stay."""
        voltage = self.voltage[:count] if self.voltage is not None else None
        lines = self.lines[:count] if self.lines is not None else None
        return ReadingBlock(self.current[:count], voltage, lines, self.readings)

    @property
    def nbytes(self) -> int:
        """Memory of all channels."""
        return sum(values.nbytes for values in (self.current, self.voltage, self.lines) if values is not None)
