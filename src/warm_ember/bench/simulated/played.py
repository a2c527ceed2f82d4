"""A battery that the simulated source plays: its voltage follows a table and what was drawn."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats


@dataclass(eq=False)
class PlayedBattery:
    """A table of voltage and resistance against the charge drawn, and where in it the battery is.

    Parameters
    ----------
    table_c, open_v, resistance_ohm
        The table; the charge rises. Straight between its rows, level beyond them, shape ``(n,)``.
    drawn_c
        What was drawn from it so far.
    drain
        How many times faster than truly it empties.
    """

    table_c: Floats
    open_v: Floats
    resistance_ohm: Floats
    drawn_c: float = 0.0
    drain: float = 1.0

    def volts(self, flowing_a: Floats, interval_s: float) -> Floats:
        """Let a current flow and return the voltage at its terminals meanwhile, V, shape ``(n,)``."""
        drawn_c = self.drawn_c + np.cumsum(flowing_a) * (interval_s * self.drain)
        if len(drawn_c):
            self.drawn_c = float(drawn_c[-1])
        open_v = np.interp(drawn_c, self.table_c, self.open_v)
        return np.asarray(np.maximum(open_v - flowing_a * np.interp(drawn_c, self.table_c, self.resistance_ohm), 0.0))

    @property
    def resting_v(self) -> float:
        """Its voltage without a load."""
        return float(np.interp(self.drawn_c, self.table_c, self.open_v))
