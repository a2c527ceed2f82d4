"""One cell emptied by a constant current, as it was measured."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.model.arrays import Floats


@dataclass(frozen=True, eq=False)
class MeasuredDischarge:
    """One cell emptied by a constant current.

    Parameters
    ----------
    current_a
        The current.
    drawn_c
        Charge drawn, rising, shape ``(n,)``.
    voltage_v
        Voltage under that current, shape ``(n,)``.
    temperature_c
        How warm it was; None where that is not known.
    """

    current_a: float
    drawn_c: Floats
    voltage_v: Floats
    temperature_c: float | None = None

    @property
    def charge_c(self) -> float:
        """What was drawn in all."""
        return float(self.drawn_c[-1])
