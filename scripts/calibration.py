"""Measure whether intervals hold what they promise, on processes whose truth is known; writes docs/calibration.md.

.venv/bin/python scripts/calibration.py              all, 400 cases a row; writes the document
.venv/bin/python scripts/calibration.py --cases 40   fewer; prints only
.venv/bin/python scripts/calibration.py states life  some of its parts; prints only

It leaves with 1 when a limit is missed.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import numpy as np
from accuracy_wakes import Recording
from calibration_devices import RADIO_A, SLEEP_A, WORK_A, Device, Stay, capture_of, quick_capture

from warm_ember.attribution.budget import budget_by_state
from warm_ember.attribution.functions import function_ledger
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.load import make_load
from warm_ember.attribution.placing import place
from warm_ember.attribution.wake_ledger import make_wake_ledger
from warm_ember.attribution.wakes import find_wakes
from warm_ember.battery.life import estimate_life
from warm_ember.model.battery import Activity, Battery, FromStates
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.load import LifeModel
from warm_ember.model.program import Function, ProgramTrace
from warm_ember.signal.series import ArraySeries
from warm_ember.tuning.claims import Outcome, judge, read_claim
from warm_ember.tuning.difference import Difference, Side, average, by_activity, by_source, by_state, of_average

DOCUMENT = Path(__file__).parents[1] / "docs" / "calibration.md"
RATE_HZ = 200.0
NINETY, EIGHTY = (0.85, 0.95), (0.74, 0.86)


@dataclass(frozen=True)
class Case:
    """One case of a row: whether what was promised held, and how wide it was against the ideal where there is one."""

    row: str
    held: bool
    value: float = np.nan
    width: float = np.nan


@dataclass(frozen=True)
class Row:
    """What is measured over many cases.

    Parameters
    ----------
    part, name
        The part of the document, and what stands in its first column.
    least, most
        Between what the share of cases that hold has to lie.
    measure
        Makes one case from a seed; the row's name is set by who asks.
    tells
        What a case that holds is: "holds the truth", "real".
    """

    part: str
    name: str
    least: float
    most: float
    measure: Callable[[np.random.Generator], tuple[bool, float, float]]
    tells: str = "holds the truth"
    widest: float | None = None


# States ---------------------------------------------------------------------------------------------------------------


def entries(many: int, lengths: str, likeness: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the interval of a state's mean against the process's."""
    lasts_s = np.full(many, 0.1) if lengths == "even" else 0.1 * random.lognormal(0, 1.0, many)
    lasts_s = np.maximum(np.rint(lasts_s * RATE_HZ), 1) / RATE_HZ
    apart, value = [], float(random.standard_normal())
    for step in random.standard_normal(many).tolist():
        value = likeness * value + np.sqrt(1 - likeness**2) * step
        apart.append(value)
    now_s, stays = 0.1, []
    for length_s, off in zip(lasts_s.tolist(), apart, strict=True):
        stays.append(Stay("Work", round(now_s, 6), round(now_s + length_s, 6), WORK_A * (1 + 0.3 * off), "timer"))
        now_s += length_s + 0.1
    recording = quick_capture(stays, now_s + 0.1, RATE_HZ, random)
    row = make_ledger(recording, place(recording)).row("Work")
    assert row is not None
    assert row.entries == many
    low, high = row.mean.low, row.mean.high
    assert low is not None
    assert high is not None
    return low <= WORK_A <= high, row.mean.value or 0.0, high - low


def edges(rate_hz: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the mean of a sleep against what it takes, beside work a thousand times higher, with edges anywhere."""
    work, now_s = [], 0.3
    for _ in range(40):
        work.append(Stay("Work", now_s, now_s + random.uniform(0.05, 0.15), 5e-3, "timer"))
        now_s += random.uniform(0.6, 1.4)
    recording = capture_of(work, now_s, rate_hz, random)
    row = make_ledger(recording, place(recording)).row("Sleep")
    assert row is not None
    low = -np.inf if row.mean.low is None else row.mean.low
    high = np.inf if row.mean.high is None else row.mean.high
    return low <= SLEEP_A <= high, (row.mean.value or 0.0) / SLEEP_A, np.nan


# Comparisons ----------------------------------------------------------------------------------------------------------

DEVICES = {
    "timer, charge varies by height": Device(),
    "timer, charge varies by length": Device(height=0.0, length=0.5),
    "timer and messages by chance": Device(height=0.1, radio_each_s=20.0),
    "… one in twenty ten times as long": Device(height=0.1, radio_each_s=20.0, heavy_share=0.05, heavy_times=10.0),
}


def side_of(device: Device, length_s: float, random: np.random.Generator) -> Side:
    """Capture a device and take it as one side of a comparison."""
    recording = quick_capture(device.live(length_s, RATE_HZ, random), length_s, RATE_HZ, random)
    placement = place(recording)
    ledger = make_ledger(recording, placement, supply_v=3.0)
    wakes = make_wake_ledger(recording, placement, find_wakes(recording, placement))
    load = make_load(ledger, (), lambda _source: None)
    return Side(budget_by_state(load, ledger), ledger, load, wakes)


def compared(
    device: Device, pick: Callable[[Side, Side], Difference | None], random: np.random.Generator
) -> tuple[bool, float, float]:
    """Say whether a difference between two captures of one process is called real."""
    found = pick(side_of(device, 600.0, random), side_of(device, 600.0, random))
    return bool(found is not None and found.is_real), 0.0 if found is None else found.change_a, np.nan


def _named(
    differences: Callable[[Side, Side], tuple[Difference, ...]], name: str, one: Side, other: Side
) -> Difference | None:
    return next((found for found in differences(one, other) if found.name == name), None)


def _first(differences: Callable[[Side, Side], tuple[Difference, ...]], one: Side, other: Side) -> Difference | None:
    return next(iter(differences(one, other)), None)


def sources(many: int, change: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Compare the charges of wakes by a timer: whether the interval holds the change, and how wide it is."""
    sides = [_many_wakes(many, 1 + change * number, random) for number in range(2)]
    found = _named(by_source, "timer", *sides)
    assert found is not None
    true_a = change * WORK_A * 0.01 / 0.1
    low, high = (found.low_a, found.high_a) if found.low_a is not None else (-np.inf, np.inf)
    assert high is not None
    return low <= true_a <= high, found.change_a, high - low


def sources_real(many: int, change: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Say whether a change of the charges of wakes by a timer is called real."""
    found = _named(by_source, "timer", *(_many_wakes(many, 1 + change * number, random) for number in range(2)))
    return bool(found is not None and found.is_real), np.nan, np.nan


def _many_wakes(many: int, factor: float, random: np.random.Generator) -> Side:
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
    placement = place(recording)
    ledger = make_ledger(recording, placement)
    load = make_load(ledger, (), lambda _source: None)
    wakes = make_wake_ledger(recording, placement, find_wakes(recording, placement))
    return Side(budget_by_state(load, ledger), ledger, load, wakes)


def claimed(device: Device, true: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Say whether the verdict on "half the charge" is wrong, of two devices of which one takes a share of the other."""
    # The second is so much cheaper that the average is that share.
    scale = (true * device.mean_a - SLEEP_A) / (device.mean_a - SLEEP_A)
    before, after = side_of(device, 600.0, random), side_of(replace(device, scale=scale), 600.0, random)
    outcome = judge(read_claim("half the charge"), average(before), average(after)).outcome
    wrong = Outcome.REFUTED if true <= 0.5 else Outcome.SUPPORTED
    return outcome is wrong, np.nan, np.nan


# Life -----------------------------------------------------------------------------------------------------------------


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


def occurrences(times: int, scatter: float, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the band of a life with an activity that was measured a few times against a battery of the lot."""
    charge_c, each_s = 4e-3, 60.0
    sigma = np.sqrt(np.log1p(scatter**2))
    stays = []
    for number in range(times):
        lasts_s = max(round(0.2 * np.exp(sigma * random.standard_normal() - sigma**2 / 2) * RATE_HZ), 1) / RATE_HZ
        stays.append(Stay("Radio", 2.0 + 10 * number, 2.0 + 10 * number + lasts_s, RADIO_A, "radio"))
    recording = quick_capture(stays, 10.0 * times + 10, RATE_HZ, random)
    ledger = make_ledger(recording, place(recording))
    activity = Activity("Message", FromStates(("Radio",), "Radio"), interval_s=each_s)
    load = make_load(ledger, (activity,), lambda _source: None)
    battery = Battery(capacity_c=9000.0, self_discharge_per_year=0.02)
    # The rate is typed, and known to a tenth by what is assumed of it.
    found = estimate_life(LifeModel(load, battery), draws=400)
    lives_s = [lot(SLEEP_A + charge_c * _lognormal(0.1, random) / each_s, battery, random) for _ in range(12)]
    held = np.mean([found.p10_s <= one <= found.p90_s for one in lives_s])
    return bool(random.random() < held), found.p50_s, np.nan


# Functions ------------------------------------------------------------------------------------------------------------


CODE = tuple(Function(0x1000 * (k + 1), 0x100, name, f"{name}.c") for k, name in enumerate(("low", "middle", "high")))
DRAWS_A = (1e-3, 3e-3, 20e-3)
PERIOD_S, FINE_HZ = 0.01, 20e3


def functions(lasts: float, many: int, random: np.random.Generator) -> tuple[bool, float, float]:
    """Hold the charge of a function against what it took; each run lasts some sampling periods."""
    samples = round(many * PERIOD_S * FINE_HZ)
    runs = max(round(many / lasts * 3), 12)
    lengths = np.maximum(random.exponential(lasts * PERIOD_S * FINE_HZ, runs), 1).astype(int)
    # Each is followed by another one, as in a loop that branches.
    which = (random.integers(0, 3) + np.cumsum(random.integers(1, 3, runs))) % 3
    ran = np.repeat(which, lengths)[:samples]
    ran = np.pad(ran, (0, samples - len(ran)), mode="edge")
    current = np.array(DRAWS_A)[ran] + 1e-6 * random.standard_normal(samples)
    times_s = (np.arange(many) + random.random()) * PERIOD_S
    at = np.minimum((times_s * FINE_HZ).astype(int), samples - 1)
    addresses = np.array([CODE[k].address for k in ran[at]], dtype=np.uint64)
    recording = Recording(
        ArraySeries(current.astype(np.float32), 1 / FINE_HZ),
        (Event(0.0, "state", "Run"),),
        None,
        CaptureInfo(1 / FINE_HZ),
    )
    found = function_ledger(recording.current, ProgramTrace(times_s, addresses, CODE), place(recording))
    inside = slice(round(found.from_s * FINE_HZ), round(found.to_s * FINE_HZ))
    number = int(random.integers(0, 3))
    true_c = float(current[inside][ran[inside] == number].sum()) / FINE_HZ
    row = next((one for one in found.rows if one.name == CODE[number].name), None)
    if row is None:  # it was never seen: nothing is said of it
        return True, np.nan, np.nan
    return abs(row.charge_c - true_c) <= row.charge_error_c, row.charge_c / max(true_c, 1e-12), np.nan


# All ------------------------------------------------------------------------------------------------------------------


def rows() -> Iterator[Row]:
    """Return all rows, in the order of the document."""
    for many in (2, 4, 7, 8, 20, 500):
        for lengths in ("even", "uneven"):
            name = f"{many} entries, {lengths} lengths"
            yield Row("states", name, *NINETY, partial(entries, many, lengths, 0.0))
    yield Row("states", "500 entries like their neighbours (0.9)", *NINETY, partial(entries, 500, "even", 0.9))
    for rate_hz in (100.0, 1e3, 10e3):
        yield Row("edges", f"sleep beside work, {rate_hz:g} S/s", 0.85, 1.0, partial(edges, rate_hz))
    picks: dict[str, Callable[[Side, Side], Difference | None]] = {
        "mean": of_average,
        "state": partial(_named, by_state, "Work"),
        "source": partial(_named, by_source, "timer"),
        "activity": partial(_first, by_activity),
    }
    for what, device in DEVICES.items():
        for about, pick in picks.items():
            yield Row("compare", f"{what}: {about}", 0.0, 0.10, partial(compared, device, pick), "called real")
    for lasts in (50.0, 1.0, 0.1):
        for many in (20, 200, 2000):
            name = f"{many} samples, runs of {lasts:g} periods"
            yield Row("functions", name, 0.85, 0.97, partial(functions, lasts, many))
    for many in (3, 10, 100, 2000, 10_000):
        yield Row("sources", f"{many} wakes", *NINETY, partial(sources, many, 0.0))
    yield Row("sources", "10000 wakes, 5 % more", 0.95, 1.0, partial(sources_real, 10_000, 0.05), "called real")
    yield Row("sources", "2000 wakes, 5 % more", 0.80, 1.0, partial(sources_real, 2000, 0.05), "called real")
    for what, device in list(DEVICES.items())[:3]:
        for true in (0.4, 0.45, 0.485, 0.515, 0.55):
            yield Row("claims", f"{what}: {true:g}", 0.0, 0.05, partial(claimed, device, true), "wrong")
    lives = {
        "timer": DEVICES["timer, charge varies by height"],
        "timer and chance": DEVICES["timer and messages by chance"],
    }
    for what, device in lives.items():
        for length_s in (60.0, 600.0):
            yield Row("life", f"{what}, {length_s:g} s", *EIGHTY, partial(life, device, length_s))
    for times in (1, 2, 3, 5, 20):
        yield Row("life", f"activity measured {times} times", *EIGHTY, partial(occurrences, times, 0.3))


@dataclass(frozen=True)
class Result:
    """What came of one row."""

    row: Row
    cases: int
    share: float
    width: float

    @property
    def is_missed(self) -> bool:
        """Whether it lies outside its limits by more than so few cases let it by chance."""
        least, most = (limit * (1 - limit) for limit in (self.row.least, self.row.most))
        below = self.row.least - 1.645 * (least / self.cases) ** 0.5
        above = self.row.most + 1.645 * (most / self.cases) ** 0.5
        return not below <= self.share <= above


def measure(job: tuple[int, int, int]) -> tuple[bool, float, float]:
    """Measure one case of one row."""
    number, case, seed = job
    return list(rows())[number].measure(np.random.default_rng([seed, number, case]))


def document(results: list[Result], seed: int) -> str:
    """Write the document."""
    text = _HEAD.format(cases=results[0].cases, seed=seed)
    part = ""
    for one in results:
        if one.row.part != part:
            part = one.row.part
            text += f"\n## {part.capitalize()}\n\n{_PARTS[part]}\n\n{_TABLE}"
        width = f"{one.width:.2f}" if np.isfinite(one.width) else "–"
        limits = f"{100 * one.row.least:.0f} to {100 * one.row.most:.0f} %"
        text += f"| {one.row.name} | {100 * one.share:.1f} % | {one.row.tells} | {limits} | {width} |\n"
    return text


_HEAD = """# Calibration

Made by `scripts/calibration.py` from {cases} cases of each row (seeds from {seed} on), by simulated devices that share
nothing with the simulated bench. The truth is the process's, not the sample's.
"""
_TABLE = "| | share | | limits | width to ideal |\n| --- | --- | --- | --- | --- |\n"
_PARTS = {
    "states": "The 90 % interval of a state's mean current; entries scatter by 30 %.",
    "edges": "The 90 % interval of the mean of a sleep of 5 µA beside work of 5 mA, edges anywhere between samples.",
    "compare": "Two captures of ten minutes of one and the same process: nothing changed.",
    "sources": "Wakes by a timer whose charges scatter by half, in two captures.",
    "functions": "The 90 % interval of a function's charge, by samples of the program counter each 10 ms.",
    "claims": "“Half the charge” of two captures of ten minutes, where the truth is another share.",
    "life": "The 80 % band of the life against batteries of a lot that scatter as documented.",
}


def main() -> int:
    """Measure, print, and write the document when all of it was measured at length."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parts", nargs="*")
    parser.add_argument("--cases", type=int, default=400)
    parser.add_argument("--seed", type=int)
    arguments = parser.parse_args()
    seed = arguments.seed if arguments.seed is not None else int(np.random.default_rng().integers(1, 1 << 30))
    every = list(rows())
    chosen = [k for k, row in enumerate(every) if not arguments.parts or row.part in arguments.parts]
    jobs = [(number, case, seed) for number in chosen for case in range(arguments.cases)]
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(measure, jobs, chunksize=8))
    results = []
    for index, number in enumerate(chosen):
        mine = found[index * arguments.cases : (index + 1) * arguments.cases]
        spread = float(np.std([value for _, value, _ in mine]))
        widths = float(np.mean([width for _, _, width in mine]))
        results.append(
            Result(
                every[number],
                arguments.cases,
                float(np.mean([held for held, _, _ in mine])),
                widths / 3.29 / spread if spread else np.nan,
            )
        )
    text = document(results, seed)
    sys.stdout.write(text)
    if not arguments.parts and arguments.cases >= 400:
        DOCUMENT.write_text(text, encoding="utf-8")
    missed = [one for one in results if one.is_missed]
    sys.stderr.writelines(f"limit missed: {one.row.part}, {one.row.name}: {100 * one.share:.1f} %\n" for one in missed)
    return int(bool(missed))


if __name__ == "__main__":
    sys.exit(main())
