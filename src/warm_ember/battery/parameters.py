"""The parameters of a battery model, each with its value and a way to change it alone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import msgspec

from warm_ember.battery.cells import resistance_of
from warm_ember.model.battery import SupplyKind
from warm_ember.model.figure import Figure
from warm_ember.model.load import ActivityCost, LifeModel
from warm_ember.units import ampere_hours_text, percent_text, quantity_text, rate_text

_MOST_RESERVE = 0.95
_MOST_CAPACITY = 1000.0


@dataclass(frozen=True, eq=False)
class Parameter:
    """One number of a model.

    Parameters
    ----------
    name
        What it is called.
    value
        As it is now, above 0.
    lowest, highest
        What it may be.
    write
        Writes a value.
    model_at
        The model with another value and all else as it is.
    """

    name: str
    value: float
    lowest: float
    highest: float
    write: Callable[[float], str]
    model_at: Callable[[float], LifeModel]

    def clipped(self, value: float) -> float:
        """Return a value that it may have."""
        return min(max(value, self.lowest), self.highest)


def parameters(model: LifeModel) -> tuple[Parameter, ...]:
    """Return the parameters that have a value: rates and charges of activities, the base, and the battery's."""
    load = model.load
    found = [_rate(model, index) for index in range(len(load.costs)) if load.costs[index].rate_hz > 0]
    found += [_charge(model, index) for index in range(len(load.costs)) if load.costs[index].charge_c > 0]
    if load.base_a > 0:
        found.append(
            Parameter(
                load.base_name,
                load.base_a,
                0.0,
                1.0,
                _amperes,
                lambda value: replace(model, load=replace(load, base=_at(load.base, value))),
            )
        )
    writers: tuple[tuple[str, str, float, Callable[[float], str]], ...] = (
        ("capacity_c", "capacity", _MOST_CAPACITY * model.battery.capacity_c, lambda v: str(ampere_hours_text(v))),
        ("self_discharge_per_year", "self-discharge", 10.0, lambda v: f"{percent_text(v)} a year"),
        ("reserve", "reserve", _MOST_RESERVE, lambda v: str(percent_text(v))),
    )
    for field, name, highest, write in writers:
        value = getattr(model.battery, field)
        if value > 0:
            found.append(Parameter(name, value, 0.0, highest, write, _with(model, "battery", field)))
    return (*found, *_voltages(model), *_stage(model))


def _voltages(model: LifeModel) -> list[Parameter]:
    """Return what only counts once the cell's voltage is known."""
    battery, found = model.battery, []
    if battery.cell is None:
        return []
    if battery.cutoff_v > 0:
        found.append(Parameter("cut-off", battery.cutoff_v, 0.0, 1e3, _volts, _with(model, "battery", "cutoff_v")))
    each_ohm = resistance_of(battery) * battery.parallel / battery.series
    if each_ohm > 0:
        change = _with(model, "battery", "resistance_ohm")
        found.append(Parameter("resistance of a cell", each_ohm, 0.0, 1e6, _ohms, change))
    if model.supply.input_f > 0:
        change = _with(model, "supply", "input_f")
        found.append(Parameter("input capacitance", model.supply.input_f, 0.0, 10.0, _farads, change))
    return found


def _stage(model: LifeModel) -> list[Parameter]:
    """Return what a supply stage adds."""
    stage, found = model.supply, []
    if stage.quiescent_a > 0:
        change = _with(model, "supply", "quiescent_a")
        found.append(Parameter("quiescent current", stage.quiescent_a, 0.0, 1.0, _amperes, change))
    if stage.kind is SupplyKind.SWITCHING and not stage.efficiency_by_load:
        change = _with(model, "supply", "efficiency")
        found.append(Parameter("efficiency", stage.efficiency, 0.01, 1.0, lambda v: str(percent_text(v)), change))
    return found


def _with(model: LifeModel, part: str, field: str) -> Callable[[float], LifeModel]:
    def change(value: float) -> LifeModel:
        changed: Any = msgspec.structs.replace(getattr(model, part), **{field: value})
        return replace(model, **{part: changed})

    return change


def _amperes(value: float) -> str:
    return str(quantity_text(value, "A"))


def _volts(value: float) -> str:
    return str(quantity_text(value, "V"))


def _ohms(value: float) -> str:
    return str(quantity_text(value, "Ω"))


def _farads(value: float) -> str:
    return str(quantity_text(value, "F"))


def _at(figure: Figure, value: float) -> Figure:
    return Figure(value, None, None, figure.grade, figure.origin)


def _changed(model: LifeModel, index: int, cost: ActivityCost) -> LifeModel:
    costs = model.load.costs
    return replace(model, load=replace(model.load, costs=(*costs[:index], cost, *costs[index + 1 :])))


def _rate(model: LifeModel, index: int) -> Parameter:
    cost = model.load.costs[index]
    # An activity cannot come again before it is over.
    highest = 1 / cost.duration_s if cost.duration_s > 0 else 1e6
    return Parameter(
        f"{cost.name}, how often",
        cost.rate_hz,
        0.0,
        max(highest, cost.rate_hz),
        rate_text,
        lambda value: _changed(model, index, replace(cost, rate_hz=value)),
    )


def _charge(model: LifeModel, index: int) -> Parameter:
    cost = model.load.costs[index]
    return Parameter(
        f"{cost.name}, charge",
        cost.charge_c,
        0.0,
        float("inf"),
        lambda value: str(quantity_text(value, "C")),
        lambda value: _changed(model, index, replace(cost, charge_c=value)),
    )
