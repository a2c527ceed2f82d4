"""Trade-offs on the Battery page."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from ui.driving import LEFT
from warm_ember.session import edits
from warm_ember.ui.pages.battery import BatteryPage
from warm_ember.ui.shell.window import MainWindow


@pytest.fixture
def page(window: MainWindow, settle) -> BatteryPage:
    window.show_page("Battery")
    window.battery.show_view("trade-offs")
    settle()
    return window.battery


def test_the_smallest_single_change_is_said_and_true(window: MainWindow, page: BatteryPage, settle) -> None:
    best = page.tradeoffs.found.ways[0]
    assert f"{best.name}, from {best.now} to **{best.needed}**" in page.sentence()
    assert "Impossible at any sleep current alone" in page.sentence()
    assert (best.name, best.factor) == ("capacity", pytest.approx(1.41, abs=0.02))
    edit = edits.Change("battery", {"capacity_c": window.desk.project.battery.capacity_c * best.factor})
    window.desk.apply(edit, "a larger battery")
    settle()
    life = window.desk.results.life
    assert life.life_s == pytest.approx(life.target_s, rel=1e-3)
    assert "is met" in page.sentence()


def test_a_parameter_is_chosen_by_mouse_and_key(page: BatteryPage, qtbot: QtBot, settle) -> None:
    view = page.tradeoffs
    row = view.names.index("Passer-by, charge")
    qtbot.mouseClick(view, LEFT, pos=view._row_box(row).center().toPoint())
    settle()
    assert (view.found.course.name, view.found.region.name) == ("Passer-by, charge", "Passer-by")
    qtbot.keyClick(view, Qt.Key.Key_Up)
    settle()
    assert view.found.course.name == view.names[row - 1]
    qtbot.mouseClick(view, LEFT, pos=QPoint(view.width() - 20, 20))
    settle()
    assert view.found.course.name == view.names[row - 1]


def test_without_a_target_one_is_asked_for(window: MainWindow, page: BatteryPage, settle) -> None:
    window.desk.apply(edits.Change("project", {"target_s": None}), "forget the target")
    settle()
    assert page.sentence() == "Type a target to see what would meet it."
    assert page.tradeoffs.found.region is None


def test_the_list_is_copied_as_text(page: BatteryPage) -> None:
    next(action for action in page.page_actions() if action.text().startswith("Copy the trade-offs")).trigger()
    lines = QApplication.clipboard().text().splitlines()
    assert lines[0] == "parameter\tnow\tneeded alone\tfactor"
    assert len(lines) == 1 + len(page.tradeoffs.found.ways)
