"""Speed and memory at 10^8 samples, as ratios within one run.

    .venv/bin/python benchmarks/run.py [SAMPLES]

Each figure is printed with the limit it is held to. Nothing here is a test: machines differ, ratios less so.
"""

from __future__ import annotations

import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "src"))

import numpy as np
import pyarrow.csv

from warm_ember.formats.source import ImportOptions
from warm_ember.memory import keep_freed_memory
from warm_ember.session.importing import ImportRequest, adopt, import_file
from warm_ember.session.session import Session

ROUNDS = 5
TEXT_ROWS = 4_000_000


def row(what: str, value: str, limit: str) -> None:
    """Print one line of the table."""
    print(f"{what:58} {value:>26}   {limit}", flush=True)


def ratio_text(ours: float, theirs: float, ratio: float) -> str:
    """Write two times and their ratio."""
    return f"{ours:.2f} s / {theirs:.2f} s = {ratio:.2f}"


def seconds(work: Callable[[], object]) -> float:
    """Return how long a piece of work takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def paired(
    ours: Callable[[], object], theirs: Callable[[], object], before: Callable[[], object]
) -> tuple[float, float, float]:
    """Return the median times of both and of their ratio, taken in turn so that both see the same machine.

    `before` runs untimed before each round: deleting the last round's capture is no part of an import.
    """
    pairs = []
    for _ in range(ROUNDS):
        before()
        pairs.append((seconds(ours), seconds(theirs)))
    return tuple(float(np.median(v)) for v in zip(*((a, b, a / b) for a, b in pairs), strict=True))  # type: ignore[return-value]


def write_raw(path: Path, samples: int) -> None:
    """Write a made-up capture: sleep, wakes each second, bursts of radio."""
    random = np.random.default_rng(1)
    with path.open("wb") as file:
        for first in range(0, samples, 1 << 22):
            index = np.arange(first, min(first + (1 << 22), samples))
            current = np.where(index % 100_000 < 4000, 1e-3, 2e-5)
            current = np.where(index % 9_000_000 < 90_000, 0.12, current)
            noisy = current * (1 + 0.02 * random.standard_normal(len(index))) + 3e-7 * random.standard_normal(
                len(index)
            )
            noisy.astype("<f4").tofile(file)


def numpy_pass(path: Path) -> None:
    """Read a file once and take minimum, maximum and sum."""
    with path.open("rb") as file:
        while len(values := np.fromfile(file, "<f4", 1 << 20)):
            values.min(), values.max(), values.sum(dtype=np.float64)


def cleared(folder: Path) -> None:
    """Take a project away."""
    shutil.rmtree(folder, ignore_errors=True)


def importer(folder: Path, file: Path, **options: object) -> Callable[[], Session]:
    """Return what imports a file into a project."""

    def work() -> Session:
        session = Session.open_or_create(folder)
        request = ImportRequest(file, ImportOptions(**options), name="bench", replace=True)  # type: ignore[arg-type]
        adopt(session, import_file(session, request))
        session.close()
        return session

    return work


def bench_import(folder: Path, samples: int) -> None:
    """Time the two imports against the least that could be done."""
    raw = folder / "bench.f32"
    write_raw(raw, samples)
    ours, theirs, ratio = paired(
        importer(folder / "raw", raw, rate_hz=100e3), lambda: numpy_pass(raw), lambda: cleared(folder / "raw")
    )
    row(
        f"import raw float32, {samples:.0e} samples, to one NumPy pass",
        f"{ours:.2f} s / {theirs:.2f} s = {ratio:.2f}",
        "at most 4",
    )
    text = folder / "bench.csv"
    current = np.fromfile(raw, "<f4", TEXT_ROWS) * 1e3
    with text.open("w") as file:
        file.write("Time (s),Current (mA)\n")
        file.writelines(f"{k * 1e-5:.5f},{value:.6g}\n" for k, value in enumerate(current.tolist()))
    ours, theirs, ratio = paired(
        importer(folder / "text", text), lambda: pyarrow.csv.read_csv(text), lambda: cleared(folder / "text")
    )
    row(
        f"import text, {TEXT_ROWS:.0e} rows, to pyarrow reading it",
        f"{ours:.2f} s / {theirs:.2f} s = {ratio:.2f}",
        "at most 2.5",
    )
    text.unlink()
    raw.unlink()


def bench_reading(folder: Path) -> None:
    """Time the reading of stretches of every length."""
    session = Session.open(folder / "raw")
    capture = session.capture("bench")
    random = np.random.default_rng(3)
    times = []
    for length in 10 ** random.uniform(-4, np.log10(capture.duration_s), 400):
        start = random.uniform(0, capture.duration_s - length)
        times.append(seconds(lambda s=start, n=length: capture.reading(s, s + n)))
    row("reading of any stretch, 95th percentile", f"{np.quantile(times, 0.95) * 1e3:.2f} ms", "under 2 ms")
    session.close()


def bench_redraw(folder: Path) -> None:
    """Time the repaint of the whole lane stack after pans and zooms."""
    from PySide6.QtCore import QSettings
    from PySide6.QtWidgets import QApplication

    from warm_ember.ui.application import make_window

    application = QApplication.instance() or QApplication([])
    window = make_window(application, QSettings(str(folder / "window.ini"), QSettings.Format.IniFormat))  # type: ignore[arg-type]
    window.resize(1280, 800)
    window.show()
    window.desk.open(folder / "raw")
    while window.desk.jobs.is_busy:
        application.processEvents()
    shown, random, times = window.window_on_time, np.random.default_rng(5), []
    for step in range(300):
        if step % 3:
            shown.pan(random.uniform(-0.2, 0.2) * shown.length_s)
        else:
            length = 10 ** random.uniform(-3, np.log10(shown.duration_s))
            start = random.uniform(0, shown.duration_s - length)
            shown.show(start, start + length)
        times.append(seconds(application.processEvents))
    row("redraw of the lane stack at 1280x800, 95th percentile", f"{np.quantile(times, 0.95) * 1e3:.1f} ms", "16 ms")
    row("redraw of the lane stack, median", f"{np.median(times) * 1e3:.1f} ms", "")
    window.close()
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    row("memory of the window with the capture open, peak", f"{peak:.0f} MB", "under 600 MB")


def bench_memory(folder: Path, samples: int) -> None:
    """Run the redraw in a process of its own, so that its memory is its own."""
    subprocess.run([sys.executable, __file__, str(samples), "--redraw", str(folder)], check=True)


def bench_start() -> None:
    """Time the window until it is up against importing its libraries alone."""
    libraries = "import PySide6.QtWidgets, numpy, pyqtgraph"
    window = (
        "import tempfile, sys; from PySide6.QtCore import QSettings; from PySide6.QtWidgets import QApplication; "
        "from warm_ember.ui.application import make_window; a = QApplication([]); "
        "w = make_window(a, QSettings(tempfile.mktemp(), QSettings.Format.IniFormat)); w.show(); a.processEvents()"
    )
    environment = os.environ | {"PYTHONPATH": str(Path(__file__).resolve().parent.parent / "src")}

    def start(script: str) -> Callable[[], object]:
        return lambda: subprocess.run([sys.executable, "-c", script], check=True, env=environment)

    pairs = [(seconds(start(window)), seconds(start(libraries))) for _ in range(ROUNDS)]
    ours, theirs = (float(np.median(values)) for values in zip(*pairs, strict=True))
    row(
        "window up, to importing its libraries", f"{ours:.2f} s / {theirs:.2f} s", f"at most {1.5 * theirs + 0.5:.2f} s"
    )


def main() -> None:
    """Run all benchmarks."""
    keep_freed_memory()
    samples = int(float(sys.argv[1])) if len(sys.argv) > 1 else 100_000_000
    if "--redraw" in sys.argv:
        bench_redraw(Path(sys.argv[-1]))
        return
    with tempfile.TemporaryDirectory(prefix="warm-ember-bench-") as name:
        folder = Path(name)
        bench_import(folder, samples)
        bench_reading(folder)
        bench_memory(folder, samples)
    bench_start()


if __name__ == "__main__":
    main()
