"""A pack of cells as charge, temperature and age leave it."""

from __future__ import annotations

import numpy as np

from warm_ember.battery.cells import REFERENCE_C, cell_of, curve_of, interpolate, interpolate_log, resistance_of
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery, Cell
from warm_ember.units import YEAR_S

_UNKNOWN_CELL_V = 3.0


class Pack:
    """What a pack gives; without a cell it has a voltage that nothing changes.

    Parameters
    ----------
    battery
        How the cells are joined, and which they are.
    """

    def __init__(self, battery: Battery) -> None:
        self._battery = battery
        self.cell = cell_of(battery) or Cell(())
        self._curve = curve_of(battery)
        self._fresh_ohm = resistance_of(battery)

    @property
    def has_voltage(self) -> bool:
        """Whether its voltage is known."""
        return self._curve is not None

    @property
    def corners(self) -> tuple[float, ...]:
        """States of charge at which its curves bend."""
        return tuple(point[0] for curve in (self.cell.ocv_v, self.cell.resistance_by_charge) for point in curve)

    def open_v(self, share: Floats, warmer_v: Floats | float = 0.0) -> Floats:
        """Return the open-circuit voltage, V, at some states of charge, any shape; see `warmer_v`."""
        if self._curve is None:
            return np.full(np.shape(share), _UNKNOWN_CELL_V * self._battery.series)
        return np.asarray(np.interp(share, self._curve[:, 0], self._curve[:, 1]) + warmer_v)

    def warmer_v(self, temperature_c: Floats | float) -> Floats:
        """Return what temperatures, °C, any shape, add to the open-circuit voltage, V."""
        return np.asarray(self._battery.series * self.cell.ocv_v_per_k * (temperature_c - REFERENCE_C))

    def resistance_ohm(self, share: Floats, resistance_factor: Floats | float = 1.0) -> Floats:
        """Return the internal resistance, Ω, at some states of charge, any shape; see `resistance_factor`."""
        return np.asarray(self._fresh_ohm * interpolate(self.cell.resistance_by_charge, share) * resistance_factor)

    def resistance_factor(self, temperature_c: Floats | float, age_s: Floats | float) -> Floats:
        """Return the factor that temperature and age put on the internal resistance.

        Parameters
        ----------
        temperature_c, age_s
            Any shapes that broadcast.

        Notes
        -----
        The factor by temperature is the cell's own curve; age adds a constant share a year, straight: what films on the
        electrodes of primary cells do is not told by their makers in more than that.
        """
        factor = interpolate(self.cell.resistance_by_temperature, temperature_c)
        if self.cell.resistance_growth_per_year:
            factor = factor * (1 + self.cell.resistance_growth_per_year * np.asarray(age_s) / YEAR_S)
        return factor

    def unavailable_fraction(self, temperature_c: Floats | float, given_a: Floats | float) -> Floats:
        """Return the share of the charge that cannot be taken.

        Parameters
        ----------
        temperature_c
            Any shape.
        given_a
            Mean current of the pack, of a shape that broadcasts with it; each cell gives its part.

        Returns
        -------
        Floats
            0 where all can be taken, 1 where nothing can.

        Notes
        -----
        One less the product of the cell's own two curves, as makers give capacity by temperature and by load.
        """
        cell = self.cell
        taken = interpolate(cell.capacity_by_temperature, temperature_c)
        if cell.capacity_by_load:
            taken = taken * interpolate_log(cell.capacity_by_load, np.asarray(given_a) / self._battery.parallel)
        return np.asarray(1.0 - taken)

    def loss_factor(self, warmer_k: Floats) -> Floats:
        """Return the factor on the self-discharge where it is warmer than the climate says.

        Parameters
        ----------
        warmer_k
            By how much, any shape.

        Notes
        -----
        ``2 ** (warmer_k / doubles_k)``: what Arrhenius' law comes to over a few tens of kelvin; 1 for a cell of
        which it is not known.
        """
        doubles_k = self.cell.self_discharge_doubles_k
        return np.ones(np.shape(warmer_k)) if doubles_k is None else np.asarray(2.0 ** (warmer_k / doubles_k))
