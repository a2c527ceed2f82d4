"""The average of a load: at the load itself, and what it asks of the supply stage season by season."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from warm_ember.battery.discharge import Variants
from warm_ember.battery.pulses import pulse_demand
from warm_ember.battery.spreads import Reach, Spreads
from warm_ember.battery.supply import demand
from warm_ember.model.arrays import Floats
from warm_ember.model.load import ActivityCost, LifeModel


def scaled(model: LifeModel, scales: Floats) -> Variants:
    """Return a model as it is but for how much is drawn on average: the pulses and the seasons stay.

    Parameters
    ----------
    model
        What is scaled.
    scales
        Factors on the average, shape ``(variants,)``.
    """
    ones = np.ones(len(scales))
    load = model.load
    average = _average(
        model, ones * load.base_a, [ones * c.charge_c for c in load.costs], [ones * c.rate_hz for c in load.costs]
    )
    return _variants(
        model,
        np.maximum(average, 0.0) * scales[:, None],
        model.battery.capacity_c * ones,
        model.battery.self_discharge_per_year * ones,
        0.0 * ones,
    )


def drawn(model: LifeModel, spreads: Spreads, draws: int, random: np.random.Generator) -> Variants:
    """Draw models from what is known of one.

    Parameters
    ----------
    model
        The middle of what is drawn.
    spreads
        How well its figures are known.
    draws
        How many.
    random
        Where chance comes from.
    """

    def spread(relative: float) -> Floats:
        # Log-normal with mean 1: charges, rates and capacities are never negative.
        sigma = math.sqrt(math.log1p(relative**2))
        return np.exp(sigma * random.standard_normal(draws) - sigma**2 / 2)

    def measured(reach: Reach) -> Floats:
        # As likely to be above as below: of what was seen too seldom the true value may be several times as large.
        normal = random.standard_normal(draws)
        return np.exp(np.where(normal < 0, reach.below, reach.above) * normal)

    load, battery = model.load, model.battery
    known = Reach(spreads.base, spreads.base)
    base_a = load.base_a * (spread(spreads.base) if math.isinf(load.base_freedom) else measured(known))
    charges_c, rates_hz = [], []
    for cost in load.costs:
        reach = spreads.of_charge(cost)
        factor = spread(reach.mean) if math.isinf(cost.charge_freedom) else measured(reach)
        charges_c.append(cost.charge_c * factor)
        if cost.unseen_for_s is None:
            rates_hz.append(cost.rate_hz * spread(spreads.of_rate(cost)))
        else:
            rates_hz.append(random.standard_normal(draws) ** 2 / (2 * cost.unseen_for_s))
    return _variants(
        model,
        np.maximum(_average(model, base_a, charges_c, rates_hz), 0.0),
        battery.capacity_c * spread(spreads.capacity),
        battery.self_discharge_per_year * spread(spreads.self_discharge),
        spreads.temperature_k * random.standard_normal(draws),
    )


def _variants(
    model: LifeModel, average: Floats, capacity_c: Floats, self_discharge_per_year: Floats, warmer_k: Floats
) -> Variants:
    highest, pulses = pulse_demand(model.load, model.supply)
    return Variants(
        average,
        np.full(len(average), highest),
        capacity_c,
        self_discharge_per_year,
        warmer_k,
        seasons_of(model),
        pulses,
    )


def seasons_of(model: LifeModel) -> tuple[tuple[float, ...], ...]:
    """Return the patterns over the year that activities follow, the even one first."""
    return ((), *dict.fromkeys(cost.months for cost in model.load.costs if cost.months))


def _average(model: LifeModel, base_a: Floats, charges_c: Sequence[Floats], rates_hz: Sequence[Floats]) -> Floats:
    """Return average demands by season: ``base + sum(rate (charge - base duration))``, each at its own efficiency."""
    load, stage, seasons = model.load, model.supply, seasons_of(model)
    asked = demand(stage, load.base_a)
    average = np.zeros((len(base_a), len(seasons)))
    average[:, 0] = base_a * asked
    for cost, charge_c, rate_hz in zip(load.costs, charges_c, rates_hz, strict=True):
        above_c = charge_c * demand(stage, _while_it_lasts_a(cost, load.base_a)) - base_a * cost.duration_s * asked
        average[:, seasons.index(cost.months)] += rate_hz * above_c
    return average


def _while_it_lasts_a(cost: ActivityCost, base_a: float) -> float:
    """Return the current at which an activity's charge flows, as far as that is known."""
    return cost.mean_a or cost.peak_a or base_a
