"""What a life includes, each effect against its own formula."""

from __future__ import annotations

import datetime
import math
from dataclasses import replace
from itertools import pairwise

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.battery.cells import library
from warm_ember.battery.effects import bare_life, effects
from warm_ember.battery.life import estimate_life, follow_life, life_of
from warm_ember.battery.pulses import behind
from warm_ember.battery.supply import demand
from warm_ember.battery.year import Year, check_climate, monthly_c
from warm_ember.battery.years import by_year
from warm_ember.errors import BadArgumentError
from warm_ember.model.allowed import Allowed
from warm_ember.model.battery import Activity, Battery, Cell, Climate, SupplyKind, SupplyStage, Typed
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import ActivityCost, LifeModel, Load
from warm_ember.model.rates import rates
from warm_ember.units import DAY_S, YEAR_S

COLD = (-10.0, -8.0, -2.0, 4.0, 10.0, 15.0, 18.0, 17.0, 12.0, 6.0, -1.0, -7.0)
PATH = Climate(COLD, "2027-06-01")
SEASON = (0.0, 0, 1, 2, 4, 8, 9, 9, 5, 2, 0, 0)


def cost(charge_c: float = 1.0, interval_s: float = 21600.0, duration_s: float = 0.0, **more: object) -> ActivityCost:
    given_first = {"peak_a": 0.0, **more}
    peak_a = given_first.pop("peak_a")
    return ActivityCost(
        "act", charge_c, duration_s, peak_a, 1 / interval_s, 0.05, 0.1, Grade.ENTERED, "typed", (), {}, **given_first
    )


def a_model(climate: Climate = PATH, months: tuple[float, ...] = (), **battery: object) -> LifeModel:
    fields = {"capacity_c": 21600.0, "self_discharge_per_year": 0.02, "reserve": 0.1, "cutoff_v": 2.2} | battery
    pack = Battery(series=2, parallel=2, cell="FR6", **fields)
    return LifeModel(Load(Figure(1e-4), "base", (cost(months=months),)), pack, SupplyStage(), climate)


months_of_degrees = st.lists(st.floats(-30, 45), min_size=12, max_size=12).map(tuple)
starts = st.dates(min_value=datetime.date(2000, 1, 1)).map(lambda day: day.isoformat())


@given(months_of_degrees, starts, st.floats(0.1, 12))
@settings(max_examples=15)
def test_the_year_is_periodic_and_its_integral_is_that_of_its_factor(
    months_c: tuple[float, ...], start: str, years: float
) -> None:
    year = Year(Climate(months_c, start), ((), SEASON), 10.0)
    times = np.linspace(0, years * YEAR_S, 8_001)
    middles = 0.5 * (times[1:] + times[:-1])
    degrees = year.temperature_c(middles)
    assert min(months_c) - 1e-9 <= degrees.min() <= degrees.max() <= max(months_c) + 1e-9
    assert year.temperature_c(middles + YEAR_S) == pytest.approx(degrees, abs=1e-6)
    runs = np.diff(year.runs_s(times[[0, -1]]))[:, 0]
    assert runs[0] == pytest.approx(years * YEAR_S)
    summed = float(np.sum(2.0 ** ((degrees - 20) / 10))) * (times[1] - times[0])
    assert runs[2] == pytest.approx(summed, rel=5e-3)
    whole = np.diff(year.runs_s(np.array([0.0, YEAR_S])))[:, 0]
    assert whole[1] == pytest.approx(YEAR_S)  # a season moves a load, it adds nothing over a year


@pytest.mark.parametrize(
    ("climate", "problem"),
    [
        (Climate((1.0, 2.0)), "12 temperatures"),
        (Climate((400.0,)), "from -80 to 150 °C"),
        (Climate((), "June"), "a date such as"),
    ],
)
def test_impossible_climates(climate: Climate, problem: str) -> None:
    with pytest.raises(BadArgumentError, match=problem):
        check_climate(climate)


def test_one_temperature_is_that_of_each_month() -> None:
    assert monthly_c(Climate((4.0,))).tolist() == [4.0] * 12
    assert monthly_c(Climate()).tolist() == [20.0] * 12


def test_at_one_temperature_the_self_discharge_follows_its_doubling() -> None:
    cell = Cell(((0.0, 3.0), (1.0, 3.0)), self_discharge_doubles_k=10.0)
    load = Load(Figure(1e-4), "base", ())
    for degrees in (0.0, 20.0, 40.0):
        k = 0.1 * 2 ** ((degrees - 20) / 10) / YEAR_S
        found = life_of(LifeModel(load, Battery(21600.0, 0.1, cell=cell), climate=Climate((degrees,))))
        assert found == pytest.approx(math.log1p(k * 21600 / 1e-4) / k, rel=1e-6)


def test_what_cannot_be_taken_in_the_cold_comes_back_in_spring() -> None:
    # At 0 °C a fifth of the charge is out of reach, so a battery that would be empty in May ends in winter.
    cell = Cell(((0.0, 3.0), (1.0, 3.0)), capacity_by_temperature=((0.0, 0.8), (10.0, 1.0)))
    year = Climate((0.0, 0, 20, 20, 20, 20, 20, 20, 20, 20, 20, 0), "2027-06-01")
    load = Load(Figure(1e-3), "base", ())

    def lasts(months: float) -> float:
        battery = Battery(1e-3 * months / 12 * YEAR_S, cell=cell)
        return life_of(LifeModel(load, battery, climate=year)) / YEAR_S * 12

    assert lasts(5.0) == pytest.approx(5.0, abs=0.01)  # it is empty before the cold
    assert 6.0 < lasts(8.5) < 8.0  # in the winter the last fifth cannot be had
    assert lasts(11.5) == pytest.approx(11.5, abs=0.02)  # after one winter with enough in it


def test_a_seasons_end_is_where_the_season_puts_it() -> None:
    only_june = tuple(1.0 if month == 5 else 0.0 for month in range(12))
    load = Load(Figure(0.0), "base", (cost(charge_c=1.0, interval_s=3600.0, months=only_june),))
    # 8760 C flow in a year, all in June: 20 000 C last for 2 years and 0.283 of a June.
    found = life_of(LifeModel(load, Battery(20_000.0), climate=Climate((), "2027-07-01")))
    expected = 2 + (11 + 20_000 / 8760 - 2) / 12
    assert found / YEAR_S == pytest.approx(expected, rel=2e-3)


@given(st.floats(1e-4, 10.0), st.floats(1e-3, 0.5), st.floats(1e-5, 100.0))
def test_a_capacitor_leaves_of_a_pulse_what_a_low_pass_leaves(lasts_s: float, peak_a: float, constant_s: float) -> None:
    left = float(behind(cost(peak_a=peak_a, peak_s=lasts_s), np.array([constant_s]))[0])
    assert left == pytest.approx(peak_a * (1 - math.exp(-lasts_s / constant_s)), rel=1e-6, abs=1e-12)
    # Without a typed length the charge says how long it can last.
    bounded = float(behind(cost(charge_c=peak_a * lasts_s, peak_a=peak_a), np.array([constant_s]))[0])
    assert bounded == pytest.approx(left, rel=1e-6, abs=1e-12)


def test_a_capacitor_makes_a_sagging_battery_last_longer() -> None:
    pulse = cost(charge_c=1e-3, interval_s=600.0, peak_a=0.4, peak_s=2e-3)
    battery = Battery(2000.0, cutoff_v=2.4, cell="CR2450")
    model = LifeModel(Load(Figure(1e-6), "base", (pulse,)), battery)
    alone, helped = (life_of(replace(model, supply=SupplyStage(input_f=f))) for f in (0.0, 2e-3))
    assert alone == 0.0
    assert helped > YEAR_S


@given(st.floats(1e-6, 1e-3), st.floats(2.0, 300.0), st.floats(0.3, 0.99), st.floats(0.3, 0.99))
@settings(max_examples=40)
def test_behind_a_switching_stage_each_load_has_its_own_efficiency(
    base_a: float, ratio: float, light: float, heavy: float
) -> None:
    burst_a = base_a * ratio
    stage = SupplyStage(SupplyKind.SWITCHING, output_v=1.8, efficiency_by_load=((base_a, light), (burst_a, heavy)))
    assert demand(stage, base_a) == pytest.approx(1 / light, rel=1e-6)
    burst = ActivityCost("burst", burst_a * 0.5, 0.5, 0.0, 1 / 60, 0, 0, Grade.ENTERED, "", (), {})
    load = Load(Figure(base_a), "base", (burst,))
    cell = Cell(((0.0, 3.0), (1.0, 3.0)))
    found = life_of(LifeModel(load, Battery(10_000.0, cell=cell), stage))
    share = 0.5 / 60
    watts = 1.8 * (base_a * (1 - share) / light + burst_a * share / heavy)
    assert found == pytest.approx(10_000.0 * 3.0 / watts, rel=1e-6)


def test_each_effect_takes_what_leaving_it_out_gives() -> None:
    model = a_model(months=SEASON)
    life_s = life_of(model)
    found = {effect.name: effect for effect in effects(model)}
    assert found["reserve"].takes_s == pytest.approx(
        life_of(replace(model, battery=msgspec.structs.replace(model.battery, reserve=0.0))) - life_s
    )
    assert found["temperature over the year"].takes_s is not None
    assert found["sag under the pulse"].why_not == "no peaks known"
    assert found["loss of the supply stage"].why_not == "the stage is not switching"
    assert bare_life(model) == pytest.approx(21600 / model.load.mean_a)
    plain = LifeModel(model.load, Battery(21600.0))
    assert all(effect.why_not for effect in effects(plain) if effect.name != "season of activities")


def test_a_life_is_cut_into_years_that_join() -> None:
    model = a_model()
    life = estimate_life(model)
    years = by_year(life, model.climate)
    assert years[0].begins.isoformat() == "2027-06-01"
    assert [year.to_s for year in years[:-1]] == [year.from_s for year in years[1:]]
    assert years[-1].to_s == life.life_s
    shares = [1.0, *(year.charge_share for year in years)]
    assert all(after < before for before, after in pairwise(shares))
    assert min(year.coldest_c for year in years) == pytest.approx(-10.0, abs=0.5)
    assert all(year.margin_v == pytest.approx(year.lowest_v - 2.2) for year in years)
    assert by_year(estimate_life(LifeModel(Load(Figure(0.0), "base", ()), Battery())), Climate()) == ()


@given(st.floats(5e-5, 5e-4), st.floats(0.02, 0.3))
@settings(max_examples=8)
def test_a_life_that_is_followed_is_near_the_life_itself(base_a: float, reserve: float) -> None:
    model = a_model()
    like = estimate_life(model, 3 * YEAR_S)
    moved = replace(
        model,
        load=replace(model.load, base=Figure(base_a)),
        battery=msgspec.structs.replace(model.battery, reserve=reserve),
    )
    rough, true = follow_life(moved, 3 * YEAR_S, like), estimate_life(moved, 3 * YEAR_S)
    assert rough.life_s == pytest.approx(true.life_s, rel=0.02)
    assert rough.budget_a == pytest.approx(true.budget_a, rel=0.05)
    # A life that ends in one winter or in the next has two humps, and few draws a median between them.
    assert rough.p50_s == pytest.approx(true.p50_s, rel=0.15)


def test_deliveries_are_the_rate_over_the_life() -> None:
    life = estimate_life(a_model(months=SEASON))
    assert life.delivered["act"] == pytest.approx(life.life_s / 21600.0, rel=0.25)
    even = estimate_life(a_model())
    assert even.delivered["act"] == pytest.approx(even.life_s / 21600.0, rel=1e-6)


def test_chance_widens_a_life_of_few_random_occurrences() -> None:
    few = cost(charge_c=2000.0, interval_s=YEAR_S / 4)
    model = LifeModel(Load(Figure(1e-6), "base", (few,)), Battery(20_000.0))
    even = estimate_life(model)
    random = estimate_life(replace(model, load=replace(model.load, costs=(replace(few, is_random=True),))))
    assert random.p90_s - random.p10_s > 1.5 * (even.p90_s - even.p10_s)
    assert random.life_s == even.life_s


@given(st.floats(0.0, 1.0), st.integers(0, 6))
@settings(max_examples=25)
def test_retries_come_as_often_as_trying_shows(probability: float, retries: int) -> None:
    random = np.random.default_rng(3)
    tries = random.random((20_000, retries + 1)) < probability
    happened = np.cumprod(tries, axis=1).sum(axis=1).mean()
    activity = Activity("x", Typed(0.0), interval_s=1.0, probability=probability, retries=retries)
    assert activity.per_occasion == pytest.approx(happened, abs=0.05)


def test_what_follows_comes_with_its_leader() -> None:
    report = Activity("Report", Typed(1.0), per_day=4.0)
    retry = Activity("Retry", Typed(1.0), follows="Report", probability=0.25, retries=1)
    alarm = Activity("Alarm", Typed(1.0), follows="Retry", probability=0.5)
    found = rates((alarm, retry, report))
    assert found["Report"] == 4 / DAY_S
    assert found["Retry"] == pytest.approx(4 / DAY_S * (0.25 + 0.0625))
    assert found["Alarm"] == pytest.approx(found["Retry"] / 2)


@pytest.mark.parametrize(
    ("changes", "problem"),
    [
        ({"follows": "A", "interval_s": None}, "follows itself"),
        ({"follows": "C", "interval_s": None}, "not among the activities"),
        ({"interval_s": 0.0}, "interval_s: expected above 0"),
        ({"probability": 1.5}, "probability: expected from 0 to 1"),
        ({"hours": (1.0, 2.0)}, "24 weights"),
        ({"months": (0.0,) * 12}, "12 weights"),
        ({"retries": 1000}, "retries: expected from 0 to 100"),
    ],
)
def test_impossible_activities(changes: dict[str, object], problem: str) -> None:
    activity = msgspec.structs.replace(Activity("A", Typed(1.0), interval_s=1.0), **changes)
    with pytest.raises(BadArgumentError, match=problem):
        rates((activity,))


@given(st.floats(-10, 10), st.floats(0, 10), st.booleans(), st.booleans(), st.floats(-50, 50))
def test_what_is_allowed_is_where_values_are_brought_to(
    low: float, span: float, above: bool, below: bool, value: float
) -> None:
    allowed = Allowed(low, low + span + 1, above, below)
    assert allowed.holds(allowed.clipped(value))
    assert not any(allowed.holds(endless) for endless in (math.nan, math.inf))
    assert allowed.holds(value) == (allowed.clipped(value) == value)


def test_all_shipped_cells_say_where_they_come_from_and_are_sane() -> None:
    for name, cell in library().items():
        assert "typical" in cell.origin, name
        assert all(b > a for (_, a), (_, b) in pairwise(cell.ocv_v)), name
        colder = [factor for _, factor in cell.resistance_by_temperature]
        assert colder == sorted(colder, reverse=True), name
