"""The window beside other programs, ended by signals, and with text that looks like markup."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import msgspec
import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QLabel, QWidget
from pytestqt.qtbot import QtBot

from bench.benches import Serve, serve
from warm_ember.session import edits
from warm_ember.session.session import Session
from warm_ember.store.project_folder import ProjectFolder
from warm_ember.ui.look.label import tip
from warm_ember.ui.shell.window import MainWindow

__all__ = ["serve"]

EVIL = '<img src="file:///etc/hostname"><a href="x"><h1>evil</h1>&amp;'


def test_another_programs_edits_are_taken_in_and_kept(window: MainWindow, qtbot: QtBot, settle) -> None:
    folder = window.controller.session.folder.path
    with Session.open(folder) as other:
        other.apply(lambda project: msgspec.structs.replace(project, supply_v=2.7), "voltage")
        other.save()
    window.controller.apply(edits.SetFields("project", {"target_s": 5e7}), "target")
    window.controller.save()
    settle()
    assert (window.controller.project.supply_v, window.controller.project.target_s) == (2.7, 5e7)
    assert "Another program changed this project" in window.messages.words.text()
    assert ProjectFolder(folder).load().supply_v == 2.7
    window.controller.undo()
    assert (window.controller.project.supply_v, window.controller.project.target_s != 5e7) == (2.7, True)


def test_coming_back_to_the_window_shows_what_others_did(window: MainWindow, qtbot: QtBot, settle) -> None:
    with Session.open(window.controller.session.folder.path) as other:
        other.apply(lambda project: msgspec.structs.replace(project, supply_v=2.7), "voltage")
        other.save()
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow)
    QGuiApplication.sendEvent(window, QEvent(QEvent.Type.ActivationChange))
    settle()
    assert window.controller.project.supply_v == 2.7


def test_a_project_that_was_moved_away_is_told_and_not_made_anew(window: MainWindow, tmp_path: Path, settle) -> None:
    folder = window.controller.session.folder.path
    folder.rename(tmp_path / "elsewhere")
    window.controller.apply(edits.SetFields("project", {"target_s": 5e7}), "target")
    window.controller.save()
    assert "moved or removed" in window.messages.words.text()
    assert not folder.exists()
    (tmp_path / "elsewhere").rename(folder)
    window.controller.save()
    assert ProjectFolder(folder).load().target_s == 5e7


def test_no_text_of_others_is_taken_for_markup(window: MainWindow, settle) -> None:
    project = window.controller.project
    runs = tuple(msgspec.structs.replace(run, title=EVIL, changed=EVIL) for run in project.runs)
    bench = msgspec.structs.replace(project.bench, resource=EVIL, console=EVIL)
    window.controller.apply(edits.SetFields("project", {"name": EVIL, "runs": runs, "bench": bench}), "names")
    settle()
    window.controller.troubled.emit(EVIL)
    for title in ("Bench", "Trace", "States", "Wakes", "Battery", "Tune", "Runs"):
        window.show_page(title)
        settle()
        for label in window.findChildren(QLabel):
            kind = label.textFormat()
            assert kind != Qt.TextFormat.AutoText or "<" not in label.text()  # one of the library's own
            assert kind != Qt.TextFormat.RichText or EVIL not in label.text()
        for widget in window.findChildren(QWidget):
            assert EVIL not in widget.toolTip()
    assert window.messages.words.text() == EVIL


def test_a_tool_tip_shows_text_letter_by_letter() -> None:
    assert tip("plain words, 5 µA") == "plain words, 5 µA"
    assert tip("a < b\nc & d") == "<p>a &lt; b<br>c &amp; d</p>"
    assert "<img" not in tip(EVIL)


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_signal_closes_the_window_in_good_order(tmp_path: Path, demo_copy: Path, serve: Serve, number: int) -> None:
    """It records while the signal comes: the output goes off, and what was recorded is a run."""
    server = serve()
    script = (
        "import sys; from pathlib import Path\n"
        "from PySide6.QtCore import QTimer\n"
        "import warm_ember.ui.application as application\n"
        "def begin(window, project, **_more):\n"
        "    window.controller.open(project)\n"
        "    bench = window.pages.bench.bench_controller\n"
        "    bench.change('instrument', resource=sys.argv[2])\n"
        "    bench.change_settings('length', duration_s=None, voltage_v=3.0, interval_s=1e-3)\n"
        "    assert bench.start('by signal')\n"
        "application.open_first = begin\n"
        "sys.exit(application.run_window(Path(sys.argv[1])))\n"
    )
    address = f"TCPIP::127.0.0.1::{server.port}::SOCKET"
    running = subprocess.Popen(
        [sys.executable, "-c", script, str(demo_copy), address],
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=lambda: signal.signal(number, signal.SIG_DFL),  # the tests may run where it is ignored
        env=os.environ
        | {"PYTHONPATH": os.pathsep.join(sys.path), "QT_QPA_PLATFORM": "offscreen", "XDG_CONFIG_HOME": str(tmp_path),
           "XDG_STATE_HOME": str(tmp_path)},
    )  # fmt: skip
    came_by_s = time.monotonic() + 120
    while not (server.instrument.is_on and server.fault.blocks > 30):
        assert running.poll() is None, running.communicate()
        assert time.monotonic() < came_by_s
    running.send_signal(number)
    err = running.communicate()[1]
    assert running.returncode == 128 + number, err
    assert not server.instrument.is_on
    with Session.open(demo_copy) as session:
        assert session.capture("by signal").current.samples > 0
        assert session.project.run("by signal") is not None
