"""Measure how well two faults of different kinds are found together.

.venv/bin/python scripts/accuracy_pairs.py              30 devices of each pair; prints only
.venv/bin/python scripts/accuracy_pairs.py 5 --seed 3   fewer, from a known seed

It leaves with 1 when a limit is missed.
"""

from __future__ import annotations

import argparse
import itertools
import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

import accuracy_findings
import numpy as np
from accuracy_findings import Made

from warm_ember.attribution.placing import place
from warm_ember.model.finding import FindingKind
from warm_ember.model.placement import Alignment
from warm_ember.signal.series import ArraySeries

PAIRS = (
    (FindingKind.HUM, FindingKind.AWAKE_TAIL),
    (FindingKind.HUM, FindingKind.WAKE_BURST),
    (FindingKind.HUM, FindingKind.CLIPPED),
    (FindingKind.TRUNCATED, FindingKind.SLEEP_NOT_ENTERED),
    (FindingKind.TRUNCATED, FindingKind.TIMERS_UNALIGNED),
    (FindingKind.CLIPPED, FindingKind.TOO_DEEP),
    (FindingKind.CLIPPED, FindingKind.TOO_SHALLOW),
    (FindingKind.CLIPPED, FindingKind.BELOW_RESOLUTION),
    (FindingKind.WAKE_BURST, FindingKind.SLEEP_NOT_ENTERED),
    (FindingKind.FLOOR_ABOVE_EXPECTED, FindingKind.AWAKE_TAIL),
)
OF_MEASURING = (
    FindingKind.HUM,
    FindingKind.CLIPPED,
    FindingKind.BELOW_RESOLUTION,
    FindingKind.TRUNCATED,
    FindingKind.UNDERSAMPLED,
    FindingKind.RANGE_GLITCH,
)
RECALL, FALSE_ALARMS = 0.92, 0.02
_CLOCK_OFF_S = 0.05
_TRIES, _TRIES_APART = 6, 1_000_000
_OPPOSITE = {FindingKind.TOO_SHALLOW: FindingKind.TOO_DEEP, FindingKind.TOO_DEEP: FindingKind.TOO_SHALLOW}


@dataclass(frozen=True)
class Result:
    """What was planted in one device, which of it takes enough to count, and what was found in it."""

    seed: int
    pair: tuple[FindingKind, ...]
    planted: tuple[FindingKind, ...]
    found: tuple[FindingKind, ...]
    clock_off_s: float

    @property
    def false(self) -> set[FindingKind]:
        """What was found and is not there, however little that takes; a clock that is off could not be told."""
        known = {FindingKind.AMBIGUOUS_CLOCK} if abs(self.clock_off_s) > _CLOCK_OFF_S else set()
        return set(self.found) - set(self.pair) - known


def make(seed: int, planted: tuple[FindingKind, ...]) -> Made:
    """Simulate a device with its own faults, and measure it with those of the measurement."""
    made = accuracy_findings.simulate(seed, [kind for kind in planted if kind not in OF_MEASURING])
    random = np.random.default_rng([seed, 5])
    recording = made.recording
    interval_s = recording.current.interval_s
    values = recording.current.read(0, recording.current.samples).astype(np.float64)
    rest_a = float(np.quantile(values, 0.2))
    if FindingKind.TRUNCATED in planted:
        values = values[: _within_wake(made, values)]
    if FindingKind.BELOW_RESOLUTION in planted:
        # Alone it may be close to what is resolved; with another fault it is to be found.
        values += rest_a * random.uniform(1.0 if len(planted) == 1 else 2.5, 6) * random.standard_normal(len(values))
    if FindingKind.HUM in planted:
        times_s = np.arange(len(values)) * interval_s
        values += rest_a * random.uniform(0.3, 1.5) * np.sin(2 * np.pi * float(random.choice([50, 60])) * times_s)
    if FindingKind.UNDERSAMPLED in planted:
        _add_short_pulses(values, random)
    if FindingKind.RANGE_GLITCH in planted:
        _let_break_out(made, values, random)
    if FindingKind.CLIPPED in planted:
        high_a = float(np.quantile(values[values > 0.2 * values.max()], 0.5))
        values = np.minimum(values, high_a * random.uniform(0.75, 0.95))
    end_s = len(values) * interval_s + 1.0
    events = tuple(event for event in recording.events if event.time_s < end_s)
    series = ArraySeries(values.astype(np.float32), interval_s)
    return replace(made, recording=replace(recording, current=series, events=events))


def _add_short_pulses(values: np.ndarray, random: np.random.Generator) -> None:
    """Add pulses of less than a sample at moments of chance, as an instrument that averages sees them."""
    apart = random.uniform(0.002, 0.01) * len(values)
    begins = np.cumsum(random.exponential(apart, 2000))
    begins = begins[begins < len(values) - 3]
    lasts, high_a = random.uniform(0.1, 0.8), random.uniform(0.3, 2) * float(values.max())
    first = begins.astype(int)
    here = np.minimum(first + 1 - begins, lasts)
    np.add.at(values, first, here * high_a)
    np.add.at(values, first + 1, (lasts - here) * high_a)


def _let_break_out(made: Made, values: np.ndarray, random: np.random.Generator) -> None:
    """Let a reading or two of some wakes be far beyond both levels, as where the instrument changes its range."""
    share, times = random.uniform(0.4, 1.0), random.uniform(1.5, 4.0)
    for first, last in _wakes(made, len(values)):
        if random.random() < share and last - first > 4:
            at = first + int(random.integers(0, 3))
            values[at : at + int(random.integers(1, 3))] = times * float(values[first:last].max())


def _wakes(made: Made, samples: int) -> list[tuple[int, int]]:
    """Return first and last sample of the wakes that the log tells of whole."""
    recording = made.recording
    alignment = place(recording).alignment or Alignment()
    interval_s = recording.current.interval_s
    told = sorted((alignment.to_capture(e.time_s), e.event) for e in recording.events if e.event in ("wake", "sleep"))
    return [
        (round(from_s / interval_s), round(to_s / interval_s))
        for (from_s, event), (to_s, following) in itertools.pairwise(told)
        if (event, following) == ("wake", "sleep") and 0 < from_s < to_s < (samples - 10) * interval_s
    ]


def _within_wake(made: Made, values: np.ndarray) -> int:
    """Return a sample in the midst of the heaviest wake, by the log, that is not in the first part."""
    wakes = [wake for wake in _wakes(made, len(values)) if wake[0] > 0.2 * len(values)]
    first, last = max(wakes, key=lambda wake: float(values[wake[0] : wake[1]].sum()))
    return int(first + 0.6 * (last - first))


def measure(job: tuple[int, tuple[FindingKind, ...]]) -> Result:
    """Make one device and look at it; where chance leaves a fault next to nothing to take, make another."""
    seed, planted = job
    for turn in range(_TRIES):
        made = make(seed + turn * _TRIES_APART, planted)
        found, usual_a = accuracy_findings.look(made)
        counts = [
            kind
            for kind in planted
            if kind in OF_MEASURING or made.cost_a.get(kind, 0.0) > accuracy_findings.TELLS * usual_a
        ]
        if len(counts) == len(planted):
            break
    alignment = place(made.recording).alignment or Alignment()
    kinds = tuple(one.kind for one in found)
    return Result(seed + turn * _TRIES_APART, planted, tuple(counts), kinds, alignment.offset_s - made.offset_s)


def jobs(each: int, first: int) -> list[tuple[int, tuple[FindingKind, ...]]]:
    """Return devices of each pair."""
    return [(first + 1000 * number + turn, pair) for number, pair in enumerate(PAIRS) for turn in range(each)]


def document(results: list[Result]) -> str:
    """Write the part of the document on faults in company."""
    alarms = sum(bool(one.false) for one in results)
    text = _TEXT.format(devices=len(results))
    for pair in PAIRS:
        mine = [one for one in results if one.pair == pair and len(one.planted) == len(pair)]
        cells = [f"{sum(kind in one.found for one in mine)} of {len(mine)}" for kind in pair]
        text += f"| {pair[0]} with {pair[1]} | {' | '.join(cells)} | {_turned(pair, mine)} |\n"
    limit = f"{100 * FALSE_ALARMS:.0f} %"
    return text + f"\nSomething found that is not there: on {alarms} of {len(results)} devices (limit {limit}).\n"


def _turned(pair: tuple[FindingKind, ...], results: list[Result]) -> int:
    return sum(_OPPOSITE.get(kind) in one.found for kind in pair for one in results)


def missed(results: list[Result]) -> list[str]:
    """Say which limits were missed."""
    problems = list[str]()
    for pair in PAIRS:
        turned = _turned(pair, [one for one in results if one.pair == pair])
        if turned:
            problems.append(f"{pair[0]} with {pair[1]}: the other way round {turned} times")
    planted, hits = Counter[FindingKind](), Counter[FindingKind]()
    for one in results:
        planted.update(one.planted)
        hits.update(kind for kind in one.planted if kind in one.found)
    for kind, count in planted.items():
        if hits[kind] < RECALL * count:
            problems.append(f"{kind} in company: {hits[kind]} of {count} found")
    alarms = sum(bool(one.false) for one in results)
    if alarms > FALSE_ALARMS * len(results):
        problems.append(f"{alarms} false alarms on {len(results)} devices with two faults")
    return problems


_TEXT = """
Two faults together, on {devices} further devices of that kind: those of the measurement (hum, clipped,
below-resolution, truncated) are put into the reading of a device with its own. An ambiguous clock is not counted as
false where the log lies wrong by more than 50 ms.

| pair | first found (limit 92 %) | second found (limit 92 %) | too deep and too shallow confused |
| --- | --- | --- | --- |
"""


def main() -> int:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("each", nargs="?", type=int, default=30)
    parser.add_argument("--seed", type=int)
    arguments = parser.parse_args()
    first = arguments.seed if arguments.seed is not None else int(np.random.default_rng().integers(1 << 30))
    with ProcessPoolExecutor(2) as pool:
        results = list(pool.map(measure, jobs(arguments.each, first), chunksize=2))
    sys.stdout.write(document(results))
    problems = missed(results)
    for one in results:
        missing = sorted(str(kind) for kind in set(one.planted) - set(one.found))
        if missing or one.false:
            said = sorted(str(kind) for kind in one.false)
            sys.stdout.write(f"{one.seed} {[str(k) for k in one.planted]} missed {missing} and said {said}\n")
    sys.stderr.writelines(f"limit missed: {one}\n" for one in problems)
    return int(bool(problems))


if __name__ == "__main__":
    sys.exit(main())
