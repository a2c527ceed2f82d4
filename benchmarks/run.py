"""Speed and memory at 10^8 samples, as ratios within one run.

    .venv/bin/python benchmarks/run.py [SAMPLES]      1e9 needs 9 GB of disk and some minutes

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

from warm_ember.attribution.placing import place
from warm_ember.formats.source import ImportOptions
from warm_ember.memory import keep_freed_memory
from warm_ember.model.rules import BandRule, LevelsRule
from warm_ember.session import edits
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.new_capture import adopt
from warm_ember.session.session import Session
from warm_ember.signal.fold import fold
from warm_ember.signal.series import Series, chunks

ROUNDS = 5
TEXT_ROWS = 4_000_000
_REPEATED = 100_000_000
_EDITED = 10_000_000


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
    ours: Callable[[], object], theirs: Callable[[], object], before: Callable[[], object], *, rounds: int = ROUNDS
) -> tuple[float, float, float]:
    """Return the median times of both and of their ratio, taken in turn so that both see the same machine.

    `before` runs untimed before each round: deleting the last round's capture is no part of an import.
    """
    pairs = []
    for _ in range(rounds):
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


def print_memory(what: str) -> None:
    """Print the most memory that this process has had."""
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    row(f"memory: {what}, peak", f"{peak:.0f} MB", "under 600 MB")


def series_pass(series: Series) -> None:
    """Read a capture once and take minimum, maximum and sum."""
    for _, values in chunks(series):
        values.min(), values.max(), values.sum(dtype=np.float64)


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
        importer(folder / "raw", raw, rate_hz=100e3),
        lambda: numpy_pass(raw),
        lambda: cleared(folder / "raw"),
        rounds=ROUNDS if samples <= _REPEATED else 1,
    )
    row(f"import raw float32, {samples:.0e} samples, to one NumPy pass", ratio_text(ours, theirs, ratio), "at most 4")
    print_memory("import")
    text = folder / "bench.csv"
    current = np.fromfile(raw, "<f4", TEXT_ROWS) * 1e3
    with text.open("w") as file:
        file.write("Time (s),Current (mA)\n")
        file.writelines(f"{k * 1e-5:.5f},{value:.6g}\n" for k, value in enumerate(current.tolist()))
    ours, theirs, ratio = paired(
        importer(folder / "text", text), lambda: pyarrow.csv.read_csv(text), lambda: cleared(folder / "text")
    )
    row(f"import text, {TEXT_ROWS:.0e} rows, to pyarrow reading it", ratio_text(ours, theirs, ratio), "at most 1.5")
    text.unlink()
    raw.unlink()


def bench_fold(folder: Path) -> None:
    """Time a fold of ten thousand cycles against one NumPy pass over the same samples."""
    raw = folder / "fold.f32"
    write_raw(raw, _REPEATED)
    with Session.open_or_create(folder / "fold") as session:
        request = ImportRequest(raw, ImportOptions(rate_hz=100e3), name="bench", replace=True)
        adopt(session, import_file(session, request))
        current = session.capture("bench").current
        starts = np.arange(10_000) * (current.samples // 10_000)
        length_s = (current.samples // 10_000) * current.interval_s
        fold(current, starts, length_s=length_s)
        ours, theirs, ratio = paired(
            lambda: fold(current, starts, length_s=length_s), lambda: series_pass(current), lambda: None
        )
    row("fold of 10^4 cycles, to one NumPy pass over the samples", ratio_text(ours, theirs, ratio), "at most 3")
    raw.unlink()


def bench_open(folder: Path) -> None:
    """Time the opening of a capture whose pyramid is there, and the placing of its states by its levels."""
    with Session.open(folder / "raw") as session:
        row("opening a capture with its pyramid", f"{seconds(lambda: session.capture('bench')):.3f} s", "under 1 s")
        whole = seconds(lambda: session.results.placement(session.project, "bench"))
        row("placing by levels found in the current", f"{whole:.1f} s", "")
        row("sums over the states", f"{seconds(lambda: session.results.ledger(session.project, 'bench')):.1f} s", "")
        row("looking for faults", f"{seconds(lambda: session.results.quality(session.project, 'bench')):.1f} s", "")
        capture = session.capture("bench")
        for way, rule in (("a band", BandRule("busy", 0.7e-3, 20e-3, 0.1, 0.005)), ("levels", LevelsRule())):
            ours, theirs, ratio = paired(
                lambda rule=rule: place(capture, (rule,)), lambda: series_pass(capture.current), lambda: None, rounds=3
            )
            row(f"placing by {way}, to one NumPy pass over the capture", ratio_text(ours, theirs, ratio), "at most 5")
    print_memory("placing, sums and faults")


def bench_edit(folder: Path) -> None:
    """Time what follows an edited rule on 10^7 samples: the ribbon, then the figures."""
    raw = folder / "edit.f32"
    write_raw(raw, _EDITED)
    with importer(folder / "edit", raw, rate_hz=100e3)() as session:
        ribbon, figures = [], []
        for step in range(12):
            project = edits.add_rule(BandRule("busy", 0.7e-3 + step * 1e-5, 20e-3, 0.1, 0.005), ())(session.project)
            ribbon.append(seconds(lambda project=project: session.results.placement(project, "bench")))
            figures.append(seconds(lambda project=project: session.results.ledger(project, "bench")))
        row("an edited rule on 10^7 samples: the ribbon", f"{1e3 * np.median(ribbon):.0f} ms", "100 ms")
        row("an edited rule on 10^7 samples: then the figures", f"{1e3 * np.median(figures):.0f} ms", "")
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
    window.controller.open(folder / "raw")
    while window.controller.jobs.is_busy:
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
    print_memory("the window with the capture open")


def in_own_process(part: str, folder: Path, samples: int) -> None:
    """Run a part in a process of its own, so that its memory is its own."""
    subprocess.run([sys.executable, __file__, str(samples), part, str(folder)], check=True)


def bench_start() -> None:
    """Time the window until it is up against importing its libraries alone."""
    libraries = "import PySide6.QtWidgets, numpy"
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
        "window up, to importing its libraries", f"{ours:.2f} s / {theirs:.2f} s", f"at most {1.3 * theirs + 0.4:.2f} s"
    )


PARTS: dict[str, Callable[[Path, int], None]] = {
    "--import": bench_import,
    "--open": lambda folder, _samples: bench_open(folder),
    "--edit": lambda folder, _samples: bench_edit(folder),
    "--read": lambda folder, _samples: bench_reading(folder),
    "--redraw": lambda folder, _samples: bench_redraw(folder),
    "--fold": lambda folder, _samples: bench_fold(folder),
}


def main() -> None:
    """Run all benchmarks."""
    keep_freed_memory()
    samples = int(float(sys.argv[1])) if len(sys.argv) > 1 else _REPEATED
    if len(sys.argv) > 3:
        PARTS[sys.argv[2]](Path(sys.argv[3]), samples)
        return
    with tempfile.TemporaryDirectory(prefix="warm-ember-bench-") as name:
        for part in PARTS:
            in_own_process(part, Path(name), samples)
    bench_start()


if __name__ == "__main__":
    main()
