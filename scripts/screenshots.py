"""Make the pictures in docs/screenshots from the demo.

.venv/bin/python scripts/screenshots.py
"""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"
ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "src"))

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from warm_ember.session.demo import make_demo
from warm_ember.ui.application import make_window
from warm_ember.ui.look.theme import DAY, NIGHT, Theme
from warm_ember.ui.shell.window import MainWindow


def around_the_report(window: MainWindow) -> None:
    """Show a count, the sleep between, and the report."""
    window.window_on_time.show(36.0, 86.0)


def one_wake(window: MainWindow) -> None:
    """Show one wake and the start of the report, with the voltage."""
    window.trace.stack.set_folded("Voltage", False)
    window.window_on_time.show(60.4, 60.75)
    window.window_on_time.set_cursor(60.55)


def a_row_open(window: MainWindow) -> None:
    """Open a state's editor."""
    around_the_report(window)
    window.states.choose("Idle wait")


def nothing(_window: MainWindow) -> None:
    """Leave the page as it opens."""


PICTURES: tuple[tuple[str, str, str, Theme, Callable[[MainWindow], None]], ...] = (
    ("trace", "Trace", "r4", NIGHT, around_the_report),
    ("trace-zoomed", "Trace", "r4", NIGHT, one_wake),
    ("trace-day", "Trace", "r4", DAY, around_the_report),
    ("states", "States", "r4", NIGHT, a_row_open),
    ("battery", "Battery", "r4", NIGHT, nothing),
    ("battery-met-day", "Battery", "r5", DAY, nothing),
    ("runs", "Runs", "r4", NIGHT, nothing),
)


def main() -> None:
    """Make all pictures."""
    application = QApplication(["warm-ember"])
    font = application.font()
    font.setPointSizeF(10.0)
    application.setFont(font)
    folder = ROOT / "docs" / "screenshots"
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        make_demo(Path(name) / "post").close()
        for picture, page, run, theme, arrange in PICTURES:
            settings = QSettings(str(Path(name) / f"{picture}.ini"), QSettings.Format.IniFormat)
            window = make_window(application, settings)
            window.look.set_theme(theme)
            window.resize(1280, 800)
            window.show()
            window.desk.open(Path(name) / "post")
            _settle(application, window)
            window.desk.select_run(run)
            _settle(application, window)
            window.show_page(page)
            arrange(window)
            _settle(application, window)
            window.grab().save(str(folder / f"{picture}.png"))
            window.close()


def _settle(application: QApplication, window: MainWindow) -> None:
    application.processEvents()
    while window.desk.jobs.is_busy:
        application.processEvents()
    application.processEvents()


if __name__ == "__main__":
    main()
