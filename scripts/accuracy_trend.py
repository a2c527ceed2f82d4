"""How often a trend names a change that is none, and the right build of one that is; figures for docs/accuracy.md.

.venv/bin/python scripts/accuracy_trend.py [--series 400]
"""

from __future__ import annotations

import argparse
import sys
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "src"))

import numpy as np

from warm_ember.signal.change_points import find_changes

SCATTER, STEP, BOARDS_DIFFER = 0.02, 0.06, 0.015


@dataclass(frozen=True)
class Kind:
    """Series of one kind: builds, boards, runs of each build on each board, and what else is in them."""

    words: str
    builds: int
    boards: int
    wild: int = 0
    shared: float = 0.0
    tails: float = np.inf
    uneven: bool = False


KINDS = (
    Kind("60 builds, 5 boards", 60, 5),
    Kind("40 builds, 3 boards", 40, 3),
    Kind("60 builds, 2 boards", 60, 2),
    Kind("60 builds, one run of each", 60, 1),
    Kind("12 builds, 5 boards", 12, 5),
    Kind("250 builds, one run of each", 250, 1),
    Kind("60 builds, 5 boards, three wild runs (+50 %)", 60, 5, wild=3),
    Kind("40 builds, 3 boards, builds scatter by 1 % of their own", 40, 3, shared=0.01),
    Kind("40 builds, 3 boards, heavy tails (Student, 3)", 40, 3, tails=3.0),
    Kind("60 builds, 1 to 12 runs of each, 5 boards", 60, 5, uneven=True),
)


def made(kind: Kind, random: np.random.Generator) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return values as logarithms, places and boards of a series without a change."""
    counts = random.integers(1, 13, kind.builds) if kind.uneven else np.full(kind.builds, kind.boards)
    place = np.repeat(np.arange(kind.builds), counts)
    board = random.integers(0, kind.boards, len(place)) if kind.uneven else np.tile(np.arange(kind.boards), kind.builds)
    _, board = np.unique(board, return_inverse=True)
    noise = random.standard_normal(len(place))
    if np.isfinite(kind.tails):
        noise = random.standard_t(kind.tails, len(place)) / np.sqrt(kind.tails / (kind.tails - 2))
    values = SCATTER * noise + (BOARDS_DIFFER * random.standard_normal(kind.boards))[board]
    values += (kind.shared * random.standard_normal(kind.builds))[place]
    values[random.choice(len(values), kind.wild, replace=False)] += np.log(1.5)
    return values, place, board


def main() -> None:
    """Print one row a kind."""
    asked = argparse.ArgumentParser(description="Measure how well changes are found.")
    asked.add_argument("--series", type=int, default=400)
    series = asked.parse_args().series
    print("| series | false changes | +6 % at the right build | beside it | more than it | 90 % interval holds |")  # noqa: T201
    print("| --- | --- | --- | --- | --- | --- |")  # noqa: T201
    for number, kind in enumerate(KINDS):
        random = np.random.default_rng((20260719, number))
        false = sum(bool(find_changes(*made(kind, random)).changes) for _ in range(series))
        right = beside = more = held = found = 0
        for _ in range(series):
            values, place, board = made(kind, random)
            at = int(random.integers(5, kind.builds - 5))
            changes = find_changes(values + np.log1p(STEP) * (place >= at), place, board).changes
            near = [change for change in changes if abs(change.at - at) <= 1]
            right += any(change.at == at for change in near)
            beside += any(change.at != at for change in near)
            more += len(changes) > len(near)
            found += bool(near)
            held += any(change.low <= np.log1p(STEP) <= change.high for change in near)
        shares = [100 * one / series for one in (false, right, beside, more)] + [100 * held / max(found, 1)]
        print(f"| {kind.words} | " + " | ".join(f"{share:.1f} %" for share in shares) + " |")  # noqa: T201


if __name__ == "__main__":
    main()
