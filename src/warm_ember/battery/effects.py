"""What a life includes beyond dividing charge by current, and what each of it takes."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import msgspec

from warm_ember.battery.cells import cell_of
from warm_ember.battery.life import life_of
from warm_ember.model.battery import Cell, Climate, SupplyKind
from warm_ember.model.load import ActivityCost, LifeModel


@dataclass(frozen=True)
class YearEffect:
    """One effect.

    Parameters
    ----------
    name
        What it is.
    takes_s
        How much longer the life would be without it alone; None where it is not included.
    why_not
        Why it is not included; empty where it is.
    """

    name: str
    takes_s: float | None
    why_not: str = ""


def bare_life(model: LifeModel) -> float:
    """Return the capacity over the average current, which is what is often taken for the life, s."""
    mean_a = model.load.mean_a
    return model.battery.capacity_c / mean_a if mean_a > 0 else math.inf


def effects(model: LifeModel) -> tuple[YearEffect, ...]:
    """Return which effects a model includes, and what each alone takes from its life."""
    life_s = life_of(model)
    found = []
    for name, why_not, without in (*_of_charge(model), *_of_voltage(model), *_of_stage(model)):
        takes_s = None if why_not else life_of(without()) - life_s
        # A life for ever less a life for ever is nothing taken.
        found.append(YearEffect(name, 0.0 if takes_s is not None and math.isnan(takes_s) else takes_s, why_not))
    return tuple(found)


_Known = tuple[str, str, Callable[[], LifeModel]]
"""Name of an effect, why it is missing, and the model without it."""


def _with(model: LifeModel, part: str, **changes: Any) -> LifeModel:
    changed: Any = msgspec.structs.replace(getattr(model, part), **changes)
    return replace(model, **{part: changed})


def _with_cell(model: LifeModel, **changes: Any) -> LifeModel:
    return _with(model, "battery", cell=msgspec.structs.replace(cell_of(model.battery) or Cell(()), **changes))


def _with_costs(model: LifeModel, change: Callable[[ActivityCost], ActivityCost]) -> LifeModel:
    return replace(model, load=replace(model.load, costs=tuple(change(cost) for cost in model.load.costs)))


def _unless(known: object, why_not: str) -> str:
    return "" if known else why_not


_NOT_TYPED = "none entered"
_NOT_KNOWN = "not known of this cell"


def _of_charge(model: LifeModel) -> tuple[_Known, ...]:
    battery, cell = model.battery, cell_of(model.battery) or Cell(())
    warmth = cell.self_discharge_doubles_k or cell.capacity_by_temperature or cell.resistance_by_temperature
    year = _unless(model.climate.months_c, "20 °C all year: enter the months") or _unless(warmth, _NOT_KNOWN)
    seasons = any(cost.months for cost in model.load.costs)
    return (
        ("reserve", _unless(battery.reserve, _NOT_TYPED), lambda: _with(model, "battery", reserve=0.0)),
        (
            "self-discharge",
            _unless(battery.self_discharge_per_year, _NOT_TYPED),
            lambda: _with(model, "battery", self_discharge_per_year=0.0),
        ),
        ("temperature over the year", year, lambda: replace(model, climate=Climate((), model.climate.start))),
        (
            "capacity by load",
            _unless(cell.capacity_by_load, _NOT_KNOWN),
            lambda: _with_cell(model, capacity_by_load=()),
        ),
        (
            "season of activities",
            _unless(seasons, "no activity has one"),
            lambda: _with_costs(model, lambda cost: replace(cost, months=())),
        ),
    )


def _of_voltage(model: LifeModel) -> tuple[_Known, ...]:
    cell = cell_of(model.battery)
    ends = model.battery.cutoff_v > 0 or model.supply.min_v > 0
    none = _unless(cell, "no cell chosen") or _unless(ends, "no cut-off voltage entered")
    ages = cell is not None and cell.resistance_growth_per_year

    def endless() -> LifeModel:
        return _with(_with(model, "battery", cutoff_v=0.0), "supply", min_v=0.0)

    def unpulsed() -> LifeModel:
        return _with_costs(model, lambda cost: replace(cost, peak_a=0.0, pulses=()))

    return (
        ("cut-off voltage", none, endless),
        ("sag under the pulse", none or _unless(model.load.peak_a, "no peaks known"), unpulsed),
        (
            "ageing of the resistance",
            none or _unless(ages, _NOT_KNOWN),
            lambda: _with_cell(model, resistance_growth_per_year=0.0),
        ),
        (
            "capacitor across the battery",
            none or _unless(model.supply.input_f, _NOT_TYPED),
            lambda: _with(model, "supply", input_f=0.0),
        ),
    )


def _of_stage(model: LifeModel) -> tuple[_Known, ...]:
    stage = model.supply
    switching = stage.kind is SupplyKind.SWITCHING
    return (
        (
            "loss of the supply stage",
            _unless(switching, "the stage is not switching"),
            lambda: _with(model, "supply", efficiency=1.0, efficiency_by_load=()),
        ),
        (
            "quiescent current of the stage",
            _unless(stage.quiescent_a, _NOT_TYPED),
            lambda: _with(model, "supply", quiescent_a=0.0),
        ),
    )
