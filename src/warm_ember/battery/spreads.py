"""How well the figures of a model are known: what the uncertainty of a life comes from."""

from __future__ import annotations

import math
from dataclasses import dataclass

from warm_ember.model.estimate import Estimate
from warm_ember.model.load import ActivityCost, LifeModel, Load

CAPACITY = 0.05
SELF_DISCHARGE = 0.3
TYPED_TEMPERATURE_K = 3.0
ASSUMED_TEMPERATURE_K = 8.0
_LEAST_SPREAD = 0.01
_NORMAL_80 = 1.2815515655446004
_FARTHEST = 5.0
"""What is known worse than to a factor of some hundreds is not known, and no draw of it leaves what numbers hold."""


@dataclass(frozen=True)
class Reach:
    """Relative standard deviations below and above what is taken to be true."""

    below: float
    above: float

    @property
    def mean(self) -> float:
        """Of both sides."""
        return (self.below + self.above) / 2


@dataclass(frozen=True)
class Estimated:
    """How standard deviations count that were estimated from few measurements.

    Parameters
    ----------
    freedom
        Degrees of freedom of what is drawn; infinite where nothing was estimated.
    factor
        What they are multiplied by.
    """

    freedom: float
    factor: float

    @property
    def as_normal(self) -> float:
        """By what a normal distribution is wider that has the 80 % band of Student's."""
        from scipy.special import stdtrit

        return self.factor * (1.0 if math.isinf(self.freedom) else float(stdtrit(self.freedom, 0.9)) / _NORMAL_80)


@dataclass(frozen=True)
class Spreads:
    """Relative standard deviations, but for the temperature's, which is in K.

    Parameters
    ----------
    capacity, self_discharge, base, temperature_k
        Of these figures.
    life_s
        The life that chance has to even out in: of `n` independent occurrences ``sqrt(n)`` more or fewer come.
    estimated
        How those count that were estimated from few measurements.
    """

    capacity: float
    self_discharge: float
    base: float
    temperature_k: float
    life_s: float
    estimated: Estimated

    def of_charge(self, cost: ActivityCost) -> Reach:
        """Return how well an activity's charge is known."""
        if math.isinf(cost.charge_freedom):
            return Reach(cost.charge_spread, cost.charge_spread)
        wide = self.estimated.factor
        known = Estimate(1.0, wide * cost.charge_spread, self.estimated.freedom, wide**3 * cost.charge_skew)
        low, high = known.interval(0.8) or (0.0, 2.0)
        return Reach(min((1 - low) / _NORMAL_80, _FARTHEST), min((high - 1) / _NORMAL_80, _FARTHEST))

    def of_rate(self, cost: ActivityCost) -> float:
        """Return how well an activity's rate is known."""
        return rate_spread(cost, self.life_s)


def rate_spread(cost: ActivityCost, life_s: float) -> float:
    """Return the relative standard deviation of an activity's rate, with what chance makes of it in a life."""
    times = cost.rate_hz * life_s
    chance = 1 / times if cost.is_random and times > 0 and math.isfinite(times) else 0.0
    return math.hypot(cost.rate_spread, math.sqrt(chance))


def spreads_of(model: LifeModel, life_s: float) -> Spreads:
    """Return how well the figures of a model are known.

    Capacity 5 %, self-discharge 30 % (log-normal), the temperature 3 K where one was typed and 8 K where room
    temperature is assumed.
    """
    typed, load = bool(model.climate.months_c), model.load
    estimated = _estimated(load, life_s)
    wider = 1.0 if math.isinf(load.base_freedom) else estimated.as_normal
    base = min(wider * load.base_spread, _FARTHEST)
    return Spreads(
        CAPACITY,
        SELF_DISCHARGE,
        max(_LEAST_SPREAD, base),
        TYPED_TEMPERATURE_K if typed else ASSUMED_TEMPERATURE_K,
        life_s,
        estimated,
    )


def _estimated(load: Load, life_s: float) -> Estimated:
    """Return how the spreads count that were estimated.

    What was measured a few times is known as widely as so few measurements allow, by Student's distribution, but the
    less so the more of the life's spread comes from what is known besides. The freedom of all of it together would
    be too much where one part has next to none; the geometric mean of it and of that of the estimated parts holds.

    References
    ----------
    F. E. Satterthwaite, "An approximate distribution of estimates of variance components", *Biometrics Bulletin* 2,
    1946.
    """
    parts = [(load.base_a * load.base_spread, load.base_freedom)]
    parts += [(cost.rate_hz * cost.charge_c * cost.charge_spread, cost.charge_freedom) for cost in load.costs]
    rates_a = [cost.rate_hz * cost.charge_c * rate_spread(cost, life_s) for cost in load.costs]
    known = (CAPACITY * load.mean_a) ** 2 + math.fsum(rate_a**2 for rate_a in rates_a)
    known += math.fsum(part**2 for part, freedom in parts if math.isinf(freedom))
    variance = math.fsum(part**2 for part, freedom in parts if not math.isinf(freedom))
    spent = math.fsum(part**4 / freedom for part, freedom in parts)
    if not spent:
        return Estimated(math.inf, 1.0)
    freedom = variance * (known + variance) / spent
    wider = Estimated(freedom, 1.0).as_normal
    # All together is to be as wide as Student's distribution for its freedom: what is known is not made wider.
    factor = math.sqrt(max((wider**2 * (known + variance) - known) / variance, 1.0)) / wider
    return Estimated(freedom, factor)
