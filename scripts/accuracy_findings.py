"""Measure how well waste is found, and its cost; `scripts/accuracy.py` writes it into docs/accuracy.md.

.venv/bin/python scripts/accuracy_findings.py               20 devices of each kind, 100 clean; prints only
.venv/bin/python scripts/accuracy_findings.py 5 --seed 3    fewer, from a known seed
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field

import numpy as np
from accuracy_wakes import Recording

from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.placing import place
from warm_ember.attribution.wake_ledger import make_wake_ledger
from warm_ember.attribution.wakes import find_wakes
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.project import ExpectedValue
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries
from warm_ember.tuning.findings.registry import check
from warm_ember.tuning.findings.waste import WasteContext
from warm_ember.tuning.findings.wasters import find_waste
from warm_ember.tuning.timers.power_saving import ACTIVE_TIME, PERIODIC_UPDATE

KINDS = (
    FindingKind.TICK_RUNNING,
    FindingKind.SLEEP_NOT_ENTERED,
    FindingKind.FLOOR_ABOVE_EXPECTED,
    FindingKind.PART_LEFT_ON,
    FindingKind.AWAKE_TAIL,
    FindingKind.WAKE_BURST,
    FindingKind.TIMERS_UNALIGNED,
    FindingKind.TOO_SHALLOW,
    FindingKind.TOO_DEEP,
    FindingKind.TIMER_OVERRIDDEN,
)
RECALL, FALSE_ALARMS, COST = 0.95, 0.03, 0.15
_SETTLES_S = 0.25e-3
TELLS = 0.04
_TWO_MODES = (FindingKind.TOO_SHALLOW, FindingKind.TOO_DEEP)


@dataclass
class Device:
    """A device in the making: what flows when, and what its log says; times in samples of `rate_hz`."""

    random: np.random.Generator
    rate_hz: float
    current: np.ndarray
    asleep: np.ndarray
    log: list[tuple[float, str, str]] = field(default_factory=list)
    cost_c: dict[FindingKind, float] = field(default_factory=dict)

    @property
    def length_s(self) -> float:
        """Length of the capture."""
        return len(self.current) / self.rate_hz

    def place(self, time_s: float) -> int:
        """Return the sample of a moment."""
        return round(time_s * self.rate_hz)

    def add(self, from_s: float, to_s: float, current_a: float) -> float:
        """Let a current flow, and return its charge."""
        first, last = self.place(from_s), min(self.place(to_s), len(self.current))
        self.current[first:last] += current_a
        return current_a * max(last - first, 0) / self.rate_hz

    def wasted(self, kind: FindingKind, charge_c: float) -> None:
        """Note what a fault takes."""
        self.cost_c[kind] = self.cost_c.get(kind, 0.0) + charge_c


@dataclass(frozen=True)
class Made:
    """A capture, what states should draw, the faults in it with their cost, and when the log's clock began."""

    recording: Recording
    expected: tuple[ExpectedValue, ...]
    cost_a: dict[FindingKind, float]
    offset_s: float


def simulate(seed: int, faults: Iterable[FindingKind] = ()) -> Made:
    """Simulate a device of its own with some faults: timers, a pin and a radio over a floor with harmless pulses."""
    random, faults = np.random.default_rng(seed), frozenset(faults)
    rate_hz = float(random.choice([5e3, 10e3, 20e3]))
    length_s = float(random.uniform(60, 150))
    samples = round(length_s * rate_hz)
    device = Device(random, rate_hz, np.zeros(samples), np.ones(samples, dtype=bool))
    floor_a, run_a = 10 ** random.uniform(-5.6, -4.5), random.uniform(1.5e-3, 6e-3)
    leak_a = 0.0
    if FindingKind.FLOOR_ABOVE_EXPECTED in faults:
        leak_a = random.choice([3.0 / 4700, 3.0 / 10e3, 3.0 / 47e3, 3.0 / 100e3, random.uniform(2, 20) * floor_a])
    device.current += floor_a + leak_a
    style = str(random.choice(["wakes", "wakes and states"]))
    _live(device, faults, run_a, floor_a, style)
    if leak_a:
        device.wasted(FindingKind.FLOOR_ABOVE_EXPECTED, leak_a * float(device.asleep.sum()) / rate_hz)
    _rest(device, faults, run_a)
    share = 1 - np.exp(-1 / (rate_hz * _SETTLES_S))
    from scipy.signal import lfilter

    flowing = lfilter([share], [1, share - 1], device.current, zi=[device.current[0] * (1 - share)])[0]
    read = flowing * (1 + 0.01 * (flowing > 2e-4) * random.standard_normal(samples))
    read += random.uniform(0.02e-6, 0.3e-6) * random.standard_normal(samples)
    drift, offset_s = random.uniform(-50e-6, 50e-6), random.uniform(-0.3, 0.3)
    events = tuple(
        Event((time_s - offset_s) / (1 + drift), event, name) for time_s, event, name in sorted(device.log, key=_moment)
    )
    known = [("deep", floor_a)] if style == "wakes" else [("Sleep", floor_a), ("deep", floor_a)]
    recording = Recording(
        ArraySeries(read.astype(np.float32), 1 / rate_hz), events, None, CaptureInfo(1 / rate_hz, supply_v=3.0)
    )
    cost_a = {kind: charge_c / length_s for kind, charge_c in device.cost_c.items()}
    return Made(recording, tuple(ExpectedValue(name, value) for name, value in known), cost_a, offset_s)


def _moment(entry: tuple[float, str, str]) -> float:
    return entry[0]


@dataclass(frozen=True)
class _Wake:
    source: str
    at_s: float


def _moments(device: Device, faults: frozenset[FindingKind]) -> list[_Wake]:
    """Return what wakes the device when."""
    random, length_s = device.random, device.length_s
    period_s = random.uniform(0.6, 3.0)
    wakes = [_Wake("clock", float(t)) for t in np.arange(random.uniform(0.2, 0.2 + period_s), length_s, period_s)]
    if FindingKind.TIMERS_UNALIGNED in faults:
        every = int(random.integers(1, 3))
        for number in range(int(random.integers(1, 3))):
            apart_s = period_s * (random.uniform(0.15, 0.4) if number == 0 else random.uniform(0.6, 0.85))
            starts = np.arange(wakes[0].at_s + apart_s, length_s, period_s * every)
            wakes += [_Wake(f"sensor {number}", float(t)) for t in starts]
    for t in np.cumsum(random.exponential(random.uniform(4, 15), 60)).tolist():
        times = int(random.integers(4, 15)) if FindingKind.WAKE_BURST in faults else 1
        gaps_s = np.cumsum(random.uniform(0.03, 0.06, times)) - 0.03
        wakes += [_Wake("pin again" if number else "pin", t + gap_s) for number, gap_s in enumerate(gaps_s.tolist())]
    wakes += [_Wake("radio", float(t)) for t in random.uniform(0.2, 0.8, int(random.integers(1, 3))) * length_s]
    return sorted((wake for wake in wakes if 0.1 < wake.at_s < length_s - 6), key=lambda wake: wake.at_s)


def _live(device: Device, faults: frozenset[FindingKind], run_a: float, floor_a: float, style: str) -> None:
    """Wake, work and sleep."""
    random = device.random
    work_s = {"clock": random.uniform(3e-3, 2e-2), "pin": random.uniform(5e-3, 2e-2), "radio": random.uniform(0.5, 2.0)}
    work_s |= {f"sensor {number}": random.uniform(3e-3, 1e-2) for number in range(2)}
    above_a = {source: run_a * random.uniform(2.0, 4.0) for source in work_s} | {"radio": 0.08}
    tail_of, tail_s, tail_a = "clock", random.uniform(3, 12) * work_s["clock"], run_a * random.uniform(0.5, 1.0)
    left_of, left_s = str(random.choice(["pin", "radio"])), random.uniform(1.0, 4.0)
    left_a = max(random.uniform(0.03, 0.4) * run_a, 6 * floor_a)
    misses = 1.0 if random.random() < 0.5 else random.uniform(0.2, 0.8)
    timers = {"asked": random.integers(2, 6), "granted": random.integers(12, 25)}
    modes = set(_TWO_MODES) & faults
    lift_a, cross_c = random.uniform(0.3e-3, 0.8e-3), 60e-6
    if FindingKind.TOO_DEEP in faults:  # pays from some ten seconds on
        lift_a, cross_c = 20e-6, 20e-6 * random.uniform(8, 20)
    free_s, first, timers_c = 0.05, True, dict[str, list[float]]()
    device.log.append((0.02, "sleep", "deep"))
    _tell(device, style, 0.02, "Sleep")
    sleep_since_s, mode, left = 0.02, "deep", list[tuple[float, float]]()
    for wake in _moments(device, faults):
        source = "pin" if wake.source == "pin again" else wake.source
        if wake.at_s < free_s:
            continue
        at_s = wake.at_s
        if modes:
            _slept(device, modes, mode, at_s - sleep_since_s, at_s, lift_a, cross_c)
        lasts_s = work_s[source] * (1 + 0.05 * random.standard_normal())
        device.log.append((at_s, "wake", source))
        _tell(device, style, at_s, source.capitalize())
        if modes and mode == "deep":  # memory and clocks come back first
            device.add(at_s, at_s + cross_c / run_a, run_a)
            at_s += cross_c / run_a
        # The core comes up, and then works.
        up_s = at_s + max(1.5e-3, 0.2 * lasts_s)
        until_s = max(at_s + lasts_s, up_s + 0.5e-3)
        charge_c = device.add(at_s, up_s, run_a) + device.add(up_s, until_s, above_a[source])
        if source not in ("pin", "radio"):
            timers_c.setdefault(source, []).append(charge_c)
        if wake.source == "pin again":
            device.wasted(FindingKind.WAKE_BURST, charge_c)
        if FindingKind.AWAKE_TAIL in faults and source == tail_of:
            device.wasted(FindingKind.AWAKE_TAIL, device.add(until_s, until_s + tail_s, tail_a))
            until_s += tail_s
        if FindingKind.TIMER_OVERRIDDEN in faults and source == "radio" and first:
            until_s, first = _report(device, style, until_s, timers), False
        if FindingKind.PART_LEFT_ON in faults and source == left_of:
            left.append((until_s, min(until_s + left_s, device.length_s)))
        device.asleep[device.place(wake.at_s) : device.place(until_s)] = False
        mode = "deep"
        if modes:
            mode = "light" if random.random() < 0.5 else "deep"
        device.log.append((until_s, "sleep", mode))
        _tell(device, style, until_s, "Sleep" if mode == "deep" else "Light sleep")
        if FindingKind.SLEEP_NOT_ENTERED in faults and random.random() < misses:
            free_s = until_s
            device.asleep[device.place(until_s)] = True
            device.log.append((-1.0, "missed", f"{until_s}"))
        sleep_since_s, free_s = until_s, until_s + (0.3 if modes else 0.012)
    on_until_s = 0.0
    for from_s, to_s in left:  # what is on already is not on twice
        from_s = max(from_s, on_until_s)
        resting = device.asleep[device.place(from_s) : device.place(to_s)].sum() / device.rate_hz
        device.add(from_s, to_s, left_a)
        device.wasted(FindingKind.PART_LEFT_ON, left_a * float(resting))
        on_until_s = to_s
    if modes and mode == "light":
        device.add(sleep_since_s, device.length_s, lift_a)
    if FindingKind.SLEEP_NOT_ENTERED in faults:
        # Where it misses some of its sleep, the core may also wait with its clocks stopped.
        waits = misses < 1 and random.random() < 0.5
        _not_entered(device, run_a * (random.uniform(0.2, 0.5) if waits else random.uniform(0.9, 1.0)))
    if FindingKind.TIMERS_UNALIGNED in faults:
        # Each other timer's wake can come along with the clock's, and saves what waking takes at least.
        sensors = sum(event == "wake" and name.startswith("sensor") for _, event, name in device.log)
        device.wasted(FindingKind.TIMERS_UNALIGNED, sensors * min(float(np.mean(one)) for one in timers_c.values()))


def _tell(device: Device, style: str, time_s: float, state: str) -> None:
    if style == "wakes and states":
        device.log.append((time_s, "state", state))


def _slept(
    device: Device, faults: set[FindingKind], mode: str, length_s: float, to_s: float, lift_a: float, cross_c: float
) -> None:
    """Let what the lighter mode takes flow, and note where the other mode would have taken less."""
    even_s = cross_c / lift_a
    if mode == "light":
        device.add(to_s - length_s, to_s, lift_a)
    if mode == "light" and length_s > even_s and FindingKind.TOO_SHALLOW in faults:
        device.wasted(FindingKind.TOO_SHALLOW, lift_a * length_s - cross_c)
    if mode == "deep" and length_s < even_s and FindingKind.TOO_DEEP in faults:
        device.wasted(FindingKind.TOO_DEEP, cross_c - lift_a * length_s)


def _report(device: Device, style: str, from_s: float, timers: dict[str, int]) -> float:
    """Report, ask for an active time, and stay on for the one that was granted."""
    asked_s, granted_s = (2.0 * int(timers[name]) for name in ("asked", "granted"))
    asked, granted = (ACTIVE_TIME.encode(f"{one} s").octet for one in (asked_s, granted_s))
    period = PERIODIC_UPDATE.encode("3600 s").octet
    device.log.append((from_s - 0.2, "log", f'AT+CPSMS=1,,,"{period}","{asked}"'))
    device.log.append((from_s, "log", f'+CEREG: 5,1,"1A2B","01C3D5E7",9,,,"{granted}","{period}"'))
    until_s = min(from_s + granted_s, device.length_s - 5)
    _tell(device, style, from_s, "Modem idle")
    device.add(from_s, until_s, 9e-3)
    device.wasted(FindingKind.TIMER_OVERRIDDEN, 9e-3 * max(until_s - from_s - asked_s, 0.0))
    return until_s


def _not_entered(device: Device, run_a: float) -> None:
    """Let the core run on where it missed its sleep, up to the next wake."""
    missed = [float(name) for _, event, name in device.log if event == "missed"]
    device.log = [entry for entry in device.log if entry[1] != "missed"]
    wakes = sorted(time_s for time_s, event, _ in device.log if event == "wake")
    for from_s in missed:
        to_s = next((time_s for time_s in wakes if time_s > from_s), device.length_s)
        device.wasted(FindingKind.SLEEP_NOT_ENTERED, device.add(from_s, to_s, run_a))
        device.asleep[device.place(from_s) : device.place(to_s)] = False


def _rest(device: Device, faults: frozenset[FindingKind], run_a: float) -> None:
    """Add what happens asleep: harmless supervision pulses, and the tick."""
    random, rate_hz, samples = device.random, device.rate_hz, len(device.current)
    if random.random() < 0.7:
        # Shorter than two samples they would be undersampled, which is no harmless thing.
        every_s, lasts_s = random.uniform(0.1, 1.0), max(random.uniform(0.2e-3, 1e-3), 2 / rate_hz)
        for at_s in np.arange(random.uniform(0, every_s), device.length_s, every_s):
            device.add(at_s, at_s + lasts_s, random.uniform(20e-6, 100e-6))
    if FindingKind.TICK_RUNNING in faults:
        period_s, awake_s = float(random.choice([1e-3, 1 / 1024, 2e-3, 10e-3])), random.uniform(30e-6, 100e-6)
        if period_s > 5e-3:
            awake_s *= 4
        at = np.arange(random.uniform(0, period_s), device.length_s, period_s)
        edges = np.arange(samples + 1) / rate_hz
        begun = np.repeat(np.arange(len(at)), 2) + np.tile((0, 1), len(at))
        flows = np.interp(edges, np.column_stack((at, at + awake_s)).ravel(), begun)
        charge_c = np.diff(flows) * awake_s * run_a * device.asleep
        device.current += charge_c * rate_hz
        device.wasted(FindingKind.TICK_RUNNING, float(charge_c.sum()))


def look(made: Made) -> tuple[tuple[Finding, ...], float]:
    """Find all in a capture; return with it the average of all that repeats."""
    recording = made.recording

    def levels() -> object:
        return find_levels(recording.current)

    placement = place(recording, levels=levels)
    ledger = make_ledger(recording, placement, made.expected)
    wakes = make_wake_ledger(recording, placement, find_wakes(recording, placement, levels))
    waste = WasteContext(recording, placement, ledger, wakes, made.expected, supply_v=3.0)
    return find_waste(waste, check(recording, levels).findings), waste.usual_a


@dataclass(frozen=True)
class Result:
    """What was found in one device with a fault: whether it was, how far off its cost, and what else was said."""

    seed: int
    planted: tuple[FindingKind, ...]
    found: tuple[FindingKind, ...]
    off: dict[FindingKind, float]
    counts: bool = True


def measure(job: tuple[int, tuple[FindingKind, ...]]) -> Result:
    """Simulate one device and look at it."""
    seed, planted = job
    made = simulate(seed, planted)
    found, usual_a = look(made)
    off = {}
    # Chance may leave no place for a fault, or next to none.
    planted = tuple(kind for kind in planted if made.cost_a.get(kind, 0.0) > TELLS * usual_a)
    for kind in planted:
        told_a = sum(one.cost_a or 0.0 for one in found if one.kind is kind)
        if made.cost_a.get(kind) and any(one.kind is kind for one in found):
            off[kind] = float(told_a / made.cost_a[kind] - 1)
    return Result(seed, planted, tuple(one.kind for one in found), off, bool(job[1]) == bool(planted))


def jobs(each: int, clean: int, first: int) -> list[tuple[int, tuple[FindingKind, ...]]]:
    """Return devices with one fault, a quarter of them with a second one, and clean ones."""
    listed: list[tuple[int, tuple[FindingKind, ...]]] = []
    for kind in KINDS:
        for turn in range(each):
            random = np.random.default_rng([first, turn])
            others = [k for k in KINDS if k is not kind and k not in _ALONE and kind not in _ALONE]
            second = (FindingKind(str(random.choice(others))),) if others and turn % 4 == 3 else ()
            listed.append((first + len(listed), (kind, *second)))
    return listed + [(first + len(listed) + turn, ()) for turn in range(clean)]


_ALONE = {*_TWO_MODES, FindingKind.SLEEP_NOT_ENTERED, FindingKind.TICK_RUNNING, FindingKind.TIMERS_UNALIGNED}


def document(results: list[Result]) -> str:
    """Write the part of the document on findings."""
    results = [one for one in results if one.counts]
    clean = [one for one in results if not one.planted]
    alarms = sum(bool(one.found) for one in clean)
    text = _TEXT.format(faulty=len(results) - len(clean), clean=len(clean))
    for kind in KINDS:
        mine = [one for one in results if kind in one.planted]
        off = [abs(one.off[kind]) for one in mine if kind in one.off]
        hits = sum(kind in one.found for one in mine)
        within = sum(one <= COST for one in off)
        cost = f"{100 * np.median(off):.1f} % | {within} of {len(off)}" if off else "– | –"
        text += f"| {kind} | {hits} of {len(mine)} | {cost} |\n"
    return text + f"\nFalse alarms: {alarms} of {len(clean)} clean captures (limit {100 * FALSE_ALARMS:.0f} %).\n"


def missed(results: list[Result]) -> list[str]:
    """Say which limits were missed."""
    results = [one for one in results if one.counts]
    found = []
    for kind in KINDS:
        mine = [one for one in results if kind in one.planted]
        hits = sum(kind in one.found for one in mine)
        if hits < RECALL * len(mine):
            found.append(f"{kind}: {hits} of {len(mine)} found")
    clean = [one for one in results if not one.planted]
    alarms = sum(bool(one.found) for one in clean)
    return [*found, f"{alarms} false alarms in {len(clean)}"] if alarms > FALSE_ALARMS * len(clean) else found


_TEXT = """
Waste on {faulty} simulated devices with one or two faults, each device with its own currents, timers and log, and on
{clean} devices without any; most have pulses of supply supervision, all have noise and a log whose clock drifts. A
fault that takes less than 4 % of what repeats is not counted. Cost: against the charge that the simulation put in at
rest.

| kind | found (limit 95 %) | cost off: median | within 15 % |
| --- | --- | --- | --- |
"""


def main() -> int:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("each", nargs="?", type=int, default=20)
    parser.add_argument("--seed", type=int)
    parser.add_argument("--clean", type=int, default=100)
    arguments = parser.parse_args()
    first = arguments.seed if arguments.seed is not None else int(np.random.default_rng().integers(1 << 30))
    with ProcessPoolExecutor(2) as pool:
        results = list(pool.map(measure, jobs(arguments.each, arguments.clean, first), chunksize=4))
    sys.stdout.write(document(results))
    for one in results:
        planted, found = (sorted({str(kind) for kind in kinds}) for kinds in (one.planted, one.found))
        off = {str(kind): round(value, 3) for kind, value in one.off.items()}
        if planted != found or any(abs(value) > COST for value in one.off.values()):
            sys.stdout.write(f"{one.seed} planted {planted} found {found} off {off}\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
