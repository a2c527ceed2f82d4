"""Speed of a fleet: collecting captures on all processors, and the trend over many runs.

    .venv/bin/python benchmarks/fleet.py

Each figure is printed with the limit it is held to. Collecting is compared with single analyses, one after the other,
within this run; rows of the large history are made, not measured.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "scripts")]

import numpy as np
import pyarrow as pa
import pyarrow.parquet
from kinds import row
from made_fleet import make_fleet

from warm_ember.fleet.data_set import TABLES, DataSet
from warm_ember.fleet.history import read_history
from warm_ember.fleet.trend import find_trend
from warm_ember.library.collecting import collect

CAPTURES = 60
RUNS, BUILDS, BOARDS = 100_000, (500, 2_000), 5


def main() -> None:
    """Make a fleet and a history, and measure both."""
    with tempfile.TemporaryDirectory() as folder:
        _collecting(Path(folder))
        for builds in BUILDS:
            _history(Path(folder) / f"history-{builds}", builds)


def _collecting(folder: Path) -> None:
    projects = make_fleet(folder / "fleet", builds=CAPTURES, boards=1, length_s=100.0, rate_hz=10_000.0)
    cores, taken = len(os.sched_getaffinity(0)), {}
    for jobs in (1, cores):
        start = time.perf_counter()
        collect(str(folder / f"jobs-{jobs}"), projects, jobs=jobs)
        taken[jobs] = time.perf_counter() - start
    row(f"{CAPTURES} captures of 10^6 samples, one after the other", f"{taken[1]:.1f} s", "-")
    row(f"the same on {cores} processors", f"{taken[cores]:.1f} s", "-")
    row("of the single analyses divided by the processors", f"{taken[1] / cores / taken[cores]:.2f}", "0.8 of 1000")
    shutil.rmtree(folder / "fleet")


def _history(folder: Path, builds: int) -> None:
    data_set, random = DataSet(str(folder)), np.random.default_rng(1)
    each, changes = RUNS // builds, tuple(builds * share // 20 for share in (4, 9, 15))
    for build in range(builds):
        names = [f"{build:06x}{number:010x}{0:016x}" for number in range(each)]
        step = 1.06 ** sum(build >= at for at in changes)
        average_a = 2e-4 * step * (1 + 0.02 * random.standard_normal(each))
        when = np.datetime64("2020-01-01") + np.timedelta64(build, "D")
        keys = {
            "hash": names,
            "project": ["post"] * each,
            "run": [f"r{number}" for number in range(each)],
            "recorded_utc": [f"{when}T21:00:00Z"] * each,
            "commit": [f"{build:07x}"] * each,
            "board": [str(number % BOARDS) for number in range(each)],
        }
        figures = {"mean_a": average_a, "mean_a_low": 0.98 * average_a, "mean_a_high": 1.02 * average_a}
        figures |= {"mean_a_grade": ["measured"] * each, "mean_a_bound": pa.nulls(each, pa.string())}
        figures |= {"life_h": 6 / average_a, "life_h_p10": 5 / average_a, "life_h_p90": 7 / average_a}
        conditions = {"target": ["post"] * each, "supply_v": [3.0] * each, "schema_version": [1] * each}
        conditions |= {"target_h": [26_280.0] * each, "budget_a": [2.2e-4] * each}
        conditions |= {"weakest_what": ["capacity"] * each, "weakest_grade": ["entered"] * each}
        table = pa.table(keys | figures | conditions)
        name = f"{build:040x}"
        path = Path(data_set.folder("runs", f"build {build}")) / f"{name}.parquet"
        path.parent.mkdir(parents=True)
        pa.parquet.write_table(table, path, compression="zstd")
    size = sum(path.stat().st_size for path in folder.rglob("*.parquet"))
    start = time.perf_counter()
    history = read_history(data_set)
    read = time.perf_counter() - start
    found = find_trend(history)
    whole = time.perf_counter() - start
    row(f"history of {RUNS:,} runs in {builds:,} files, read", f"{read:.2f} s", "-")
    row("its trend, reading included", f"{whole:.2f} s", "2 s")
    row("its size", f"{size / 1e6:.0f} MB in {TABLES[-1]} alone", "-")
    row("changes named", ", ".join(change.at for change in found.changes), ", ".join(f"{at:07x}" for at in changes))


if __name__ == "__main__":
    main()
