"""Emptying a battery: how long a load can be carried, and what ends it.

What comes and goes with the year enters by its running integrals, so a fixed number of points follows ten years as
well as a day, and any number of variants are emptied at once.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, fields, replace
from enum import StrEnum
from functools import cached_property

import numpy as np

from warm_ember.battery.cells import interpolate_log, shelf_life_s
from warm_ember.battery.pack import Pack
from warm_ember.battery.supply import battery_current
from warm_ember.battery.year import year_of
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery, Climate, Points, SupplyKind, SupplyStage
from warm_ember.units import YEAR_S

POINTS = 480
LONGEST_S = 1e9 * YEAR_S
_NOTHING_A = 1e-30
_NOTHING_LOST = 1e-12
"""Far below what matters: the logarithm over its argument stays defined, and right to rounding."""
_MOST_LOST = 300.0
_ROUNDING = 1e-11
_SETTLED = 1e-4
_ROUNDS = 8
_ZOOMS = 4
_FOCUSES, _FOCUS_POINTS = 2, 160
_COARSE, _BEYOND, _AMPLE = 0.7, 1.05, 1.3
_UNEVEN = 1.5
_LIKELY, _LIKELY_MORE_S = 1.15, 0.15 * YEAR_S
_BLOCK = 1 << 15
"""Points followed at once: what is worked out of so many stays in the processor's memory."""


class Limit(StrEnum):
    """What ends a life."""

    CAPACITY = "capacity"
    CUT_OFF = "cut-off"
    PULSE_SAG = "pulse-sag"
    SELF_DISCHARGE = "self-discharge"
    SHELF = "shelf"


@dataclass(frozen=True, eq=False)
class Variants:
    """Loads and batteries to try at once.

    Parameters
    ----------
    demand_a
        Average demand of what follows each season, A, shape ``(variants, seasons)``: see
        `warm_ember.battery.supply.demand`.
    peak_a
        Highest demand, shape ``(variants,)``.
    capacity_c
        Rated charge of the pack, shape ``(variants,)``.
    self_discharge_per_year
        Share of the remaining charge lost in 8760 h at 20 °C, shape ``(variants,)``.
    warmer_k
        How much warmer it is than the climate says, shape ``(variants,)``.
    seasons
        Patterns of 12 weights; an empty one is even.
    pulses
        What is left of the highest demand by the time constant of resistance and input capacitance.
    """

    demand_a: Floats
    peak_a: Floats
    capacity_c: Floats
    self_discharge_per_year: Floats
    warmer_k: Floats
    seasons: tuple[tuple[float, ...], ...] = ((),)
    pulses: Points = ()

    def block(self, first: int, count: int) -> Variants:
        """Return some of them."""
        last = first + count
        return replace(
            self,
            demand_a=self.demand_a[first:last],
            peak_a=self.peak_a[first:last],
            capacity_c=self.capacity_c[first:last],
            self_discharge_per_year=self.self_discharge_per_year[first:last],
            warmer_k=self.warmer_k[first:last],
        )


@dataclass(frozen=True, eq=False)
class Discharge:
    """How variants end, arrays of shape ``(variants,)`` and courses of shape ``(variants, points)``.

    Parameters
    ----------
    life_s
        Time to the end; infinite when nothing ends it.
    limit
        What ends it, as indices into `Limit`'s members.
    used_c, lost_c
        Charge given to load and supply stage, and lost to self-discharge, by then.
    has_ended
        Whether that is within the course.
    longest_s
        By when it is certainly empty, or past its shelf life.
    time_s, rest_v, pulse_v
        Course to the end and a little beyond: when, and the voltage under the mean and under the highest current.
        The voltages are NaN without a cell.
    temperature_c
        How warm it is then.
    spare_share
        Share of the capacity that is left and can be taken at that temperature and load, the reserve kept.
    charge_share
        What is left of the capacity along the course.
    end_v
        Voltage below which the device stops.
    """

    life_s: Floats
    limit: np.ndarray
    used_c: Floats
    lost_c: Floats
    has_ended: np.ndarray
    longest_s: Floats
    time_s: Floats
    rest_v: Floats
    pulse_v: Floats
    temperature_c: Floats
    spare_share: Floats
    charge_share: Floats
    end_v: float

    def only(self, index: int) -> Discharge:
        """Return how one of the variants ends."""
        mine = {
            field.name: getattr(self, field.name)[index : index + 1] for field in fields(self) if field.name != "end_v"
        }
        return Discharge(**mine, end_v=self.end_v)


def discharge(
    battery: Battery,
    supply: SupplyStage,
    climate: Climate,
    variants: Variants,
    *,
    points: int = POINTS,
    like: Discharge | None = None,
) -> Discharge:
    """Empty a battery under average loads.

    Parameters
    ----------
    battery, supply, climate
        What is the same for all variants.
    variants
        What differs.
    points
        Points of a course.
    like
        How one such battery goes, if that is known: the others will not go very differently.

    Notes
    -----
    Usable is ``C (1 - reserve)``. With ``dq/dt = -(i w(t) + k u(t) q)``, where `w` and `u` are what the year makes of
    load and loss, and `U` is the integral of `u`, ``q(t) exp(k U(t)) = q(0) - integral(i w exp(k U) dt)``. Over a
    constant current that is empty at ``ln(1 + k C / I) / k``. The integrals of `w` and `u` are known exactly, so a
    fixed number of points serves a day as well as ten years. Behind a switching stage `i` depends on the voltage and
    so on `q`: it is worked out again until it stays.

    Life ends where ``v_oc - i r`` falls below the larger of cut-off and the stage's lowest input, under the mean
    (``cut-off``) or the highest current (``pulse-sag``), or where what is left above the reserve cannot be taken at
    that temperature and load (``capacity``); linearly between points, which lie close where it ends. When more is lost
    than used by then, self-discharge is what limits the life.

    References
    ----------
    The integral is that of a first-order linear differential equation by its integrating factor: E. Kreyszig, *Advanced
    Engineering Mathematics*, 10th ed. 2011, section 1.5.
    """
    count = max(_BLOCK // points, 1)
    blocks = [variants.block(first, count) for first in range(0, max(len(variants.peak_a), 1), count)]
    return _joined([_followed(_DischargeSimulation(battery, supply, climate, one, points), like) for one in blocks])


def _joined(parts: list[Discharge]) -> Discharge:
    if len(parts) == 1:
        return parts[0]
    names = [field.name for field in fields(Discharge) if field.name != "end_v"]
    whole = {name: np.concatenate([getattr(part, name) for part in parts]) for name in names}
    return Discharge(**whole, end_v=parts[0].end_v)


def _followed(empty: _DischargeSimulation, like: Discharge | None) -> Discharge:
    """Follow batteries as far as they last."""
    longest_s, points = empty.longest_s, len(empty.grid)
    share = np.ones(1)
    if like is not None and math.isfinite(like.life_s[0]) and like.life_s[0] > 0:
        horizon_s = np.minimum(longest_s, _AMPLE * like.life_s[0] / like.longest_s[0] * longest_s)
        share = np.interp(_AMPLE * empty.grid, like.time_s[0] / like.life_s[0], like.charge_share[0])
        found = empty.over(empty.evenly(horizon_s), share)
        late = ~found.has_ended & (horizon_s < longest_s)
        return empty.over(empty.evenly(np.where(late, longest_s, horizon_s)), share) if late.any() else found
    horizon_s = np.minimum(longest_s, _LIKELY * empty.annual_s + _LIKELY_MORE_S)
    found = empty.over(empty.evenly(horizon_s), share)
    late = ~found.has_ended & (horizon_s < longest_s)
    if late.any():
        horizon_s = np.where(late, longest_s, horizon_s)
        found = empty.over(empty.evenly(horizon_s), share)
    for _ in range(_ZOOMS):
        # Few points on the life itself would miss a cold week.
        if not (found.life_s < _COARSE * horizon_s).any():
            break
        step_s = horizon_s / (points - 1)
        horizon_s = np.where(np.isfinite(found.life_s), _BEYOND * found.life_s + 2 * step_s, horizon_s)
        horizon_s = np.minimum(horizon_s, longest_s)
        found = empty.over(empty.evenly(horizon_s), share)
    # A voltage bends where the cell's curve does: many points where it ends tell the end of the life exactly.
    step_s = horizon_s / (points - 1)
    for _ in range(_FOCUSES if empty.pack.has_voltage and points >= POINTS else 0):
        near = found.has_ended & (found.life_s > 0)
        if not near.any():
            break
        low_s, high_s = found.life_s - step_s, np.minimum(found.life_s + step_s, horizon_s)
        times_s = _focused(np.maximum(low_s, 0.0), high_s, points)
        times_s = np.where(near[:, None], times_s, empty.evenly(horizon_s))
        guess = np.array(
            [np.interp(t, at, left) for t, at, left in zip(times_s, found.time_s, found.charge_share, strict=True)]
        )
        found = empty.over(times_s, guess)
        step_s = step_s * (2 / _FOCUS_POINTS)
    return found


def _focused(low_s: Floats, high_s: Floats, points: int) -> Floats:
    """Return times from 0 to some end, many of them in the stretch before it, shape ``(variants, points)``."""
    before = np.linspace(0.0, 1.0, points - _FOCUS_POINTS) * low_s[:, None]
    within = np.arange(1, _FOCUS_POINTS + 1) / _FOCUS_POINTS * (high_s - low_s)[:, None]
    return np.concatenate((before, low_s[:, None] + within), axis=1)


class _DischargeSimulation:
    """Some batteries and their loads, to be followed over as long as one likes."""

    def __init__(
        self, battery: Battery, supply: SupplyStage, climate: Climate, variants: Variants, points: int
    ) -> None:
        self.battery, self.supply, self.variants = battery, supply, variants
        self.pack = Pack(battery)
        self.year = year_of(climate, variants.seasons, self.pack.cell.self_discharge_doubles_k)
        self.mean_a = variants.demand_a.sum(axis=1)
        shares = variants.demand_a / np.where(self.mean_a > 0, self.mean_a, 1.0)[:, None]
        if (shares == shares[0]).all():
            self.year, shares = self.year.joined(shares[0]), np.ones((len(shares), 1))
        self.shares = shares
        self.rate = variants.self_discharge_per_year / YEAR_S * self.pack.loss_factor(variants.warmer_k)
        self.usable_c = (1 - battery.reserve) * variants.capacity_c
        self.grid = np.linspace(0.0, 1.0, points)
        self.shelf_s = shelf_life_s(battery)

    @cached_property
    def longest_s(self) -> Floats:
        """By when they are certainly empty or past their shelf life, shape ``(variants,)``."""
        bound_s = self.annual_s if self.year.is_even else self.annual_s * _UNEVEN + YEAR_S
        return np.asarray(np.minimum(bound_s, min(self.shelf_s, LONGEST_S)))

    @cached_property
    def annual_s(self) -> Floats:
        """How long they would last at most if each day were like the mean of the year, shape ``(variants,)``."""
        full = np.ones(1)
        given_a = battery_current(self.supply, self.mean_a, self.pack.open_v(full), self.pack.resistance_ohm(full))
        # A full battery has the highest voltage, so behind a switching stage it never gives less than then.
        slowest_s = self.usable_c / np.where(np.isfinite(given_a), given_a + _NOTHING_A, 1.0)
        lost = self.rate * self.year.loss_mean * slowest_s + _NOTHING_LOST
        return np.asarray(np.where(given_a > 0, slowest_s * np.log1p(lost) / lost, np.inf))

    def evenly(self, horizon_s: Floats) -> Floats:
        """Return evenly spaced times up to an end of shape ``(variants,)``."""
        return np.asarray(horizon_s[:, None] * self.grid)

    def over(self, time_s: Floats, share: Floats) -> Discharge:
        """Follow the batteries through times of shape ``(variants, points)``, their charge about like `share`."""
        variants, pack, supply = self.variants, self.pack, self.supply
        load_s, loss_s = self._runs(time_s)
        temperature_c = self._temperature_c(time_s)
        mean_a = self.mean_a[:, None]
        hardened, warmer_v = pack.resistance_factor(temperature_c, time_s), pack.warmer_v(temperature_c)
        # No capacity at all is tried too: nothing of nothing is left then.
        capacity_c = np.maximum(variants.capacity_c, 1e-30)[:, None]
        left = np.atleast_2d(share)
        for _ in range(_ROUNDS):
            given_a = self._given_a(mean_a, left, hardened, warmer_v)
            usable_c, used_c = self._charge(time_s, load_s, loss_s, np.broadcast_to(given_a, time_s.shape))
            before, left = left, self.battery.reserve + np.maximum(usable_c, 0.0) / capacity_c
            if supply.kind is not SupplyKind.SWITCHING or np.abs(left - before).max() < _SETTLED:
                break
        ohm, open_v = pack.resistance_ohm(left, hardened), pack.open_v(left, warmer_v)
        given_a = battery_current(supply, mean_a, open_v, ohm)
        peak_a = interpolate_log(variants.pulses, ohm * supply.input_f) if variants.pulses else variants.peak_a[:, None]
        highest_a = battery_current(supply, np.maximum(peak_a, mean_a), open_v, ohm)
        rest_v, pulse_v = open_v - given_a * ohm, open_v - highest_a * ohm
        spare = usable_c / capacity_c - pack.unavailable_fraction(temperature_c, given_a)
        return self._ended(_Course(time_s, left, usable_c, used_c, rest_v, pulse_v, temperature_c, spare))

    def _given_a(self, mean_a: Floats, left: Floats, hardened: Floats, warmer_v: Floats) -> Floats:
        """Return what the battery gives; without a switching stage its voltage does not matter, so is not looked up."""
        if self.supply.kind is not SupplyKind.SWITCHING:
            return battery_current(self.supply, mean_a, np.zeros(1), 0.0)
        ohm, open_v = self.pack.resistance_ohm(left, hardened), self.pack.open_v(left, warmer_v)
        return battery_current(self.supply, mean_a, open_v, ohm)

    def _runs(self, time_s: Floats) -> tuple[Floats, Floats]:
        """Return the integrals of load and loss, as multiples of their means, at some times."""
        if self.year.is_even:
            return time_s, self.year.loss_mean * time_s
        runs = self.year.runs_s(time_s)
        runs -= runs[..., :1].copy()
        load_s = runs[0] if self.shares.shape[1] == 1 else np.einsum("svp,vs->vp", runs[:-1], self.shares)
        return np.asarray(load_s), np.asarray(runs[-1])

    def _temperature_c(self, time_s: Floats) -> Floats:
        warmer_k = self.variants.warmer_k[:, None]
        if self.year.is_even:
            return np.asarray(self.year.temperature_c(np.zeros((1, 1))) + warmer_k)
        return np.asarray(self.year.temperature_c(time_s) + warmer_k)

    def _charge(self, time_s: Floats, load_s: Floats, loss_s: Floats, given_a: Floats) -> tuple[Floats, Floats]:
        """Return what is left above the reserve, below 0 once it is empty, and what load and stage have got."""
        quiescent_a = self.supply.quiescent_a
        above_a = np.where(np.isfinite(given_a), given_a, 0.0) - quiescent_a
        drawn_c = 0.5 * (above_a[:, 1:] + above_a[:, :-1]) * np.diff(load_s) + quiescent_a * np.diff(time_s)
        lost = self.rate[:, None] * loss_s
        step = np.minimum(np.diff(lost) + _NOTHING_LOST, _MOST_LOST)
        grown = np.exp(np.minimum(lost, _MOST_LOST))
        # The mean of a growing exponential over a step.
        weight = grown[:, :-1] * np.expm1(step) / step
        start = np.zeros((len(time_s), 1))
        gone_c = np.concatenate((start, np.cumsum(drawn_c * weight, axis=1)), axis=1)
        used_c = np.concatenate((start, np.cumsum(drawn_c, axis=1)), axis=1)
        return (self.usable_c[:, None] - gone_c) / grown, used_c

    def _ended(self, course: _Course) -> Discharge:
        """Find where courses end."""
        end_v = max(self.battery.cutoff_v, self.supply.min_v)
        rows, last = np.arange(len(course.time_s)), float(course.time_s.shape[1] - 1)
        spare_at = _crossing(course.spare, -_ROUNDING)
        at, limit = np.minimum(spare_at, last), np.full(len(rows), _index(Limit.CAPACITY))
        # What only leaks gets ever slower and is never empty.
        ended = (spare_at <= last) | ((course.spare[:, -1] <= _ROUNDING) & (course.used_c[:, -1] > 0))
        if self.pack.has_voltage:
            by_rest, by_pulse = _crossing(course.rest_v, end_v), _crossing(course.pulse_v, end_v)
            by_voltage = np.minimum(by_rest, by_pulse)
            why = np.where(by_pulse < by_rest - 1e-6, _index(Limit.PULSE_SAG), _index(Limit.CUT_OFF))
            first = (by_voltage <= last) & (by_voltage < at)
            at, limit, ended = np.where(first, by_voltage, at), np.where(first, why, limit), ended | first
        life_s, used_c = _at(course.time_s, at), _at(course.used_c, at)
        lost_c = np.maximum(self.usable_c - _at(course.usable_c, at) - used_c, 0.0)
        limit = np.where((limit == _index(Limit.CAPACITY)) & (lost_c > used_c), _index(Limit.SELF_DISCHARGE), limit)
        shelf = ~ended & (course.time_s[:, -1] >= self.shelf_s)
        limit = np.where(shelf, _index(Limit.SHELF), limit)
        forever = ~ended & ~shelf & (course.time_s[:, -1] >= LONGEST_S)
        blank = None if self.pack.has_voltage else np.full_like(course.rest_v, np.nan)
        return Discharge(
            life_s=np.where(forever, np.inf, life_s),
            limit=limit,
            used_c=used_c,
            lost_c=lost_c,
            has_ended=ended,
            time_s=course.time_s,
            rest_v=course.rest_v if blank is None else blank,
            pulse_v=course.pulse_v if blank is None else blank,
            longest_s=self.longest_s,
            temperature_c=np.asarray(np.broadcast_to(course.temperature_c, course.time_s.shape)),
            spare_share=course.spare,
            charge_share=course.share,
            end_v=end_v,
        )


@dataclass(frozen=True, eq=False)
class _Course:
    """Courses before it is known where they end."""

    time_s: Floats
    share: Floats
    usable_c: Floats
    used_c: Floats
    rest_v: Floats
    pulse_v: Floats
    temperature_c: Floats
    spare: Floats


def limit_of(index: int) -> Limit:
    """Return the limit with that index."""
    return list(Limit)[index]


def _index(limit: Limit) -> int:
    return list(Limit).index(limit)


def _crossing(course: Floats, end: float) -> Floats:
    """Return the fractional point at which a course first falls below an end, else the number of points."""
    below = ~(course >= end)
    first = np.where(below.any(axis=1), below.argmax(axis=1), course.shape[1])
    at = first.astype(np.float64)
    inside = (first > 0) & (first < course.shape[1])
    rows = np.flatnonzero(inside)
    upper, lower = course[rows, first[rows] - 1], course[rows, first[rows]]
    step = np.where(np.isfinite(lower), (upper - end) / np.where(np.isfinite(lower), upper - lower, 1.0), 0.0)
    at[rows] = first[rows] - 1 + step
    return np.asarray(at)


def _at(course: Floats, at: Floats) -> Floats:
    """Read courses at fractional points."""
    left = np.minimum(at.astype(np.int64), course.shape[1] - 2)
    rows = np.arange(len(course))
    before, after = course[rows, left], course[rows, left + 1]
    return np.asarray(before + (at - left) * (after - before))
