"""Speed of the river: opening a data set on Runs, and its frames while it is moved.

    .venv/bin/python benchmarks/river.py

Each figure is printed with the limit it is held to. Rows are made, not measured; frames are painted without a screen.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "scripts")]

import numpy as np
import pyarrow as pa
import pyarrow.parquet
from kinds import row
from PySide6.QtCore import QEventLoop, QSettings
from PySide6.QtWidgets import QApplication

from warm_ember.fleet.data_set import DataSet
from warm_ember.ui.application import make_window
from warm_ember.ui.shell.window import MainWindow

STATES = (("Deep sleep", 0.6), ("Count", 0.2), ("Transmit", 0.1), ("Idle wait", 0.06), ("Log write", 0.04))
BOARDS, FRAMES, FILES = 5, 30, 40


def make_rows(folder: Path, builds: int, each: int) -> None:
    """Write a data set of so many builds, each measured so often, with two changes."""
    data_set, random = DataSet(str(folder)), np.random.default_rng(1)
    for number, some in enumerate(np.array_split(np.arange(builds), min(FILES, builds))):
        build = np.repeat(some, each)
        step = np.where(build >= builds // 3, 1.06, 1.0) * np.where(build >= 2 * builds // 3, 0.9, 1.0)
        average_a = 2e-4 * step * (1 + 0.02 * random.standard_normal(len(build)))
        many = len(build)
        keys = {
            "hash": [f"{number:08x}{one:024x}" for one in range(many)],
            "project": ["post"] * many,
            "run": [f"r{one}" for one in range(many)],
            "recorded_utc": [
                f"{np.datetime64('2016-01-01') + np.timedelta64(int(one), 'D')}T21:00:00Z" for one in build
            ],
            "commit": [f"{one:07x}" for one in build],
            "board": [str(one % BOARDS) for one in range(many)],
        }
        measured = {"grade": ["measured"] * many, "bound": pa.nulls(many, pa.string())}
        mean = {"mean_a": average_a, "mean_a_low": 0.98 * average_a, "mean_a_high": 1.02 * average_a}
        runs = {f"mean_a_{name}": values for name, values in measured.items()} | measured
        runs |= {"life_h": 6 / average_a, "life_h_p10": 5 / average_a, "life_h_p90": 7 / average_a}
        runs |= {"target": ["post"] * many, "supply_v": [3.0] * many, "schema_version": [1] * many}
        runs |= {"target_h": [26_280.0] * many, "budget_a": [6 / 26_280.0] * many}
        runs |= {"weakest_what": ["capacity"] * many, "weakest_grade": ["entered"] * many}
        parts = [
            pa.table(keys | mean | measured | {"name": [name] * many, "added_a": share * average_a})
            for name, share in STATES
        ]
        for table, rows in (("runs", pa.table(keys | mean | runs)), ("states", pa.concat_tables(parts))):
            path = Path(data_set.folder(table, f"from build {some[0]}")) / f"{number:040x}.parquet"
            path.parent.mkdir(parents=True)
            pa.parquet.write_table(rows, path)


def opening_s(window: MainWindow, folder: Path) -> float:
    """Return how long it takes until the river is on the screen."""
    window.show_page("Runs")
    river, waiting = window.pages.runs.river, QEventLoop()
    river.changed.connect(lambda: None if river.is_reading else waiting.quit())
    start = time.perf_counter()
    window.open_data_set(str(folder))
    waiting.exec()
    QApplication.processEvents()
    return time.perf_counter() - start


def frame_s(window: MainWindow, share: float) -> float:
    """Return the median time of a frame while a share of the history is moved by."""
    chart = window.pages.runs.river.chart
    chart.fit()
    chart.zoom(share, len(chart.river.history.keys) / 2 if chart.river else 0.0)
    taken = []
    for number in range(FRAMES):
        start = time.perf_counter()
        chart.pan((chart.last - chart.first) * (0.01 if number % 2 else -0.01))
        QApplication.processEvents()
        taken.append(time.perf_counter() - start)
    return float(np.median(taken))


def main() -> None:
    """Make histories of several sizes, open each and move it."""
    application = QApplication([])
    with tempfile.TemporaryDirectory() as folder:
        for builds, each in ((60, 5), (2_000, 5), (10_000, 1)):
            place = Path(folder) / f"{builds}"
            make_rows(place, builds, each)
            settings = QSettings(str(Path(folder) / "window.ini"), QSettings.Format.IniFormat)
            window = make_window(application, settings)
            window.show()
            what = f"{builds * each:,} runs of {builds:,} builds"
            row(f"{what}, opened", f"{opening_s(window, place):.2f} s", "1 s")
            waiting = QEventLoop()
            river = window.pages.runs.river
            river.changed.connect(waiting.quit)
            if river.river is not None and river.river.waiting:
                waiting.exec()
            for share in (0.5, 0.1):
                row(f"{what}, a frame at {share:g} of it", f"{1e3 * frame_s(window, share):.1f} ms", "16.7 ms")
            window.close()


if __name__ == "__main__":
    main()
