"""What a pack gives and what a load asks of it, against the sums written out."""

from __future__ import annotations

import math

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.battery.average import drawn, scaled, seasons_of
from warm_ember.battery.cells import library
from warm_ember.battery.pack import Pack
from warm_ember.battery.spreads import Reach, rate_spread, spreads_of
from warm_ember.battery.supply import battery_current, demand
from warm_ember.model.battery import Battery, Cell, Climate, SupplyKind, SupplyStage
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import ActivityCost, LifeModel, Load
from warm_ember.units import YEAR_S

SHARES = np.linspace(0, 1, 41)
CELL_NAMES = st.sampled_from(sorted(library()))
PLAIN = ActivityCost("Send", 0.02, 1.0, 0.1, 1e-4, 0.05, 0.1, Grade.ENTERED, "entered", (), {})


def activity(**changes: object) -> ActivityCost:
    fields = {name: getattr(PLAIN, name) for name in PLAIN.__dataclass_fields__}
    return ActivityCost(**{**fields, **changes})


ACTIVITIES = st.lists(
    st.builds(
        activity,
        charge_c=st.floats(1e-6, 1.0),
        duration_s=st.floats(0, 5.0),
        rate_hz=st.floats(1e-6, 1e-2),
        charge_spread=st.floats(0, 0.3),
        rate_spread=st.floats(0, 0.3),
    ),
    max_size=4,
)


@given(CELL_NAMES, st.integers(1, 6), st.integers(1, 6), st.floats(0.01, 20))
def test_cells_in_series_add_voltage_and_resistance_and_parallel_ones_share(name, series, parallel, ohm) -> None:
    alone = Pack(Battery(cell=name, resistance_ohm=ohm))
    joined = Pack(Battery(cell=name, resistance_ohm=ohm, series=series, parallel=parallel))
    np.testing.assert_allclose(joined.open_v(SHARES), series * alone.open_v(SHARES))
    np.testing.assert_allclose(joined.resistance_ohm(SHARES), series / parallel * alone.resistance_ohm(SHARES))
    np.testing.assert_allclose(joined.warmer_v(35.0), series * alone.warmer_v(35.0))
    given_a = np.geomspace(1e-6, 0.1, 9)
    left = joined.unavailable_fraction(-5.0, parallel * given_a)
    np.testing.assert_allclose(left, alone.unavailable_fraction(-5.0, given_a))


@given(CELL_NAMES)
def test_a_shipped_cell_behaves_as_cells_do(name) -> None:
    pack = Pack(Battery(cell=name))
    assert pack.has_voltage
    assert (np.diff(pack.open_v(SHARES)) >= 0).all()
    assert (pack.resistance_ohm(SHARES) >= 0).all()
    temperatures_c = np.linspace(-20, 45, 20)
    assert (np.diff(pack.resistance_factor(temperatures_c, 0.0)) <= 1e-12).all()  # the colder the more
    older = pack.resistance_factor(20.0, np.array([0.0, YEAR_S, 5 * YEAR_S]))
    assert (np.diff(older) >= 0).all()
    left = pack.unavailable_fraction(temperatures_c, 1e-4)
    assert ((left >= 0) & (left <= 1)).all()
    cold = pack.unavailable_fraction(np.linspace(-20, 20, 20), 1e-4)
    assert (np.diff(cold) <= 1e-12).all()  # beyond room temperature some lose a little again
    assert (np.diff(pack.loss_factor(np.linspace(-20, 25, 9))) >= 0).all()
    assert pack.loss_factor(np.zeros(1))[0] == pytest.approx(1)


def test_of_an_unknown_cell_nothing_is_made_up() -> None:
    pack = Pack(Battery())
    assert not pack.has_voltage
    assert pack.corners == ()
    np.testing.assert_array_equal(pack.unavailable_fraction(np.array([-20.0, 40.0]), 1.0), 0)
    np.testing.assert_array_equal(pack.resistance_ohm(SHARES), 0)
    np.testing.assert_array_equal(pack.loss_factor(np.array([-30.0, 30.0])), 1)


@given(st.lists(st.floats(1.0, 4.0), min_size=3, max_size=6))
def test_an_own_cell_has_the_voltages_that_were_entered(volts) -> None:
    curve = tuple(zip(np.linspace(0, 1, len(volts)).tolist(), sorted(volts), strict=True))
    pack = Pack(Battery(cell=Cell(curve), series=2))
    for share, volt in curve:
        assert pack.open_v(np.array([share]))[0] == pytest.approx(2 * volt)
    assert set(pack.corners) == {share for share, _ in curve}


@given(
    st.floats(1e-6, 0.2), st.floats(1.8, 5.0), st.floats(0, 3.0), st.floats(0.5, 1.0), st.floats(0, 1e-4)
)  # fmt: skip
def test_a_switching_stage_conserves_energy_and_a_linear_one_charge(load_a, open_v, ohm, efficiency, idle_a) -> None:
    switching = SupplyStage(SupplyKind.SWITCHING, efficiency, idle_a, output_v=1.5)
    given_a = float(battery_current(switching, load_a * demand(switching, load_a), np.float64(open_v), ohm))
    if math.isfinite(given_a):
        terminal_v = open_v - given_a * ohm
        assert efficiency * terminal_v * (given_a - idle_a) == pytest.approx(1.5 * load_a, rel=1e-6)
    else:  # no working point: even half the voltage does not give that power
        assert (open_v - idle_a * ohm) ** 2 / (4 * ohm) < 1.5 * load_a / efficiency * (1 + 1e-9)
    for kind in (SupplyKind.LINEAR, SupplyKind.DIRECT):
        stage = SupplyStage(kind, quiescent_a=idle_a)
        assert demand(stage, load_a) == 1
        assert float(battery_current(stage, np.float64(load_a), np.float64(open_v), ohm)) == load_a + idle_a


def model_of(costs, *, supply: SupplyStage | None = None, base_a: float = 1e-5) -> LifeModel:
    load = Load(Figure(base_a, grade=Grade.ENTERED), "base", tuple(costs))
    return LifeModel(load, Battery(20_000.0, 0.01), supply or SupplyStage(), Climate())


@given(ACTIVITIES, st.floats(1e-7, 1e-3), st.floats(0.5, 1.0))
def test_the_average_is_written_out_activity_by_activity(costs, base_a, efficiency) -> None:
    direct, factors = model_of(costs, base_a=base_a), np.array([0.5, 1.0, 3.0])
    written_a = base_a + math.fsum(c.rate_hz * (c.charge_c - base_a * c.duration_s) for c in costs)
    assert direct.load.mean_a == pytest.approx(written_a)
    found = scaled(direct, factors).demand_a.sum(axis=1)
    np.testing.assert_allclose(found, max(written_a, 0.0) * factors, rtol=1e-9, atol=1e-18)
    # One efficiency for all loads is a factor on all of it.
    switching = model_of(costs, base_a=base_a, supply=SupplyStage(SupplyKind.SWITCHING, efficiency))
    np.testing.assert_allclose(
        scaled(switching, factors).demand_a.sum(axis=1), found / efficiency, rtol=1e-9, atol=1e-18
    )


@given(ACTIVITIES)
def test_seasons_are_told_apart_and_keep_their_share(costs) -> None:
    months = tuple(float(k) for k in range(12))
    seasonal = [*costs, activity(name="Summer", months=months)]
    assert seasons_of(model_of(costs)) == ((),)
    assert seasons_of(model_of(seasonal)) == ((), months)
    average = scaled(model_of(seasonal), np.ones(1)).demand_a[0]
    assert average[1] == pytest.approx(seasonal[-1].added_a(1e-5))
    assert average[0] == pytest.approx(model_of(costs).load.mean_a)


@given(ACTIVITIES, st.integers(0, 99))
def test_what_is_drawn_lies_around_what_is_known(costs, seed) -> None:
    model = model_of(costs)
    spreads, draws = spreads_of(model, YEAR_S), 4000
    found = drawn(model, spreads, draws, np.random.default_rng(seed))
    assert (found.demand_a >= 0).all()
    mean_a = found.demand_a.sum(axis=1)
    error_a = 5 * mean_a.std() / math.sqrt(draws)
    assert abs(mean_a.mean() - model.load.mean_a) < error_a + 1e-3 * model.load.mean_a
    capacity_c = found.capacity_c
    assert capacity_c.mean() == pytest.approx(20_000.0, rel=0.01)
    assert capacity_c.std() / capacity_c.mean() == pytest.approx(spreads.capacity, rel=0.1)


@given(st.floats(1e-7, 1e-2), st.floats(0, 0.5), st.floats(3600, 10 * YEAR_S))
def test_chance_evens_out_over_a_life(rate_hz, spread, life_s) -> None:
    steady = activity(rate_hz=rate_hz, rate_spread=spread)
    by_chance = activity(rate_hz=rate_hz, rate_spread=spread, is_random=True)
    assert rate_spread(steady, life_s) == pytest.approx(spread)
    variance = spread**2 + 1 / (rate_hz * life_s)
    assert rate_spread(by_chance, life_s) == pytest.approx(math.sqrt(variance))
    assert rate_spread(by_chance, 4 * life_s) <= rate_spread(by_chance, life_s)


@given(st.floats(0.01, 0.3), st.floats(2, 50))
def test_a_charge_known_from_few_is_known_less_well(spread, freedom) -> None:
    few = activity(charge_spread=spread, charge_freedom=freedom)
    many = activity(charge_spread=spread)
    reach_few = spreads_of(model_of([few]), YEAR_S).of_charge(few)
    reach_many = spreads_of(model_of([many]), YEAR_S).of_charge(many)
    assert reach_many == Reach(spread, spread)
    assert reach_few.below >= spread * (1 - 1e-9)
    assert reach_few.above >= reach_few.below * (1 - 1e-9)


def test_an_entered_temperature_is_known_better_than_an_assumed_one() -> None:
    model = model_of([])
    entered = spreads_of(LifeModel(model.load, model.battery, model.supply, Climate((12.0,))), YEAR_S)
    assert entered.temperature_k < spreads_of(model, YEAR_S).temperature_k
    assert msgspec.structs.replace(model.climate, months_c=(12.0,)) == Climate((12.0,))
