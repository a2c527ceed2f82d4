"""What one more step of each parameter does to the life."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import msgspec

from warm_ember.battery.life import life_at
from warm_ember.model.battery import Battery, SupplyStage
from warm_ember.model.figure import Figure
from warm_ember.model.load import ActivityCost, Load
from warm_ember.units import DAY_S, Text, ampere_hours_text, duration_text, percent_text, quantity_text


@dataclass(frozen=True)
class Step:
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


def sensitivity(load: Load, battery: Battery, supply: SupplyStage, *, step: float = 0.25) -> tuple[Step, ...]:
    """Try one step of a quarter to either side of each parameter.

    Parameters
    ----------
    load, battery, supply
        The model.
    step
        Relative step; 0.25 tries 0.75 and 1.25 times the value.

    Returns
    -------
    tuple of Step
        The strongest first.
    """
    steps = [_rate_step(load, index, battery, supply, step) for index in range(len(load.costs))]
    steps += [_charge_step(load, index, battery, supply, step) for index in range(len(load.costs))]
    if load.base_a > 0:
        lives = [_life(replace(load, base=_scaled(load.base, f)), battery, supply) for f in (1 - step, 1 + step)]
        steps.append(_step(load.base_name, [_current(load.base_a * f) for f in (1, 1 - step, 1 + step)], lives))
    writers: tuple[tuple[str, str, Callable[[float], str]], ...] = (
        ("capacity_c", "capacity", lambda v: str(ampere_hours_text(v))),
        ("self_discharge_per_year", "self-discharge", lambda v: f"{percent_text(v)} a year"),
        ("reserve", "reserve", lambda v: str(percent_text(v))),
    )
    for field, name, text in writers:
        value = getattr(battery, field)
        if value > 0:
            values = [
                value,
                value * (1 - step),
                min(value * (1 + step), 0.95) if field == "reserve" else value * (1 + step),
            ]
            lives = [_life(load, msgspec.structs.replace(battery, **{field: v}), supply) for v in values[1:]]
            steps.append(_step(name, [text(v) for v in values], lives))
    return tuple(sorted(steps, key=lambda s: -s.span_s))


def _life(load: Load, battery: Battery, supply: SupplyStage) -> float:
    return life_at(max(load.mean_a, 0.0), load, battery, supply)


def _scaled(figure: Figure, factor: float) -> Figure:
    return Figure((figure.value or 0.0) * factor, None, None, figure.grade, figure.origin)


def _current(value: float) -> str:
    return str(quantity_text(value, "A"))


def _step(name: str, texts: Sequence[str], lives_s: Sequence[float]) -> Step:
    (now, low, high), (low_s, high_s) = texts, lives_s
    if low_s <= high_s:
        return Step(name, now, low, high, low_s, high_s)
    return Step(name, now, high, low, high_s, low_s)


def _changed(load: Load, index: int, cost: ActivityCost) -> Load:
    return replace(load, costs=(*load.costs[:index], cost, *load.costs[index + 1 :]))


def _rate_step(load: Load, index: int, battery: Battery, supply: SupplyStage, step: float) -> Step:
    cost = load.costs[index]
    lives = [
        _life(_changed(load, index, replace(cost, rate_hz=cost.rate_hz * f)), battery, supply)
        for f in (1 - step, 1 + step)
    ]
    texts = [rate_text(cost.rate_hz * f) for f in (1, 1 - step, 1 + step)]
    return _step(f"{cost.name}, how often", texts, lives)


def _charge_step(load: Load, index: int, battery: Battery, supply: SupplyStage, step: float) -> Step:
    cost = load.costs[index]
    lives = [
        _life(_changed(load, index, replace(cost, charge_c=cost.charge_c * f)), battery, supply)
        for f in (1 - step, 1 + step)
    ]
    texts = [str(quantity_text(cost.charge_c * f, "C")) for f in (1, 1 - step, 1 + step)]
    return _step(f"{cost.name}, charge", texts, lives)


def rate_text(rate_hz: float) -> str:
    """Write a rate as people say it: each so long, or so many a day.

    Examples
    --------
    >>> rate_text(1 / 21600), rate_text(412 / 86400), rate_text(1.0)
    ('each 6.00 h', '412 a day', 'each 1.00 s')
    """
    if rate_hz <= 0:
        return "never"
    per_day = rate_hz * DAY_S
    if 12 <= per_day <= 5000:
        return f"{Text(f'{per_day:.0f}', 'a day')}"
    return f"each {duration_text(1 / rate_hz)}"
