"""Read tables with something odd about them: each must give the right numbers, be refused, or tell what was assumed.

.venv/bin/python scripts/fuzz_tables.py              10000 tables with new seeds
.venv/bin/python scripts/fuzz_tables.py 500 --seed 3 fewer, from a known seed

It leaves with 1 when a wrong number was given in silence, and when more is refused than has to be.
"""

from __future__ import annotations

import argparse
import itertools
import sys
import tempfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from made_tables import ODD, make, may_meet

from warm_ember.errors import WarmEmberError
from warm_ember.formats.registry import open_source
from warm_ember.formats.source import ImportOptions
from warm_ember.signal.series import ignore_progress, never

MOST_REFUSED = 0.03
_TOLD = ("assumed", "if it is", "unsure", "may be the voltage")


def look(job: tuple[int, tuple[str, ...]]) -> tuple[str, str]:
    """Make one table and read it; say what came of it."""
    seed, odd = job
    table = make(np.random.default_rng([seed, *map(ODD.index, odd)]), odd)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "table.csv"
        path.write_bytes(table.content)
        try:
            source = open_source(path, ImportOptions())
            read = np.concatenate([piece.current for piece in source.pieces(never, ignore_progress)])
        except WarmEmberError as error:
            return ("rightly refused" if table.is_open else "refused"), str(error).split(": ", 1)[-1]
        except Exception as error:  # noqa: BLE001 - whatever else it is, it is a fault
            return "crashed", repr(error)
    right = len(read) == len(table.current_a) and np.allclose(read, table.current_a, rtol=2e-6, equal_nan=True)
    right = right and abs(source.interval_s / table.interval_s - 1) < 1e-3
    if right:
        return "right", ""
    told = [note for note in source.notes if any(word in note for word in _TOLD)]
    return ("told", told[0]) if told else ("silent", f"{np.nanmean(read):.4g} for {np.nanmean(table.current_a):.4g} A")


def jobs(many: int, first: int) -> list[tuple[int, tuple[str, ...]]]:
    """Return seeds and oddities: each alone, and in pairs."""
    kinds = [(), *((one,) for one in ODD), *filter(may_meet, itertools.combinations(ODD, 2))]
    return [(first + k, kinds[k % len(kinds)]) for k in range(many)]


def document(listed: list[tuple[int, tuple[str, ...]]], found: list[tuple[str, str]]) -> str:
    """Write the part of the document on files."""
    outcomes = [outcome for outcome, _ in found]
    text = _TEXT.format(tables=len(listed), silent=sum(one in ("silent", "crashed") for one in outcomes))
    for odd in ODD:
        mine = [outcome for (_, kinds), outcome in zip(listed, outcomes, strict=True) if odd in kinds]
        counts = [sum(one in kind for one in mine) for kind in (("right",), ("told",), ("refused", "rightly refused"))]
        text += f"| {odd} | {' | '.join(map(str, counts))} |\n"
    return text


def missed(found: list[tuple[str, str]]) -> list[str]:
    """Say which limits were missed."""
    counts = Counter(outcome for outcome, _ in found)
    wrong, refused = counts["silent"] + counts["crashed"], counts["refused"]
    problems = [f"{wrong} of {len(found)} tables gave wrong numbers in silence"] if wrong else []
    if refused > MOST_REFUSED * len(found):
        problems.append(f"{refused} of {len(found)} tables were refused without need")
    return problems


_TEXT = """
Tables with one or two odd things, {tables} of them, each made anew in a style of its own: read with the right numbers,
read with a reading told that may be another, or refused. Wrong in silence: {silent} (limit 0).

| odd | read | told | refused |
| --- | --- | --- | --- |
"""


def main() -> int:
    """Look at all, and print what was not read."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("tables", nargs="?", type=int, default=10_000)
    parser.add_argument("--seed", type=int)
    parser.add_argument("--show", default="silent,crashed", help="outcomes to list one by one, parted by commas")
    arguments = parser.parse_args()
    first = arguments.seed if arguments.seed is not None else int(np.random.default_rng().integers(1 << 30))
    listed = jobs(arguments.tables, first)
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(look, listed, chunksize=32))
    counts = Counter(outcome for outcome, _ in found)
    for (seed, odd), (outcome, words) in zip(listed, found, strict=True):
        if outcome in arguments.show.split(","):
            sys.stdout.write(f"{outcome}: {seed} {' + '.join(odd)}: {words}\n")
    sys.stdout.write(", ".join(f"{outcome} {count}" for outcome, count in counts.most_common()) + "\n")
    if "document" in arguments.show:
        sys.stdout.write(document(listed, found))
    problems = missed(found)
    sys.stderr.writelines(f"limit missed: {one}\n" for one in problems)
    return int(bool(problems))


if __name__ == "__main__":
    sys.exit(main())
