"""The Wakes page as a user drives it: raster, table, depth map, slack, modes, names."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QInputDialog, QPushButton
from pytestqt.qtbot import QtBot

from ui.driving import LEFT, type_into
from warm_ember.model.battery import FromWakes, Typed
from warm_ember.model.wake_plan import WakeOn
from warm_ember.ui.pages.wakes.page import WakesPage
from warm_ember.ui.shell.window import MainWindow
from warm_ember.units import format_trimmed

PAGE = "Wakes"


@pytest.fixture
def page(window: MainWindow, settle) -> WakesPage:
    window.show_page("Wakes")
    settle()
    return window.pages.wakes


def point(x: float, y: float) -> QPoint:
    return QPoint(round(x), round(y))


@pytest.mark.all_runs
def test_link_sentence_and_table_tell_the_same(window: MainWindow, page: WakesPage, settle) -> None:
    ledger = page.ledger
    assert ledger is not None
    assert window.navigation.links["Wakes"].shown.figure == f"**{format_trimmed(ledger.rate_per_h)}** /h"
    assert "go to the wrong sleep mode" in page.sentence()
    added = sum(row.added_a for row in ledger.sources)
    assert added + ledger.rest_a == pytest.approx(ledger.mean_a)
    for view in ("sources", "modes", "over time"):
        page.show_view(view)
        settle()
        page._copy()
        assert len(QApplication.clipboard().text().splitlines()) >= 3
    window.controller.select_run("r1")
    settle()
    assert page.ledger is not None
    assert page.ledger.wakes.count == 0
    assert "Nothing wakes the device" in page.sentence()


def test_every_mark_leads_to_its_moment(qtbot: QtBot, window: MainWindow, page: WakesPage) -> None:
    ledger, on_time = page.ledger, window.window_on_time
    assert ledger is not None
    raster = page.raster
    pir = next(i for i, row in enumerate(ledger.sources) if row.source == "pir")
    first = int(np.flatnonzero(ledger.wakes.by("pir"))[0])
    x = raster.x_of((ledger.wakes.first[first] + ledger.wakes.last[first]) / 2 * ledger.interval_s)
    qtbot.mouseClick(raster, LEFT, pos=point(x, raster.row_rect(pir).center().y()))
    start_s = float(ledger.wakes.first[first]) * ledger.interval_s
    assert on_time.from_s < start_s < on_time.to_s
    assert on_time.length_s < 20
    assert page.chosen == "pir"
    page.step_wake(1)
    assert (on_time.from_s + on_time.to_s) / 2 > start_s + 1
    wrong = int(np.flatnonzero(ledger.depth.lost_c > 0)[-1])
    found = page.depth_map
    index = next(i for i, (row, mine) in enumerate(found._rows()) if wrong in mine)
    mine = found._rows()[index][1]
    xs, ys = found._dots(index, mine)
    at = int(np.flatnonzero(mine == wrong)[0])
    qtbot.mouseClick(found, LEFT, pos=point(xs[at], ys[at]))
    shown = ledger.depth.stretches
    middle_s = (on_time.from_s + on_time.to_s) / 2
    nearest = int(np.argmin(np.abs(shown.first * ledger.interval_s + shown.lasts_s / 2 - middle_s)))
    assert shown.mode[nearest] == shown.mode[wrong]
    qtbot.keyClick(found, Qt.Key.Key_Right)
    before = on_time.from_s
    qtbot.keyClick(found, Qt.Key.Key_Left)
    assert on_time.from_s != before
    table = page.sources
    row = next(i for i, one in enumerate(table.rows) if one.source == "rtc")
    gaps = np.diff(ledger.wakes.first[ledger.wakes.by("rtc")]) * ledger.interval_s
    box, (low, high) = table.histogram_box(row), table._reach()
    x = box.left() + (np.log10(gaps.max()) - low) / (high - low) * box.width()
    qtbot.mouseClick(table, LEFT, pos=point(x, box.center().y()))
    assert on_time.length_s > gaps.max()


def test_sources_are_sorted_chosen_renamed_and_joined_by_key(
    qtbot: QtBot, window: MainWindow, page: WakesPage, settle
) -> None:
    table = page.sources
    heads = table._head_boxes()
    qtbot.mouseClick(table, LEFT, pos=heads[1].center().toPoint())
    assert [row.source for row in table.rows] == ["rtc", "pir", "alarm"]
    qtbot.keyClick(table, Qt.Key.Key_Down)
    assert page.chosen == "rtc"
    qtbot.keyClick(table, Qt.Key.Key_F2)
    type_into(qtbot, table.edit, "clock")
    settle()
    assert page.ledger is not None
    assert {row.source for row in page.ledger.sources} == {"alarm", "pir", "clock"}
    assert page.ledger.slack_s == {"clock": 0.2}
    page.choose("alarm")
    table.rename()
    type_into(qtbot, table.edit, "clock")
    settle()
    assert {row.source: row.count for row in page.ledger.sources} == {"clock": 98, "pir": 6}
    window.controller.undo()
    window.controller.undo()
    settle()
    assert {row.source for row in page.ledger.sources} == {"alarm", "pir", "rtc"}


def test_a_source_is_split_by_what_ran(window: MainWindow, page: WakesPage, settle, monkeypatch) -> None:
    page.choose("alarm")
    page.sources.renamed.emit("alarm", "rtc")
    settle()
    page.choose("rtc")
    offered: list[str] = []

    def pick(_parent, _title, _words, states, *_rest):
        offered.extend(states)
        return "Transmit", True

    monkeypatch.setattr(QInputDialog, "getItem", pick)
    page.source_editing.ask_split_by_state()
    settle()
    assert {"Transmit", "Idle wait"} <= set(offered)
    assert page.ledger is not None
    assert {row.source: row.count for row in page.ledger.sources} == {"rtc, Transmit": 1, "rtc": 97, "pir": 6}
    page.choose("pir")
    page.source_editing.ask_split_by_period()
    assert len(page.ledger.sources) == 3
    page.source_editing.name_as_logged()
    settle()
    assert {row.source for row in page.ledger.sources} == {"alarm", "pir", "rtc"}


def test_slack_is_dragged_and_moved_by_keys_and_says_what_it_saves(
    qtbot: QtBot, window: MainWindow, page: WakesPage, settle
) -> None:
    strip = page.slack
    assert strip.sources == ["rtc"]
    track = strip.track(0)
    qtbot.mousePress(strip, LEFT, pos=point(track.left() + 0.5 * track.width(), track.center().y()))
    qtbot.mouseMove(strip, point(track.right() - 2, track.center().y()))
    assert strip.moved is not None
    qtbot.mouseRelease(strip, LEFT, pos=point(track.right() - 2, track.center().y()))
    settle()
    assert page.ledger is not None
    assert page.ledger.slack_s["rtc"] == pytest.approx(4.0, rel=0.05)
    assert page.ledger.aligned.rate_per_h < 0.5 * page.ledger.rate_per_h
    saved = strip.savings["rtc"]
    at = int(np.searchsorted(saved.slack_s, page.ledger.slack_s["rtc"], side="right")) - 1
    assert saved.saved_a[at] == pytest.approx(page.ledger.aligned.saved_a, rel=0.15)
    assert "saves" in page.sentence()
    before = page.ledger.slack_s["rtc"]
    qtbot.keyClick(strip, Qt.Key.Key_Left)
    settle()
    assert page.ledger.slack_s["rtc"] < before


def test_modes_are_typed_and_forgotten_and_a_missed_deadline_is_told(
    qtbot: QtBot, window: MainWindow, page: WakesPage, settle
) -> None:
    page.show_view("modes")
    modes = page.modes
    lost_a = page.ledger.depth.lost_a
    type_into(qtbot, modes.fields["modem off", "transition_charge_c"], "5 C")
    settle()
    assert page.ledger.depth.lost_a < 0.1 * lost_a
    assert page.ledger.depth.break_evens("Modem idle")[0].from_s == pytest.approx(5 / 9.39e-3, rel=0.01)
    type_into(qtbot, modes.fields["pir", "deadline_s"], "100 us")
    settle()
    assert "cannot be served" in page.warning()
    deadline = modes.fields["pir", "deadline_s"]
    deadline.selectAll()
    qtbot.keyClick(deadline, Qt.Key.Key_Delete)
    qtbot.keyClick(deadline, Qt.Key.Key_Return)
    settle()
    assert page.warning() == ""
    type_into(qtbot, modes.fields["deep", "latency_s"], "nonsense")
    assert "expected" in window.messages.words.text()
    memory = modes.fields["modem off", "keeps_memory"]
    assert isinstance(memory, QCheckBox)
    memory.click()
    settle()
    assert next(mode for mode in window.controller.project.sleep_modes if mode.name == "modem off").keeps_memory
    modes.add.click()
    settle()
    assert "mode 1" in {mode.name for mode in page.ledger.depth.modes}
    forget = [
        one for one in modes.findChildren(QPushButton) if one.accessibleName() == "Forget what was entered for mode 1"
    ]
    forget[-1].click()
    settle()
    assert "mode 1" not in {mode.name for mode in page.ledger.depth.modes}


def test_a_source_is_taken_as_an_activity(window: MainWindow, page: WakesPage, settle) -> None:
    page.choose("pir")
    page._take_as_activity()
    settle()
    made = window.controller.project.activities[-1]
    assert isinstance(made.source, FromWakes)
    assert (made.name, made.source.wake_source) == ("pir", "pir")
    assert window.page is window.pages.battery


def test_without_a_run_the_page_says_what_is_missing(empty_window: MainWindow, settle) -> None:
    empty_window.show_page("Wakes")
    settle()
    assert "first capture" in empty_window.pages.wakes.sentence()
    empty_window.grab()


def test_a_click_in_a_step_of_time_shows_it(qtbot: QtBot, window: MainWindow, page: WakesPage, settle) -> None:
    page.show_view("over time")
    settle()
    box = page.over_time.row_box(0)
    qtbot.mouseClick(page.over_time, LEFT, pos=QPointF(box.left() + 0.5 * box.width(), box.center().y()).toPoint())
    on_time = window.window_on_time
    assert on_time.from_s < 152.5 < on_time.to_s
    assert on_time.length_s < 60


def test_the_plan_is_typed_and_a_broken_link_is_told(qtbot: QtBot, window: MainWindow, page: WakesPage, settle) -> None:
    page.show_view("plan")
    plan = page.plan
    assert "holds" in page.sentence()
    assert plan.verdicts["pir", "deep"].text().replace("\u2009", " ") == "within 20.9 ms"
    type_into(qtbot, plan.fields["deep", "domains"], "backup")
    settle()
    assert plan.verdicts["pir", "deep"].text() == "inputs is off"
    assert "pir cannot wake the device" in page.sentence()
    type_into(qtbot, plan.fields["deep", "domains"], "backup, inputs")
    settle()
    box = plan.fields["pir", "trigger"]
    assert isinstance(box, QComboBox)
    box.setCurrentIndex(box.findData(WakeOn.LOW.value))
    box.activated.emit(box.currentIndex())
    settle()
    assert "wakes at once" in plan.verdicts["pir", "deep"].text()
    type_into(qtbot, plan.fields["", "window_s"], "0 s")
    settle()
    assert "No way is left to reprogram" in plan.conflicts.text()
    for _ in range(4):
        window.controller.undo()
    settle()
    assert "nothing conflicts" in plan.words.text()


def test_a_batch_is_an_edit_of_the_battery_s_model(window: MainWindow, page: WakesPage, settle, monkeypatch) -> None:
    page.choose("rtc")
    page.source_editing.ask_batch()
    assert "first" in window.messages.words.text()
    page._take_as_activity()
    settle()
    monkeypatch.setattr(QInputDialog, "getInt", lambda *_: (8, True))
    page.source_editing.ask_batch()
    settle()
    made = window.controller.project.activities[-1]
    assert made.name == "rtc, 8 at once"
    assert isinstance(made.source, Typed)
    row = page.ledger.row("rtc")
    assert made.source.charge_c == pytest.approx(5.2e-6 + 8 * (row.charge_c_mean - 5.2e-6))
    window.controller.undo()
    settle()
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("2 uC", True))
    page.source_editing.ask_without_core()
    settle()
    assert window.controller.project.activities[-1].source == Typed(2e-6, row.awake_s_mean)
