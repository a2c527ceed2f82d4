"""Speed of lives: one, ten thousand at a time, and one that follows a dragged value.

    .venv/bin/python benchmarks/lives.py

Each figure is printed with the limit it is held to, for a year without seasons and for one with all effects.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "src"))

import numpy as np

from warm_ember.battery.average import drawn
from warm_ember.battery.discharge import discharge
from warm_ember.battery.life import LifeEstimate, estimate_life, follow_life, life_of
from warm_ember.battery.spreads import spreads_of
from warm_ember.model.battery import Battery, Climate, SupplyKind, SupplyStage
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import ActivityCost, LifeModel, Load
from warm_ember.units import YEAR_S

TARGET_S = 3 * YEAR_S
_SEASON = (2.0, 2, 4, 9, 18, 26, 34, 36, 24, 14, 4, 2)
_MONTHS_C = (-4.0, -3.0, 0.0, 4.0, 8.0, 12.0, 14.0, 14.0, 11.0, 6.0, 1.0, -3.0)
_BY_LOAD = ((1e-5, 0.7), (0.1, 0.93))


def activity(
    name: str, charge_c: float, duration_s: float, interval_s: float, months: tuple[float, ...]
) -> ActivityCost:
    """Make an activity."""
    return ActivityCost(
        name, charge_c, duration_s, 0.17, 1 / interval_s, 0.05, 0.1, Grade.ENTERED, "typed", (), {}, months=months
    )


def model(supply: SupplyStage, climate: Climate, months: tuple[float, ...]) -> LifeModel:
    """Make the trail counter post."""
    costs = (
        activity("report", 2.5, 10.0, 21600.0, ()),
        activity("passer-by", 0.0174, 0.1, 210.0, months),
        activity("second", 41e-6, 0.002, 1.0, ()),
    )
    battery = Battery(21600.0, 0.015, 0.12, 2.2, None, 2, 2, "FR6")
    return LifeModel(Load(Figure(2e-5, 1.9e-5, 2.1e-5), "sleep", costs), battery, supply, climate)


def best_ms(work: Callable[[], object], rounds: int) -> float:
    """Return the best time of some rounds, ms."""
    times = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return 1000 * min(times)


def ten_thousand(one: LifeModel, like: LifeEstimate) -> object:
    """Draw and empty ten thousand batteries."""
    variants = drawn(one, spreads_of(one, TARGET_S), 10_000, np.random.default_rng(1))
    return discharge(one.battery, one.supply, one.climate, variants, points=80, like=like.course)


def main() -> None:
    """Measure and print."""
    year = Climate(_MONTHS_C, "2027-06-01")
    everything = SupplyStage(SupplyKind.SWITCHING, 0.9, 1e-6, 1.8, 0.0, _BY_LOAD, 1e-3)
    for name, one in (
        ("20 °C all year", model(SupplyStage(), Climate(), ())),
        ("temperature and season", model(SupplyStage(), year, _SEASON)),
        ("and a switching stage, a capacitor", model(everything, year, _SEASON)),
    ):
        like = estimate_life(one, TARGET_S)

        print(name)
        print(f"  {'one life':40} {best_ms(lambda one=one: life_of(one), 30):8.2f} ms   5 ms")
        print(
            f"  {'10 000 lives':40} {best_ms(lambda one=one, like=like: ten_thousand(one, like), 3):8.0f} ms   1000 ms"
        )
        print(f"  {'all of an estimate':40} {best_ms(lambda one=one: estimate_life(one, TARGET_S), 3):8.0f} ms")
        follow = best_ms(lambda one=one, like=like: follow_life(one, TARGET_S, like), 20)
        print(f"  {'following a dragged value':40} {follow:8.1f} ms   33 ms")


if __name__ == "__main__":
    main()
