"""Battery life with its uncertainty, its limit, and the average current that a target allows."""

from __future__ import annotations

import math
from dataclasses import dataclass

import msgspec
import numpy as np

from warm_ember.battery.cells import check_battery
from warm_ember.battery.discharge import Discharge, Limit, Variants, discharge, limit_of
from warm_ember.battery.supply import check_supply
from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery, SupplyStage
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import Load

DRAWS = 2000
CAPACITY_SPREAD = 0.05
SELF_DISCHARGE_SPREAD = 0.3
_MATTERS = 0.01
_DRAWN_STEPS = 60


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
        The lives behind them, rising, shape ``(DRAWS,)``.
    limit
        What ends the life.
    used_c, lost_c
        Charge given to the load and lost to self-discharge.
    usable_c
        Capacity less the reserve.
    budget_a
        The average current at the load that lasts exactly to the target; None without a target, 0 when
        none does.
    weakest
        Value, 80 % interval (P10 to P90), weakest grade that matters and what brings it in.
    course
        The single discharge with every input at its value.
    """

    mean_a: float
    life_s: float
    p10_s: float
    p50_s: float
    p90_s: float
    draws_s: Floats
    limit: Limit
    used_c: float
    lost_c: float
    usable_c: float
    target_s: float | None
    budget_a: float | None
    weakest: Figure
    course: Discharge

    @property
    def chance(self) -> float | None:
        """Share of the draws that reach the target; None without one."""
        if self.target_s is None:
            return None
        return float(np.mean(self.draws_s >= self.target_s))


def estimate_life(load: Load, battery: Battery, supply: SupplyStage, target_s: float | None = None) -> LifeEstimate:
    """Estimate how long a battery carries a load.

    Parameters
    ----------
    load
        Base and activities.
    battery, supply
        What feeds it.
    target_s
        The wanted life.

    Raises
    ------
    BadArgumentError
        If an input is impossible, or the average current is negative.

    Notes
    -----
    Monte Carlo over the capacity (5 %), the self-discharge (log-normal, 30 %), the base, and the charge and
    rate of each activity with their own spreads; the same seed each time, so that a figure changes only when
    an input does.
    """
    check_battery(battery)
    check_supply(supply)
    if not (load.mean_a >= 0 and math.isfinite(load.mean_a)):
        raise BadArgumentError(f"the average current comes to {load.mean_a:.4g} A: it must be 0 or more")
    single = discharge(battery, supply, _single(load.mean_a, load, battery))
    draws_s = np.sort(discharge(battery, supply, _drawn(load, battery), steps=_DRAWN_STEPS).life_s)
    p10_s, p50_s, p90_s = _quantiles(draws_s)
    life_s = float(single.life_s[0])
    grade, origin = _weakest(load, battery, supply, life_s)
    return LifeEstimate(
        mean_a=load.mean_a,
        life_s=life_s,
        p10_s=p10_s,
        p50_s=p50_s,
        p90_s=p90_s,
        draws_s=draws_s,
        limit=limit_of(int(single.limit[0])),
        used_c=float(single.used_c[0]),
        lost_c=float(single.lost_c[0]),
        usable_c=battery.capacity_c * (1 - battery.reserve),
        target_s=target_s,
        budget_a=None if target_s is None else budget_current(load, battery, supply, target_s),
        weakest=Figure(life_s, p10_s, p90_s, grade, origin),
        course=single,
    )


def life_at(mean_a: float, load: Load, battery: Battery, supply: SupplyStage) -> float:
    """Return the life at another average current with the same pulses."""
    return float(discharge(battery, supply, _single(mean_a, load, battery)).life_s[0])


def budget_current(load: Load, battery: Battery, supply: SupplyStage, target_s: float) -> float:
    """Return the average current at the load that lasts exactly to the target, 0 when none does."""
    if not target_s > 0:
        raise BadArgumentError(f"the target must be above 0, found {target_s}")
    low, high = 1e-12, battery.capacity_c / target_s * 4 + 1e-12
    if life_at(low, load, battery, supply) < target_s:
        return 0.0
    while life_at(high, load, battery, supply) >= target_s:
        high *= 4
    for _ in range(60):
        middle = math.sqrt(low * high)
        if life_at(middle, load, battery, supply) >= target_s:
            low = middle
        else:
            high = middle
    return math.sqrt(low * high)


def _single(mean_a: float, load: Load, battery: Battery) -> Variants:
    return Variants(
        np.array([mean_a]),
        np.array([load.peak_a]),
        np.array([battery.capacity_c]),
        np.array([battery.self_discharge_per_year]),
    )


def _drawn(load: Load, battery: Battery) -> Variants:
    random = np.random.default_rng(20260614)

    def spread(relative: float) -> Floats:
        # Log-normal with mean 1: charges, rates and capacities are never negative.
        sigma = math.sqrt(math.log1p(relative**2))
        return np.exp(sigma * random.standard_normal(DRAWS) - sigma**2 / 2)

    base = load.base_a * spread(base_spread(load))
    mean = base.copy()
    for cost in load.costs:
        charge = cost.charge_c * spread(cost.charge_spread)
        mean += cost.rate_hz * spread(cost.rate_spread) * (charge - base * cost.duration_s)
    return Variants(
        np.maximum(mean, 0.0),
        np.full(DRAWS, load.peak_a),
        battery.capacity_c * spread(CAPACITY_SPREAD),
        battery.self_discharge_per_year * spread(SELF_DISCHARGE_SPREAD),
    )


def base_spread(load: Load) -> float:
    """Return the relative standard deviation of the base: from its 90 % interval, at least 2 %, else 5 %."""
    base = load.base
    if base.low is None or base.high is None or not base.value:
        return 0.05
    return max(0.02, (base.high - base.low) / 3.29 / abs(base.value))


def _quantiles(draws_s: Floats) -> tuple[float, float, float]:
    if not np.isfinite(draws_s).all():
        return math.inf, math.inf, math.inf
    low, middle, high = np.quantile(draws_s, (0.1, 0.5, 0.9))
    return float(low), float(middle), float(high)


def _weakest(load: Load, battery: Battery, supply: SupplyStage, life_s: float) -> tuple[Grade, str]:
    """Return the weakest grade among the inputs whose uncertainty moves the life by over 1 %, and which it is."""
    candidates = [
        (
            battery.grade,
            "capacity",
            _moves(load, _with(battery, "capacity_c", 1 - CAPACITY_SPREAD), supply, life_s),
        ),
        (
            battery.grade,
            "self-discharge",
            _moves(load, _with(battery, "self_discharge_per_year", 1 + SELF_DISCHARGE_SPREAD), supply, life_s),
        ),
        (load.base.grade, load.base_name, base_spread(load) * load.base_a / max(load.mean_a, 1e-15)),
    ]
    for cost in load.costs:
        effect = abs(cost.added_a(load.base_a)) / max(load.mean_a, 1e-15)
        candidates.append((cost.grade, cost.name, effect * cost.charge_spread))
        candidates.append((Grade.TYPED, f"rate of {cost.name}", effect * cost.rate_spread))
    mattering = [candidate for candidate in candidates if candidate[2] > _MATTERS] or candidates[:1]
    grade, origin, _ = max(mattering, key=lambda candidate: (candidate[0].weakness, candidate[2]))
    return grade, origin


def _with(battery: Battery, field: str, factor: float) -> Battery:
    return msgspec.structs.replace(battery, **{field: getattr(battery, field) * factor})


def _moves(load: Load, battery: Battery, supply: SupplyStage, life_s: float) -> float:
    changed_s = life_at(load.mean_a, load, battery, supply)
    if not math.isfinite(changed_s) or not life_s > 0:
        return 0.0
    return abs(changed_s / life_s - 1)
