"""Notes on the trace: entered where they belong, seen wherever the trace is, taken along."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QInputDialog
from pytestqt.qtbot import QtBot

from warm_ember.library.project import Project
from warm_ember.model.project import Note
from warm_ember.report.contents import Choice
from warm_ember.report.pages import render
from warm_ember.session import edits
from warm_ember.session.merging import merged
from warm_ember.ui.pages.trace.page import TracePage
from warm_ember.ui.shell.window import MainWindow


@pytest.fixture
def says(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """What is entered into the next dialogs, the next one last."""
    words: list[str] = []
    monkeypatch.setattr(QInputDialog, "getMultiLineText", lambda *_, **__: (words.pop(), True))
    return words


@pytest.fixture
def page(window: MainWindow, settle) -> TracePage:
    window.show_page("Trace")
    settle()
    return window.pages.trace


def test_a_note_is_pinned_changed_and_removed(
    window: MainWindow, page: TracePage, says: list[str], qtbot: QtBot, settle
) -> None:
    project = window.controller.project
    assert not project.notes
    assert page.stack.notes.isHidden()
    page.stack.window_on_time.set_cursor(70.5)
    says.append("idle ends here\nat last")
    qtbot.keyClick(page.lanes, Qt.Key.Key_M)
    settle()
    (note,) = window.controller.project.notes_of("r4")
    assert note == Note("r4", 70.5, "idle ends here\nat last")
    assert not page.stack.notes.isHidden()
    window.grab()
    assert [item.name for item in page.stack.notes.read_items if "idle" in item.name] == [note.text]
    box, _ = page.stack.notes._boxes[0]
    says.append("changed")
    qtbot.mouseClick(page.stack.notes, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    settle()
    assert [one.text for one in window.controller.project.notes] == ["changed"]
    window.controller.undo()
    assert [one.text for one in window.controller.project.notes] == [note.text]
    says.append("  ")
    page.edit_note(note)
    settle()
    assert not window.controller.project.notes
    assert page.stack.notes.isHidden()


@pytest.mark.all_runs
def test_a_note_over_a_bracket_is_seen_wherever_the_trace_is(
    window: MainWindow, page: TracePage, says: list[str], qtbot: QtBot, settle
) -> None:
    bracket = page.book.chosen_bracket
    assert bracket is not None
    says += ["again", "the network is slow"]
    qtbot.keyClick(page.lanes, Qt.Key.Key_M, Qt.KeyboardModifier.ShiftModifier)
    settle()
    (note,) = window.controller.project.notes
    assert (note.at_s, note.to_s) == (bracket.from_s, bracket.to_s)
    qtbot.keyClick(page.lanes, Qt.Key.Key_M, Qt.KeyboardModifier.ShiftModifier)
    settle()
    assert [one.text for one in window.controller.project.notes] == ["again"]  # the note there is, not one more
    for title, stack in (("States", window.pages.states.stack), ("Wakes", window.pages.wakes.stack)):
        window.show_page(title)
        settle()
        assert stack.notes.notes == window.controller.project.notes
    window.show_page("Runs")
    settle()
    assert "Noted in r4: again" in window.pages.runs.table.notes
    session = window.controller.session
    assert session is not None
    assert "again" in render(Project(session), Choice(("r4",)))


def test_notes_close_together_keep_apart(window: MainWindow, page: TracePage, settle) -> None:
    for k in range(6):
        edit = edits.set_note(Note("r4", 100.0 + 0.05 * k, f"note {k} with many words"))
        window.controller.apply(edit, "note")
    settle()
    page.stack.window_on_time.fit()
    settle()
    window.grab()
    boxes = [box for box, _ in page.stack.notes._boxes]
    assert len(boxes) == 6
    page.stack.window_on_time.show(99.9, 100.6)
    settle()
    window.grab()
    boxes = [box for box, _ in page.stack.notes._boxes]
    assert all(one.right() <= other.left() + 1 for one, other in pairwise(boxes))
    assert page.stack.notes.note_at(*_center(boxes[3])) == window.controller.project.notes_of("r4")[3]


def _center(box) -> tuple[float, float]:
    center: QPointF = box.center()
    return center.x(), center.y()


def test_notes_of_two_programs_are_kept_and_leave_as_a_table(demo_copy: Path, tmp_path: Path, command) -> None:
    with Project.open(demo_copy) as project:
        base = project.session.project
        mine = edits.set_note(Note("r4", 1.0, "mine"))(base)
        theirs = edits.set_note(Note("r4", 2.0, "theirs", 3.0))(base)
        both = merged(base, mine, theirs)
        assert {note.text for note in both.notes} == {"mine", "theirs"}
        project.session.apply(lambda _project: both, "notes")
        project.session.save()
    code, out, _ = command("export", demo_copy, "r4", "notes", "-o", tmp_path / "notes.csv")
    assert (code, out) == (0, "")
    assert (tmp_path / "notes.csv").read_text().splitlines() == [
        '"capture","at_s","to_s","text"', '"r4",1,,"mine"', '"r4",2,3,"theirs"',
    ]  # fmt: skip
