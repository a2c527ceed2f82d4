"""Battery life with its uncertainty, its limit, and the average current that a target allows."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import msgspec
import numpy as np

from warm_ember.battery.average import drawn, scaled, seasons_of
from warm_ember.battery.cells import REFERENCE_C, cell_of, check_battery
from warm_ember.battery.discharge import POINTS, Discharge, Limit, discharge, limit_of
from warm_ember.battery.life_density import LifeDensity, density_of
from warm_ember.battery.spreads import Spreads, spreads_of
from warm_ember.battery.supply import check_supply
from warm_ember.battery.year import check_climate, year_of
from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats
from warm_ember.model.figure import Bound, Figure, Grade
from warm_ember.model.load import LifeModel, Load
from warm_ember.units import MONTH_S, YEAR_S, interval_numbers, months_text

DRAWS = 2_000
_SEED = 20260614
_MATTERS = 0.01
_DRAWN_POINTS = 80
_LEAST_A, _MOST_A = 1e-13, 1e3
_REACH = 0.2
_EXACT = 1e-9  # of the logarithm of a current
_AROUND = np.array([-0.1, -1e-2, -1e-3, -1e-5, 0.0, 1e-5, 1e-3, 1e-2, 0.1])
_WITHIN = np.array([1 / 3, 2 / 3])
_LIKELY = np.geomspace(0.6, 1.05, 9)
_NEAR = np.geomspace(0.7, 1.4, 9)
_ROUGH_DRAWS, _ROUGH_POINTS, _ROUGH_DRAWN_POINTS = 120, 128, 48
_LONGEST_S = 1e6 * YEAR_S


@dataclass(frozen=True, eq=False)
class LifeEstimate:
    """A battery life that one can look into.

    Parameters
    ----------
    mean_a
        Average current at the load.
    life_s
        With every input at its value; infinite when nothing ends it.
    p10_s, p50_s, p90_s
        From the uncertainty of the inputs: one in ten lives is shorter than the first.
    draws_s
        The lives behind them, rising, shape ``(draws,)``.
    density
        How likely each life is, by them.
    limit
        What ends the life.
    used_c, lost_c
        Charge given to the load and lost to self-discharge.
    capacity_c, usable_c
        Rated charge, and that less the reserve.
    budget_a
        The average current at the load that lasts exactly to the target; None without a target, 0 when
        none does.
    weakest
        Value, 80 % interval (P10 to P90), weakest grade that matters and what brings it in.
    delivered
        How many times each activity comes in that life.
    course
        The single discharge with every input at its value.
    bound
        Whether the life is at least or at most that, because of currents of which only a bound is known.
    assumptions
        What is assumed of activities that were measured too seldom, as sentences.
    """

    mean_a: float
    life_s: float
    p10_s: float
    p50_s: float
    p90_s: float
    draws_s: Floats
    density: LifeDensity
    limit: Limit
    used_c: float
    lost_c: float
    capacity_c: float
    usable_c: float
    target_s: float | None
    budget_a: float | None
    weakest: Figure
    delivered: dict[str, float]
    course: Discharge
    bound: Bound | None = None
    assumptions: tuple[str, ...] = ()

    @property
    def band(self) -> tuple[float | None, float | None]:
        """The 80 % band, without the end on the side where only a bound is known."""
        low_s = None if self.bound is Bound.AT_MOST else self.p10_s
        return low_s, None if self.bound is Bound.AT_LEAST else self.p90_s

    @property
    def band_words(self) -> str:
        """The band in words, with the figures marked."""
        low_s, high_s = self.band
        if low_s is None and high_s is not None:
            return f"**9** in **10** less than {months_text(high_s).number}"
        if high_s is None and low_s is not None:
            return f"**9** in **10** more than {months_text(low_s).number}"
        if not math.isfinite(self.p90_s):
            return f"**9** in **10** more than {months_text(self.p10_s).number}"
        first, last = interval_numbers(self.p10_s / MONTH_S, self.p90_s / MONTH_S)
        return f"**8** in **10** between {first} and {last}"

    @property
    def chance(self) -> float | None:
        """Share of the draws that reach the target; None without one."""
        if self.target_s is None:
            return None
        return float(np.mean(self.draws_s >= self.target_s))


def estimate_life(model: LifeModel, target_s: float | None = None, *, draws: int = DRAWS) -> LifeEstimate:
    """Estimate how long a battery carries a load.

    Parameters
    ----------
    model
        The load, what feeds it, and the year they live in.
    target_s
        The wanted life.
    draws
        Lives to draw.

    Raises
    ------
    BadArgumentError
        If an input is impossible, or the average current is negative.

    Notes
    -----
    Monte Carlo over what `warm_ember.battery.spreads` says, and the charge and rate of each activity with their own
    spreads; the same seed each time, so that a figure changes only when an input does.
    """
    check_model(model)
    single = _discharge(model, np.ones(1))
    life_s = float(single.life_s[0])
    weakest = _weakest(model, spreads_of(model, life_s), life_s)
    budget_a = None if target_s is None else budget_current(model, target_s)
    return _estimate(model, single, _draws(model, single, draws, _DRAWN_POINTS), target_s, budget_a, weakest)


def follow_life(model: LifeModel, target_s: float | None, like: LifeEstimate) -> LifeEstimate:
    """Estimate a life roughly, for a figure that is being dragged.

    Parameters
    ----------
    model, target_s
        As for `estimate_life`.
    like
        The estimate of a like model: which input is weakest is taken from there, and the budget is looked for near
        its own. Fewer lives are drawn.

    Raises
    ------
    BadArgumentError
        As `estimate_life`.
    """
    check_model(model)
    near = bool(target_s is not None and like.budget_a and model.load.mean_a > 0)
    scales = _NEAR * (like.budget_a or 0.0) / model.load.mean_a if near else np.zeros(0)
    tried = _discharge(model, np.append(1.0, scales), _ROUGH_POINTS)
    single = tried.only(0)
    budget_a = None
    if target_s is not None:
        found_a = _between(tried.life_s[1:], target_s, scales * model.load.mean_a) if near else None
        budget_a = budget_current(model, target_s) if found_a is None else found_a
    draws_s = _draws(model, single, _ROUGH_DRAWS, _ROUGH_DRAWN_POINTS)
    return _estimate(model, single, draws_s, target_s, budget_a, (like.weakest.grade, like.weakest.origin))


def _draws(model: LifeModel, single: Discharge, draws: int, points: int) -> Floats:
    """Return lives drawn from what is known of a model, rising."""
    spreads = spreads_of(model, float(single.life_s[0]))
    variants = drawn(model, spreads, draws, np.random.default_rng(_SEED))
    return np.sort(discharge(model.battery, model.supply, model.climate, variants, points=points, like=single).life_s)


def _estimate(
    model: LifeModel,
    single: Discharge,
    draws_s: Floats,
    target_s: float | None,
    budget_a: float | None,
    weakest: tuple[Grade, str],
) -> LifeEstimate:
    battery, life_s = model.battery, float(single.life_s[0])
    p10_s, p50_s, p90_s = _quantiles(draws_s)
    return LifeEstimate(
        mean_a=model.load.mean_a,
        life_s=life_s,
        p10_s=p10_s,
        p50_s=p50_s,
        p90_s=p90_s,
        draws_s=draws_s,
        density=density_of(draws_s),
        limit=limit_of(int(single.limit[0])),
        used_c=float(single.used_c[0]),
        lost_c=float(single.lost_c[0]),
        capacity_c=battery.capacity_c,
        usable_c=battery.capacity_c * (1 - battery.reserve),
        target_s=target_s,
        budget_a=budget_a,
        weakest=Figure(life_s, p10_s, p90_s, *weakest),
        delivered=delivered(model, life_s),
        course=single,
        bound=model.load.bound and model.load.bound.opposite,
        assumptions=tuple(cost.assumption for cost in model.load.costs if cost.assumption),
    )


def check_model(model: LifeModel) -> None:
    """Check that a model is possible.

    Raises
    ------
    BadArgumentError
        Naming what is not.
    """
    check_battery(model.battery)
    check_supply(model.supply)
    check_climate(model.climate)
    mean_a = model.load.mean_a
    if not (mean_a >= 0 and math.isfinite(mean_a)):
        raise BadArgumentError(f"the average current comes to {mean_a:.4g} A: it must be 0 or more")


def life_of(model: LifeModel) -> float:
    """Return the life of a model with every input at its value, s; infinite when nothing ends it."""
    return float(_discharge(model, np.ones(1)).life_s[0])


def budget_current(model: LifeModel, target_s: float) -> float:
    """Return the average current at the load that lasts exactly to the target, 0 when none does.

    Pulses and seasons stay as they are.
    """
    if not target_s > 0:
        raise BadArgumentError(f"the target must be above 0, found {target_s}")
    if not model.load.mean_a > 0:
        model = replace(model, load=Load(Figure(1e-6), "base", model.load.costs))
    mean_a = model.load.mean_a

    def all_beyond(logarithms: Floats) -> Floats:
        lives_s = _discharge(model, np.exp(logarithms) / mean_a).life_s
        return np.log(np.clip(lives_s, 1e-9, _LONGEST_S) / target_s)

    def beyond(logarithm: float) -> float:
        return float(all_beyond(np.array([logarithm]))[0])

    lowest, highest = math.log(_LEAST_A), math.log(_MOST_A)
    # The life is nearly in proportion to one over the average, so the answer is near, and looked for from there.
    near = min(max(math.log(model.battery.capacity_c / target_s), lowest), highest)
    tried = np.clip(near + np.log(_LIKELY), lowest, highest)
    found = all_beyond(tried)
    first = int(np.argmin(np.append(found >= 0, False)))  # the first that does not last
    if 0 < first < len(tried):
        low, high = tried[first - 1 : first + 1].tolist()
        above, below = found[first - 1 : first + 1].tolist()
    else:
        low, high, reach = float(tried[0]), float(tried[-1]), _REACH
        while low > lowest and beyond(low) < 0:
            high, low, reach = low, max(low - reach, lowest), 4 * reach
        while high < highest and beyond(high) >= 0:
            low, high, reach = high, min(high + reach, highest), 4 * reach
        above, below = beyond(low), beyond(high)
        if above < 0:
            return 0.0
        if below >= 0:
            return math.exp(high)
    return math.exp(_crossing(all_beyond, low, high, above, below))


def _crossing(function: Callable[[Floats], Floats], low: float, high: float, above: float, below: float) -> float:
    """Return where a function that falls goes below 0 between two places: regula falsi, several places at a time.

    The line between the ends, where it is `above` and `below` 0, tells about where. Places close around it fence in
    what is smooth in a few rounds; those that part the stretch see to what jumps.
    """
    while high - low > _EXACT:
        shares = np.clip(above / (above - below) + _AROUND, 0.0, 1.0)
        tried = low + (high - low) * np.unique(np.concatenate((shares, _WITHIN)))
        found = function(tried)
        last = int(np.argmin(np.append(found >= 0, False)))  # the first that does not last any more
        if last < len(tried):
            high, below = float(tried[last]), float(found[last])
        if last > 0:
            low, above = float(tried[last - 1]), float(found[last - 1])
    return (low + high) / 2


def _between(lives_s: Floats, target_s: float, averages_a: Floats) -> float | None:
    """Return the average current that lasts to a target among some and their lives; None when it is not between."""
    if not lives_s[-1] < target_s <= lives_s[0] < np.inf:
        return None
    beyond = np.log(np.maximum(lives_s, 1e-9) / target_s)
    return float(np.exp(np.interp(0.0, beyond[::-1], np.log(averages_a)[::-1])))


def delivered(model: LifeModel, life_s: float) -> dict[str, float]:
    """Return how many times each activity comes in a life."""
    cell, seasons = cell_of(model.battery), seasons_of(model)
    year = year_of(model.climate, seasons, cell.self_discharge_doubles_k if cell is not None else None)
    if not math.isfinite(life_s):
        return {cost.name: math.inf if cost.rate_hz else 0.0 for cost in model.load.costs}
    weighted_s = np.diff(year.runs_s(np.array([0.0, life_s])))[:, 0]
    return {
        cost.name: float(cost.rate_hz * weighted_s[seasons.index(cost.months)])
        for cost in model.load.costs
        if cost.unseen_for_s is None
    }


def _discharge(model: LifeModel, scales: Floats, points: int = POINTS) -> Discharge:
    return discharge(model.battery, model.supply, model.climate, scaled(model, scales), points=points)


def _quantiles(draws_s: Floats) -> tuple[float, float, float]:
    if not np.isfinite(draws_s).all():
        return math.inf, math.inf, math.inf
    low, middle, high = np.quantile(draws_s, (0.1, 0.5, 0.9))
    return float(low), float(middle), float(high)


def _weakest(model: LifeModel, spreads: Spreads, life_s: float) -> tuple[Grade, str]:
    """Return the weakest grade among the inputs whose uncertainty moves the life by over 1 %, and which it is."""
    load, battery = model.load, model.battery
    less = _with(model, "capacity_c", 1 - spreads.capacity)
    leaky = _with(model, "self_discharge_per_year", 1 + spreads.self_discharge)
    candidates = [
        (battery.grade_of("capacity_c"), "capacity", _moves(less, life_s)),
        (battery.grade_of("self_discharge_per_year"), "self-discharge", _moves(leaky, life_s)),
        (load.base.grade, load.base_name, spreads.base * load.base_a / max(load.mean_a, 1e-15)),
    ]
    cell = cell_of(battery)
    if cell is not None and (cell.self_discharge_doubles_k or cell.capacity_by_temperature):
        grade = Grade.ENTERED if model.climate.months_c else Grade.ASSUMED
        candidates.append((grade, "temperature", _moves(_colder(model, spreads.temperature_k), life_s)))
    if load.base.bound is not None and load.bound is not None:
        candidates.append((Grade.BOUNDED, load.base_name, load.base_a / max(load.mean_a, 1e-15)))
    for cost in load.costs:
        effect = abs(cost.added_a(load.base_a)) / max(load.mean_a, 1e-15)
        candidates.append((cost.grade, cost.name, effect * spreads.of_charge(cost).mean))
        how = Grade.ENTERED if cost.unseen_for_s is None else Grade.ASSUMED
        candidates.append((how, f"rate of {cost.name}", effect * spreads.of_rate(cost)))
    mattering = [candidate for candidate in candidates if candidate[2] > _MATTERS] or candidates[:1]
    grade, origin, _ = max(mattering, key=lambda candidate: (candidate[0].weakness, candidate[2]))
    return grade, origin


def _with(model: LifeModel, field: str, factor: float) -> LifeModel:
    battery = model.battery
    return replace(model, battery=msgspec.structs.replace(battery, **{field: getattr(battery, field) * factor}))


def _colder(model: LifeModel, by_k: float) -> LifeModel:
    months_c = tuple(value - by_k for value in model.climate.months_c or (REFERENCE_C,))
    return replace(model, climate=msgspec.structs.replace(model.climate, months_c=months_c))


def _moves(changed: LifeModel, life_s: float) -> float:
    changed_s = life_of(changed)
    if not math.isfinite(changed_s) or not life_s > 0:
        return 0.0
    return abs(changed_s / life_s - 1)
