"""What the start page says of the demo's battery: how long it lasts at each decade of current."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.battery.life import budget_current, life_of
from warm_ember.model.figure import Figure
from warm_ember.model.load import LifeModel, Load
from warm_ember.session.demo import demo_project

_DECADES = range(-9, 1)


@dataclass(frozen=True)
class DecadeLives:
    """How long the demo's battery lasts, by constant current, and what its target allows.

    Parameters
    ----------
    lives_s
        Life by current, A, in the order of current.
    budget_a, target_s
        The demo's target, and the average current that it allows.
    """

    lives_s: tuple[tuple[float, float], ...]
    budget_a: float | None
    target_s: float


def decade_lives() -> DecadeLives:
    """Work out how long the demo's battery lasts at each decade from 1 nA to 1 A."""
    project = demo_project()

    def model(current_a: float) -> LifeModel:
        load = Load(Figure(current_a), "constant", ())
        return LifeModel(load, project.battery, project.supply, project.climate)

    currents = [10.0**decade for decade in _DECADES]
    target_s = project.target_s or 0.0
    return DecadeLives(
        tuple((current_a, life_of(model(current_a))) for current_a in currents),
        budget_current(model(1e-4), target_s),
        target_s,
    )
