"""Cases of the calibration about two captures: what changed, and claims."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from calibration_devices import SAME_CLOCK, SLEEP_A, WORK_A, Device, Stay, quick_capture

from warm_ember.attribution.budget import budget_by_state
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.load import make_load
from warm_ember.attribution.placing import place
from warm_ember.attribution.wake_ledger import make_wake_ledger
from warm_ember.attribution.wakes import find_wakes
from warm_ember.tuning.claims import Outcome, check_claim, read_claim
from warm_ember.tuning.difference import ComparedRun, Difference, average, by_source

RATE_HZ = 200.0
DEVICES = {
    "timer, charge varies by height": Device(),
    "timer, charge varies by length": Device(height=0.0, length=0.5),
    "timer and messages by chance": Device(height=0.1, radio_each_s=20.0),
    "… one in twenty ten times as long": Device(height=0.1, radio_each_s=20.0, heavy_share=0.05, heavy_times=10.0),
}


def side_of(device: Device, length_s: float, random: np.random.Generator) -> ComparedRun:
    """Capture a device and take it as one side of a comparison."""
    recording = quick_capture(device.live(length_s, RATE_HZ, random), length_s, RATE_HZ, random)
    placement = place(recording, clock=SAME_CLOCK)
    ledger = make_ledger(recording, placement, supply_v=3.0)
    wakes = make_wake_ledger(recording, placement, find_wakes(recording, placement))
    load = make_load(ledger, (), lambda _source: None)
    return ComparedRun(budget_by_state(load, ledger), ledger, load, wakes)


def compared(
    device: Device, pick: Callable[[ComparedRun, ComparedRun], Difference | None], random: np.random.Generator
) -> tuple[bool, float, float]:
    """Say whether a difference between two captures of one process is called real."""
    found = pick(side_of(device, 600.0, random), side_of(device, 600.0, random))
    return bool(found is not None and found.is_real), 0.0 if found is None else found.change_a, np.nan


def named(
    differences: Callable[[ComparedRun, ComparedRun], tuple[Difference, ...]],
    name: str,
    one: ComparedRun,
    other: ComparedRun,
) -> Difference | None:
    """Return the difference of a name, None where neither side has it."""
    return next((found for found in differences(one, other) if found.name == name), None)


def first_of(
    differences: Callable[[ComparedRun, ComparedRun], tuple[Difference, ...]], one: ComparedRun, other: ComparedRun
) -> Difference | None:
    """Return the largest difference."""
    return next(iter(differences(one, other)), None)


def sources(many: int, change: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Compare the charges of wakes by a timer: whether the interval holds the change, and how wide it is."""
    sides = [_many_wakes(many, 1 + change * number, random) for number in range(2)]
    found = named(by_source, "timer", *sides)
    assert found is not None
    true_a = change * WORK_A * 0.01 / 0.1
    low, high = (found.low_a, found.high_a) if found.low_a is not None else (-np.inf, np.inf)
    assert high is not None
    return low <= true_a <= high, found.change_a, high - low


def sources_real(many: int, change: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Say whether a change of the charges of wakes by a timer is called real."""
    found = named(by_source, "timer", *(_many_wakes(many, 1 + change * number, random) for number in range(2)))
    return bool(found is not None and found.is_real), np.nan, np.nan


def _many_wakes(many: int, factor: float, random: np.random.Generator) -> ComparedRun:
    """Return wakes of a sample's length each 0.1 s, with charges that scatter by half."""
    rate_hz, sigma = 100.0, np.sqrt(np.log1p(0.25))
    charges = factor * np.exp(sigma * random.standard_normal(many) - sigma**2 / 2)
    begins_s = 0.05 + 0.1 * np.arange(many)
    stays = [
        Stay("Work", begin_s, begin_s + 0.01, WORK_A * one, "timer")
        for begin_s, one in zip(begins_s.tolist(), charges.tolist(), strict=True)
    ]
    length_s = 0.1 * many
    recording = quick_capture(stays, length_s, rate_hz, random)
    placement = place(recording, clock=SAME_CLOCK)
    ledger = make_ledger(recording, placement)
    load = make_load(ledger, (), lambda _source: None)
    wakes = make_wake_ledger(recording, placement, find_wakes(recording, placement))
    return ComparedRun(budget_by_state(load, ledger), ledger, load, wakes)


def claimed(device: Device, true: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Say whether the verdict on "half the charge" is wrong, of two devices of which one takes a share of the other."""
    # The second is so much cheaper that the average is that share.
    scale = (true * device.mean_a - SLEEP_A) / (device.mean_a - SLEEP_A)
    before, after = side_of(device, 600.0, random), side_of(replace(device, scale=scale), 600.0, random)
    outcome = check_claim(read_claim("half the charge"), average(before), average(after)).outcome
    wrong = Outcome.REFUTED if true <= 0.5 else Outcome.SUPPORTED
    return outcome is wrong, np.nan, np.nan
