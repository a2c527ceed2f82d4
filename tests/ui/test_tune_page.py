"""The Tune page as a user drives it, by mouse and by keyboard; the Runs page's comparison beside it."""

from __future__ import annotations

import msgspec
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QComboBox, QInputDialog
from pytestqt.qtbot import QtBot

from ui.driving import LEFT, type_into
from ui.golden import looks_as_it_did
from warm_ember.model.plan import CurrentBy, LengthTo, PartTo, Plan, PlannedChange
from warm_ember.session import edits
from warm_ember.session.plan_edits import add_change
from warm_ember.session.tuning_results import changes_ahead
from warm_ember.tuning.claims import Outcome
from warm_ember.ui.pages.tune.page import TunePage
from warm_ember.ui.shell.window import MainWindow
from warm_ember.units import quantity_text

PAGE = "Tune"

Key = Qt.Key


@pytest.fixture
def page(window: MainWindow, settle) -> TunePage:
    window.show_page("Tune")
    settle()
    assert window.pages.tune.found is not None
    return window.pages.tune


def middle(box) -> QPoint:
    return box.center().toPoint()


def trigger(menu, words: str) -> None:
    """Choose an entry of a menu by its beginning."""
    next(action for action in menu.actions() if action.text().startswith(words)).trigger()
    menu.close()


@pytest.mark.all_runs
def test_link_sentence_and_staircase_tell_the_same(window: MainWindow, page: TunePage, settle) -> None:
    found = page.found
    assert "**4** changes" in page.sentence()
    assert window.navigation.links["Tune"].shown.figure.startswith("**42")
    kinds = [bar.kind for bar in page.waterfall.bars]
    assert kinds == ["whole", "predicted", "measured", "whole", *["predicted"] * 4, "plan"]
    assert page.waterfall.bars[-1].to_a == pytest.approx(found.predicted.mean_a)
    next(one for one in page.page_actions() if one.text() == "Copy the plan as text").trigger()
    assert len(QApplication.clipboard().text().splitlines()) == 5
    window.controller.select_run("r5")
    settle()
    assert "no change is planned" in page.sentence()
    assert len(page.found.proofs) == 4


def test_a_cell_is_planned_by_keys_and_said_by_mouse(qtbot: QtBot, window: MainWindow, page: TunePage, settle) -> None:
    matrix = page.matrix
    names = [row.name for row in matrix.matrix.rows]
    matrix.setFocus()
    qtbot.mouseClick(matrix, LEFT, pos=middle(matrix.cell_box("Plover", "Deep sleep")))
    assert matrix.cursor_at == (names.index("Plover"), 0)
    for child in matrix.findChildren(type(matrix.cell_menu())):
        child.close()
    for _ in range(names.index("Plover") - names.index("Sedge")):
        qtbot.keyClick(matrix, Key.Key_Up)
    count = len(page.ahead)
    trigger(matrix.cell_menu(), "Plan: unpowered")
    settle()
    assert page.ahead[-1].effects == (PartTo("Sedge", "unpowered", "Deep sleep"),)
    assert len(page.ahead) == count + 1
    trigger(matrix.cell_menu(), "As: write")
    settle()
    assert page.found.matrix.cell("Sedge", "Deep sleep").mode == "write"
    assert any("Sedge" in broken.rows for broken in page.found.matrix.broken)
    assert "broken" in page.warning()
    assert page.broken.isVisible()
    window.controller.undo()
    window.controller.undo()
    settle()
    assert len(page.ahead) == count
    assert page.warning() == ""


def test_a_domain_that_is_off_marks_the_source_that_needs_it(window: MainWindow, page: TunePage, settle) -> None:
    names = [row.name for row in page.matrix.matrix.rows]
    page.matrix.cursor_at = (names.index("inputs"), 0)
    trigger(page.matrix.cell_menu(), "inputs is off")
    settle()
    assert [broken.rows for broken in page.found.matrix.broken] == [("pir", "inputs")]
    page.matrix.cursor_at = (names.index("inputs"), 2)
    trigger(page.matrix.cell_menu(), "inputs is off")
    assert "no sleep mode" in window.messages.words.text()
    page.matrix.cursor_at = (names.index("pir"), 0)
    trigger(page.matrix.cell_menu(), "Show the way")
    assert window.page.title == "Wakes"
    assert window.pages.wakes.view == "plan"


def test_a_finding_is_added_with_its_evidence_and_taken_out_again(
    qtbot: QtBot, window: MainWindow, page: TunePage, settle
) -> None:
    window.controller.apply(lambda project: msgspec.structs.replace(project, plan=Plan()), "no plan")
    settle()
    items = page.list.items
    index = next(n for n, item in enumerate(items) if item.offer and item.offer.change.reason == "timer-overridden")
    offer = items[index].offer
    qtbot.mouseClick(page.list, LEFT, pos=middle(page.list.evidence_box(index)))
    assert window.page.title == "Trace"
    assert window.window_on_time.from_s < offer.from_s < offer.to_s < window.window_on_time.to_s
    window.show_page("Tune")
    qtbot.mouseClick(page.list, LEFT, pos=middle(page.list.add_box(index)))
    settle()
    assert page.ahead == (offer.change,)
    assert page.found.mean_a - page.found.predicted.mean_a == pytest.approx(offer.saved_a)
    page.list.setFocus()
    page.list.choose(1)
    qtbot.keyClick(page.list, Key.Key_Space)
    settle()
    assert page.ahead == ()
    assert [item.kind for item in page.list.items if item.change == changes_of(window)[0]] == ["beside"]
    page.list.choose(next(n for n, item in enumerate(page.list.items) if item.kind == "beside"))
    qtbot.keyClick(page.list, Key.Key_Delete)
    settle()
    assert changes_of(window) == ()


def changes_of(window: MainWindow):
    return window.controller.project.plan.changes


@pytest.mark.all_runs
def test_changes_are_moved_ordered_searched_and_typed(qtbot: QtBot, window: MainWindow, page: TunePage, settle) -> None:
    names = [change.name for change in page.ahead]
    page.list.setFocus()
    page.list.choose(1)
    qtbot.keyClick(page.list, Key.Key_Down, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert [change.name for change in page.ahead] == [names[1], names[0], *names[2:]]
    qtbot.keyClick(page.list, Key.Key_G)
    settle()
    assert page.ahead[0].name == names[0]
    qtbot.keyClick(page.list, Key.Key_S)
    settle()
    assert len(page.ahead) == 2
    assert page.found.predicted.mean_a <= page.found.budget_a
    assert "are enough" in window.messages.words.text()
    trigger(page.new_menu(), "Count is shorter")
    settle()
    assert isinstance(page.ahead[-1].effects[0], LengthTo)
    page.list.choose(3)
    type_into(qtbot, page.editor.fields["effect 0"], "0.5 s")
    type_into(qtbot, page.editor.fields["latency_s"], "20 ms")
    settle()
    assert page.ahead[-1].effects == (LengthTo("Count", 0.5),)
    assert page.together.isVisible()
    type_into(qtbot, page.limits["latency_s"], "1 s")
    settle()
    assert not page.together.isVisible()
    assert window.controller.project.plan.limits.latency_s == 1.0


@pytest.mark.all_runs
def test_a_change_is_linked_to_the_run_that_proves_it(window: MainWindow, page: TunePage, settle) -> None:
    window.controller.apply(lambda project: msgspec.structs.replace(project, plan=Plan()), "no plan")
    settle()
    trigger(page.new_menu(), "Count draws less")
    settle()
    page.list.choose(1)
    box = page.editor.fields["proved_by"]
    assert isinstance(box, QComboBox)
    box.setCurrentIndex(box.findData("r5"))
    box.activated.emit(box.currentIndex())
    settle()
    assert changes_of(window)[0].proved_by == "r5"
    window.controller.select_run("r5")
    settle()
    (proof,) = page.found.proofs
    assert not proof.is_proved
    assert proof.off
    page._show_proof(proof)
    assert page.view == "proof"
    assert "not as predicted" in page.proof.words.text()
    assert len(page.proof.table.notes) == min(len(proof.off), 3)


def test_claims_are_judged_on_the_plan(qtbot: QtBot, window: MainWindow, page: TunePage, settle) -> None:
    for words, outcome in (("a tenth of the charge", Outcome.REFUTED), ("a tenth less charge", Outcome.SUPPORTED)):
        type_into(qtbot, page.claim.edit, words)
        settle()
        assert page.claim.verdict.judged.outcome is outcome
    type_into(qtbot, page.claim.edit, "nonsense")
    settle()
    assert page.claim.verdict.judged is None
    assert "no claim" in window.messages.words.text()


def test_the_waveform_is_moved_by_wheel_and_keys(qtbot: QtBot, page: TunePage) -> None:
    page.show_view("waveform")
    view = page.waveform
    view.setFocus()
    whole = view.span_s
    for key in (Key.Key_Plus, Key.Key_Plus, Key.Key_Left, Key.Key_Minus, Key.Key_F):
        before = view.span_s
        qtbot.keyClick(view, key)
        assert view.span_s != before
    assert view.span_s == whole
    view.zoom(0.01, 100.0)
    assert view.span_s[0] < 100.0 < view.span_s[1]
    qtbot.waitUntil(lambda: view.read is not None and (view.read.from_s, view.read.to_s) == view.span_s)
    assert len(view.read.predicted_a) == len(view.read.measured.mean)


def test_an_empty_project_says_what_is_missing(empty_window: MainWindow) -> None:
    empty_window.show_page("Tune")
    assert "capture" in empty_window.pages.tune.sentence()
    empty_window.pages.tune.search()
    empty_window.pages.tune.order()
    assert empty_window.pages.tune.new_menu().actions() == []


@pytest.mark.all_runs
def test_two_runs_are_laid_over_each_other_in_every_way(qtbot: QtBot, window: MainWindow, settle, monkeypatch) -> None:
    window.show_page("Runs")
    settle()
    runs = window.pages.runs
    for mode in ("time", "cycle", "charge", "state"):
        next(s for s in runs.switches() if s.title == "Overlay").choose(mode)
        settle()
        assert runs.overlay.mode == mode
        overlay = runs.overlay.overlay
        assert [run.letter for run in overlay.runs] == ["A", "B"]
        assert overlay.from_s < overlay.to_s
    for by, first in (("wakes", "pir"), ("activities", "Deep sleep"), ("states", "Deep sleep")):
        next(s for s in runs.switches() if s.title == "Difference").choose(by)
        settle()
        assert runs.table.rows[0].name == first
    type_into(qtbot, runs.claim.edit, "half the charge")
    settle()
    assert runs.claim.verdict.judged.outcome is Outcome.SUPPORTED
    monkeypatch.setattr(QInputDialog, "getMultiLineText", lambda *_a: ("on the north wall", True))
    runs.note_run()
    assert window.controller.project.run("r4").note == "on the north wall"


@pytest.mark.all_runs
def test_the_plan_is_the_next_rung(window: MainWindow, settle) -> None:
    window.show_page("Runs")
    settle()
    assert not any(rung.is_plan for rung in window.pages.runs.history.rungs)

    window.controller.apply(add_change(PlannedChange("less", (CurrentBy(-2e-6),), "r5")), "plan")
    settle()
    rung = window.pages.runs.history.rungs[-1]
    assert rung.is_plan
    last_a = window.controller.all_results["r5"].load.mean_a
    assert rung.mean_a == pytest.approx(last_a - 2e-6)
    assert len(changes_ahead(window.controller.project, "r5")) == 1
    window.controller.apply(edits.change_run("r5", title="run 5"), "title")
    settle()
    assert window.pages.runs.history.rungs[-1].is_plan


def test_timers_are_shown_written_and_asked_about(qtbot: QtBot, window: MainWindow, page: TunePage, settle) -> None:
    page.show_view("timers")
    settle()
    view = page.timers
    assert view.table.row_count() == 2
    assert "exact" in view.codes.text()
    type_into(qtbot, view.time, "11 s")
    assert "not exact" in view.codes.text()
    type_into(qtbot, view.time, "eleven")
    assert "expected a time" in view.codes.text()
    view.what.setCurrentIndex(view.what.findText("rtc"))
    view.what.activated.emit(view.what.currentIndex())
    type_into(qtbot, view.period, "20 s")
    assert "20.0 s worst case" in view.answer.text()
    view.curve.grab()
    count = len(page.ahead)
    qtbot.mouseClick(view.add, LEFT)
    settle()
    assert len(page.ahead) == count + 1
    assert page.ahead[-1].name == "rtc every 20.0 s"
    assert page.ahead[-1].latency_s == pytest.approx(19.0, rel=1e-3)
    window.controller.select_run("r1")
    settle()
    assert looks_as_it_did(view, "timers-r1")


@pytest.mark.all_runs
def test_proofs_stand_in_the_order_measured(window: MainWindow, settle, qtbot: QtBot) -> None:
    window.controller.select_run("r5")
    settle()
    window.show_page("Tune")
    window.pages.tune.show_view("proof")
    settle()
    view, proofs = window.pages.tune.proof, window.controller.plan.proofs
    boxes = {one.name: one for one in view.course.named_boxes()}
    assert list(boxes) == ["r1", "r2", "r3", "r4", "r5"]
    read = {one.name: one.value for one in view.course.read_items}
    for proof in proofs:
        assert str(quantity_text(proof.measured_a, "A")) in read[proof.after]
        assert proof.recorded_utc[:10] in read[proof.after]
    qtbot.mouseClick(view.course, LEFT, pos=boxes["r3"].box.center().toPoint())
    assert view.proof.after == "r3"
    assert view.bars.at == 1


def test_with_one_run_the_page_says_what_to_change_first(window: MainWindow, settle, qtbot: QtBot) -> None:
    project = window.controller.project
    alone = tuple(run for run in project.runs if run.name == "r4")
    window.controller.apply(edits.SetFields("project", {"runs": alone, "plan": Plan()}), "one run")
    window.show_page("Runs")
    settle()
    view = window.pages.runs.alone
    assert view.isVisible()
    assert not window.pages.runs.table.isVisible()
    read = {one.name: one.value for one in view.read_items}
    first = window.controller.plan.suggestions[0]
    assert str(quantity_text(first.saved_a, "A")) in read[first.change.name]
    for segment in window.controller.results.by_state:
        assert any(segment.name == name or segment.name in value for name, value in read.items())
    view.setFocus()
    qtbot.keyClick(view, Qt.Key.Key_Return)
    assert window.last_page == "Tune"
