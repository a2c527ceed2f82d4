"""Speed of sorting wakes into kinds: a hundred thousand of them in 10^8 samples, and the view that shows them.

    .venv/bin/python benchmarks/kinds.py [SAMPLES]

Each figure is printed with the limit it is held to.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "src"))

import numpy as np
from PySide6.QtWidgets import QApplication

from warm_ember.attribution.kinds import find_kinds
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.project import Run
from warm_ember.session.kind_results import KindsShown
from warm_ember.session.session import Session
from warm_ember.signal.series import Series, chunks
from warm_ember.signal.sorting import sort_by_likeness
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.ui.look.theme import NIGHT, Appearance
from warm_ember.ui.pages.wakes.kinds_view import KindsView

INTERVAL_S, APART, ROUNDS = 1e-5, 1000, 3
_LONG, _SHORT, _EACH = 300, 40, 60


def row(what: str, value: str, limit: str) -> None:
    """Print one line of the table."""
    print(f"{what:58} {value:>26}   {limit}", flush=True)


def seconds(work: Callable[[], object]) -> float:
    """Return how long a piece of work takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def series_pass(series: Series) -> None:
    """Read a capture once and take minimum, maximum and sum."""
    for _, values in chunks(series):
        values.min(), values.max(), values.sum(dtype=np.float64)


def write(path: Path, samples: int) -> None:
    """Write sleep with noise, a short wake each thousand samples, and a longer one instead of each sixtieth."""
    random = np.random.default_rng(1)
    noise = (4e-6 + 2e-7 * random.standard_normal(1 << 22)).astype(np.float32)
    with CaptureWriter(path) as writer:
        for first in range(0, samples, 1 << 22):
            count = min(1 << 22, samples - first)
            at = np.arange(first, first + count)
            place, number = at % APART, at // APART
            is_long = number % _EACH == 0
            awake = (place >= _SHORT) & (place < np.where(is_long, _SHORT + _LONG, 2 * _SHORT))
            height = np.where(is_long, 20e-3, 3e-3).astype(np.float32)
            writer.append(noise[:count] + np.where(awake, height, np.float32(0.0)))
        writer.finish(CaptureInfo(INTERVAL_S, supply_v=3.0), ())


def time_sorting(series: Series) -> None:
    """Time kinds against one pass over the samples, in turn so that both see the same machine."""
    find_kinds(series)  # what is imported when it is first needed
    pairs = [(seconds(lambda: find_kinds(series)), seconds(lambda: series_pass(series))) for _ in range(ROUNDS)]
    ours, theirs, ratio = (float(np.median(one)) for one in zip(*((a, b, a / b) for a, b in pairs), strict=True))
    words = f"{ours:.2f} s / {theirs:.2f} s = {ratio:.2f}"
    row(f"kinds of {series.samples // APART} wakes, to one pass over {series.samples:.0e} samples", words, "at most 10")


def time_likeness() -> None:
    """Time the sorting itself, of a hundred thousand things in six sorts with one in fifty like nothing."""
    random = np.random.default_rng(2)
    rows = random.integers(0, 6, 100_000)[:, None] * 5.0 + 0.2 * random.standard_normal((100_000, 7))
    rows[::50] += random.uniform(-40, 40, (2000, 7))
    row("100000 wakes' figures sorted by likeness", f"{seconds(lambda: sort_by_likeness(rows)):.2f} s", "3 s")


def time_view(shown: KindsShown) -> None:
    """Time opening the view of kinds that are known."""
    look = Appearance(NIGHT)

    def opened() -> None:
        view = KindsView(look)
        view.resize(1280, 420)
        view.show_kinds(shown, ())
        view.show()
        view.grab()
        view.close()

    opened()
    row("the view of kinds opens", f"{1e3 * float(np.median([seconds(opened) for _ in range(5)])):.0f} ms", "300 ms")


def main() -> None:
    """Write a capture, sort its wakes, and show them."""
    samples = int(float(sys.argv[1])) if len(sys.argv) > 1 else 100_000_000
    application = QApplication([])
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "p" / "captures").mkdir(parents=True)
        session = Session.open_or_create(Path(folder) / "p")
        write(session.folder.capture_path("long"), samples)
        session.add_run(Run("long"))
        time_sorting(session.capture("long").current)
        time_likeness()
        time_view(session.kinds.shown(session.project, "long"))
        session.close()
    del application


if __name__ == "__main__":
    main()
