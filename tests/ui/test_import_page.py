"""Files on their way in: the preview shows what is assumed, and all of it can be changed."""

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QMenu
from pytestqt.qtbot import QtBot

from ui.driving import LEFT, type_into
from warm_ember.model.project import Project
from warm_ember.session import edits
from warm_ember.session.recent import recent_projects
from warm_ember.store.project_folder import ProjectFolder
from warm_ember.ui.look.rich_text import plain
from warm_ember.ui.shell.window import MainWindow


def take(window: MainWindow, qtbot: QtBot, settle, *paths: Path) -> None:
    """Import files as they are."""
    window.way_in.import_files(list(paths))
    settle()
    qtbot.mouseClick(window.pages.imports.import_button, LEFT)
    settle()


def choose(view, words: str, text: str) -> None:
    """Pick an entry of a choice of the preview."""
    box = view.choices[words]
    box.setCurrentIndex(box.findText(text))
    box.activated.emit(box.currentIndex())


def test_a_dropped_file_becomes_the_current_run(window: MainWindow, tmp_path: Path, qtbot: QtBot, settle) -> None:
    path = tmp_path / "night.csv"
    path.write_text(
        "Zeit [s];Strom [mA]\n" + "".join(f"{k / 100:.2f};{1 + k % 2},5\n".replace(".", ",") for k in range(500))
    )
    log = tmp_path / "night.events.csv"
    log.write_text("time_s,event,name,value\n0,state,On,\n")
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path)), QUrl.fromLocalFile(str(log))])
    drop = QDropEvent(QPointF(10, 10), Qt.DropAction.CopyAction, mime, LEFT, Qt.KeyboardModifier.NoModifier)
    window.dropEvent(drop)
    settle()
    assert "500" not in window.messages.words.text()
    assert plain(window.header.sentence).startswith("night.csv holds 100 S/s")
    qtbot.keyClick(window.pages.imports, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert window.controller.session.current == "night"
    assert window.controller.results.whole.mean_a == pytest.approx(2e-3, rel=1e-3)
    assert window.controller.results.ledger.rows[0].name == "On"
    assert "decimal comma" in window.messages.words.text()
    assert ProjectFolder(window.controller.session.folder.path).load().run("night") is not None
    take(window, qtbot, settle, path)
    assert window.controller.session.current == "night 2"


def test_an_import_outlasts_undo_and_another_project_can_follow(
    window: MainWindow, tmp_path: Path, qtbot: QtBot, settle
) -> None:
    window.controller.apply(edits.drop_activity("Report"), "an edit before")
    path = tmp_path / "later.csv"
    path.write_text("s,A\n" + "".join(f"{k / 100:.2f},0.002\n" for k in range(500)))
    take(window, qtbot, settle, path)
    window.controller.undo()
    settle()
    assert window.controller.project.run("later") is not None
    assert any(activity.name == "Report" for activity in window.controller.project.activities)
    other = ProjectFolder(tmp_path / "other")
    other.save(Project(name="other"))
    assert window.controller.open(tmp_path / "other")
    window.grab()
    assert window.controller.results is None
    assert window.controller.open(window_path := Path(recent_projects()[1].path))
    settle()
    assert window.controller.session.folder.path == window_path
    window.grab()


def test_a_file_that_cannot_be_read_is_told_in_the_window(
    window: MainWindow, tmp_path: Path, qtbot: QtBot, settle
) -> None:
    path = tmp_path / "bad.csv"
    path.write_text("s,A\n0,1\n1,x\n2,3\n")
    window.way_in.import_files([path])
    settle()
    assert "line 3" in window.header.warning
    assert not window.pages.imports.import_button.isEnabled()
    qtbot.keyClick(window.pages.imports, Qt.Key.Key_Escape)
    assert window.page is window.pages.trace
    assert window.controller.project.run("bad") is None
    assert [run.name for run in window.controller.project.runs] == ["r4"]


def test_columns_are_taken_by_a_click_and_read_so_the_next_time(
    window: MainWindow, tmp_path: Path, qtbot: QtBot, settle
) -> None:
    view = window.pages.imports
    for name in ("monday", "tuesday"):
        rows = "".join(f"{k / 10:.1f},{k % 3},{2 + k % 2},limit\n" for k in range(300))
        (tmp_path / f"{name}.csv").write_text("time (s),ch1 current (mA),ch2 current (mA),mode\n" + rows)
    window.way_in.import_files([tmp_path / "monday.csv"])
    settle()
    assert "several columns may be the current" in window.header.warning
    assert [view.columns.cell_text(row, 0) for row in range(4)][1:3] == ["ch1 current (mA)", "ch2 current (mA)"]
    view.ask_role(2)
    menu = view.columns.findChild(QMenu)
    next(action for action in menu.actions() if action.text() == "Take as current").trigger()
    menu.close()
    settle()
    table = [[view.columns.cell_text(row, column) for column in range(5)] for row in range(4)]
    assert table[0][1:] == ["time", "s", "0.0, 0.1, 0.2", "by its unit"]
    assert table[2][1:] == ["current", "mA", "2, 3, 2", "chosen"]
    assert table[3][1] == "left out"
    assert "words" in table[3][4]
    qtbot.mouseClick(view.import_button, LEFT)
    settle()
    window.way_in.import_files([tmp_path / "tuesday.csv"])
    settle()
    assert view.shown is not None
    assert view.shown.current == 3
    assert "Read as “monday” says" in view.beside.text()
    view.forget(2)
    settle()
    assert "several columns may be the current" in window.header.warning
    view.skip()


def test_everything_that_was_assumed_can_be_changed(window: MainWindow, tmp_path: Path, qtbot: QtBot, settle) -> None:
    path = tmp_path / "log.csv"
    rows = [k for k in range(300) if not 100 <= k < 110]
    path.write_text("t;a;b\n" + "".join(f"{k};{k % 7};{1 + k % 3},25\n" for k in rows))
    view = window.pages.imports
    window.way_in.import_files([path])
    settle()
    assert "cannot be read like this" in window.header.sentence
    assert "--current-column" in window.header.warning or "current" in window.header.warning
    choose(view, "current", "b")
    settle()
    assert view.shown is not None
    assert view.table.row_count() == 12
    assert view.shown.missing == 10
    choose(view, "unit", "mA")
    settle()
    assert view.table.cell_text(0, 1) == "0.00125"
    choose(view, "current", "a")
    settle()
    assert view.table.cell_text(1, 1) == "0.001"
    choose(view, "gaps", "hold the value before")
    settle()
    assert view.shown.missing == 0
    type_into(qtbot, view.numbers["rate"], "2 kHz")
    settle()
    assert view.shown.interval_s == 0.0005
    type_into(qtbot, view.numbers["shunt"], "10")
    type_into(qtbot, view.numbers["supply"], "3.3")
    settle()
    view.name.setText("bench log")
    qtbot.mouseClick(view.import_button, LEFT)
    settle()
    capture = window.controller.results.capture
    assert window.controller.session.current == "bench log"
    assert capture.info.supply_v == 3.3
    assert capture.info.corrections == ("current from the voltage across 10 ohm, gain 1, offset 0 V",)


def test_raw_binary_asks_for_its_rate(window: MainWindow, tmp_path: Path, qtbot: QtBot, settle) -> None:
    path = tmp_path / "dump.bin"
    np.full(4000, 20, dtype="<i2").tofile(path)
    view = window.pages.imports
    window.way_in.import_files([path])
    settle()
    assert "rate" in window.header.warning
    type_into(qtbot, view.numbers["rate"], "1 kHz")
    choose(view, "samples are", "i16")
    settle()
    type_into(qtbot, view.numbers["ampere per count"], "1 uA")
    settle()
    assert view.shown.beginning.read(0, 1)[0] == pytest.approx(20e-6)
    window.grab()


def test_several_files_are_looked_at_one_after_another(
    window: MainWindow, tmp_path: Path, qtbot: QtBot, settle
) -> None:
    paths = [tmp_path / f"{name}.csv" for name in "abc"]
    for path in paths:
        path.write_text("s,A\n" + "".join(f"{k / 100:.2f},0.002\n" for k in range(100)))
    dump = tmp_path / "a.vcd"
    dump.write_text("$timescale 1ms $end\n$var wire 1 ! TX $end\n$enddefinitions $end\n#0\n0!\n#500\n1!\n")
    window.way_in.import_files([*paths, dump])
    settle()
    assert "a.vcd" in window.pages.imports.beside.text()
    qtbot.mouseClick(window.pages.imports.import_button, LEFT)
    settle()
    qtbot.mouseClick(window.pages.imports.skip_button, LEFT)
    settle()
    qtbot.mouseClick(window.pages.imports.import_button, LEFT)
    settle()
    assert [run.name for run in window.controller.project.runs][-2:] == ["a", "c"]
    assert window.controller.session.capture("a").lines.names == ("TX",)
    assert window.page is window.pages.trace
    window.way_in.import_files([dump])
    assert "come with a capture" in window.messages.words.text()
