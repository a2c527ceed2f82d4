"""How well the figures of a model are known: what the uncertainty of a life comes from."""

from __future__ import annotations

import math
from dataclasses import dataclass

from warm_ember.model.load import ActivityCost, LifeModel, Load

CAPACITY = 0.05
SELF_DISCHARGE = 0.3
TYPED_TEMPERATURE_K = 3.0
ASSUMED_TEMPERATURE_K = 8.0
_LEAST_SPREAD = 0.01
_NORMAL_80 = 1.2815515655446004


@dataclass(frozen=True)
class Spreads:
    """Relative standard deviations, but for the temperature's, which is in K.

    Parameters
    ----------
    capacity, self_discharge, base, temperature_k
        Of these figures.
    life_s
        The life that chance has to even out in: of `n` independent occurrences ``sqrt(n)`` more or fewer come.
    """

    capacity: float
    self_discharge: float
    base: float
    temperature_k: float
    life_s: float

    def of_charge(self, cost: ActivityCost) -> float:
        """Return how well an activity's charge is known."""
        return as_normal(cost.charge_spread, cost.charge_freedom)

    def of_rate(self, cost: ActivityCost) -> float:
        """Return how well an activity's rate is known."""
        times = cost.rate_hz * self.life_s
        chance = 1 / times if cost.is_random and times > 0 and math.isfinite(times) else 0.0
        return math.hypot(cost.rate_spread, math.sqrt(chance))


def spreads_of(model: LifeModel, life_s: float) -> Spreads:
    """Return how well the figures of a model are known.

    Capacity 5 %, self-discharge 30 % (log-normal), the temperature 3 K where one was typed and 8 K where room
    temperature is assumed.
    """
    typed = bool(model.climate.months_c)
    return Spreads(
        CAPACITY,
        SELF_DISCHARGE,
        base_spread(model.load),
        TYPED_TEMPERATURE_K if typed else ASSUMED_TEMPERATURE_K,
        life_s,
    )


def base_spread(load: Load) -> float:
    """Return the relative standard deviation of the base, at least 1 %."""
    return max(_LEAST_SPREAD, as_normal(load.base_spread, load.base_freedom))


def as_normal(spread: float, freedom: float) -> float:
    """Return the standard deviation of a normal distribution with the 80 % band of Student's.

    What was measured a few times is drawn as widely as its few measurements allow.
    """
    if math.isinf(freedom):
        return spread
    from scipy.special import stdtrit

    return spread * float(stdtrit(freedom, 0.9)) / _NORMAL_80
