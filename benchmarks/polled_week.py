"""A week of a meter that answers ten readings a second, and lines as fast as they are printed.

    .venv/bin/python benchmarks/polled_week.py [DAYS]

Each figure is printed with the limit it is held to. The readings are made here, in virtual time: what is timed is all
that is done with them from the meter's answer to the finished capture.
"""

from __future__ import annotations

import resource
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "src"))

import numpy as np
from kinds import row

from warm_ember.bench.byte_stream import Came
from warm_ember.bench.line_reading import LineReader
from warm_ember.bench.reading_grid import ReadingGrid
from warm_ember.model.capture import CaptureInfo
from warm_ember.store.capture import Capture
from warm_ember.store.recording_file import RecordingFile

RATE_HZ, AT_ONCE = 10.0, 50
LINES = 200_000


def peak_mb() -> float:
    """Return the most memory that this program has had, MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def week(path: Path, days: float) -> None:
    """Record readings for some days, a few at a time as they come, flushed as a recording is."""
    random = np.random.default_rng(1)
    count = round(days * 86400 * RATE_HZ)
    info = CaptureInfo(1 / RATE_HZ, reading_interval_s=1 / RATE_HZ, aperture_s=0.02)
    file, grid = RecordingFile(path, info, with_readings=True), ReadingGrid(1 / RATE_HZ, 1 / RATE_HZ, late_s=0.2)
    for first in range(0, count, AT_ONCE):
        times_s = (first + np.arange(AT_ONCE) + 0.05 * random.standard_normal(AT_ONCE)) / RATE_HZ
        found = grid.add(np.sort(times_s), 1e-5 * (1 + 0.01 * random.standard_normal(AT_ONCE)))
        file.append(found.current, None, None, found.readings)
        if not first % (AT_ONCE * 100):
            file.flush()
    file.finish(info, ())


def main() -> None:
    """Record, and say how long it took, how much memory, and how large the file is."""
    days = float(sys.argv[1]) if len(sys.argv) > 1 else 7.0
    with tempfile.TemporaryDirectory() as folder:
        path, start = Path(folder) / "week.h5", time.perf_counter()
        before_mb = peak_mb()
        week(path, days)
        taken_s = time.perf_counter() - start
        readings = days * 86400 * RATE_HZ
        row(f"{days:g} days at {RATE_HZ:g} readings a second", f"{taken_s:.0f} s", "")
        row("of the meter's own time", f"{taken_s / (days * 86400):.1e}", "1e-3")
        row("memory beside the program's own", f"{peak_mb() - before_mb:.0f} MB", "200 MB")
        row("file, bytes a reading", f"{path.stat().st_size / readings:.1f}", "20")
        with Capture(path) as capture:
            assert capture.readings is not None
            assert abs(len(capture.readings.time_s) - readings) <= AT_ONCE
    text = "".join(f"{10 * n} us, {n % 100}.25 uA\n" for n in range(LINES)).encode()
    reader, start = LineReader(r"^(?P<time_us>\d+) us, (?P<current_ua>[-\d.]+) uA$"), time.perf_counter()
    for first in range(0, len(text), 1 << 16):
        reader.read([Came(0.0, text[first : first + (1 << 16)])])
    assert reader.fitting == LINES
    row("lines read in a second", f"{LINES / (time.perf_counter() - start):.0f}", "100000")


if __name__ == "__main__":
    main()
