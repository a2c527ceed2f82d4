"""A data set on the Runs page: its river is read, moved, and two builds are compared."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication, QFileDialog

from fleet.made_rows import day, write_run
from warm_ember.fleet.data_set import DataSet
from warm_ember.session.river import read_river, with_states
from warm_ember.ui.pages.runs.page import RIVER, RunsPage
from warm_ember.ui.shell.window import MainWindow

PAGE = "Runs"


@pytest.fixture
def data_set(tmp_path: Path) -> Path:
    """Forty builds on three boards, of which the 26th made it worse; one board draws far more, and one run is wild."""
    files, random = DataSet(str(tmp_path / "fleet")), np.random.default_rng(5)
    for build in range(40):
        for board in range(4):
            average_a = 2e-4 * (1.08 if build >= 25 else 1.0) * (1.25 if board == 3 else 1.0)
            average_a *= (1 + 0.01 * random.standard_normal()) * (1.6 if (build, board) == (11, 1) else 1.0)
            write_run(
                files, f"build {build + 1}", f"r{build}", average_a, board=str(board + 1), recorded_utc=day(build),
                target_h=26_280.0,
            )  # fmt: skip
    return tmp_path / "fleet"


@pytest.fixture
def page(window: MainWindow, data_set: Path, settle, monkeypatch: pytest.MonkeyPatch) -> RunsPage:
    """The Runs page on that data set, opened by its key."""
    window.show_page("Runs")
    settle()
    found = window.findChild(RunsPage)
    assert isinstance(found, RunsPage)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(data_set))
    action = next(one for one in window.menu_of["File"].actions() if one.text().startswith("Open a data set"))
    action.trigger()
    settle()
    return found


def test_the_record_says_what_is_shown(data_set: Path) -> None:
    river = with_states(read_river(str(data_set)))
    (change,), (cause,) = river.trend.changes, river.causes
    assert (change.at, change.place) == ("build 26", 25)
    assert cause is not None
    assert cause.share == pytest.approx(0.08, abs=0.015)
    assert [board.name for board in river.boards if board.is_odd] == ["4"]
    assert river.usual is not None
    assert river.lot is not None
    assert river.usual.p10_h > river.lot.p10_h
    assert river.dates[25] == day(25)[:10]
    assert np.all((river.band.low <= river.band.median) & (river.band.median <= river.band.high))
    assert sum(one.share for one in river.states) == pytest.approx(1.0)
    assert int(river.trend.outlier.sum()) == 1


def test_before_one_is_open_the_view_says_what_it_is_for(window: MainWindow, settle) -> None:
    window.show_page("Runs")
    found = window.findChild(RunsPage)
    assert isinstance(found, RunsPage)
    found.show_view(RIVER)
    settle()
    assert found.river.open_key.isVisible()
    assert "No data set is open" in found.river.words.text()
    assert not found.river.chart.isVisible()
    assert len(found.switches()) == 1


def test_the_river_names_the_build_and_the_board(page: RunsPage) -> None:
    assert page.view == RIVER
    assert "Build 26 made the average" in page.sentence()
    assert "Board 4 draws" in page.sentence()
    named = [box.name for box in page.river.chart.named_boxes()]
    assert len(named) == 1
    assert "build 26, worse" in named[0]
    assert page.river.boards.named_boxes()[0].name == "Board 4"
    assert {box.name for box in page.river.states.named_boxes()} == {"Deep sleep", "Count"}


def test_it_is_moved_and_zoomed_by_wheel_and_keys(page: RunsPage, qtbot) -> None:
    chart = page.river.chart
    assert (chart.first, chart.last) == (0.0, 40.0)
    middle = chart.plot.center()
    wheel = QWheelEvent(
        middle, chart.mapToGlobal(middle), QPoint(), QPoint(0, 240), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(chart, wheel)
    assert chart.last - chart.first == pytest.approx(40 * 0.64)
    assert chart.first < 20 < chart.last
    assert page.river.states.shown == (chart.first, chart.last)
    first = chart.first
    qtbot.keyClick(chart, Qt.Key.Key_PageDown)
    assert chart.first > first
    for _ in range(30):
        qtbot.keyClick(chart, Qt.Key.Key_Plus)
    assert chart.last - chart.first == pytest.approx(4.0)
    start = chart.strip.center().toPoint()
    qtbot.mousePress(chart, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(chart, start + QPoint(-2000, 0))
    qtbot.mouseRelease(chart, Qt.MouseButton.LeftButton, pos=start)
    assert chart.first == 0.0
    qtbot.keyClick(chart, Qt.Key.Key_F)
    assert (chart.first, chart.last) == (0.0, 40.0)


def test_two_builds_are_compared(page: RunsPage, qtbot) -> None:
    chart = page.river.chart

    def at(place: int) -> QPoint:
        x = chart.plot.left() + (place + 0.5) / 40 * chart.plot.width()
        return QPointF(x, chart.plot.center().y()).toPoint()

    qtbot.mouseClick(chart, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, at(5))
    qtbot.mouseClick(chart, Qt.MouseButton.LeftButton, pos=at(30))
    assert (chart.a, chart.b) == (5, 30)
    assert "A build 6" in chart.compared
    assert chart.compared.endswith("real")
    qtbot.keyClick(chart, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert chart.a == 4
    qtbot.mouseClick(chart, Qt.MouseButton.LeftButton, pos=at(6))
    assert chart.compared.endswith("in noise")


def test_it_is_placed_by_time_and_read_again(page: RunsPage, data_set: Path, settle) -> None:
    page.river.choose_by("time")
    settle()
    assert page.river.river is not None
    assert len(page.river.river.history.keys) == 40  # runs of one day have one time
    write_run(DataSet(str(data_set)), "build 41", "r40", 2.2e-4, board="1", recorded_utc=day(40))
    page.river.read_again()
    settle()
    assert len(page.river.river.history.keys) == 41
    assert page.warning() == ""


def test_what_is_no_data_set_is_told(page: RunsPage, window: MainWindow, tmp_path: Path, settle) -> None:
    told: list[str] = []
    window.controller.troubled.connect(told.append)
    page.river.open_data_set(str(tmp_path / "nothing"))
    settle()
    assert len(told) == 1
    assert "no data set" in told[0]
    assert not page.river.is_reading
