"""The real window, offscreen."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from warm_ember.ui.application import make_window
from warm_ember.ui.lanes.window_reader import WindowReader
from warm_ember.ui.look.theme import NIGHT
from warm_ember.ui.shell.window import MainWindow

Settle = Callable[[], None]


@pytest.fixture(autouse=True)
def lanes_wait_for_what_they_read(monkeypatch: pytest.MonkeyPatch) -> None:
    """A busy machine must not decide what is in a picture."""
    monkeypatch.setattr(WindowReader, "patience_s", 180.0)


@pytest.fixture
def empty_window(qtbot: QtBot, tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[MainWindow]:
    """The window without a project, which will open on the page that a module of tests says is its own."""
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    settings = QSettings(str(tmp_path / "window.ini"), QSettings.Format.IniFormat)
    settings.setValue("theme", NIGHT.name)
    settings.setValue("page", getattr(request.module, "PAGE", "Trace"))
    before = threading.active_count()
    window = make_window(application, settings)
    window.resize(1280, 800)
    qtbot.addWidget(window)
    window.show()
    qtbot.waitExposed(window)
    yield window
    window.close()
    assert not window.controller.jobs.is_busy
    left = [thread for thread in threading.enumerate() if not isinstance(thread, threading._DummyThread)]
    assert len(left) <= before, left


@pytest.fixture
def settle(qtbot: QtBot, empty_window: MainWindow) -> Settle:
    """Wait until nothing is being computed any more."""

    jobs = empty_window.controller.jobs

    def wait() -> None:
        qtbot.waitUntil(lambda: not jobs.is_busy, timeout=180_000)
        QApplication.processEvents()  # what was put off to the next turn may begin something
        qtbot.waitUntil(lambda: not jobs.is_busy, timeout=180_000)

    return wait


@pytest.fixture
def opened(demo_copy: Path, request: pytest.FixtureRequest) -> Path:
    """The demo with run r4 alone, so that an edit computes one run; with all five for a test marked `all_runs`."""
    if request.node.get_closest_marker("all_runs") is None:
        path = demo_copy / "project.json"
        project = json.loads(path.read_bytes())
        project["runs"] = [run for run in project["runs"] if run["name"] == "r4"]
        path.write_text(json.dumps(project))
        for capture in (demo_copy / "captures").iterdir():
            if capture.stem != "r4":
                capture.unlink()
    return demo_copy


@pytest.fixture
def window(empty_window: MainWindow, opened: Path, settle: Settle) -> MainWindow:
    """The window on the demo, run r4."""
    assert empty_window.controller.open(opened)
    empty_window.controller.select_run("r4")
    settle()
    return empty_window
