"""The sheet of a report: chosen by hand, seen as it will be, saved."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from warm_ember.report.contents import Choice, Part
from warm_ember.ui.shell.report_sheet import ABOUT_RUN, ABOUT_TWO, ReportSheet
from warm_ember.ui.shell.window import MainWindow

PAGE = "Runs"


@pytest.fixture
def sheet(window: MainWindow, qtbot: QtBot, settle) -> ReportSheet:
    opened = window.exports.report()
    assert opened is not None
    qtbot.waitUntil(lambda: bool(opened.pages), timeout=180_000)
    return opened


@pytest.mark.all_runs
def test_pages_follow_the_choice_and_are_saved(
    window: MainWindow, sheet: ReportSheet, qtbot: QtBot, settle, tmp_path: Path
) -> None:
    assert sheet.choice() == Choice()
    pages, first = len(sheet.pages), sheet.pages[0]
    assert pages >= 2
    assert first.width > 300
    assert len(set(first.pixels)) > 50  # something is on it
    sheet.about.setCurrentText(ABOUT_TWO)
    qtbot.keyClicks(sheet.claim, "half the charge")
    qtbot.keyClicks(sheet.title, "For the review")
    for part in (Part.WAKES, Part.BATTERY, Part.QUALITY, Part.FINDINGS):
        qtbot.keyClick(sheet.parts[part], Qt.Key.Key_Space)
    wanted = frozenset(Part) - {Part.WAKES, Part.BATTERY, Part.QUALITY, Part.FINDINGS}
    assert sheet.choice() == Choice(("r3", "r4"), "For the review", wanted, ("half the charge",))
    qtbot.waitUntil(lambda: sheet.pages and sheet.pages[0] is not first, timeout=180_000)
    with qtbot.waitSignal(window.controller.noted, timeout=180_000):
        sheet.write(tmp_path / "two.html")
    page = (tmp_path / "two.html").read_text(encoding="utf-8")
    assert "For the review" in page
    assert "“half the charge”" in page
    assert "Who wakes it" not in page


@pytest.mark.all_runs
def test_only_what_fits_can_be_chosen(sheet: ReportSheet) -> None:
    assert sheet.parts[Part.COMPARISON].isHidden()
    sheet.about.setCurrentText(ABOUT_RUN)
    assert sheet.parts[Part.RUNS].isHidden()
    assert not sheet.second.isHidden()
    assert sheet.first.isHidden()
    assert sheet.choice().runs == ("r4",)
    sheet.about.setCurrentText(ABOUT_TWO)
    assert not sheet.parts[Part.COMPARISON].isHidden()


@pytest.mark.all_runs
def test_a_claim_that_is_none_is_told_and_the_sheet_stays(sheet: ReportSheet, qtbot: QtBot) -> None:
    sheet.about.setCurrentText(ABOUT_TWO)
    qtbot.keyClicks(sheet.claim, "better")
    qtbot.waitUntil(lambda: "no claim" in sheet.state.text(), timeout=180_000)
    assert sheet.isVisible()


def test_without_a_run_there_is_nothing_to_report_on(empty_window: MainWindow, qtbot: QtBot) -> None:
    with qtbot.waitSignal(empty_window.controller.troubled):
        assert empty_window.exports.report() is None
