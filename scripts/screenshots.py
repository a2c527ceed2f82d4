"""Make the pictures in docs/screenshots from the demo.

.venv/bin/python scripts/screenshots.py [NAME ...]
"""

from __future__ import annotations

import math
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"
ROOT = Path(__file__).resolve().parent.parent
FOLDER = ROOT / "docs" / "screenshots"
sys.path.insert(0, str(ROOT / "src"))

import msgspec
import numpy as np
from made_fleet import make_fleet
from PySide6.QtCore import QEvent, QSettings
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from warm_ember.formats.source import ImportOptions
from warm_ember.library.collecting import collect
from warm_ember.model.fold import AlignBy, FoldPlan
from warm_ember.session import edits
from warm_ember.session.demo import make_demo
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.new_capture import adopt
from warm_ember.session.recent import forget
from warm_ember.ui.application import make_window
from warm_ember.ui.look.theme import DAY, NIGHT, Theme
from warm_ember.ui.shell.window import MainWindow


def around_the_report(window: MainWindow) -> None:
    """Show a count, the sleep between, and the report."""
    window.window_on_time.show(36.0, 86.0)


def start(window: MainWindow) -> None:
    """Open three projects, lose one of them, and go to the start page."""
    made = window.controller.session
    assert made is not None
    lab = Path.home() / "lab"
    for name, run in (("gate counter", "r2"), ("bench copy", "r4"), ("trail counter post", "r5")):
        shutil.copytree(made.folder.path, lab / name)
        window.controller.open(lab / name)
        window.controller.apply(edits.SetFields("project", {"name": name}), "rename")
        window.controller.select_run(run)
        _settle(window)
    shutil.move(lab / "bench copy", lab / "elsewhere")
    forget(str(made.folder.path))
    window.way_in.show_start()


def limits(window: MainWindow) -> None:
    """Compare the last build with limits, one of which it misses."""
    window.pages.runs.show_view("limits")
    _settle(window)
    (text,) = re.findall(r"```toml\n# power.toml\n(.*?)```", (ROOT / "docs" / "builds.md").read_text(), re.DOTALL)
    view = window.pages.runs.limits
    view.editor.insertPlainText(f"# Limits of the build\n{text}\n[states.Count]\nmax_mean_a = 3.9e-3  # LED dark\n")
    QTest.qWait(600)
    _settle(window)
    view.run_gate()
    QTest.qWait(600)


def a_row_open(window: MainWindow) -> None:
    """Open a state's editor."""
    around_the_report(window)
    window.pages.states.choose("Count")


def functions(window: MainWindow) -> None:
    """Say which code the charge went to."""
    window.pages.states.show_view("functions")
    _settle(window)
    window.pages.states.functions.choose("modem_wait_reply")


def kinds(window: MainWindow) -> None:
    """Sort the wakes by the current alone."""
    window.pages.wakes.show_view("kinds")


def river(window: MainWindow) -> None:
    """Open a data set of five boards, and pick two builds."""
    fleet = Path.home() / "fleet"
    collect(str(fleet / "posts"), make_fleet(fleet, builds=62), jobs=2)
    window.open_data_set(str(fleet / "posts"))
    _settle(window)
    shown = window.pages.runs.river.chart
    shown.picked.emit(28, math.nan, True)
    shown.picked.emit(56, math.nan, False)


def sweep(window: MainWindow) -> None:
    """Sweep the report's interval and the batch over the simulated bench."""
    bench = subprocess.Popen(
        [sys.executable, "-m", "warm_ember", "bench", "--port", "0", "--speed", "400"],
        stdout=subprocess.PIPE,
        text=True,
        env=os.environ | {"PYTHONPATH": str(ROOT / "src")},
    )
    assert bench.stdout is not None
    said = dict(bench.stdout.readline().rstrip().split(maxsplit=1) for _ in range(3))
    steps = {"from": 120, "to": 1200, "steps": 8, "log": True}
    interval = {"name": "interval", "values": steps, "send": "interval {value}", "confirm": "^ok", "unit": "s"}
    mode = {"name": "sleep", "values": ["idle", "off", "deep"], "send": "sleep {value}", "confirm": "^ok"}
    recipe = {
        "parameters": [interval | {"latency_per_value": 1}, mode],
        "record_s": 600,
        "console": said["console"],
        "settings": {"voltage_v": 3.0, "limit_a": 0.5, "interval_s": 1e-3},
        "goal": {"min_months": 3, "max_latency_s": 900},
        "prepare": ["passers off"],
    }
    folder = window.controller.project_folder
    (folder / "recipe.json").write_bytes(msgspec.json.encode(recipe))
    asked = ["sweep", str(folder), "--from", said["instrument"], "--recipe", str(folder / "recipe.json")]
    try:
        subprocess.run(
            [sys.executable, "-m", "warm_ember", *asked],
            check=True,
            stdout=subprocess.DEVNULL,
            env=os.environ | {"PYTHONPATH": str(ROOT / "src")},
        )
    finally:
        bench.kill()
        bench.communicate()
    window.controller.open(folder)
    _settle(window)
    window.controller.select_run("r5")
    window.pages.tune.show_view("sweep")


def proof(window: MainWindow) -> None:
    """Hold what was predicted against what came."""
    window.pages.tune.show_view("proof")


def trade_offs(window: MainWindow) -> None:
    """Trade the report's interval for life."""
    window.pages.battery.show_view("trade-offs")
    window.pages.battery.choose_parameter("Report, how often")


def all_wakes(window: MainWindow) -> None:
    """Fold the wakes of each second, with the serial line's wait as a step of its own."""
    plan = FoldPlan("r5", AlignBy.LINE, "RTC_IRQ", before_s=0.01, length_s=0.12, leaves_out_odd=True)
    window.controller.apply(edits.set_fold(plan), "fold")
    window.pages.trace.show_view("fold")


def long_leads(window: MainWindow) -> None:
    """Measure run 4 with long leads, a range of 100 mA, and too little patience."""
    session = window.controller.session
    assert session is not None
    capture = session.capture("r4")
    time_s = np.arange(round(69.0 / capture.current.interval_s)) * capture.current.interval_s
    read = capture.current.read(0, len(time_s)) + 4e-6 * np.sin(2 * np.pi * 50 * time_s)
    path = session.folder.path / "r4 on long leads.f32"
    np.minimum(read, 0.1).astype("<f4").tofile(path)
    options = ImportOptions(rate_hz=1 / capture.current.interval_s)
    adopt(session, import_file(session, ImportRequest(path, options, supply_v=3.0)))
    window.controller.open(session.folder.path)
    _settle(window)


def quality(window: MainWindow) -> None:
    """Say what speaks against a capture, and what its leads do to the target."""
    long_leads(window)
    window.pages.trace.show_view("data quality")
    _settle(window)
    corrections = window.pages.trace.quality.corrections
    corrections.edits["burden"].setText("1.8")
    corrections.edits["serial line"].setText("3.1u")
    corrections.show_effect()


def a_file(window: MainWindow) -> None:
    """Look at a text of a quarter of run 5, with a gap, before it is imported."""
    session = window.controller.session
    assert session is not None
    path = session.folder.path / "night.csv"
    current = session.capture("r5").current
    rows = (k for k in range(0, 750_000, 10) if not 300_000 < k < 330_000)
    values = current.read(0, 750_000)
    lines = (
        f"{k * current.interval_s:.3f};{values[k] * 1e3:.5f};{int(values[k] > 0.05)}".replace(".", ",") for k in rows
    )
    path.write_text("# trail counter post, night\nZeit (s);Strom (mA);modem\n" + "\n".join(lines) + "\n")
    window.way_in.import_files([path])


def recording(window: MainWindow) -> None:
    """Record run 5 from the simulated bench, with a debug probe on the rail, around its report."""
    with _bench("--attach", "debugger", "--report-after", "12") as (resource, console):
        bench = window.pages.bench.bench_controller
        bench.change("instrument", resource=resource)
        bench.open_console(console)
        bench.find()
        _settle(window)
        bench.start("run 5 again")
        while bench.recorder is None or bench.recorder.samples < 260_000:
            QApplication.processEvents()
        window.pages.bench.show_frame()
        window.grab().save(str(FOLDER / "bench.png"))
        bench.stop()
        while bench.is_recording:
            QApplication.processEvents()
        bench.close_console()


def planning(window: MainWindow) -> None:
    """Plan a capture with a shunt that is too large."""
    with _bench() as (resource, _console):
        window.pages.bench.bench_controller.change("instrument", resource=resource)
        window.pages.bench.bench_controller.find()
        _settle(window)
    plan = window.pages.bench.plan
    plan.expectation = msgspec.structs.replace(plan.expectation, shunt_ohm=2.2, capacitance_f=470e-6)
    plan.refresh()
    window.pages.bench.show_view("plan")
    window.messages.hide()


@contextmanager
def _bench(*arguments: str) -> Iterator[tuple[str, str]]:
    """Serve a simulated bench and give its address and its console's."""
    process = subprocess.Popen(
        [sys.executable, "-m", "warm_ember", "bench", "--port", "0", *arguments],
        stdout=subprocess.PIPE, text=True, env=os.environ | {"PYTHONPATH": str(ROOT / "src")},
    )  # fmt: skip
    assert process.stdout is not None
    lines = [process.stdout.readline().split() for _ in range(3)]
    try:
        yield lines[1][1], lines[2][1]
    finally:
        process.terminate()
        process.wait()


def nothing(_window: MainWindow) -> None:
    """Leave the page as it opens."""


PICTURES: tuple[tuple[str, str, str, Theme, Callable[[MainWindow], None]], ...] = (
    ("trace", "Trace", "r4", NIGHT, around_the_report),
    ("start", "Trace", "r5", NIGHT, start),
    ("states", "States", "r4", NIGHT, a_row_open),
    ("functions", "States", "r4", NIGHT, functions),
    ("wakes", "Wakes", "r4", NIGHT, nothing),
    ("kinds-day", "Wakes", "r5", DAY, kinds),
    ("battery", "Battery", "r4", NIGHT, nothing),
    ("trade-offs", "Battery", "r4", NIGHT, trade_offs),
    ("tune", "Tune", "r4", NIGHT, nothing),
    ("proof-day", "Tune", "r5", DAY, proof),
    ("sweep-day", "Tune", "r5", DAY, sweep),
    ("runs", "Runs", "r4", NIGHT, nothing),
    ("limits-day", "Runs", "r5", DAY, limits),
    ("river", "Runs", "r5", NIGHT, river),
    ("fold", "Trace", "r5", NIGHT, all_wakes),
    ("quality", "Trace", "r4", DAY, quality),
    ("import", "Trace", "r5", NIGHT, a_file),
    ("bench", "Bench", "r5", NIGHT, recording),
    ("bench-plan", "Bench", "r5", DAY, planning),
)


def main(only: list[str]) -> None:
    """Make all pictures, or only some."""
    application = QApplication(["warm-ember"])
    font = application.font()
    font.setPointSizeF(10.0)
    application.setFont(font)
    FOLDER.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        os.environ["HOME"], os.environ["XDG_DATA_HOME"] = name, str(Path(name) / "data")
        made = Path(name) / "made"
        make_demo(made).close()
        for picture, page, run, theme, arrange in (one for one in PICTURES if not only or one[0] in only):
            settings = QSettings(str(Path(name) / f"{picture}.ini"), QSettings.Format.IniFormat)
            settings.setValue("theme", theme.name)
            window = make_window(application, settings)
            window.resize(1280, 800)
            window.show()
            copy = Path(name) / picture
            shutil.copytree(made, copy)  # the times of the captures with them, so that their summaries hold
            window.controller.open(copy)
            _settle(window)
            window.controller.select_run(run)
            _settle(window)
            window.show_page(page)
            arrange(window)
            _settle(window)
            if picture != "bench":  # taken while it records
                window.grab().save(str(FOLDER / f"{picture}.png"))
            window.close()
            window.deleteLater()
            QApplication.sendPostedEvents(window, QEvent.Type.DeferredDelete.value)


def _settle(window: MainWindow) -> None:
    QApplication.processEvents()
    while window.controller.jobs.is_busy:
        QApplication.processEvents()
    QApplication.processEvents()


if __name__ == "__main__":
    main(sys.argv[1:])
