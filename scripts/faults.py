"""Try to lose data: faults at each write, many programs at once, signals, hostile files; print what was lost.

.venv/bin/python scripts/faults.py               every write, and 100 000 mutations of files: about an hour
.venv/bin/python scripts/faults.py --minutes 5   as much of it as fits
"""

from __future__ import annotations

import argparse
import logging
import shutil
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import fault_cases
import fault_mutations
import fault_programs
from fault_tracer import Fault, can_fill, can_trace


@dataclass
class Row:
    """What was tried of one kind, and what was lost with it."""

    what: str
    tried: int = 0
    lost: list[str] = field(default_factory=list)
    how: Counter[str] = field(default_factory=Counter)

    @property
    def text(self) -> str:
        """A row of a table."""
        how = ", ".join(f"{count} {words}" for words, count in self.how.most_common(6))
        return f"| {self.what} | {self.tried} | {len(self.lost)} | {how} |"


def room() -> str | None:
    """Return a folder in memory, where a write waits for no disk; None for the usual one."""
    return "/dev/shm" if Path("/dev/shm").is_dir() else None


def writes(cases: tuple[fault_cases.Case, ...], *, every: int, until_s: float) -> Iterator[Row]:
    """Try both faults at every n-th write of each operation."""
    faults = [Fault.KILL, *([Fault.FULL] if can_fill() else [])]
    with tempfile.TemporaryDirectory(dir=room()) as folder:
        for case in cases:
            prepared = Path(folder) / "prepared"
            prepared.mkdir()
            case.prepare(prepared)
            count = fault_cases.count_writes(case.work, Path(folder) / "count", case.prepare)
            for fault in faults:
                row = Row(f"{case.name}: {fault.value} at each of {count} writes")
                for point in range(0, count + 1, every):
                    if time.monotonic() > until_s:
                        break
                    ended, lost = fault_cases.try_fault(case, fault, point, prepared, Path(folder) / "work")
                    row.tried += 1
                    row.how[ended.call or "none"] += 1
                    row.lost += [f"{case.name}, {fault.value} at write {point} ({ended.call}): {one}" for one in lost]
                yield row
            shutil.rmtree(prepared)


def main() -> int:
    """Try, print, and answer 1 when anything was lost."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=60.0)
    parser.add_argument("--mutations", type=int, default=100_000)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    logging.disable(logging.CRITICAL)  # what is expected to fail need not be told twice
    began_s = time.monotonic()
    until_s = began_s + 60 * arguments.minutes
    rows: list[Row] = []

    def tell(row: Row) -> None:
        rows.append(row)
        sys.stdout.write(row.text + "\n")
        for one in row.lost[:20]:
            sys.stdout.write(f"    LOST: {one}\n")
        sys.stdout.flush()

    sys.stdout.write("| tried | times | lost | how |\n| --- | --- | --- | --- |\n")
    if can_trace():
        for row in writes(fault_cases.CASES, every=1, until_s=until_s):
            tell(row)
    else:
        sys.stdout.write("no process may be traced here: faults at each write are left out\n")
    for what, tries in fault_programs.TRIALS.items():
        with tempfile.TemporaryDirectory(dir=room()) as folder:
            tried, lost = tries(Path(folder))
        tell(Row(what, tried, lost))
    with tempfile.TemporaryDirectory(dir=room()) as folder:
        for what, tried, lost, how in fault_mutations.all_readers(
            Path(folder), arguments.mutations, arguments.seed, until_s
        ):
            tell(Row(what, tried, lost, how))
    lost_count = sum(len(row.lost) for row in rows)
    minutes = (time.monotonic() - began_s) / 60
    sys.stdout.write(f"{sum(row.tried for row in rows)} tries in {minutes:.1f} min, {lost_count} losses\n")
    return 1 if lost_count else 0


if __name__ == "__main__":
    sys.exit(main())
