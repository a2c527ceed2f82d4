"""Battery life against closed forms and a slow simulation by time."""

import math

import msgspec
import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from warm_ember.battery.cells import check_battery, curve_of, library, resistance_of
from warm_ember.battery.discharge import Limit
from warm_ember.battery.life import budget_current, estimate_life, life_of
from warm_ember.battery.sensitivity import sensitivity
from warm_ember.battery.supply import battery_current, check_supply
from warm_ember.errors import BadArgumentError
from warm_ember.model.battery import Battery, Cell, Climate, SupplyKind, SupplyStage
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import ActivityCost, LifeModel, Load
from warm_ember.units import MONTH_S, YEAR_S

LINE = Cell(((0.0, 2.0), (1.0, 3.0)))


def constant(current_a: float, peak_a: float = 0.0) -> Load:
    costs = ()
    if peak_a:
        costs = (activity(charge_c=0.0, peak_a=peak_a),)
    return Load(Figure(current_a, grade=Grade.ENTERED), "base", costs)


def activity(
    charge_c: float = 0.01, rate_hz: float = 1e-3, duration_s: float = 0.0, peak_a: float = 0.0
) -> ActivityCost:
    return ActivityCost("act", charge_c, duration_s, peak_a, rate_hz, 0.05, 0.1, Grade.ENTERED, "typed", (), {})


@given(st.floats(1e-7, 1.0), st.floats(0, 0.5), st.floats(0, 0.9), st.floats(10, 1e5))
def test_a_constant_current_lasts_as_the_closed_form_says(
    current_a: float, loss: float, reserve: float, capacity_c: float
) -> None:
    battery = Battery(capacity_c, loss, reserve)
    usable, k = capacity_c * (1 - reserve), loss / YEAR_S
    expected = math.log1p(k * usable / current_a) / k if k * usable / current_a > 1e-12 else usable / current_a
    assert life_of(LifeModel(constant(current_a), battery)) == pytest.approx(expected, rel=1e-9)


@given(st.floats(1e-6, 1e-2), st.floats(0, 0.2), st.floats(3600.0, 20 * YEAR_S))
def test_the_budget_lasts_exactly_to_the_target(current_a: float, loss: float, target_s: float) -> None:
    battery = Battery(20_000.0, loss, 0.1)
    budget = budget_current(LifeModel(constant(current_a), battery), target_s)
    assert life_of(LifeModel(constant(budget), battery)) == pytest.approx(target_s, rel=1e-6)
    k, usable = loss / YEAR_S, 18_000.0
    closed = k * usable / math.expm1(k * target_s) if k * target_s > 1e-9 else usable / target_s
    assert budget == pytest.approx(closed, rel=1e-6)


@settings(max_examples=15)
@given(st.sampled_from(sorted(library())), st.floats(-25, 15), st.floats(6, 60), st.booleans(), st.floats(0, 0.02))
def test_just_below_the_budget_lasts_and_just_above_it_does_not(
    cell: str, coldest_c: float, months: float, switching: bool, peak_a: float
) -> None:
    battery = Battery(20_000.0, 0.01, 0.1, cutoff_v=1.8, series=2, parallel=2, cell=cell)
    supply = SupplyStage(SupplyKind.SWITCHING, efficiency=0.9, output_v=1.8) if switching else SupplyStage()
    climate = Climate((coldest_c, *[18.0] * 10, coldest_c), "2026-06-14")
    target_s = months * MONTH_S
    budget_a = budget_current(LifeModel(constant(1e-4, peak_a), battery, supply, climate), target_s)

    def lasts(factor: float) -> bool:
        return life_of(LifeModel(constant(budget_a * factor, peak_a), battery, supply, climate)) >= target_s

    assume(budget_a > 0)  # a pulse in a cold month may end it before, however little is drawn
    # Where a cold month ends it, its coldest day is known to a step of the course.
    assert lasts(1 - 3e-3)
    assert not lasts(1 + 3e-3)


def test_the_average_counts_activities_from_the_base() -> None:
    load = Load(Figure(1e-5), "base", (activity(0.02, 1e-3, 2.0), activity(0.05, 1e-4)))
    assert load.mean_a == pytest.approx(1e-5 + 1e-3 * (0.02 - 2e-5) + 1e-4 * 0.05)


def test_a_cut_off_ends_a_life_before_the_charge() -> None:
    battery = Battery(3600.0, cutoff_v=2.5, resistance_ohm=10.0, cell=LINE)
    life = estimate_life(LifeModel(constant(0.01), battery))
    # 2 + s - 0.1 = 2.5 at s = 0.6
    assert (life.limit, life.life_s) == (Limit.CUT_OFF, pytest.approx(0.4 * 3600 / 0.01, rel=1e-6))
    assert life.used_c == pytest.approx(0.4 * 3600, rel=1e-6)


def test_a_pulse_sags_below_the_cut_off_earlier() -> None:
    battery = Battery(3600.0, cutoff_v=2.5, resistance_ohm=2.0, cell=LINE)
    life = estimate_life(LifeModel(constant(0.001, peak_a=0.1), battery))
    # 2 + s - 0.2 = 2.5 at s = 0.7
    assert (life.limit, life.life_s) == (Limit.PULSE_SAG, pytest.approx(0.3 * 3600 / 0.001, rel=1e-6))


@given(
    st.lists(st.floats(0.02, 0.98), min_size=1, max_size=6, unique=True).map(sorted),
    st.floats(0.02, 0.98), st.floats(1e-5, 1e-2), st.floats(0.0, 0.3), st.floats(0.01, 5.0),
)  # fmt: skip
@settings(max_examples=60)
def test_on_a_curve_with_corners_the_end_is_where_the_curve_says(
    corners: list[float], height: float, current_a: float, loss: float, ohm: float
) -> None:
    shares = np.array([0.0, *corners, 1.0])
    volts = 2.0 + np.cumsum(np.append(0.0, np.sqrt(np.diff(shares))))
    cell = Cell(tuple(zip(shares.tolist(), volts.tolist(), strict=True)))
    end_v = float(volts[0] + height * (volts[-1] - volts[0])) - current_a * ohm
    at = float(np.interp(end_v + current_a * ohm, volts, shares))
    battery = Battery(5000.0, loss, cutoff_v=end_v, resistance_ohm=ohm, cell=cell)
    k, q0, q1 = loss / YEAR_S, 5000.0, 5000.0 * at
    slowest_s = (q0 - q1) / (current_a + k * q1)
    expected = math.log1p(k * slowest_s) / k if k * slowest_s > 1e-12 else slowest_s
    assert life_of(LifeModel(constant(current_a), battery)) == pytest.approx(expected, rel=1e-6)


def test_a_load_that_never_works_lasts_for_no_time() -> None:
    battery = Battery(3600.0, cutoff_v=2.5, resistance_ohm=20.0, cell=LINE)
    life = estimate_life(LifeModel(constant(0.001, peak_a=0.1), battery), target_s=3600.0)
    assert (life.life_s, life.limit, life.budget_a) == (0.0, Limit.PULSE_SAG, 0.0)


def test_the_least_input_of_the_stage_counts_like_a_cut_off() -> None:
    battery = Battery(3600.0, cutoff_v=2.1, cell=LINE)
    life = estimate_life(
        LifeModel(constant(0.01), battery, SupplyStage(SupplyKind.LINEAR, quiescent_a=0.002, min_v=2.4))
    )
    assert (life.limit, life.life_s) == (Limit.CUT_OFF, pytest.approx(0.6 * 3600 / 0.012, rel=1e-6))


def test_series_and_parallel_make_voltage_and_resistance() -> None:
    battery = Battery(cell=LINE, series=3, parallel=2, resistance_ohm=0.4)
    curve = curve_of(battery)
    assert curve is not None
    assert curve[:, 1].tolist() == [6.0, 9.0]
    assert resistance_of(battery) == pytest.approx(0.6)
    assert resistance_of(Battery(cell="FR6", series=2, parallel=2)) == pytest.approx(library()["FR6"].resistance_ohm)


def test_what_loses_more_than_it_gives_is_limited_by_self_discharge() -> None:
    assert estimate_life(LifeModel(constant(1e-7), Battery(3600.0, 0.2))).limit is Limit.SELF_DISCHARGE


def test_a_library_cell_keeps_only_so_long() -> None:
    life = estimate_life(LifeModel(constant(1e-9), Battery(3600.0, 0.0, cell="CR2032")))
    assert (life.limit, life.life_s) == (Limit.SHELF, 10 * YEAR_S)


def test_nothing_drawn_lasts_for_ever() -> None:
    assert estimate_life(LifeModel(constant(0.0), Battery(3600.0))).life_s == math.inf
    # What only leaks is never empty, and a cell on the shelf ends there.
    assert estimate_life(LifeModel(constant(0.0), Battery(3600.0, 0.1))).life_s == math.inf
    assert estimate_life(LifeModel(constant(0.0), Battery(3600.0, 0.1, cell="LR6"))).limit is Limit.SHELF


@given(st.floats(1e-6, 0.05), st.floats(0.0, 5.0), st.floats(0, 1e-4), st.floats(0.5, 1.0))
def test_a_switching_stage_conserves_energy(load_a: float, ohm: float, quiescent_a: float, efficiency: float) -> None:
    stage = SupplyStage(SupplyKind.SWITCHING, efficiency, quiescent_a, output_v=1.8)
    given_a = float(battery_current(stage, np.float64(load_a / efficiency), np.float64(3.0), ohm))
    if math.isinf(given_a):
        assert 4 * ohm * 1.8 * load_a / efficiency > (3.0 - quiescent_a * ohm) ** 2
        return
    terminal_v = 3.0 - given_a * ohm
    assert efficiency * terminal_v * (given_a - quiescent_a) == pytest.approx(1.8 * load_a, rel=1e-9)


def test_a_switching_life_agrees_with_a_simulation_by_time() -> None:
    battery = Battery(3600.0, 0.05, 0.1, cutoff_v=2.2, resistance_ohm=1.5, cell=LINE)
    stage = SupplyStage(SupplyKind.SWITCHING, 0.85, 2e-5, output_v=1.8, min_v=2.25)
    life = estimate_life(LifeModel(constant(2e-3), battery, stage))
    charge, time_s, step = 0.9 * 3600.0, 0.0, 2000.0
    while charge > 0:
        volts = 2.0 + (charge + 360.0) / 3600.0
        amperes = float(battery_current(stage, np.float64(2e-3 / 0.85), np.float64(volts), 1.5))
        if volts - amperes * 1.5 < 2.25:
            break
        charge -= (amperes + 0.05 / YEAR_S * charge) * step
        time_s += step
    assert life.life_s == pytest.approx(time_s, rel=5e-3)


def test_percentiles_are_in_order_around_the_life() -> None:
    load = Load(Figure(2e-5, 1.9e-5, 2.1e-5), "base", (activity(1.0, 1 / 21600, 10.0, 0.17),))
    life = estimate_life(LifeModel(load, Battery(20_000.0, 0.02, 0.1)), target_s=YEAR_S)
    assert life.p10_s < life.p50_s < life.p90_s
    assert life.p50_s == pytest.approx(life.life_s, rel=0.03)
    assert life.chance == pytest.approx(np.mean(life.draws_s >= YEAR_S))
    again = estimate_life(LifeModel(load, Battery(20_000.0, 0.02, 0.1)), target_s=YEAR_S)
    assert again.p10_s == life.p10_s


def test_the_weakest_input_that_matters_is_named() -> None:
    measured = Load(Figure(2e-4, 2e-4, 2e-4), "Deep sleep", ())
    assert estimate_life(LifeModel(measured, Battery(grade=Grade.ASSUMED))).weakest.grade is Grade.ASSUMED
    assert estimate_life(LifeModel(measured, Battery(grade=Grade.ENTERED))).weakest.grade is Grade.ENTERED


@pytest.mark.parametrize(
    ("changes", "problem"),
    [
        ({"capacity_c": 0.0}, "capacity_c"),
        ({"capacity_c": math.nan}, "capacity_c"),
        ({"reserve": 1.0}, "reserve"),
        ({"self_discharge_per_year": -0.1}, "self_discharge_per_year"),
        ({"series": 0}, "series"),
        ({"cell": "AA"}, "'AA' is not among FR6"),
        ({"cell": Cell(((0.5, 3.0), (0.5, 2.0)))}, "rising"),
        ({"cell": Cell(((0.0, 3.0), (2.0, 2.0)))}, "from 0 to 1"),
    ],
)
def test_impossible_batteries(changes: dict[str, object], problem: str) -> None:
    with pytest.raises(BadArgumentError, match=problem):
        check_battery(msgspec.structs.replace(Battery(), **changes))


def test_impossible_supplies_and_loads() -> None:
    with pytest.raises(BadArgumentError, match="efficiency"):
        check_supply(SupplyStage(efficiency=1.5))
    with pytest.raises(BadArgumentError, match="average current"):
        estimate_life(LifeModel(constant(-1e-3), Battery()))
    with pytest.raises(BadArgumentError, match="target"):
        budget_current(LifeModel(constant(1e-3), Battery()), 0.0)


def test_each_step_is_ordered_and_true() -> None:
    load = Load(Figure(2e-5, 1.9e-5, 2.1e-5), "Deep sleep", (activity(1.0, 1 / 21600, 10.0),))
    battery = Battery(20_000.0, 0.02, 0.1)
    steps = sensitivity(LifeModel(load, battery))
    now = life_of(LifeModel(load, battery))
    assert [s.span_s for s in steps] == sorted((s.span_s for s in steps), reverse=True)
    assert all(s.worse_s <= now <= s.better_s for s in steps)
    capacity = next(s for s in steps if s.name == "capacity")
    assert capacity.better_s == life_of(LifeModel(load, msgspec.structs.replace(battery, capacity_c=25_000.0)))


def test_every_library_cell_can_be_emptied() -> None:
    for name in library():
        check_battery(Battery(cell=name))
        life = estimate_life(LifeModel(constant(1e-3), Battery(3600.0, 0.01, cell=name)))
        assert 0 < life.life_s < 3600 / 1e-3
