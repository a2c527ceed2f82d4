"""A thousand random lives against an integration by time that knows nothing of steps of charge."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from warm_ember.battery.cells import curve_of, library, resistance_of
from warm_ember.battery.life import life_at
from warm_ember.model.battery import Battery, SupplyKind, SupplyStage
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import ActivityCost, Load
from warm_ember.units import YEAR_S

CASES = 1000
_STEPS = 1500


def a_case(random: np.random.Generator) -> tuple[Load, Battery, SupplyStage]:
    """Choose a battery, a supply stage and a load that may or may not work with it."""
    series = int(random.integers(1, 4))
    battery = Battery(
        capacity_c=float(10 ** random.uniform(2, 5)),
        self_discharge_per_year=float(random.choice([0.0, random.uniform(0.001, 0.3)])),
        reserve=float(random.choice([0.0, random.uniform(0.0, 0.5)])),
        cutoff_v=float(random.uniform(0.5, 1.3)) * series,
        resistance_ohm=float(10 ** random.uniform(-2, 1)),
        series=series,
        parallel=int(random.integers(1, 4)),
        cell=str(random.choice(list(library()))),
    )
    kind = SupplyKind(str(random.choice([one.value for one in SupplyKind])))
    supply = SupplyStage(kind, float(random.uniform(0.6, 0.98)), float(random.choice([0.0, 1e-6])), 1.0, 0.0)
    mean_a = float(10 ** random.uniform(-5, -2))
    peak = ActivityCost("peak", 0.0, 0.0, mean_a * float(random.uniform(1, 30)), 1e-9, 0, 0, Grade.TYPED, "", (), {})
    return Load(Figure(mean_a), "base", (peak,)), battery, supply


def drawn(supply: SupplyStage, load_a: float, open_v: float, resistance_ohm: float) -> float:
    """Return the battery's current by iterating ``v = v_oc - i r``, instead of solving the quadratic equation."""
    if supply.kind is not SupplyKind.SWITCHING:
        return load_a + supply.quiescent_a
    power_w, given_a = supply.output_v * load_a / supply.efficiency, 0.0
    for _ in range(200):
        volts = open_v - given_a * resistance_ohm
        if volts <= 0:
            return np.inf
        before, given_a = given_a, power_w / volts + supply.quiescent_a
        if abs(given_a - before) <= 1e-12 * given_a:
            return given_a
    return np.inf


def by_time(load: Load, battery: Battery, supply: SupplyStage) -> float:
    """Empty the battery step by step in time, with the midpoint rule, until a voltage or the charge ends it."""
    curve, resistance_ohm = curve_of(battery), resistance_of(battery)
    assert curve is not None
    reserve_c, rate = battery.reserve * battery.capacity_c, battery.self_discharge_per_year / YEAR_S
    end_v = max(battery.cutoff_v, supply.min_v)
    shares = np.linspace(0, 1, 401)
    open_v = np.interp(shares, curve[:, 0], curve[:, 1])
    mean_a = np.array([drawn(supply, load.mean_a, v, resistance_ohm) for v in open_v])

    def works(share: float) -> bool:
        volts = float(np.interp(share, curve[:, 0], curve[:, 1]))
        currents = (load.mean_a, max(load.peak_a, load.mean_a))
        return all(volts - drawn(supply, one, volts, resistance_ohm) * resistance_ohm >= end_v for one in currents)

    if not works(1.0):
        return 0.0
    # It works from full down to the first voltage that is too low.
    stops = -1.0
    if not works(0.0):
        good, bad = 1.0, 0.0
        while good - bad > 1e-9:
            good, bad = ((good + bad) / 2, bad) if works((good + bad) / 2) else (good, (good + bad) / 2)
        stops = good
    finite = np.isfinite(mean_a)
    charge_c, time_s = battery.capacity_c, 0.0
    step_s = (battery.capacity_c - reserve_c) / float(mean_a[-1]) / _STEPS

    def slope(q: float) -> float:
        return float(np.interp(q / battery.capacity_c, shares[finite], mean_a[finite])) + rate * (q - reserve_c)

    while charge_c > reserve_c and charge_c / battery.capacity_c > stops:
        middle_c = charge_c - 0.5 * step_s * slope(charge_c)
        charge_c -= step_s * slope(middle_c)
        time_s += step_s
    # The last step goes too far: take back what lies below the end.
    end_c = max(reserve_c, stops * battery.capacity_c)
    time_s -= (end_c - charge_c) / max(slope(charge_c), 1e-30)
    shelf_s = library()[str(battery.cell)].shelf_years * YEAR_S
    return min(time_s, shelf_s)


def test_a_thousand_lives_agree_with_an_integration_by_time() -> None:
    random, worst, ended = np.random.default_rng(5), 0.0, 0
    for _ in range(CASES):
        load, battery, supply = a_case(random)
        expected = by_time(load, battery, supply)
        found = life_at(load.mean_a, load, battery, supply)
        if expected == 0.0 or found == 0.0:
            assert found <= 0.01 * battery.capacity_c / load.mean_a
            ended += 1
            continue
        error = abs(found / expected - 1)
        worst = max(worst, error)
        assert error < 5e-3, (error, load.mean_a, load.peak_a, battery, supply)
    assert ended < CASES / 3
    assert worst > 0


@pytest.mark.parametrize("field", ["capacity_c", "self_discharge_per_year", "cutoff_v", "resistance_ohm"])
def test_lives_are_monotone_in_the_battery(field: str) -> None:
    random = np.random.default_rng(6)
    for _ in range(60):
        load, battery, supply = a_case(random)
        more = msgspec.structs.replace(battery, **{field: getattr(battery, field) * 1.1})
        life_s, more_s = (life_at(load.mean_a, load, one, supply) for one in (battery, more))
        if field == "capacity_c":
            assert more_s >= life_s * (1 - 1e-9)
        else:
            assert more_s <= life_s * (1 + 1e-9)
