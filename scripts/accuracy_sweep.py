"""How near a sweep comes to the best allowed setting, and with how few measurements: figures for docs/accuracy.md.

.venv/bin/python scripts/accuracy_sweep.py [--devices 50]
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "src"))

import numpy as np

from warm_ember.model.sweep import Setting, Spread, SweepGoal, SweepParameter, SweepRecipe
from warm_ember.tuning.sweep.fits import fit_parameter
from warm_ember.tuning.sweep.search import first_settings, next_settings, standing

REPEATS = 3


@dataclass(frozen=True)
class Device:
    """A made device: what a setting truly draws, and what recordings of it scatter by."""

    recipe: SweepRecipe
    mean_a: Callable[[Setting], float]
    floor_a: float
    charge_c: float
    scatter: float


def made_device(random: np.random.Generator) -> Device:
    """Return a device with two or three parameters: an interval, and two of batch, rate and mode."""
    floor_a, charge_c = 10 ** random.uniform(-6, -4.3), 10 ** random.uniform(-3, 0.3)
    first = 10 ** random.uniform(1, 2)
    interval = SweepParameter(
        "interval",
        Spread(first, first * 10 ** random.uniform(1, 1.5), 10, log=True),
        "interval {value}",
        latency_per_value=1.0,
    )
    batch_a, rate_a = floor_a * random.uniform(0.1, 3), floor_a * random.uniform(0.1, 3)
    batch = SweepParameter("batch", (1.0, 2.0, 4.0, 8.0), "batch {value}", latency_per_value=random.choice([0.0, 5.0]))
    rate = SweepParameter("rate", (2.0, 4.0, 8.0, 16.0, 32.0), "rate {value}")
    mode = SweepParameter("mode", ("idle", "deep", "off"), "sleep {value}")
    modes = {
        "idle": (30 * floor_a, 0.0),
        "deep": (0.0, 0.02 * charge_c),
        "off": (-0.5 * floor_a, random.uniform(0.05, 0.6) * charge_c),
    }
    kind = int(random.integers(4))
    parameters = {0: (interval, batch), 1: (interval, mode), 2: (interval, rate), 3: (interval, batch, mode)}[kind]

    def mean_a(setting: Setting) -> float:
        known = dict(zip((one.name for one in parameters), setting, strict=True))
        found = floor_a + charge_c / float(known["interval"])
        if "batch" in known:
            found += batch_a / float(known["batch"])
        if "rate" in known:  # fast costs while it runs, slow costs waiting
            found += rate_a * (float(known["rate"]) / 8 + 8 / float(known["rate"]))
        if "mode" in known:
            floor, charge = modes[str(known["mode"])]
            found += floor + charge / float(known["interval"])
        return found

    latest = float(interval.steps[int(random.integers(4, 10))])
    goal = SweepGoal(max_latency_s=latest + 5.0 * 4)
    recipe = SweepRecipe(parameters, REPEATS, 60.0, "socket://127.0.0.1:1", goal=goal, seed=int(random.integers(1e6)))
    return Device(recipe, mean_a, floor_a, charge_c, float(random.choice([0.005, 0.01, 0.02])))


def searched(device: Device, random: np.random.Generator) -> dict[Setting, list[float]]:
    """Return the recordings of a search."""

    def record(setting: Setting) -> list[float]:
        return [device.mean_a(setting) * (1 + device.scatter * random.standard_normal()) for _ in range(REPEATS)]

    means = {setting: record(setting) for setting in first_settings(device.recipe)}
    while wanted := next_settings(device.recipe, standing(device.recipe, means, frozenset())):
        means |= {setting: record(setting) for setting in wanted}
    return means


def main() -> None:
    """Print what the search is worth."""
    asked = argparse.ArgumentParser(description="Measure how good a sweep's choice is.")
    asked.add_argument("--devices", type=int, default=50)
    devices = asked.parse_args().devices
    losses, shares, chances, held, fitted = [], [], [], [], 0
    for number in range(devices):
        random = np.random.default_rng((20261201, number))
        device = made_device(random)
        means = searched(device, random)
        found = standing(device.recipe, means, frozenset())
        allowed = [one for one in found.grid if not device.recipe.why_not(one)]
        best = min(map(device.mean_a, allowed))
        assert found.best is not None
        losses.append(device.mean_a(found.grid[found.best]) / best - 1)
        shares.append(len(means) / len(found.grid))
        chances.append(found.chance)
        fit = fit_parameter(device.recipe, 0, means, found.grid[found.best])
        if fit is not None and fit.fits:
            fitted += 1
            at = found.grid[found.best]
            # By two of the model's own settings the truth of this one's floor and charge.
            one, other = (device.mean_a((value, *at[1:])) for value in (1e2, 1e4))
            charge_c = (one - other) / (1 / 1e2 - 1 / 1e4)
            for estimate, truth in ((fit.floor, other - charge_c / 1e4), (fit.charge, charge_c)):
                low, high = estimate.interval() or (-np.inf, np.inf)
                held.append(low <= truth <= high)
    near, best = np.mean(np.array(losses) <= 0.02), np.mean(np.array(losses) <= 0.01)
    lines = (
        f"devices {devices}; life within 2 % of the best allowed: {100 * near:.0f} %; worst {100 * max(losses):.2f} %",
        f"measured of the grid: median {100 * np.median(shares):.0f} %, most {100 * max(shares):.0f} %",
        f"said to be best: {100 * np.mean(chances):.0f} % sure, and within 1 %: {100 * best:.0f} %",
        f"fits of the interval that hold: {fitted}; their intervals hold the truth {100 * np.mean(held):.0f} %",
    )
    sys.stdout.write("\n".join(lines) + "\n")


if __name__ == "__main__":
    main()
