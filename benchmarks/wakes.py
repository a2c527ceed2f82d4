"""Speed of wakes: a million of them on the page, and kernel trace text.

    .venv/bin/python benchmarks/wakes.py

Each figure is printed with the limit it is held to.
"""

from __future__ import annotations

import os
import re
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "src"))

import numpy as np
from PySide6.QtCore import QRect
from PySide6.QtWidgets import QApplication, QWidget

from warm_ember.attribution.wake_ledger import WakeLedger, make_wake_ledger
from warm_ember.attribution.wake_profile import wake_profile
from warm_ember.attribution.wakes import Wakes
from warm_ember.formats.kernel_trace import read_kernel_trace
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.placement import Placement
from warm_ember.session.wake_results import WakesShown
from warm_ember.signal.series import ArraySeries
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.theme import NIGHT, Appearance
from warm_ember.ui.pages.wakes.raster_lane import RasterLane
from warm_ember.ui.pages.wakes.slack_strip import SlackStrip
from warm_ember.ui.pages.wakes.sleep_depth_map import DepthMap
from warm_ember.ui.pages.wakes.source_table import SourceTable

WAKES, INTERVAL_S, LINES = 1_000_000, 1e-3, 400_000
_LINE = re.compile(rb"^\s*(.+)-(\d+)\s+\[(\d+)\]\s+(\S+)\s+(\d+\.\d+): (\w+): (.*)$")


class Recording:
    """A capture in memory, a pulse for each wake."""

    name, power, lines, info = "million", None, None, CaptureInfo(INTERVAL_S)
    events: tuple[Event, ...] = ()

    def __init__(self, first: np.ndarray) -> None:
        current = np.full(8 * WAKES + 8, 1e-5, dtype=np.float32)
        current[first] = 0.01
        self.current = ArraySeries(current, INTERVAL_S)


def seconds(work: Callable[[], object]) -> float:
    """Return how long something takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def million() -> WakeLedger:
    """Make a million wakes by five sources and sum them."""
    random = np.random.default_rng(1)
    first = np.arange(WAKES) * 8 + random.integers(1, 4, WAKES)
    wakes = Wakes.of([f"source {k}" for k in random.integers(0, 5, WAKES)], first, first + random.integers(1, 4, WAKES))
    whole = Placement(("all",), np.array([0, 8 * WAKES + 8]), np.array([0]), ("",), None)
    return make_wake_ledger(Recording(first), whole, wakes)


def page(ledger: WakeLedger) -> None:
    """Show a million wakes, and pan over them."""
    application = QApplication.instance() or QApplication([])
    look, window = Appearance(NIGHT), TimeWindow()
    window.set_capture(ledger.duration_s, ledger.interval_s)
    shown = WakesShown(ledger, wake_profile(ledger))
    table, depth, slack, raster = SourceTable(look), DepthMap(look), SlackStrip(look), RasterLane(look, window)
    for widget, size in ((table, (870, 360)), (depth, (408, 440)), (slack, (870, 120)), (raster, (1280, 132))):
        widget.resize(*size)
        widget.show()
    application.processEvents()

    def open_page() -> None:
        table.show_wakes(shown)
        slack.show_ledger(ledger)
        depth.show_depth(ledger.depth, ledger.mean_a)
        raster.set_ledger(ledger)
        for widget in (table, depth, slack, raster):
            paint(widget)

    def pan() -> None:
        window.pan(ledger.duration_s / 100)
        paint(raster)

    print(f"{'opening the page on a million wakes':50} {1000 * seconds(open_page):8.0f} ms   300 ms")
    window.zoom(0.5, ledger.duration_s / 2)
    times = [seconds(pan) for _ in range(30)]
    print(f"{'panning over half of them, a frame':50} {1000 * float(np.median(times)):8.1f} ms   16.7 ms")


def paint(widget: QWidget) -> None:
    """Paint a widget now."""
    widget.repaint(QRect(0, 0, widget.width(), widget.height()))


def trace(folder: Path) -> None:
    """Read kernel trace text."""
    random, lines, now_s = np.random.default_rng(2), ["# tracer: nop\n"], 1234.5
    told = (
        "kmalloc: call_site=f+0x1/0x2 ptr=0 bytes_req=64",
        "sched_wakeup: comm=worker pid=123 prio=120 target_cpu=001",
    )
    while len(lines) < LINES:
        cpu = int(random.integers(4))
        work = [told[k % 2] for k in range(int(random.integers(2, 12)))]
        for what in (
            "cpu_idle: state=1 cpu_id={cpu}",
            "cpu_idle: state=4294967295 cpu_id={cpu}",
            "irq_handler_entry: irq=27 name=arch_timer",
            "hrtimer_expire_entry: hrtimer=0000abcd function=hrtimer_wakeup now=123456789",
            *work,
        ):
            now_s += float(random.uniform(1e-6, 1e-3))
            lines.append(f"          <idle>-0       [{cpu:03d}] d..2. {now_s:12.6f}: {what.format(cpu=cpu)}\n")
    path = folder / "trace.txt"
    path.write_text("".join(lines), encoding="utf-8")
    size_mb = path.stat().st_size / 1e6

    def by_line() -> None:
        with path.open("rb") as file:
            for line in file:
                _LINE.match(line)

    ours = min(seconds(lambda: read_kernel_trace(path)) for _ in range(3))
    theirs = min(seconds(by_line) for _ in range(3))
    print(f"{'kernel trace text, MB/s':50} {size_mb / ours:8.1f}      50")
    print(f"{'a regular expression matched line by line, MB/s':50} {size_mb / theirs:8.1f}")


def main() -> None:
    """Measure and print."""
    ledger: list[WakeLedger] = []
    print(
        f"{'summing a million wakes, in the background':50} {1000 * seconds(lambda: ledger.append(million())):8.0f} ms"
    )
    page(ledger[0])
    with tempfile.TemporaryDirectory() as folder:
        trace(Path(folder))


if __name__ == "__main__":
    main()
