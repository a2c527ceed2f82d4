"""The band limit of a channel: asked for on Trace, drawn with what it hides, placing states where that is wanted."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from warm_ember.model.band_limit import BandLimit
from warm_ember.ui.look.rich_text import plain
from warm_ember.ui.pages.trace.band_limit_sheet import BandLimitSheet
from warm_ember.ui.pages.trace.page import TracePage
from warm_ember.ui.shell.window import MainWindow


@pytest.fixture
def page(window: MainWindow, settle) -> TracePage:
    window.show_page("Trace")
    settle()
    return window.pages.trace


def asked(page: TracePage, qtbot: QtBot) -> BandLimitSheet:
    page.window().activateWindow()
    qtbot.waitUntil(page.window().isActiveWindow)
    qtbot.keyClick(page.lanes, Qt.Key.Key_L, Qt.KeyboardModifier.ShiftModifier)
    (sheet,) = (one for one in page.findChildren(BandLimitSheet) if one.isVisible())
    return sheet


def limit(sheet: BandLimitSheet, qtbot: QtBot, channel: str, shortest: str) -> None:
    sheet.channel.setCurrentText(channel)
    sheet.shortest.clear()
    qtbot.keyClicks(sheet.shortest, shortest)
    qtbot.mouseClick(sheet.limit, Qt.MouseButton.LeftButton)


def words_on(lane) -> str:
    return " ".join(plain(f"{item.name} {item.value}") for item in lane.read_items)


def test_a_channel_is_limited_and_shown_as_measured_again(
    window: MainWindow, page: TracePage, qtbot: QtBot, settle
) -> None:
    before = page.stack.current.grab().toImage()
    sheet = asked(page, qtbot)
    assert [sheet.channel.itemText(row) for row in range(sheet.channel.count())] == ["current", "voltage"]
    assert sheet.shortest.text() == "4.00 ms"
    for wrong, words in (("1 us", "from 200 µs, two samples"), ("a while", "a while")):
        limit(sheet, qtbot, "current", wrong)
        assert words in sheet.state.text()
        assert not window.controller.project.band_limits
    limit(sheet, qtbot, "current", "20 ms")
    settle()
    assert window.controller.project.band_limits == (BandLimit("r4", "current", 0.02),)
    assert not page.findChildren(BandLimitSheet)
    assert "line: nothing shorter than 20.0 ms" in words_on(page.stack.current)
    assert "shows as" in words_on(page.stack.current)
    assert page.stack.current.grab().toImage() != before
    page.stack.set_folded("Voltage", False)
    limit(asked(page, qtbot), qtbot, "voltage", "0.1 s")
    settle()
    assert "nothing shorter than 100 ms" in words_on(page.stack.voltage)
    sheet = asked(page, qtbot)
    assert sheet.shortest.text() == "20.0 ms"
    qtbot.mouseClick(sheet.drop, Qt.MouseButton.LeftButton)
    settle()
    assert [one.channel for one in window.controller.project.band_limits] == ["voltage"]
    page.stack.set_folded("Voltage", True)
    settle()
    assert page.stack.current.grab().toImage() == before
    window.controller.undo()
    settle()
    assert "line:" in words_on(page.stack.current)


def test_only_the_current_places_states(window: MainWindow, page: TracePage, qtbot: QtBot, settle) -> None:
    sheet = asked(page, qtbot)
    sheet.places.setChecked(True)
    sheet.channel.setCurrentText("voltage")
    assert not sheet.places.isEnabled()
    limit(sheet, qtbot, "voltage", "10 ms")
    settle()
    assert not window.controller.project.band_limits[0].places_states
    sheet = asked(page, qtbot)
    sheet.places.setChecked(True)
    limit(sheet, qtbot, "current", "10 ms")
    settle()
    assert window.controller.project.band_limits[-1] == BandLimit("r4", "current", 0.01, places_states=True)
