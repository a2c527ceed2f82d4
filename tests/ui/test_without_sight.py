"""Without a mouse, without sight: every painted view is reached by Tab, read by a screen reader and copied as text."""

from __future__ import annotations

import re

import pytest
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QAccessible, QAccessibleInterface, QGuiApplication, QImage
from PySide6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import noting_drawn
from warm_ember.ui.shell.page_stack import TITLES
from warm_ember.ui.shell.window import MainWindow

VIEWS = {
    "Bench": ("record", "plan", "zero"),
    "Trace": ("lanes", "fold", "data quality"),
    "States": ("ledger", "sleep check", "transitions", "levels", "clock", "functions"),
    "Wakes": ("kinds", "sources", "modes", "plan", "over time"),
    "Battery": ("life", "years", "trade-offs", "cell"),
    "Tune": ("plan", "waveform", "proof", "timers"),
    "Runs": ("",),
}


OF_ALL_RUNS = ("Tune", "Runs")
PAGES = pytest.mark.parametrize(
    "title",
    [pytest.param(title, marks=[pytest.mark.all_runs] if title in OF_ALL_RUNS else []) for title in TITLES],
)


def opened(window: MainWindow, title: str, view: str, settle) -> QWidget:
    window.show_page(title)
    if view:
        window.pages.page(title).show_view(view)
    settle()
    window.grab()
    return window


def visible(window: QWidget) -> list[PaintedView]:
    return [view for view in window.findChildren(PaintedView) if view.isVisible() and view.isEnabled()]


def read(interface: QAccessibleInterface) -> list[str]:
    """Return all names and values below an interface."""
    words = [interface.text(QAccessible.Text.Name), interface.text(QAccessible.Text.Value)]
    for index in range(interface.childCount()):
        child = interface.child(index)
        if child is not None and child.isValid() and not child.state().invisible:
            words += read(child)
    return words


@PAGES
def test_every_figure_that_is_painted_is_read(window: MainWindow, settle, title: str) -> None:
    for view in VIEWS[title]:
        opened(window, title, view, settle)
        is_read(window)


def is_read(window: MainWindow) -> None:
    for lane in window.findChildren(Lane):
        lane.refresh_all()
    with noting_drawn() as drawn:
        window.grab()
    figures = {one.words for one in drawn if re.search(r"\d", one.words)}
    assert len(figures) > 5
    told = " ".join(read(QAccessible.queryAccessibleInterface(window))).replace("**", "")
    assert [words for words in sorted(figures) if words not in told] == []


@PAGES
def test_every_painted_view_is_reached_by_tab_named_and_copied_and_focus_is_seen(
    window: MainWindow, settle, qtbot: QtBot, title: str
) -> None:
    for view in VIEWS[title]:
        opened(window, title, view, settle)
        is_reached(window, qtbot)


def is_reached(window: MainWindow, qtbot: QtBot) -> None:
    wanted = {one for one in visible(window) if one.focusPolicy() & Qt.FocusPolicy.TabFocus}
    assert [type(one).__name__ for one in visible(window) if one not in wanted] == []
    assert [type(one).__name__ for one in wanted if not one.accessibleName()] == []
    reached: set[QWidget] = set()
    for _ in range(400):
        qtbot.keyClick(QApplication.focusWidget() or window, Qt.Key.Key_Tab)
        focused = QApplication.focusWidget()
        if focused is None or focused in reached:
            break
        reached.add(focused)
    assert [one.accessibleName() for one in wanted - reached] == []
    unseen = [f"{type(one).__name__} {one.accessibleName()}" for one in reached if not shows_focus(window, one)]
    assert "; ".join(unseen) == ""
    for one in wanted:
        QGuiApplication.clipboard().clear()
        qtbot.keyClick(one, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
        if one.read_items and one.copies_itself:  # the page copies otherwise
            assert QGuiApplication.clipboard().text().strip(), f"{one.accessibleName()}: nothing is copied"


def shows_focus(window: MainWindow, one: QWidget) -> bool:
    window.setFocus()
    before = shown(one)
    one.setFocus(Qt.FocusReason.TabFocusReason)
    return shown(one) != before


def shown(view: QWidget) -> QImage:
    return view.grab().toImage()


def test_a_row_that_is_chosen_is_told(window: MainWindow, settle) -> None:
    opened(window, "States", "", settle)
    ledger = window.pages.states.ledger
    ledger.choose("Modem idle")
    chosen = [item for item in ledger.read_items if item.is_chosen]
    assert [item.name for item in chosen] == ["Modem idle"]
    assert "28.5 %" in chosen[0].value
    interface = QAccessible.queryAccessibleInterface(ledger)
    at = ledger.mapToGlobal(QPoint(ledger.width() // 2, int(chosen[0].box.center().y())))
    found = interface.childAt(at.x(), at.y())
    assert found.text(QAccessible.Text.Name) == "Modem idle"
    assert found.state().selected
    assert interface.indexOfChild(found) < interface.childCount()
    assert found.rect().contains(at)


@pytest.mark.all_runs
def test_what_is_read_follows_what_is_shown(window: MainWindow, settle) -> None:
    opened(window, "Runs", "", settle)
    chart = window.pages.runs.history
    before = chart.read_text()
    window.controller.select_run("r5")
    settle()
    window.grab()
    assert chart.read_text() != before
    QApplication.sendEvent(chart, QEvent(QEvent.Type.UpdateRequest))


def test_what_the_arrows_come_to_is_told(
    window: MainWindow, settle, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    told: list[str] = []
    monkeypatch.setattr(PaintedView, "announce", lambda _view, words: told.append(words))
    opened(window, "Trace", "lanes", settle)
    lane = window.pages.trace.stack.current
    lane.setFocus()
    qtbot.keyClick(lane, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert told
    assert re.fullmatch(r"[\d:.]+: [\d.]+ .?A", told[-1])
    assert [item.name for item in lane.read_items if item.name.startswith("bracket")] == [
        "bracket A a passer-by", "bracket B the report",
    ]  # fmt: skip
    told.clear()
    opened(window, "Wakes", "sources", settle)
    chart = window.pages.wakes.depth_map
    chart.setFocus()
    qtbot.keyClick(chart, Qt.Key.Key_Right)
    assert "the wrong sleep mode" in told[-1]
