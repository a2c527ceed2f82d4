"""The average current over the device's life, split by state or by activity."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from warm_ember.attribution.ledger import Ledger
from warm_ember.model.figure import Bound
from warm_ember.model.load import Load


@dataclass(frozen=True)
class BudgetSegment:
    """One part of the average current.

    Parameters
    ----------
    name
        A state or an activity.
    added_a
        What it adds to the average current; the segments sum to the load's mean.
    mean_a
        Mean current while it lasts, for its colour.
    bound
        On which side of the true value what it adds is known to lie.
    """

    name: str
    added_a: float
    mean_a: float
    bound: Bound | None = None


def budget_by_state(load: Load, ledger: Ledger) -> tuple[BudgetSegment, ...]:
    """Split the average by state, the largest first; activities without states keep their own name.

    Time spent in activities is taken from the base, so that the segments are what flows in each state.
    """
    if not load.costs:
        return _sorted(
            BudgetSegment(row.name, row.charge_c / ledger.measured_s, row.mean.value or 0.0, _side(row.mean.bound))
            for row in ledger.all_rows
            if ledger.measured_s
        )
    added: dict[str, float] = {}
    busy_share = 0.0
    for cost in load.costs:
        busy_share += cost.rate_hz * cost.duration_s
        parts = cost.state_charges_c or {cost.name: (cost.charge_c, cost.duration_s)}
        for name, (charge_c, _) in parts.items():
            added[name] = added.get(name, 0.0) + cost.rate_hz * charge_c
    added[load.base_name] = added.get(load.base_name, 0.0) + load.base_a * (1 - busy_share)
    means = {row.name: row.mean.value or 0.0 for row in ledger.all_rows}
    means |= {cost.name: cost.mean_a or cost.peak_a for cost in load.costs if not cost.state_charges_c}
    means.setdefault(load.base_name, load.base_a)
    bounds = {row.name: _side(row.mean.bound) for row in ledger.all_rows}
    bounds |= {cost.name: cost.bound for cost in load.costs if not cost.state_charges_c}
    bounds[load.base_name] = load.base_bound or bounds.get(load.base_name)
    return _sorted(
        BudgetSegment(name, value, means.get(name, value), bounds.get(name)) for name, value in added.items()
    )


def budget_by_activity(load: Load) -> tuple[BudgetSegment, ...]:
    """Split the average by activity, each counted above the base."""
    parts = [BudgetSegment(load.base_name, load.base_a, load.base_a, load.base_bound)]
    parts += [BudgetSegment(c.name, c.added_a(load.base_a), c.mean_a or c.peak_a, c.bound) for c in load.costs]
    return _sorted(parts)


def _side(bound: Bound | None) -> Bound | None:
    """Return at least or at most; of what is below something no more than that is known."""
    return Bound.AT_MOST if bound is Bound.BELOW else bound


def _sorted(segments: Iterable[BudgetSegment]) -> tuple[BudgetSegment, ...]:
    return tuple(sorted(segments, key=lambda s: -s.added_a))
