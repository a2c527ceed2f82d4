"""The States page as a user drives it: its views, the ribbon painted by hand, parts, groups, levels, clock."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from ui.driving import LEFT, drag, type_into
from warm_ember.attribution.functions import SLEEP_NAME
from warm_ember.model.rules import HandRule, LevelsRule
from warm_ember.ui.pages.states.page import StatesPage
from warm_ember.ui.shell.window import MainWindow

PAGE = "States"

VIEWS = ("ledger", "levels", "transitions", "sleep check", "functions", "clock")


@pytest.fixture
def page(window: MainWindow, settle) -> StatesPage:
    window.show_page("States")
    settle()
    return window.pages.states


def _show(window: MainWindow, settle, view: str) -> None:
    window.pages.states.show_view(view)
    settle()


def test_every_view_answers_its_question_and_is_copied(window: MainWindow, page: StatesPage, settle) -> None:
    said = set()
    for number, view in enumerate(VIEWS, 1):
        action = next(action for action in page.page_actions() if action.shortcut().toString() == f"Ctrl+{number}")
        action.trigger()
        settle()
        assert page.view == view
        said.add(page.sentence())
        page.page_actions()[0].trigger()
        assert len(QApplication.clipboard().text().splitlines()) >= 2
    assert len(said) == len(VIEWS)
    assert not any("…" in sentence for sentence in said)


def test_functions_close_to_the_capture_and_filter_by_state(window: MainWindow, page: StatesPage, settle) -> None:
    _show(window, settle, "functions")
    view, results = page.functions, window.controller.results
    assert results is not None
    assert view.ledger is not None
    assert sum(row.charge_c for row in view.ledger.rows) == pytest.approx(results.ledger.charge_c, rel=1e-3)
    assert view.table.cell_text(0, 0) == SLEEP_NAME
    page.choose("Transmit")
    settle()
    assert view.ledger.charge_c == pytest.approx(results.ledger.row("Transmit").charge_c, rel=1e-3)
    view.search.setText("MODEM_W")
    assert {view.table.cell_text(k, 0) for k in range(view.table.row_count())} == {"modem_wait_reply", "modem_write"}
    view.table.selectRow(0)
    assert "Transmit" in page.sentence()
    page.choose("")
    settle()
    assert view.ledger.charge_c == pytest.approx(results.ledger.charge_c, rel=1e-3)


def test_a_function_is_chosen_in_the_bars_by_mouse_and_key(window, page: StatesPage, qtbot: QtBot, settle) -> None:
    _show(window, settle, "functions")
    view = page.functions
    icicle = view.icicle
    qtbot.mouseClick(icicle, LEFT, pos=QPoint(icicle.width() // 4, icicle.height() - 4))
    assert icicle.chosen == SLEEP_NAME
    assert view.table.cell_text(view.table.currentIndex().row(), 0) == SLEEP_NAME
    qtbot.keyClick(icicle, Qt.Key.Key_Right)
    assert icicle.chosen == "modem_wait_reply"
    qtbot.keyClick(icicle, Qt.Key.Key_Escape)
    assert icicle.chosen == ""


@pytest.mark.all_runs
def test_the_divider_left_on_is_a_sleep_that_draws_as_awake(window: MainWindow, page: StatesPage, settle) -> None:
    window.controller.select_run("r3")
    settle()
    _show(window, settle, "sleep check")
    assert "of the sleep that the firmware reports, the device draws **732** µA" in page.sentence()
    page.agreement.places.selectRow(0)
    page.agreement.places.row_asked.emit(0)
    place = page.agreement.agreement.places[0]
    assert place.believed_asleep
    assert window.window_on_time.from_s < place.from_s < place.to_s < window.window_on_time.to_s


def test_a_line_can_be_the_marker(window: MainWindow, page: StatesPage, settle) -> None:
    _show(window, settle, "sleep check")
    combo = page.agreement.marker
    combo.setCurrentText("line MODEM_EN low")
    combo.activated.emit(combo.currentIndex())
    settle()
    assert page.agreement.agreement.marker == "line MODEM_EN, asleep when low"
    modem_on_s = sum(row.time_s for row in page.agreement.agreement.rows if not row.believed_asleep)
    assert modem_on_s == pytest.approx(8.90 + 180, abs=0.1)


def test_crossings_say_what_waking_takes(window: MainWindow, page: StatesPage, settle) -> None:
    _show(window, settle, "transitions")
    found = {(c.before, c.after): c for c in page.transitions.found.changes}
    # The core runs for 1.5 ms at 3.1 mA before it waits at 0.95 mA.
    assert found["Deep sleep", "Idle wait"].entering_c.value == pytest.approx(1.5e-3 * (3.1e-3 - 0.95e-3), rel=0.1)
    assert "as it was left" in page.sentence()
    page.transitions.changes.row_asked.emit(0)
    assert window.window_on_time.length_s < 1.0


def test_the_clock_is_found_typed_and_found_again(window: MainWindow, page: StatesPage, qtbot: QtBot, settle) -> None:
    _show(window, settle, "clock")
    view = page.clock
    found = view.alignment
    assert found.method == "sync line SYNC"
    before = window.controller.results.ledger.row("Transmit").mean.value
    type_into(qtbot, view.offset, "5 s")
    settle()
    assert window.controller.project.clock_of("r4").drift == found.drift
    assert window.controller.results.ledger.row("Transmit").mean.value != pytest.approx(before, rel=0.1)
    assert view.find_again.isVisible()
    qtbot.mouseClick(view.find_again, LEFT)
    settle()
    assert window.controller.results.ledger.row("Transmit").mean.value == before


def test_a_block_is_split_joined_and_relabelled(window: MainWindow, page: StatesPage, qtbot: QtBot, settle) -> None:
    ribbon = page.stack.ribbon
    window.window_on_time.show(50.0, 80.0)
    middle = ribbon.block_rect.center().toPoint().y()
    qtbot.mouseClick(ribbon, LEFT, pos=QPoint(round(ribbon.x_of(75.0)), middle))
    settle()
    assert ribbon.chosen.state == "Modem idle"
    window.window_on_time.set_cursor(76.0)
    qtbot.keyClick(page, Qt.Key.Key_K)
    settle()
    assert window.controller.results.ledger.row("Modem idle 2").entries == 1
    qtbot.mouseClick(ribbon, LEFT, pos=QPoint(round(ribbon.x_of(78.0)), middle))
    settle()
    qtbot.keyClick(page, Qt.Key.Key_M)
    settle()
    assert window.controller.results.ledger.row("Modem idle 2") is None
    qtbot.mouseClick(ribbon, LEFT, pos=QPoint(round(ribbon.x_of(65.0)), middle))
    settle()
    qtbot.keyClick(page, Qt.Key.Key_R)
    type_into(qtbot, page.editor.as_edit, "Report")
    settle()
    assert window.controller.results.ledger.row("Report").dwell_s == pytest.approx(8.90, abs=0.01)
    assert window.controller.results.ledger.row("Transmit") is None


def test_what_cannot_be_split_or_joined_is_said(window: MainWindow, page: StatesPage, qtbot: QtBot, settle) -> None:
    notes = []
    window.controller.noted.connect(notes.append)
    for key in (Qt.Key.Key_K, Qt.Key.Key_M, Qt.Key.Key_R):
        qtbot.keyClick(page, key)
    assert notes == ["Choose a block of the ribbon first."] * 3
    ribbon = page.stack.ribbon
    qtbot.mouseClick(ribbon, LEFT, pos=QPoint(round(ribbon.x_of(150.0)), ribbon.height() // 2))
    settle()
    window.window_on_time.set_cursor(10.0)
    qtbot.keyClick(page, Qt.Key.Key_K)
    assert "where it shall be split" in notes[-1]
    assert not window.controller.project.rules


def test_a_block_is_painted_over_its_neighbours(window: MainWindow, page: StatesPage, qtbot: QtBot, settle) -> None:
    ribbon = page.stack.ribbon
    window.window_on_time.show(50.0, 80.0)
    drag(qtbot, ribbon, ribbon.x_of(66.0), ribbon.x_of(75.0))
    settle()
    (rule,) = [rule for rule in window.controller.project.rules if isinstance(rule, HandRule)]
    assert rule.state == "Transmit"
    assert rule.to_s == pytest.approx(75.0, abs=0.1)
    assert window.controller.results.ledger.row("Transmit").dwell_s > 13
    window.controller.undo()
    settle()
    assert window.controller.results.ledger.row("Transmit").dwell_s == pytest.approx(8.90, abs=0.01)


def test_expected_values_are_summed_from_parts(window: MainWindow, page: StatesPage, qtbot: QtBot, settle) -> None:
    page.choose("Deep sleep")
    editor = page.editor
    assert "unexplained" in editor.parts_words.text()
    type_into(qtbot, editor.parts_edit, "rowan deep sleep + THRUSH on")
    settle()
    row = window.controller.results.ledger.row("Deep sleep")
    assert row.expected.current_a == pytest.approx(1.6e-6 + 5.2e-6)
    assert row.verdict.value == "above"
    type_into(qtbot, editor.parts_edit, "Rowan snoring")
    assert "Rowan has the modes run, run with converter, idle, deep sleep, memory off" in editor.words.text()
    assert window.controller.project.expected_of("Deep sleep").parts[1].part == "Thrush"
    type_into(qtbot, editor.expected_edit, "20 uA")
    settle()
    assert window.controller.project.expected_of("Deep sleep").parts == ()
    assert window.controller.results.ledger.row("Deep sleep").verdict.value == "ok"


def test_groups_and_energy_are_read_in_the_ledger(window: MainWindow, page: StatesPage, qtbot: QtBot, settle) -> None:
    words = page.part.switches.words
    qtbot.mouseClick(words["Rows", "groups"], LEFT)
    settle()
    rows = {shown.row.name: shown for shown in page.ledger.rows}
    ledger = window.controller.results.ledger
    both = ledger.row("Transmit").charge_c + ledger.row("Modem idle").charge_c
    assert rows["Radio"].row.charge_c == pytest.approx(both)
    page.choose("Radio")
    assert [row.name for row in page.part.entries.rows] == ["Transmit", "Modem idle"]
    assert not page.editor.isVisible()
    qtbot.mouseClick(page.part.switches.words["Rows", "states"], LEFT)
    qtbot.mouseClick(page.part.switches.words["Share of", "energy"], LEFT)
    settle()
    assert sum(shown.energy_share for shown in page.ledger.rows) == pytest.approx(1.0)
    assert "of the energy" in page.sentence()
    page.choose("Count")
    type_into(qtbot, page.editor.group_edit, "Radio")
    settle()
    assert window.controller.project.group_of["Count"] == "Radio"


def test_an_opened_state_shows_its_entries(window: MainWindow, page: StatesPage, qtbot: QtBot, settle) -> None:
    page.choose("Deep sleep")
    settle()
    panel = page.part.entries
    row = window.controller.results.ledger.row("Deep sleep")
    assert len(panel.rows) == row.entries
    qtbot.mouseClick(panel.switches.words["Split by", "what came before"], LEFT)
    settle()
    names = {one.name for one in panel.rows}
    assert {"Deep sleep: Idle wait", "Deep sleep: Log write", "Deep sleep: Modem idle"} <= names
    assert sum(one.charge_c for one in panel.rows) == pytest.approx(row.charge_c)


def test_levels_are_named_limited_and_kept(window: MainWindow, page: StatesPage, qtbot: QtBot, settle) -> None:
    _show(window, settle, "levels")
    view = page.levels
    view.most.setValue(5)
    view.most.editingFinished.emit()
    settle()
    assert 3 <= view.table.row_count() <= 5  # of five peaks one may be nothing but the way between two others
    assert not window.controller.project.rules  # tried only, until states are placed by it
    qtbot.mouseClick(view.use, LEFT)
    settle()
    (rule,) = window.controller.project.rules
    assert isinstance(rule, LevelsRule)
    assert rule.most == 5
    for level in (0, 1):
        view.table.type_into(level, 7, "Asleep")
        settle()
    assert window.controller.project.rules[0].names == {"level 1": "Asleep", "level 2": "Asleep"}
    assert window.controller.results.ledger.row("Asleep") is not None
    type_into(qtbot, view.absorb, "50 ms")
    qtbot.mouseClick(view.learn, LEFT)
    settle()
    (rule,) = window.controller.project.rules
    assert (rule.absorb_s, len(rule.centres_a)) == (0.05, view.table.row_count())
    window.controller.select_run("r5")
    settle()
    assert view.found.levels.centres_a == pytest.approx(rule.centres_a)


def test_a_capture_without_log_or_trace_says_what_is_missing(empty_window: MainWindow, tmp_path: Path, settle) -> None:
    from warm_ember.session.importing import ImportRequest, import_file
    from warm_ember.session.new_capture import adopt
    from warm_ember.session.session import Session

    table = tmp_path / "flat.csv"
    table.write_text("time_s,current_a\n" + "\n".join(f"{k * 1e-3},{1e-3}" for k in range(200)))
    session = Session.open_or_create(tmp_path / "p")
    adopt(session, import_file(session, ImportRequest(table)))
    session.close()
    assert empty_window.controller.open(tmp_path / "p")
    empty_window.show_page("States")
    settle()
    said = {}
    for view in VIEWS:
        _show(empty_window, settle, view)
        said[view] = empty_window.pages.states.sentence()
    assert "--itm" in said["functions"]
    assert "does not report its sleep" in said["sleep check"]
    assert "no log" in said["clock"]
    assert "one state only" in said["transitions"]


def test_a_file_of_parts_is_taken_in_and_a_bad_one_is_told(window: MainWindow, page, tmp_path: Path, settle) -> None:
    good, bad = tmp_path / "more.json", tmp_path / "bad.json"
    good.write_text('{"parts": [{"name": "Heron", "modes": [{"name": "on", "current_a": 1e-5}]}]}')
    bad.write_text("[]")
    before = len(window.controller.project.parts)
    window.way_in.add_parts_from(good)
    assert window.controller.project.parts[-1].name == "Heron"
    assert len(window.controller.project.parts) == before + 1
    window.way_in.add_parts_from(bad)
    assert "this is no file of parts" in window.messages.words.text()
    window.controller.undo()
    assert len(window.controller.project.parts) == before


def test_a_trace_and_its_program_are_dropped_with_the_capture(tmp_path: Path) -> None:
    from warm_ember.session.import_requests import requests_for

    names = ("a.csv", "b.csv", "a.itm", "b.swo", "post.elf", "a.events.csv", "b.vcd")
    first, second = requests_for([tmp_path / name for name in names], lambda name: name)
    assert (first.trace_file.name, first.elf_file.name, first.events_file.name) == ("a.itm", "post.elf", "a.events.csv")
    assert (second.trace_file.name, second.elf_file.name, second.lines_file.name) == ("b.swo", "post.elf", "b.vcd")


def test_a_contradicting_rule_is_told_and_put_first(window: MainWindow, page: StatesPage, qtbot: QtBot, settle) -> None:
    page.choose("Idle wait")
    for low, high, state in (("500 uA", "1.5 mA", "Waiting"), ("800 uA", "9.6 mA", "Anything")):
        page.editor.as_edit.setText(state)
        page.editor.low_edit.setText(low)
        type_into(qtbot, page.editor.high_edit, high)  # Return places it
        settle()
        page.choose("Deep sleep")
    first, second = (rule.state for rule in window.controller.project.rules[:2])
    assert (first, second) == ("Waiting", "Anything")
    page.choose("Anything")
    buttons = [b.text() for b in page.editor.findChildren(QPushButton) if b.isVisible()]
    assert any("of it placed by another rule" in text for text in buttons)
    button = next(b for b in page.editor.findChildren(QPushButton) if b.text() == "Put it first" and b.isVisible())
    before = window.controller.results.ledger.row("Anything").dwell_s
    qtbot.mouseClick(button, LEFT)
    settle()
    assert window.controller.project.rules[0].state == "Anything"
    assert window.controller.results.ledger.row("Anything").dwell_s > before
