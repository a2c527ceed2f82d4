"""What one more step of each parameter does to the life."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.battery.life import life_of
from warm_ember.battery.parameters import Parameter, parameters
from warm_ember.model.load import LifeModel


@dataclass(frozen=True)
class SensitivityStep:
    """One parameter, now and one step to either side, with the life at each.

    Parameters
    ----------
    name
        The parameter.
    now, worse, better
        Its values as text; the worse one gives the shorter life.
    worse_s, better_s
        The lives.
    """

    name: str
    now: str
    worse: str
    better: str
    worse_s: float
    better_s: float

    @property
    def span_s(self) -> float:
        """How much the life moves."""
        return self.better_s - self.worse_s


def sensitivity(model: LifeModel, *, step: float = 0.25) -> tuple[SensitivityStep, ...]:
    """Try one step of a quarter to either side of each parameter.

    Parameters
    ----------
    model
        The model.
    step
        Relative step; 0.25 tries 0.75 and 1.25 times the value.

    Returns
    -------
    tuple of Step
        The strongest first.
    """
    steps = [_step(parameter, step) for parameter in parameters(model)]
    return tuple(sorted(steps, key=lambda s: -s.span_s))


def _step(parameter: Parameter, step: float) -> SensitivityStep:
    low, high = (parameter.clipped(parameter.value * factor) for factor in (1 - step, 1 + step))
    low_s, high_s = (life_of(parameter.model_at(value)) for value in (low, high))
    now, below, above = (parameter.write(value) for value in (parameter.value, low, high))
    if low_s <= high_s:
        return SensitivityStep(parameter.name, now, below, above, low_s, high_s)
    return SensitivityStep(parameter.name, now, above, below, high_s, low_s)
