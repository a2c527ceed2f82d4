"""Cases of the calibration about lives: of captures, and of activities seen a few times."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from calibration_devices import RADIO_A, SAME_CLOCK, SLEEP_A, Device, Stay, quick_capture
from calibration_runs import RATE_HZ, side_of

from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.load import make_load
from warm_ember.attribution.placing import place
from warm_ember.attribution.unseen import Unseen, with_unseen
from warm_ember.attribution.window import find_window, within
from warm_ember.battery.life import estimate_life
from warm_ember.model.battery import Activity, Battery, FromStates
from warm_ember.model.load import LifeModel, Load


def lot(device_a: float, battery: Battery, random: np.random.Generator) -> float:
    """Return how long one battery of a lot carries a current, s."""
    capacity_c = battery.capacity_c * _lognormal(0.05, random)
    leak = battery.self_discharge_per_year / (8760 * 3600.0) * _lognormal(0.3, random)
    return float(np.log1p(leak * capacity_c * (1 - battery.reserve) / device_a) / leak)


def _lognormal(relative: float, random: np.random.Generator) -> float:
    sigma = np.sqrt(np.log1p(relative**2))
    return float(np.exp(sigma * random.standard_normal() - sigma**2 / 2))


def life(device: Device, length_s: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the 80 % band of the life that a capture stands for against a battery of the lot."""
    side = side_of(device, length_s, random)
    battery = Battery(capacity_c=9000.0, self_discharge_per_year=0.02)
    found = estimate_life(LifeModel(side.load, battery), draws=400)
    lives_s = [lot(device.mean_a, battery, random) for _ in range(12)]
    held = np.mean([found.p10_s <= one <= found.p90_s for one in lives_s])
    return bool(random.random() < held), found.p50_s, np.nan


def rare(length_s: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the band of a capture against a device that now and then does something heavy, and says so.

    It comes once in a tenth of the capture to once in a hundred of its lengths. At a single rate the share that holds
    swings about what is promised, since counts are whole.
    """
    each_s = length_s * 10 ** random.uniform(-1, 2)
    device = Device(rare_each_s=each_s, rare_c=0.02)
    side = side_of(device, length_s, random)
    seen = side.ledger.row("Rare")
    load = side.load
    if seen is None:
        load = with_unseen(load, Unseen(length_s, device.rare_c, is_asked=True))
    battery = Battery(capacity_c=9000.0, self_discharge_per_year=0.02)
    found = estimate_life(LifeModel(load, battery), draws=400)
    lives_s = [lot(device.mean_a, battery, random) for _ in range(12)]
    held = np.mean([found.p10_s <= one <= found.p90_s for one in lives_s])
    return bool(random.random() < held), found.p50_s, np.nan


def mislead(how: str, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the band of a capture that is no whole number of cycles, or has its start-up in it, against the device's."""
    device = Device(height=0.1)
    cycles = {"2.3 cycles": 2.3, "3.6 cycles": 3.6}.get(how, 8.0)
    length_s = cycles * device.period_s
    stays = device.live(length_s, RATE_HZ, random)
    if how == "start-up of 1.5 s at 20 mA":
        stays = [Stay("Boot", 0.0, 1.5, RADIO_A), *(one for one in stays if one.from_s > 2.0)]
    elif how == "ends in an activity":
        last = stays[-1]
        length_s = round(last.from_s + 0.5 * (last.to_s - last.from_s), 2)
        stays = [*stays[:-1], replace(last, to_s=length_s)]
    recording = quick_capture(stays, length_s, RATE_HZ, random)
    placement = place(recording, clock=SAME_CLOCK)
    window = find_window(recording, placement)
    ledger = make_ledger(recording, within(placement, window, recording.current.interval_s))
    battery = Battery(capacity_c=9000.0, self_discharge_per_year=0.02)
    found = estimate_life(LifeModel(make_load(ledger, (), lambda _source: None), battery), draws=400)
    lives_s = [lot(device.mean_a, battery, random) for _ in range(12)]
    held = np.mean([found.p10_s <= one <= found.p90_s for one in lives_s])
    return bool(random.random() < held), (ledger.mean_a or 0.0) / device.mean_a, np.nan


def occurrences(times: int, scatter: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the band of a life with an activity that was measured a few times against a battery of the lot."""
    load, battery = _with_activity(times, scatter, random), Battery(capacity_c=9000.0, self_discharge_per_year=0.02)
    # The rate is typed, and known to a tenth by what is assumed of it.
    found = estimate_life(LifeModel(load, battery), draws=400)
    lives_s = [lot(SLEEP_A + _CHARGE_C * _lognormal(0.1, random) / _EACH_S, battery, random) for _ in range(12)]
    held = np.mean([found.p10_s <= one <= found.p90_s for one in lives_s])
    return bool(random.random() < held), found.p50_s, np.nan


def told_once(scatter: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Say whether it is told that the scatter of an activity that was measured once is assumed."""
    battery = Battery(capacity_c=9000.0, self_discharge_per_year=0.02)
    found = estimate_life(LifeModel(_with_activity(1, scatter, random), battery), draws=40)
    return any("measured once" in sentence for sentence in found.assumptions), np.nan, np.nan


def _with_activity(times: int, scatter: float, random: np.random.Generator) -> Load:
    """Return the load of a device with an activity that a capture shows some times."""
    sigma = np.sqrt(np.log1p(scatter**2))
    stays = []
    for number in range(times):
        lasts_s = max(round(0.2 * np.exp(sigma * random.standard_normal() - sigma**2 / 2) * RATE_HZ), 1) / RATE_HZ
        stays.append(Stay("Radio", 2.0 + 10 * number, 2.0 + 10 * number + lasts_s, RADIO_A, "radio"))
    recording = quick_capture(stays, 10.0 * times + 10, RATE_HZ, random)
    ledger = make_ledger(recording, place(recording, clock=SAME_CLOCK))
    activity = Activity("Message", FromStates(("Radio",), "Radio"), interval_s=_EACH_S)
    return make_load(ledger, (activity,), lambda _source: None)


_CHARGE_C, _EACH_S = 4e-3, 60.0
