"""Trade-offs against the definition of the life itself."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.battery.cells import curve_of, resistance_of
from warm_ember.battery.emulation import emulation
from warm_ember.battery.life import budget_current, life_of
from warm_ember.battery.parameters import parameters
from warm_ember.battery.tradeoff import course, needed_value, region, ways
from warm_ember.errors import BadArgumentError
from warm_ember.model.battery import Battery, SupplyStage
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import ActivityCost, LifeModel, Load
from warm_ember.units import MONTH_S


def cost(name: str, charge_c: float, duration_s: float, interval_s: float) -> ActivityCost:
    return ActivityCost(name, charge_c, duration_s, 0.1, 1 / interval_s, 0.05, 0.1, Grade.ENTERED, "typed", (), {})


@st.composite
def models(draw) -> LifeModel:
    base_a = draw(st.floats(1e-6, 1e-4))
    costs = tuple(
        cost(name, draw(st.floats(1e-4, 3.0)), draw(st.floats(0.0, 5.0)), draw(st.floats(100.0, 1e5))) for name in "AB"
    )
    battery = Battery(draw(st.floats(1e3, 5e4)), draw(st.floats(0.001, 0.1)), draw(st.floats(0.01, 0.3)))
    return LifeModel(Load(Figure(base_a), "Sleep", costs), battery, SupplyStage())


@settings(max_examples=30)
@given(models(), st.floats(3, 120))
def test_what_is_needed_just_meets_the_target(model: LifeModel, months: float) -> None:
    target_s = months * MONTH_S
    for parameter in parameters(model):
        needed = needed_value(parameter, target_s)
        if needed is None:
            best = max(
                life_of(parameter.model_at(v))
                for v in (parameter.lowest, min(parameter.highest, parameter.value * 1e6))
            )
            assert best < target_s
        elif needed == parameter.value:
            assert life_of(model) >= target_s
        else:
            assert life_of(parameter.model_at(needed)) == pytest.approx(target_s, rel=1e-3)


@settings(max_examples=30)
@given(models(), st.floats(3, 120))
def test_ways_stand_with_the_smallest_change_first(model: LifeModel, months: float) -> None:
    found = ways(model, months * MONTH_S)
    assert [way.effort for way in found] == sorted(way.effort for way in found)
    assert len(found) == len(parameters(model))
    assert all((way.needed is None) == (way.factor is None) for way in found)


@settings(max_examples=10)
@given(models())
def test_a_course_is_monotone_and_holds_now_and_the_target(model: LifeModel) -> None:
    target_s = 1.7 * life_of(model)
    for parameter in parameters(model):
        found = course(parameter, target_s)
        steps = np.diff(found.life_s)
        assert (steps >= -1e-6 * life_of(model)).all() or (steps <= 1e-6 * life_of(model)).all()
        assert found.now_s == pytest.approx(life_of(model))
        if found.needed is not None and found.needed > 0:
            at = int(np.flatnonzero(found.values == found.needed)[0])
            assert found.life_s[at] == pytest.approx(target_s, rel=1e-3)


@given(models(), st.floats(6, 60))
def test_on_the_edge_of_the_region_the_average_is_the_budget(model: LifeModel, months: float) -> None:
    budget_a = budget_current(model, months * MONTH_S)
    found = region(model, "A", budget_a)
    for interval_s, base_a in zip(found.interval_s, found.base_a, strict=True):
        if not (math.isfinite(base_a) and base_a >= 0):
            continue
        changed = replace(model.load.costs[0], rate_hz=1 / float(interval_s))
        load = replace(model.load, base=Figure(float(base_a)), costs=(changed, model.load.costs[1]))
        assert load.mean_a == pytest.approx(budget_a, rel=1e-9)
    others_a = model.load.costs[1].rate_hz * model.load.costs[1].charge_c
    assert found.is_impossible == (others_a >= budget_a)


def test_a_burst_that_exceeds_the_budget_is_impossible_at_any_sleep_current() -> None:
    load = Load(Figure(1e-6), "Sleep", (cost("Report", 10.0, 5.0, 3600.0),))
    model = LifeModel(load, Battery(20_000.0, 0.01, 0.1), SupplyStage())
    target_s = 36 * MONTH_S
    assert needed_value(parameters(model)[2], target_s) is None  # the base
    found = region(model, "Report", budget_current(model, target_s))
    assert found.shortest_s > 3600.0
    assert (found.base_a[found.interval_s < 0.99 * found.shortest_s] < 0).all()


def test_a_played_battery_is_the_packs_curve_from_full_to_empty() -> None:
    battery = Battery(20_000.0, series=2, parallel=2, cell="FR6")
    pack = emulation(battery)
    assert (pack.drawn_c[0], pack.drawn_c[-1]) == (0.0, 20_000.0)
    assert (np.diff(pack.drawn_c) > 0).all()
    curve = curve_of(battery)
    for share in np.random.default_rng(1).uniform(0, 1, 50):
        played = np.interp((1 - share) * 20_000.0, pack.drawn_c, pack.open_v)
        assert played == pytest.approx(np.interp(share, curve[:, 0], curve[:, 1]))
    assert pack.resistance_ohm[0] == resistance_of(battery)
    assert (np.diff(pack.resistance_ohm) >= 0).all()
    cold = emulation(battery, temperature_c=-20.0, years=5.0)
    assert cold.resistance_ohm[0] == pytest.approx(2.4 * 1.15 * resistance_of(battery))
    assert (cold.open_v < pack.open_v).all()
    with pytest.raises(BadArgumentError, match="no cell"):
        emulation(Battery())
