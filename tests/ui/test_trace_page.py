"""The Trace page as a user drives it: lanes, brackets, fold, doubts, exports."""

import xml.etree.ElementTree
from pathlib import Path

import numpy as np
import pyarrow.parquet
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QGuiApplication, QImage
from PySide6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot

from tuning.made_currents import bursts
from ui.driving import LEFT, drag, type_into
from warm_ember.formats.source import ImportOptions
from warm_ember.model.battery import FromStretch
from warm_ember.model.finding import FindingKind
from warm_ember.model.fold import AlignBy, FoldPlan
from warm_ember.model.rules import HandRule
from warm_ember.session import edits
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.new_capture import adopt
from warm_ember.session.session import Session
from warm_ember.ui.lanes.flags import reading_lines
from warm_ember.ui.look.rich_text import plain
from warm_ember.ui.pages.base import Page
from warm_ember.ui.shell.window import MainWindow
from warm_ember.units import quantity_text


def test_a_bracket_is_drawn_named_moved_and_removed(window: MainWindow, qtbot: QtBot, settle) -> None:
    lane, page = window.pages.trace.stack.current, window.pages.trace
    window.window_on_time.show(100.0, 110.0)
    drag(qtbot, lane, lane.x_of(102.0), lane.x_of(104.0))
    settle()
    bracket = page.book.chosen_bracket
    assert bracket is not None
    assert (bracket.letter, bracket.from_s, bracket.to_s) == (
        "C",
        pytest.approx(102, abs=0.05),
        pytest.approx(104, abs=0.05),
    )
    type_into(qtbot, page.lanes.panel.name_edit, "idle stretch")
    settle()
    assert page.book.chosen_bracket.name == "idle stretch"
    drag(qtbot, lane, lane.x_of(bracket.to_s), lane.x_of(107.0))
    settle()
    assert page.book.chosen_bracket.to_s == pytest.approx(107, abs=0.05)
    lane.setFocus()
    qtbot.keyClick(lane, Qt.Key.Key_Delete)
    settle()
    assert len(page.book.brackets) == 2
    window.undo_action.trigger()
    settle()
    assert len(page.book.brackets) == 3
    window.redo_action.trigger()
    settle()
    assert len(page.book.brackets) == 2


def test_an_edge_snaps_to_a_state_edge_unless_alt(window: MainWindow, qtbot: QtBot) -> None:
    lane = window.pages.trace.stack.current
    results = window.controller.results
    assert results is not None
    edge = float(results.placement.edges[results.placement.of("Transmit").argmax()] * 1e-4)
    window.window_on_time.show(edge - 1, edge + 1)
    near = edge + 3 / lane.plot_rect.width() * 2.0
    assert lane.snapped(near) == edge
    lane.snaps = False
    assert lane.snapped(near) == near


def test_a_bracket_becomes_a_state_an_activity_and_an_expected_value(window: MainWindow, qtbot: QtBot, settle) -> None:
    page = window.pages.trace
    page.book.choose("B")
    bracket = page.book.chosen_bracket
    qtbot.mouseClick(page.lanes.panel.buttons["Take as activity"], LEFT)
    settle()
    activity = window.controller.project.activities[-1]
    assert activity.source == FromStretch("r4", bracket.from_s, bracket.to_s)
    qtbot.mouseClick(page.lanes.panel.buttons["Expected value from it"], LEFT)
    settle()
    expected = window.controller.project.expected_of("Transmit")
    assert expected.current_a == pytest.approx(page.book.reading(bracket).mean_a)
    qtbot.mouseClick(page.lanes.panel.buttons["Name a state by it"], LEFT)
    qtbot.keyClicks(page.lanes.panel.name_edit, "Uplink")
    qtbot.keyClick(page.lanes.panel.name_edit, Qt.Key.Key_Return)
    settle()
    assert HandRule("Uplink", "r4", bracket.from_s, bracket.to_s) in window.controller.project.rules
    assert window.controller.results.ledger.row("Uplink").entries == 1
    assert page.book.chosen_bracket.name == bracket.name


def test_a_bracket_is_duplicated_to_the_next_cycle(window: MainWindow, qtbot: QtBot, settle) -> None:
    window.pages.trace.book.choose("A")
    first = window.pages.trace.book.chosen_bracket
    qtbot.mouseClick(window.pages.trace.lanes.panel.buttons["Duplicate to next cycle"], LEFT)
    settle()
    if len(window.pages.trace.book.brackets) == 2:  # it was the capture's last count
        assert "no next cycle" in window.messages.words.text()
        return
    copy = window.pages.trace.book.chosen_bracket
    assert copy.to_s - copy.from_s == pytest.approx(first.to_s - first.from_s)
    assert window.pages.trace.book.main_state(copy) == "Count"


def test_keys_move_the_window_on_time(window: MainWindow, qtbot: QtBot) -> None:
    lane, shown = window.pages.trace.stack.current, window.window_on_time
    lane.setFocus()
    qtbot.keyClick(lane, Qt.Key.Key_Up)
    zoomed = (shown.from_s, shown.to_s)
    assert shown.length_s == pytest.approx(0.7 * 300)
    qtbot.keyClick(lane, Qt.Key.Key_Right)
    assert shown.from_s > zoomed[0]
    shown.show(10.0, 12.0)
    next(a for a in window.pages.trace.view_actions if a.text() == "Next state edge").trigger()
    edges = window.controller.results.placement.edges * 1e-4
    assert np.abs(edges - (shown.from_s + shown.to_s) / 2).min() < 1e-3
    qtbot.keyClick(lane, Qt.Key.Key_Backspace)
    qtbot.keyClick(lane, Qt.Key.Key_F)
    assert (shown.from_s, shown.to_s) == (0.0, 300.0)


def test_shift_drag_zooms_and_the_wheel_keeps_the_moment(window: MainWindow, qtbot: QtBot) -> None:
    lane, shown = window.pages.trace.stack.current, window.window_on_time
    drag(qtbot, lane, lane.x_of(60.0), lane.x_of(75.0), Qt.KeyboardModifier.ShiftModifier)
    assert (shown.from_s, shown.to_s) == (pytest.approx(60, abs=1.5), pytest.approx(75, abs=1.5))
    assert len(window.pages.trace.book.brackets) == 2
    x = lane.x_of(70.0)
    shown.zoom(0.5, 70.0)
    assert lane.x_of(70.0) == pytest.approx(x, abs=1)


def test_the_overview_frame_moves_the_window(window: MainWindow, qtbot: QtBot) -> None:
    overview, shown = window.pages.trace.stack.whole, window.window_on_time
    shown.show(50.0, 100.0)
    drag(qtbot, overview, overview.x_of(75.0), overview.x_of(175.0))
    assert (shown.from_s + shown.to_s) / 2 == pytest.approx(175, abs=1)
    shown.show(100.0, 100.001)
    left, right = overview.frame()
    assert right - left >= overview.look.px(12) - 1


def test_lanes_fold_and_only_lanes_with_data_are_offered(window: MainWindow, qtbot: QtBot) -> None:
    stack = window.pages.trace.stack
    assert "Voltage" in stack.foldable_names()
    assert not stack.voltage.isVisible()
    stack.set_folded("Voltage", False)
    assert stack.voltage.isVisible()
    qtbot.mouseClick(stack.lines, LEFT, pos=QPoint(4, 10))
    assert not stack.lines.isVisible()
    assert "Lines" in stack.axis.hidden_lanes


def test_the_value_under_the_cursor_is_the_current_there(window: MainWindow, qtbot: QtBot) -> None:
    lane = window.pages.trace.stack.current
    window.window_on_time.show(61.0, 62.0)
    window.grab()
    qtbot.mouseMove(lane, QPoint(round(lane.x_of(61.5)), 50))
    shown = lane.value_at(window.window_on_time.cursor_s)
    reading = window.controller.results.capture.reading(61.499, 61.501)
    assert shown == pytest.approx(reading.mean_a, rel=0.1)


def test_the_windows_looked_at_are_a_history(window: MainWindow) -> None:
    shown = window.window_on_time
    shown.show(10.0, 20.0)
    shown.show(100.0, 110.0)
    shown.back()
    assert (shown.from_s, shown.to_s) == (10.0, 20.0)
    shown.forward()
    assert (shown.from_s, shown.to_s) == (100.0, 110.0)
    shown.back()
    shown.show(50.0, 60.0)
    shown.forward()
    assert (shown.from_s, shown.to_s) == (50.0, 60.0)


def test_times_are_shown_by_the_clock_when_the_start_is_known(window: MainWindow, qtbot: QtBot) -> None:
    shown = window.window_on_time
    assert shown.label(61.5, 300.0) == "1:02"
    qtbot.mouseClick(window.header.switches.words["Time", "clock"], LEFT)
    assert shown.label(61.5, 300.0) == "06:00:02"
    assert shown.label(61.5, 3e6) == "14 Jun 06:00"
    window.grab()


def test_the_keyboard_moves_the_cursor_and_the_edges(window: MainWindow, qtbot: QtBot, settle) -> None:
    lane, book = window.pages.trace.stack.current, window.pages.trace.book
    window.window_on_time.show(100.0, 110.0)
    lane.setFocus()
    for _ in range(3):
        qtbot.keyClick(lane, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert window.window_on_time.cursor_s == pytest.approx(105.0, abs=0.1)
    qtbot.keyClick(lane, Qt.Key.Key_Return)
    settle()
    before = book.chosen_bracket
    actions = {action.text(): action for action in window.pages.trace.bracket_actions}
    actions["Right edge later"].trigger()
    settle()
    assert book.chosen_bracket.to_s > before.to_s
    actions["Left edge earlier"].trigger()
    settle()
    assert book.chosen_bracket.from_s < before.from_s
    actions["Next bracket"].trigger()
    assert book.chosen == "A"
    qtbot.keyClick(lane, Qt.Key.Key_End)
    assert window.window_on_time.to_s == 300.0


def test_a_bracket_is_extended_to_whole_cycles(window: MainWindow, qtbot: QtBot, settle) -> None:
    page = window.pages.trace
    page.book.add(20.2, 22.7)
    settle()
    qtbot.mouseClick(page.lanes.panel.buttons["Extend to whole cycles"], LEFT)
    settle()
    bracket = page.book.chosen_bracket
    assert bracket.to_s - bracket.from_s == pytest.approx(4.0, abs=0.01)
    assert "4 whole cycles of 1.00 s" in window.messages.words.text()
    window.undo_action.trigger()
    settle()
    assert page.book.chosen_bracket.to_s == 22.7


def test_looking_inside_a_bracket(window: MainWindow, qtbot: QtBot, settle) -> None:
    page = window.pages.trace
    page.book.add(0.0, 300.0)
    settle()
    qtbot.mouseClick(page.lanes.panel.buttons["Look inside"], LEFT)
    settle()
    inside = page.lanes.inside.inside
    assert inside.bands.charge_c.sum() + inside.bands.below_c == pytest.approx(window.controller.results.whole.charge_c)
    found = inside.peaks
    assert found == inside.intervals.counts.sum() + 1
    type_into(qtbot, page.lanes.inside.threshold_edit, "2 mA")
    settle()
    assert page.lanes.inside.inside.threshold_a == 2e-3
    assert page.stack.current.threshold.current_a == 2e-3
    assert page.lanes.inside.inside.peaks > found
    next(a for a in page.bracket_actions if a.text().startswith("Copy")).trigger()
    assert QGuiApplication.clipboard().text().startswith("from_a")
    window.grab()
    qtbot.mouseClick(page.lanes.panel.buttons["Look inside"], LEFT)
    assert page.stack.current.threshold is None


def test_the_fold_shows_steps_and_odd_cycles(window: MainWindow, qtbot: QtBot, settle) -> None:
    page, fold = window.pages.trace, window.pages.trace.fold
    qtbot.mouseClick(window.header.switches.words["View", "fold"], LEFT)
    settle()
    assert "cycles on entries of Count" in plain(window.header.sentence)
    window.controller.apply(edits.set_fold(FoldPlan("r4", AlignBy.LINE, "RTC_IRQ", length_s=0.2)), "fold")
    settle()
    assert fold.folded.fold.cycles > 250
    assert fold.odd.row_count() > 0
    cycles, odd = fold.folded.fold.cycles, fold.odd.row_count()
    qtbot.mouseClick(window.header.switches.words["Odd ones", "left out"], LEFT)
    settle()
    assert fold.folded.fold.cycles <= cycles - odd
    assert "left out" in window.header.sentence
    fold.align.setCurrentIndex(fold.align.findText("entries of Transmit"))
    fold.align.activated.emit(fold.align.currentIndex())
    settle()
    assert window.controller.project.fold_of("r4").what == "Transmit"
    shares = [float(fold.steps.cell_text(row, 4).split()[0]) for row in range(fold.steps.row_count())]
    assert sum(shares) == pytest.approx(100, abs=1)
    window.grab()
    fold.align.setCurrentIndex(fold.align.findText("wakes by rtc"))
    fold.align.activated.emit(fold.align.currentIndex())
    settle()
    fold.odd.selectRow(0)
    qtbot.keyClick(fold.odd, Qt.Key.Key_Return)
    assert page.view == "lanes"
    odd = fold.folded.odd[0]
    shown = window.window_on_time
    assert any(shown.from_s <= one.time_s <= shown.to_s for one in fold.folded.odd)
    assert abs(odd.difference_c) >= abs(fold.folded.odd[-1].difference_c)


def test_steps_are_cut_and_named_by_hand(window: MainWindow, qtbot: QtBot, settle) -> None:
    fold, plot = window.pages.trace.fold, window.pages.trace.fold.plot
    window.pages.trace.show_view("fold")
    settle()
    type_into(qtbot, fold.length, "3 s")
    settle()
    assert window.controller.project.fold_of("r4").length_s == 3.0
    count = len(plot.steps)
    qtbot.mouseDClick(plot, LEFT, pos=QPoint(round(plot.x_of(1.2)), 60))
    settle()
    assert len(plot.steps) == count + 1
    index = min(range(len(plot.edges)), key=lambda k: abs(plot.edges[k] - 1.2))
    drag_to = QPoint(round(plot.x_of(1.5)), 60)
    qtbot.mousePress(plot, LEFT, pos=QPoint(round(plot.x_of(plot.edges[index])), 60))
    qtbot.mouseMove(plot, drag_to)
    qtbot.mouseRelease(plot, LEFT, pos=drag_to)
    settle()
    assert plot.edges[index] == pytest.approx(1.5, abs=0.01)
    plot.setFocus()
    qtbot.keyClick(plot, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert plot.edges[index] > 1.5
    qtbot.keyClick(plot, Qt.Key.Key_Delete)
    settle()
    assert len(plot.steps) == count
    qtbot.keyClick(plot, Qt.Key.Key_Insert)
    qtbot.keyClick(plot, Qt.Key.Key_Left)
    settle()
    fold.steps.type_into(0, 0, "start-up")
    settle()
    assert window.controller.project.fold_of("r4").names[0] == "start-up"
    assert plot.names[0] == "start-up"
    qtbot.mouseClick(fold.find_steps, LEFT)
    settle()
    assert window.controller.project.fold_of("r4").edges_s is None
    charges = sum(step.charge_c for step in plot.steps)
    assert charges == pytest.approx(fold.folded.fold.charge_c)


def test_what_cannot_be_folded_is_said(window: MainWindow, settle) -> None:
    window.pages.trace.show_view("fold")
    settle()
    window.controller.apply(edits.set_fold(FoldPlan("r4", AlignBy.STATE, "Count", length_s=5000.0)), "fold")
    settle()
    assert "no cycle lies within" in window.header.sentence.lower()
    window.grab()


def test_doubts_stand_on_the_trace_on_the_spine_and_in_their_view(
    empty_window: MainWindow, tmp_path: Path, qtbot: QtBot, settle, random
) -> None:
    window = empty_window
    faulty_project(tmp_path, random)
    window.controller.open(tmp_path / "p")
    settle()
    assert window.controller.findings[0].kind is FindingKind.CLIPPED
    assert window.pages.trace.stack.faults.isVisible()
    assert "clipped" in window.navigation.links["Trace"].shown.doubt
    assert "see data quality" in window.header.warning
    next(a for a in window.pages.trace.view_actions if a.text() == "Next fault").trigger()
    shown, first = window.window_on_time, window.controller.findings[0]
    assert shown.length_s < 1.0
    assert "range was exceeded" in window.messages.words.text()
    shown.fit()
    window.grab()
    lane = window.pages.trace.stack.faults
    box = lane._boxes[0][0]
    qtbot.mouseClick(lane, LEFT, pos=box.center().toPoint())
    assert shown.from_s <= first.from_s <= shown.to_s
    qtbot.mouseClick(window.header.switches.words["View", "data quality"], LEFT)
    settle()
    (row,) = window.pages.trace.quality.rows
    qtbot.mouseClick(row.evidence, LEFT)
    assert window.pages.trace.view == "lanes"
    window.pages.trace.show_view("data quality")
    settle()
    (row,) = window.pages.trace.quality.rows
    qtbot.keyClick(row.evidence, Qt.Key.Key_Return)
    qtbot.keyClick(row.evidence, Qt.Key.Key_Return)
    assert shown.from_s <= window.controller.findings[1].from_s <= shown.to_s


def test_a_reading_of_clipped_samples_says_at_least(empty_window: MainWindow, tmp_path: Path, settle, random) -> None:
    window, book = empty_window, empty_window.pages.trace.book
    faulty_project(tmp_path, random)
    window.controller.open(tmp_path / "p")
    settle()
    book.add(0.5, 2.0)
    settle()
    assert book.doubts_of(book.chosen_bracket) == ()
    assert "at least" not in window.header.sentence
    book.add(0.3, 2.0)
    settle()
    assert book.doubts_of(book.chosen_bracket) == ("clipped",)
    assert "takes at least" in window.header.sentence
    lines = reading_lines(book.reading(book.chosen_bracket), book.mean(book.chosen_bracket))
    assert lines[0].count("≥") == 2
    assert "peak ≥ **100** mA" in lines[1]
    window.grab()


def test_a_corrected_copy_and_a_joined_capture(
    empty_window: MainWindow, tmp_path: Path, qtbot: QtBot, settle, random
) -> None:
    window, panel = empty_window, empty_window.pages.trace.quality.corrections
    faulty_project(tmp_path, random)
    window.controller.open(tmp_path / "p")
    settle()
    window.pages.trace.show_view("data quality")
    settle()
    mean_a = window.controller.results.whole.mean_a
    assert not panel.correct_button.isEnabled()
    type_into(qtbot, panel.edits["debugger"], "310 uA")
    type_into(qtbot, panel.edits["burden"], "20")
    assert "voltage at the target, peak: 3.00 V, after corrections 1.00 V" in panel.outcome.words()
    panel.reasons["burden"].clear()
    panel.show_effect()
    assert "Say why" in panel.trouble.text()
    assert not panel.correct_button.isEnabled()
    type_into(qtbot, panel.reasons["burden"], "long leads")
    assert f"after corrections {quantity_text(mean_a - 310e-6, 'A')}" in panel.outcome.words()
    assert "More is taken out than was measured" in panel.trouble.text()
    qtbot.keyClick(panel, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert window.controller.session.current == "fine corrected"
    assert window.controller.results.whole.mean_a == pytest.approx(mean_a - 310e-6, rel=1e-3)
    assert "long leads" in panel.done.text()
    window.controller.select_run("fine")
    settle()
    (coarse, _) = window.pages.trace.quality.partners().actions()
    coarse.trigger()
    settle()
    assert window.controller.session.current == "fine and coarse"
    assert window.controller.results.whole.max_a > 0.12
    assert window.pages.trace.stack.aux[0].name == "at least"
    window.pages.trace.show_view("lanes")
    window.grab()


def faulty_project(folder: Path, random) -> None:
    """Make a project with a capture that is clipped at 100 mA, and one of the same work that is not."""
    made = bursts(random)
    coarse = made * (1 + 0.01 * random.standard_normal(len(made))) + 80e-6 * random.standard_normal(len(made))
    with Session.open_or_create(folder / "p") as session:
        for name, values in (("coarse", coarse), ("fine", np.minimum(made, 0.1))):
            values.astype("<f4").tofile(folder / f"{name}.f32")
            request = ImportRequest(folder / f"{name}.f32", ImportOptions(rate_hz=10e3), name, supply_v=3.0)
            adopt(session, import_file(session, request))


@pytest.mark.parametrize("what", ["capture", "brackets", "ledger", "fold", "cycles", "findings"])
def test_tables_are_exported_from_the_menu(window: MainWindow, tmp_path: Path, monkeypatch, settle, what: str) -> None:
    path = tmp_path / f"{what}.parquet"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    window.exports.ask(what)
    settle()
    table, results = pyarrow.parquet.read_table(path), window.controller.results
    rows = {
        "capture": results.capture.current.samples,
        "brackets": len(window.pages.trace.book.brackets),
        "ledger": len(results.ledger.all_rows),
        "findings": len(window.controller.session.results.findings(window.controller.project, results.run.name)),
    }
    assert table.num_rows == rows.get(what, table.num_rows) > 0
    assert all(column.null_count < table.num_rows for column in table.columns)
    assert "is written" in window.messages.words.text()


@pytest.mark.parametrize(("view", "ending"), [("lanes", ".svg"), ("fold", ".png"), ("fold", ".svg")])
def test_the_view_is_exported_as_a_picture(window: MainWindow, tmp_path: Path, settle, view: str, ending: str) -> None:
    window.pages.trace.show_view(view)
    settle()
    path = tmp_path / f"view{ending}"
    window.exports.write("picture", path)
    _check_picture(path, window.page)
    for page in ("Battery", "Runs"):
        window.show_page(page)
        window.exports.write("picture", tmp_path / f"{page}{ending}")
        _check_picture(tmp_path / f"{page}{ending}", window.page)
    window.exports.write("picture", tmp_path / "view.txt")
    assert "expected a file ending" in window.messages.words.text()


def _check_picture(path: Path, page: Page) -> None:
    """Hold a picture against the page that it is of: its size, and what is drawn and written in it."""
    if path.suffix == ".png":
        image = QImage(str(path))
        scale, width, height = 2, image.width(), image.height()
        assert len({image.pixel(x, y) for x in range(0, width, 7) for y in range(0, height, 7)}) > 20
    else:
        root = xml.etree.ElementTree.parse(path).getroot()
        scale, (width, height) = 1, (int(size) for size in root.attrib["viewBox"].split()[2:])
        drawn = [one.tag.rpartition("}")[2] for one in root.iter()]
        assert drawn.count("text") > 4
        assert sum(drawn.count(shape) for shape in ("path", "polyline", "rect", "image")) > 8
    assert page.width() / 2 < width / scale <= page.width()
    assert page.height() / 4 < height / scale <= page.height()
