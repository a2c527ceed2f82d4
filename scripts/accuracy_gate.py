"""Measure how often the gate fails what did not change, and catches what did; `scripts/accuracy.py` writes it down.

.venv/bin/python scripts/accuracy_gate.py             200 pairs with new seeds; prints only
.venv/bin/python scripts/accuracy_gate.py 20 --seed 3 fewer, from a known seed

It leaves with 1 when a limit is missed.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from warm_ember.bench.simulated.direct import simulate
from warm_ember.bench.simulated.firmware import FIRMWARE
from warm_ember.model.gate_limits import BaselineLimits, GateLimits
from warm_ember.model.project import Run
from warm_ember.session.session import Session
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.tuning.gate import Outcome

WORSE = 0.03
CHANGE = 0.08
FALSE, CAUGHT = 0.05, 0.90
_BUILDS = FIRMWARE[2:]


@dataclass(frozen=True)
class Result:
    """What failed between two captures of one process, and between one of them and another that takes 8 % more."""

    unchanged: tuple[str, ...]
    changed: tuple[str, ...]


def measure(seed: int) -> Result:
    """Record a build three times, the third one taking more of everything, and compare it with the first."""
    random = np.random.default_rng([seed, 23])
    firmware = _BUILDS[random.integers(len(_BUILDS))]
    duration_s, rate_hz = float(random.uniform(90, 240)), float(random.choice([2e3, 5e3]))
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "p" / "captures").mkdir(parents=True)
        session = Session.open_or_create(Path(folder) / "p")
        for number, (name, factor) in enumerate((("one", 1.0), ("two", 1.0), ("more", 1 + CHANGE))):
            made = simulate(firmware, seed=3 * seed + number, duration_s=duration_s, rate_hz=rate_hz)
            with CaptureWriter(session.folder.capture_path(name)) as writer:
                writer.append((made.current * np.float32(factor)).astype(np.float32))
                writer.finish(made.info, made.events)
            session.add_run(Run(name))
        limits = GateLimits(baseline=BaselineLimits(max_worse=WORSE))
        failed = []
        for name in ("two", "more"):
            checks = session.gate.gate(session.project, limits, name, "one").checks
            failed.append(tuple(check.name for check in checks if check.outcome is Outcome.FAIL))
        session.close()
    return Result(failed[0], failed[1])


def run(pool: ProcessPoolExecutor, seeds: Iterable[int]) -> list[Result]:
    """Measure a pair of each seed."""
    return list(pool.map(measure, seeds))


def rows(found: list[Result]) -> list[tuple[str, str, str, bool]]:
    """Return each figure in words with its limit, and whether that is kept."""
    false = sum(bool(one.unchanged) for one in found)
    caught = sum(bool(one.changed) for one in found)
    return [
        ("fails though nothing changed", f"{false} of {len(found)}", "5 %", false <= FALSE * len(found)),
        ("catches 8 % more", f"{caught} of {len(found)}", "90 %", caught >= CAUGHT * len(found)),
    ]


def document(found: list[Result]) -> str:
    """Write the part of the document on the gate."""
    table = "".join(f"| {what} | {value} | {limit} |\n" for what, value, limit, _ in rows(found))
    return _TEXT.format(pairs=len(found)) + table


def missed(found: list[Result]) -> list[str]:
    """Say which limits were missed."""
    return [f"gate: {what}: {value}" for what, value, _, is_kept in rows(found) if not is_kept]


_TEXT = """
The gate with `max_worse = 0.03` on {pairs} pairs of captures of one build, and as many in which the second takes 8 %
more of everything: builds that count by chance, one and a half to four minutes at 2 or 5 kS/s, each with its own noise
and a log whose clock drifts. A pair fails where any of its checks does: average, each state, each source.

| | measured | limit |
| --- | --- | --- |
"""


def main() -> int:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("pairs", nargs="?", type=int, default=200)
    parser.add_argument("--seed", type=int, default=None)
    arguments = parser.parse_args()
    first = int(np.random.default_rng().integers(1, 2**28)) if arguments.seed is None else arguments.seed
    with ProcessPoolExecutor() as pool:
        found = run(pool, range(first, first + arguments.pairs))
    sys.stdout.write(f"seeds from {first} on\n")
    for what, value, limit, is_kept in rows(found):
        sys.stdout.write(f"{what:40} {value:>12}   {limit:8} {'' if is_kept else 'MISSED'}\n")
    for one in found:
        if one.unchanged:
            sys.stdout.write(f"failed though unchanged: {', '.join(one.unchanged)}\n")
    return int(bool(missed(found)))


if __name__ == "__main__":
    sys.exit(main())
