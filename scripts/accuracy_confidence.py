"""Measure how often a finding is right, by its kind and by how sure it says to be.

.venv/bin/python scripts/accuracy_confidence.py              20 devices of each fault and pair; prints only
.venv/bin/python scripts/accuracy_confidence.py 5 --seed 3   fewer, from a known seed

The population is that of docs/accuracy.md: devices with one fault, with two and with none, and some that were
measured badly, each as it is, without its
log, cut to a third, and with the log of another device. It leaves with 1 when a kind is surer than it is right.
"""

from __future__ import annotations

import argparse
import sys
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

import accuracy_findings
import accuracy_pairs
import numpy as np
from accuracy_findings import Made

from warm_ember.attribution.placing import place
from warm_ember.model.finding import FindingKind
from warm_ember.signal.series import ArraySeries

WAYS = ("as it is", "without log", "a third", "another's log")
_CLOCK_OFF_S = 0.05
MEASURED_BADLY = (
    (FindingKind.UNDERSAMPLED,),
    (FindingKind.RANGE_GLITCH,),
    (FindingKind.UNDERSAMPLED, FindingKind.AWAKE_TAIL),
    (FindingKind.RANGE_GLITCH, FindingKind.FLOOR_ABOVE_EXPECTED),
    (FindingKind.BELOW_RESOLUTION,),
    (FindingKind.TRUNCATED,),
)
"""What is planted besides the faults and pairs of docs/accuracy.md."""
_MEAN_THE_SAME = {
    FindingKind.PART_LEFT_ON: {FindingKind.SLEEP_NOT_ENTERED},
    FindingKind.FLOOR_ABOVE_EXPECTED: {FindingKind.SLEEP_NOT_ENTERED},
}
"""Kinds that are right where another was planted: a core that does not sleep is a part that stays on."""


@dataclass(frozen=True)
class Said:
    """One finding: its kind, how sure it was, and whether it is so."""

    kind: FindingKind
    confidence: float
    is_right: bool
    way: str


def measure(job: tuple[int, tuple[FindingKind, ...], str]) -> list[Said]:
    """Make one device, look at it in one way, and hold each finding against what was planted."""
    seed, planted, way = job
    is_measured_badly = any(kind in accuracy_pairs.OF_MEASURING for kind in planted)
    made = accuracy_pairs.make(seed, planted) if is_measured_badly else accuracy_findings.simulate(seed, planted)
    made = _turned(made, way, seed)
    found, _ = accuracy_findings.look(made)
    there = {kind for kind in planted if kind in accuracy_pairs.OF_MEASURING or made.cost_a.get(kind)}
    if way == "another's log":
        there |= {FindingKind.AMBIGUOUS_CLOCK}
    said = []
    for one in found:
        right = one.kind in there or bool(_MEAN_THE_SAME.get(one.kind, set()) & there)
        if one.kind is FindingKind.AMBIGUOUS_CLOCK and not right:
            alignment = place(made.recording).alignment
            right = alignment is not None and abs(alignment.offset_s - made.offset_s) > _CLOCK_OFF_S
        if one.kind is FindingKind.TRUNCATED and way == "a third":
            continue  # whether chance cut off an activity is not known here
        said.append(Said(one.kind, one.confidence, right, way))
    return said


def _turned(made: Made, way: str, seed: int) -> Made:
    recording = made.recording
    current = recording.current
    if way == "without log":
        return replace(made, recording=replace(recording, events=()))
    if way == "a third":
        samples = current.samples // 3
        short = ArraySeries(current.read(0, samples), current.interval_s)
        end_s = samples * current.interval_s
        events = tuple(event for event in recording.events if event.time_s < end_s)
        return replace(made, recording=replace(recording, current=short, events=events))
    if way == "another's log":
        other = accuracy_findings.simulate(seed + 7_654_321)
        return replace(made, recording=replace(recording, events=other.recording.events))
    return made


def jobs(each: int, first: int) -> list[tuple[int, tuple[FindingKind, ...], str]]:
    """Return all devices, each in every way."""
    devices = [*accuracy_findings.jobs(each, 2 * each, first), *accuracy_pairs.jobs(each, first + 500_000)]
    for number, planted in enumerate(MEASURED_BADLY):
        devices += [(first + 700_000 + 1000 * number + turn, planted) for turn in range(each)]
    return [(seed, planted, way) for seed, planted in devices for way in WAYS]


def document(said: list[Said]) -> str:
    """Write the part of the document on confidence."""
    text = _TEXT
    for (kind, confidence), mine in _grouped(said):
        right = sum(one.is_right for one in mine)
        text += f"| {kind} | {confidence:.2f} | {right} of {len(mine)} | {(right + 1) / (len(mine) + 2):.2f} |\n"
    return text


def _grouped(said: list[Said]) -> list[tuple[tuple[FindingKind, float], list[Said]]]:
    groups = defaultdict[tuple[FindingKind, float], list[Said]](list)
    for one in said:
        groups[one.kind, one.confidence].append(one)
    return sorted(groups.items(), key=lambda item: (item[0][0].value, -item[0][1]))


def missed(said: list[Said]) -> list[str]:
    """Say which kinds are surer, or less sure, than chance makes of how often they are right."""
    problems = []
    for (kind, confidence), mine in _grouped(said):
        right, many = sum(one.is_right for one in mine), len(mine)
        error = 2.5 * (confidence * (1 - confidence) / many) ** 0.5 + 1 / (many + 2)
        if abs(right / many - confidence) > max(error, 0.05):
            problems.append(f"{kind} says {confidence:.2f}: {right} of {many} right")
    return problems


_TEXT = """
How often a finding is right, among all of these devices as they are, without their log, cut to a third, and with the
log of another device. “Right” is rounded as if one more had been right and one more wrong.

| kind | says | right | |
| --- | --- | --- | --- |
"""


def main() -> int:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("each", nargs="?", type=int, default=20)
    parser.add_argument("--seed", type=int)
    parser.add_argument("--only", action="store_true", help="only devices that were measured badly")
    parser.add_argument("--wrong", action="store_true", help="list what was wrong, with its seed and way")
    arguments = parser.parse_args()
    first = arguments.seed if arguments.seed is not None else int(np.random.default_rng().integers(1 << 29))
    listed = jobs(arguments.each, first)
    if arguments.only:
        listed = [job for job in listed if job[1] in MEASURED_BADLY]
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(measure, listed, chunksize=4))
    said = [one for part in found for one in part]
    sys.stdout.write(document(said))
    if arguments.wrong:
        for (seed, planted, way), part in zip(listed, found, strict=True):
            wrong = [one.kind.value for one in part if not one.is_right]
            if wrong:
                sys.stdout.write(f"{seed} {'+'.join(planted)} {way}: {', '.join(wrong)}\n")
    problems = missed(said)
    sys.stderr.writelines(f"limit missed: {one}\n" for one in problems)
    return int(bool(problems))


if __name__ == "__main__":
    sys.exit(main())
