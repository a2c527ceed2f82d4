"""Readings of an instrument that does not sample evenly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Samples


@dataclass(frozen=True, eq=False)
class Readings:
    """Readings as they came, each at its own moment.

    Parameters
    ----------
    time_s
        Since the first sample, rising, shape ``(n,)``.
    current_a, voltage_v
        Of that shape, before any correction; NaN where a reading was out of range. The voltage is None where none is
        read.
    """

    time_s: Floats
    current_a: Samples
    voltage_v: Samples | None = None

    @property
    def channels(self) -> dict[str, Floats | Samples]:
        """The arrays by what a capture calls them, each of shape ``(n,)``."""
        found: dict[str, Floats | Samples] = {"time_s": self.time_s, "current_a": self.current_a}
        return found if self.voltage_v is None else found | {"voltage_v": self.voltage_v}

    @classmethod
    def joined(cls, parts: Sequence[Readings]) -> Readings:
        """Return parts that follow each other, one at least, as one."""
        voltages = [part.voltage_v for part in parts if part.voltage_v is not None]
        return cls(
            np.concatenate([part.time_s for part in parts]),
            np.concatenate([part.current_a for part in parts]),
            np.concatenate(voltages) if voltages else None,
        )

    def later(self, by_s: float, end_s: float) -> Readings:
        """Return them some time later, without those from an end on."""
        time_s = self.time_s + by_s
        count = int(np.searchsorted(time_s, end_s, side="left"))
        voltage_v = None if self.voltage_v is None else self.voltage_v[:count]
        return Readings(time_s[:count], self.current_a[:count], voltage_v)
