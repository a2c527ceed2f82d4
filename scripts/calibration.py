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
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from calibration_functions import functions, in_step, interrupt
from calibration_lives import life, mislead, occurrences, rare, told_once
from calibration_runs import DEVICES, claimed, compared, first_of, named, sources, sources_real
from calibration_states import beyond, edges, entries
from scipy.special import gammaln, stdtrit

from warm_ember.model.load import ONCE_SPREAD
from warm_ember.tuning.difference import ComparedRun, Difference, by_activity, by_source, by_state, of_average

DOCUMENT = Path(__file__).parents[1] / "docs" / "calibration.md"
NINETY, EIGHTY, _WIDEST = (0.85, 0.95), (0.74, 0.86), 1.2
_BEYOND = (
    "noise of 1 µA",
    "offset of -0.5 µA",
    "step of 1 µA",
    "step of 1 µA, noise of 0.3 µA",
    "range ends at 0.9 of what flows",
)


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
        Makes one case from a seed: whether it holds (None where nothing is said), the value, and the interval's width.
    tells
        What a case that holds is: "holds the truth", "real".
    observed
        How many equal observations one would need for the ideal interval, which is Student's; None where there is no
        such ideal.
    """

    part: str
    name: str
    least: float
    most: float
    measure: Callable[[np.random.Generator], tuple[bool | None, float, float]]
    tells: str = "holds the truth"
    observed: int | None = None

    @property
    def ideal(self) -> float:
        """The mean width of the ideal interval, in standard deviations of the value."""
        if self.observed is None:
            return np.nan
        freedom = self.observed - 1
        # The mean of a standard deviation that was estimated.
        short = np.sqrt(2 / freedom) * np.exp(gammaln((freedom + 1) / 2) - gammaln(freedom / 2))
        return float(2 * stdtrit(freedom, 0.95) * short)


def rows() -> Iterator[Row]:
    """Return all rows, in the order of the document."""
    for many in (2, 4, 7, 8, 20, 500):
        for lengths in ("even", "uneven"):
            name = f"{many} entries, {lengths} lengths"
            yield Row("states", name, *NINETY, partial(entries, many, lengths, 0.0), observed=many)
    name = "500 entries like their neighbours (0.9)"
    yield Row("states", name, *NINETY, partial(entries, 500, "even", 0.9), observed=500)
    for rate_hz in (100.0, 1e3, 10e3):
        yield Row("edges", f"sleep beside work, {rate_hz:g} S/s", *NINETY, partial(edges, rate_hz, 0.0))
    yield Row("edges", "… settling by 0.5 ms, 10000 S/s", *NINETY, partial(edges, 10e3, 5e-4))
    for what in _BEYOND:
        yield Row("bounds", what, 0.95, 1.0, partial(beyond, what), "a bound that holds the truth")
    picks: dict[str, Callable[[ComparedRun, ComparedRun], Difference | None]] = {
        "mean": of_average,
        "state": partial(named, by_state, "Work"),
        "source": partial(named, by_source, "timer"),
        "activity": partial(first_of, by_activity),
    }
    for what, device in DEVICES.items():
        for about, pick in picks.items():
            yield Row("compare", f"{what}: {about}", 0.0, 0.10, partial(compared, device, pick), "called real")
    for lasts in (50.0, 1.0, 0.1):
        for many in (20, 200, 2000):
            name = f"{many} samples, runs of {lasts:g} periods"
            # Of one end between two samples half a sampling period to either side is all that there is to know.
            yield Row("functions", name, 0.85, 1.0 if many < lasts else 0.95, partial(functions, lasts, many))
    for many in (200, 2000):
        yield Row("functions", f"{many} samples, a hot interrupt", *NINETY, partial(interrupt, many))
        for periods in (1.0, 1.001):
            name = f"{many} samples, a loop of {periods:g} periods"
            yield Row("functions", name, 0.95, 1.0, partial(in_step, periods, many), "told")
    for many in (3, 10, 100, 2000, 10_000):
        yield Row("sources", f"{many} wakes", *NINETY, partial(sources, many, 0.0), observed=2 * many - 1)
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
    for length_s in (60.0, 600.0):
        yield Row("life", f"timer and something rare, {length_s:g} s", *EIGHTY, partial(rare, length_s))
    for how in ("2.3 cycles", "3.6 cycles", "ends in an activity", "start-up of 1.5 s at 20 mA"):
        yield Row("life", how, *EIGHTY, partial(mislead, how))
    for scatter in (0.3, 1.0):
        for times in (2, 3, 5, 20):
            name = f"activity measured {times} times, scattering by {scatter:g}"
            yield Row("life", name, *EIGHTY, partial(occurrences, times, scatter))
    # What was measured once says nothing of how it scatters: that is assumed, and is said to be.
    name = f"activity measured once, scattering by {ONCE_SPREAD:g} as is assumed"
    yield Row("life", name, *EIGHTY, partial(occurrences, 1, ONCE_SPREAD))
    name = "activity measured once, scattering by 1"
    yield Row("life", name, 0.95, 1.0, partial(told_once, 1.0), "told that it is assumed")


@dataclass(frozen=True)
class Result:
    """What came of one row."""

    row: Row
    cases: int
    share: float
    width: float

    @property
    def is_wide(self) -> bool:
        """Whether its intervals are wider than they need to be, by more than so few cases make of their spread."""
        return self.width > _WIDEST * (1 + 1.645 / (2 * self.cases) ** 0.5)

    @property
    def is_missed(self) -> bool:
        """Whether it lies outside its limits by more than so few cases let it by chance."""
        least, most = (limit * (1 - limit) for limit in (self.row.least, self.row.most))
        below = self.row.least - 1.645 * (least / self.cases) ** 0.5
        above = self.row.most + 1.645 * (most / self.cases) ** 0.5
        return not below <= self.share <= above


def measure(job: tuple[int, int, int]) -> tuple[bool | None, float, float]:
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
nothing with the simulated bench. The truth is the process's, not the sample's. *Width* is that of the intervals to the
one that Student's distribution gives for as many normal observations of equal length: no interval that has only the
sample is narrower. At most 1.2 is allowed.
"""
_TABLE = "| | share | | limits | width |\n| --- | --- | --- | --- | --- |\n"
_PARTS = {
    "states": "The 90 % interval of a state's mean current; entries scatter by 30 %.",
    "edges": "The 90 % interval of the mean of a sleep of 5 µA beside work of 5 mA, edges anywhere between samples.",
    "bounds": "What the instrument cannot measure: a floor of 0.03 to 0.3 µA, and work beyond the range.",
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
        held = [held for held, _, _ in mine if held is not None]
        ideal = every[number].ideal * spread
        results.append(Result(every[number], len(held), float(np.mean(held)), widths / ideal if spread else np.nan))
    text = document(results, seed)
    sys.stdout.write(text)
    if not arguments.parts and arguments.cases >= 400:
        DOCUMENT.write_text(text, encoding="utf-8")
    missed = [one for one in results if one.is_missed or one.is_wide]
    sys.stderr.writelines(
        f"limit missed: {one.row.part}, {one.row.name}: {100 * one.share:.1f} %, width {one.width:.2f}\n"
        for one in missed
    )
    return int(bool(missed))


if __name__ == "__main__":
    sys.exit(main())
