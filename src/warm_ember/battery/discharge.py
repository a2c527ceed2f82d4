"""Emptying a battery: how long a load can be carried, and what ends it.

The battery is emptied in steps of charge, not of time, so ten years cost as much as a day, and any number of
variants are emptied at once.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from warm_ember.battery.cells import curve_of, resistance_of, shelf_life_s
from warm_ember.battery.supply import battery_current
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery, SupplyStage
from warm_ember.units import YEAR_S

_UNKNOWN_CELL_V = 3.0
STEPS = 240


class Limit(StrEnum):
    """What ends a life."""

    CAPACITY = "capacity"
    CUT_OFF = "cut-off"
    PULSE_SAG = "pulse-sag"
    SELF_DISCHARGE = "self-discharge"
    SHELF = "shelf"


@dataclass(frozen=True, eq=False)
class Variants:
    """Loads and batteries to try at once, each of shape ``(variants,)``.

    Parameters
    ----------
    mean_a, peak_a
        Average and highest current at the load.
    capacity_c
        Rated charge of the pack.
    self_discharge_per_year
        Share of the remaining charge lost in 8760 h.
    """

    mean_a: Floats
    peak_a: Floats
    capacity_c: Floats
    self_discharge_per_year: Floats


@dataclass(frozen=True, eq=False)
class Discharge:
    """How variants end, arrays of shape ``(variants,)`` and courses of shape ``(variants, steps + 1)``.

    Parameters
    ----------
    life_s
        Time to the end; infinite when nothing ends it.
    limit
        What ends it, as indices into `Limit`'s members.
    used_c, lost_c
        Charge given to load and supply stage, and lost to self-discharge, by then.
    time_s, rest_v, pulse_v
        Course to an empty battery: when, and the voltage under the mean and under the highest current.
        The voltages are NaN without a cell.
    charge_share
        Remaining share of the capacity along the course, shape ``(steps + 1,)``.
    end_v
        Voltage below which the device stops.
    """

    life_s: Floats
    limit: np.ndarray
    used_c: Floats
    lost_c: Floats
    time_s: Floats
    rest_v: Floats
    pulse_v: Floats
    charge_share: Floats
    end_v: float


def discharge(battery: Battery, supply: SupplyStage, variants: Variants, *, steps: int = STEPS) -> Discharge:
    """Empty a battery under constant average loads.

    Parameters
    ----------
    battery, supply
        What is the same for all variants.
    variants
        What differs.
    steps
        Steps of charge from full to the reserve.

    Notes
    -----
    Usable is ``C (1 - reserve)``. With ``dq/dt = -(i + k q)`` a step from ``q0`` to ``q1`` at constant `i` takes
    ``ln((i + k q0) / (i + k q1)) / k``; over a constant current the steps add up to ``ln(1 + k C / I) / k``.
    Life ends where ``v_oc - i r`` falls below the larger of cut-off and the stage's lowest input, under the mean
    (``cut-off``) or the highest current (``pulse-sag``), linearly between steps; the steps include the corners
    of the cell's curve. When more is lost than used by the end, self-discharge is what limits the life.
    """
    curve = curve_of(battery)
    resistance_ohm = resistance_of(battery)
    share = _grid(battery, curve, steps)
    open_v = np.full(len(share), _UNKNOWN_CELL_V * battery.series) if curve is None else _interp(share, curve)
    usable = np.maximum(share - battery.reserve, 0.0)[None, :] * variants.capacity_c[:, None]
    rate = (variants.self_discharge_per_year / YEAR_S)[:, None]
    mean = battery_current(supply, variants.mean_a[:, None], open_v[None, :], resistance_ohm)
    highest_a = np.maximum(variants.peak_a, variants.mean_a)[:, None]
    peak = battery_current(supply, highest_a, open_v[None, :], resistance_ohm)
    steps_s, given_c = _steps(usable, mean, rate)
    time_s = np.concatenate((np.zeros((len(usable), 1)), np.cumsum(steps_s, axis=1)), axis=1)
    used_c = np.concatenate((np.zeros((len(usable), 1)), np.cumsum(given_c, axis=1)), axis=1)
    rest_v, pulse_v = open_v - mean * resistance_ohm, open_v - peak * resistance_ohm
    end_v = max(battery.cutoff_v, supply.min_v)
    at, limit = _end(curve is not None, end_v, rest_v, pulse_v)
    life_s, used = _at(time_s, at), _at(used_c, at)
    drained_c = usable[:, 0] - _at(usable, at)
    lost_c = np.maximum(drained_c - used, 0.0)
    limit = np.where((limit == _index(Limit.CAPACITY)) & (lost_c > used), _index(Limit.SELF_DISCHARGE), limit)
    shelf_s = shelf_life_s(battery)
    over = life_s > shelf_s
    used = np.where(over, used * shelf_s / np.maximum(life_s, 1e-30), used) if over.any() else used
    limit = np.where(over, _index(Limit.SHELF), limit)
    if curve is None:
        rest_v, pulse_v = np.full_like(rest_v, np.nan), np.full_like(pulse_v, np.nan)
    return Discharge(np.minimum(life_s, shelf_s), limit, used, lost_c, time_s, rest_v, pulse_v, share, end_v)


def limit_of(index: int) -> Limit:
    """Return the limit with that index."""
    return list(Limit)[index]


def _index(limit: Limit) -> int:
    return list(Limit).index(limit)


def _grid(battery: Battery, curve: Floats | None, steps: int) -> Floats:
    """Return states of charge from full down to the reserve, the curve's corners included."""
    share = np.linspace(1.0, battery.reserve, steps + 1)
    if curve is not None:
        corners = curve[:, 0]
        share = np.union1d(share, corners[(corners > battery.reserve) & (corners < 1)])[::-1]
    return share


def _interp(share: Floats, curve: Floats) -> Floats:
    volts: Floats = np.interp(share, curve[:, 0], curve[:, 1])
    return volts


def _steps(usable: Floats, mean: Floats, rate: Floats) -> tuple[Floats, Floats]:
    """Return length and charge given of each step, shape ``(variants, steps)``."""
    current = 0.5 * (mean[:, :-1] + mean[:, 1:])
    before, after = usable[:, :-1], usable[:, 1:]
    with np.errstate(divide="ignore", invalid="ignore"):
        slowest = (before - after) / (current + rate * after)
        lost = rate * slowest
        # ln(1 + x) / x, which is 1 where next to nothing is lost
        shorter = np.where(lost > 1e-9, np.log1p(lost) / lost, 1.0 - lost / 2)
        steps_s = np.where(np.isinf(slowest), np.inf, slowest * shorter)
        given_c = current * steps_s
    # A battery that cannot give the power gives nothing, and one that gives nothing lasts.
    steps_s = np.where(np.isinf(current), 0.0, steps_s)
    return steps_s, np.where(np.isfinite(given_c), given_c, 0.0)


def _end(has_curve: bool, end_v: float, rest_v: Floats, pulse_v: Floats) -> tuple[Floats, np.ndarray]:
    """Return the fractional step at which each variant ends, and why."""
    variants, points = rest_v.shape
    last = np.full(variants, float(points - 1))
    capacity = np.full(variants, _index(Limit.CAPACITY))
    if not has_curve:
        return last, capacity
    by_rest, by_pulse = _crossing(rest_v, end_v), _crossing(pulse_v, end_v)
    at = np.minimum(by_rest, by_pulse)
    limit = np.where(by_pulse < by_rest - 1e-6, _index(Limit.PULSE_SAG), _index(Limit.CUT_OFF))
    ended = at < points - 1
    return np.where(ended, at, last), np.where(ended, limit, capacity)


def _crossing(volts: Floats, end_v: float) -> Floats:
    """Return the fractional step at which a voltage first falls below the end, else the number of points."""
    below = volts < end_v
    first = np.where(below.any(axis=1), below.argmax(axis=1), volts.shape[1])
    at = first.astype(np.float64)
    inside = (first > 0) & (first < volts.shape[1])
    rows = np.flatnonzero(inside)
    upper, lower = volts[rows, first[rows] - 1], volts[rows, first[rows]]
    step = np.where(np.isfinite(lower), (upper - end_v) / np.where(np.isfinite(lower), upper - lower, 1.0), 0.0)
    at[rows] = first[rows] - 1 + step
    return np.asarray(at)


def _at(course: Floats, at: Floats) -> Floats:
    """Read courses at fractional steps."""
    left = np.minimum(at.astype(np.int64), course.shape[1] - 2)
    rows = np.arange(len(course))
    share = at - left
    before, after = course[rows, left], course[rows, left + 1]
    with np.errstate(invalid="ignore"):
        between = before + share * (after - before)
    return np.asarray(np.where(share == 0, before, np.where(share == 1, after, between)))
