"""Measure how well kinds of wakes are found in the current alone; `scripts/accuracy.py` writes docs/accuracy.md.

.venv/bin/python scripts/accuracy_kinds.py            200 devices with new seeds; prints only
.venv/bin/python scripts/accuracy_kinds.py 20 --seed 3 fewer, from a known seed
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial

import numpy as np
from made_bursts import MadeDevice, make_device
from scipy.optimize import linear_sum_assignment

from warm_ember.attribution.kinds import Kind, Kinds, find_kinds
from warm_ember.session.kind_words import left_out_a, reproduced_a
from warm_ember.signal.sorting import ALONE

_TWICE, _SLOTS = 2, 4
_WITHIN_CHARGE, _WITHIN_PERIOD, _WITHIN_MEAN = 0.02, 0.002, 0.005
LIMITS = {"right": 0.95, "kinds": 0.90, "charge": 0.95, "period": 0.95, "invented": 0}


@dataclass(frozen=True)
class Result:
    """How well the kinds of one device were found.

    Parameters
    ----------
    true, found
        How many kinds there are, of which at least two wakes were seen, and how many were found.
    right
        Share of the wakes in their kind.
    charges
        By how much the charge of each kind is off its wakes' true one.
    periods
        By how much the period of each timer is off; infinite where none was found.
    held
        Whether the 90 % interval of each kind's charge holds the true one.
    reproduced
        By how much floor and kinds are off the capture's mean without what is unsorted.
    """

    true: int
    found: int
    right: float
    charges: tuple[float, ...]
    periods: tuple[float, ...]
    held: tuple[bool, ...]
    reproduced: float


def measure(seed: int, kinds: int | None = None) -> Result:
    """Sort the wakes of one made-up device and compare with what was made."""
    made = make_device(seed, kinds=kinds)
    found = find_kinds(made.current)
    sets, pure = _found_where(made, found)
    pairs = _paired(made, found, sets)
    right = [pairs.get(kind) in one for kind, one in zip(made.kind.tolist(), sets, strict=True)]
    charges, held, periods = [], [], []
    by_number = {kind.number: kind for kind in found.kinds}
    for true, number in pairs.items():
        kind = by_number[number]
        mine = (made.kind == true) & np.array(
            [one == {number} and alone for one, alone in zip(sets, pure, strict=True)]
        )
        if mine.any():
            charges.append(abs(kind.charge.value / float(made.charge_c[mine].mean()) - 1))
        low, high = kind.charge.interval() or (0.0, 0.0)
        if high > low:
            held.append(low <= made.true_charge_c(true) <= high)
    for true, kind in enumerate(made.kinds):
        if kind.how in ("timer", "skips") and (made.kind == true).sum() >= _SLOTS:
            periods.append(_period_off(by_number.get(pairs.get(true, ALONE)), kind.period_s))
    seen = sum(int((made.kind == true).sum()) >= _TWICE for true in range(len(made.kinds)))
    wanted_a = found.mean_a - left_out_a(found)
    return Result(
        seen,
        len(found.kinds),
        float(np.mean(right)),
        tuple(charges),
        tuple(periods),
        tuple(held),
        abs(reproduced_a(found) / wanted_a - 1),
    )


def _period_off(kind: Kind | None, period_s: float) -> float:
    found_s = kind.recurrence.period_s if kind is not None else None
    return float("inf") if found_s is None else abs(found_s / period_s - 1)


def _found_where(made: MadeDevice, found: Kinds) -> tuple[list[set[int]], list[bool]]:
    """Return which kinds are found where each true burst is, and whether it is alone there."""
    middle = (made.begin_s + made.end_s) / 2 / found.interval_s
    at = np.searchsorted(found.first, middle, side="right") - 1
    inside = (at >= 0) & (middle < found.last[np.maximum(at, 0)])
    bursts = np.bincount(at[inside], minlength=len(found.first))
    sets, pure = [], []
    for wake, one in zip(at.tolist(), inside.tolist(), strict=True):
        sets.append({int(found.kind[wake]), *found.mixed.get(int(wake), ())} - {ALONE} if one else set())
        pure.append(bool(one and bursts[wake] == 1 and wake not in found.mixed))
    return sets, pure


def _paired(made: MadeDevice, found: Kinds, sets: list[set[int]]) -> dict[int, int]:
    """Return which found kind each true one is, so that most wakes agree."""
    numbers = [kind.number for kind in found.kinds]
    agree = np.zeros((len(made.kinds), len(numbers)))
    for true, one in zip(made.kind.tolist(), sets, strict=True):
        for number in one:
            agree[true, numbers.index(number)] += 1
    rows, columns = linear_sum_assignment(-agree)
    return {int(a): numbers[b] for a, b in zip(rows, columns, strict=True) if agree[a, b] > 0}


def run(pool: ProcessPoolExecutor, first: int, devices: int) -> tuple[list[Result], list[Result]]:
    """Measure devices of two to six kinds, and a quarter as many of one kind."""
    several = list(pool.map(measure, range(first, first + devices)))
    alone = list(pool.map(partial(measure, kinds=1), range(first + devices, first + devices + max(devices // 4, 1))))
    return several, alone


def _share(values: Sequence[float], limit: float) -> float:
    return float(np.mean(np.array(values) <= limit)) if len(values) else 1.0


def rows(several: list[Result], alone: list[Result]) -> list[tuple[str, str, str, bool]]:
    """Return each figure in words with its limit, and whether that is kept."""
    right = float(np.mean([one.right for one in several]))
    kinds = float(np.mean([one.true == one.found for one in several]))
    charges = [off for one in several for off in one.charges]
    periods = [off for one in several for off in one.periods]
    held = float(np.mean([one for result in several for one in result.held]))
    mean = _share([one.reproduced for one in several], _WITHIN_MEAN)
    invented = sum(one.found > 1 for one in alone)
    return [
        ("wakes in their kind", f"{100 * right:.1f} %", "95 %", right >= LIMITS["right"]),
        ("number of kinds right", f"{100 * kinds:.1f} %", "90 %", kinds >= LIMITS["kinds"]),
        ("charge of a kind within 2 %", f"{100 * _share(charges, _WITHIN_CHARGE):.1f} %", "95 %",
         _share(charges, _WITHIN_CHARGE) >= LIMITS["charge"]),
        ("charge of a kind off, median", f"{100 * np.median(charges):.4f} %", "", True),
        ("period of a timer within 0.2 %", f"{100 * _share(periods, _WITHIN_PERIOD):.1f} %", "95 %",
         _share(periods, _WITHIN_PERIOD) >= LIMITS["period"]),
        ("90 % interval of a charge holds the true one", f"{100 * held:.1f} %", "85 to 97 %", 0.85 <= held <= 0.97),
        ("kinds and sleep within 0.5 % of the mean", f"{100 * mean:.1f} %", "", True),
        (f"a second kind made up, {len(alone)} devices of one", str(invented), "0", invented == LIMITS["invented"]),
    ]  # fmt: skip


def document(several: list[Result], alone: list[Result]) -> str:
    """Write the part of the document on kinds."""
    table = "".join(f"| {what} | {value} | {limit} |\n" for what, value, limit, _ in rows(several, alone))
    return _TEXT.format(devices=len(several)) + table


def missed(several: list[Result], alone: list[Result]) -> list[str]:
    """Say which limits were missed."""
    return [f"{what}: {value}" for what, value, _, is_kept in rows(several, alone) if not is_kept]


_TEXT = """
Kinds of wakes from the current alone, on {devices} random devices without a log: two to six kinds over four decades of
charge, by timers with up to 0.8 % jitter, timers that skip, chance, and after one another; currents that scatter by up
to 3 %, steps that stretch by up to 10 %, tails of capacitors, overlaps, and noise of 2 to 20 % of the floor. A wake is
in its kind where that is, or is among, what it was sorted into; a kind that was seen once is not counted. Charge:
against the true charge of the wakes that are alone in it. Periods: of timers with four wakes or more.

| | measured | limit |
| --- | --- | --- |
"""


def main() -> int:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("devices", nargs="?", type=int, default=200)
    parser.add_argument("--seed", type=int, default=None)
    arguments = parser.parse_args()
    first = int(np.random.default_rng().integers(1, 2**28)) if arguments.seed is None else arguments.seed
    with ProcessPoolExecutor() as pool:
        several, alone = run(pool, first, arguments.devices)
    sys.stdout.write(f"seeds from {first} on\n")
    for what, value, limit, is_kept in rows(several, alone):
        sys.stdout.write(f"{what:52} {value:>10}   {limit:12} {'' if is_kept else 'MISSED'}\n")
    return int(bool(missed(several, alone)))


if __name__ == "__main__":
    sys.exit(main())
