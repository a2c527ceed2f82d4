"""Limits on Runs: written from a run, edited as text, set one by one, saved and compared."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from warm_ember.tuning.gate import Outcome
from warm_ember.ui.pages.runs.limits_list import place_of
from warm_ember.ui.pages.runs.limits_view import LimitsView
from warm_ember.ui.pages.runs.page import LIMITS
from warm_ember.ui.shell.window import MainWindow

PAGE = "Runs"

TEXT = """\
# Limits of the build
format = 1

[states.Count]
max_mean_a = 3.9e-3  # LED dark

[states."Deep sleep"]
max_mean_a = 25e-6
"""


@pytest.fixture
def view(window: MainWindow, qtbot: QtBot, settle) -> LimitsView:
    window.show_page("Runs")
    settle()
    window.pages.runs.show_view(LIMITS)
    quiet(window.pages.runs.limits, qtbot, settle)
    return window.pages.runs.limits


def quiet(view: LimitsView, qtbot: QtBot, settle) -> None:
    """Wait until what was edited is compared."""
    qtbot.waitUntil(lambda: not view._timer.isActive(), timeout=180_000)
    settle()
    qtbot.waitUntil(lambda: not view._timer.isActive(), timeout=180_000)
    settle()


@pytest.mark.all_runs
def test_limits_are_written_from_the_run_and_kept(
    window: MainWindow, view: LimitsView, qtbot: QtBot, settle, command
) -> None:
    assert not view.shown.rows
    assert "No limits yet" in window.pages.runs.sentence()
    qtbot.keyClick(view.list, Qt.Key.Key_W)
    quiet(view, qtbot, settle)
    assert "[average]" in view.text
    assert not view.path.exists()  # nothing is written before the gate is run
    assert "not saved" in view.file_label.text()
    of_run = [row for row in view.shown.rows if row.group != "baseline"]
    assert len(of_run) > 8
    assert {row.check.outcome for row in of_run if row.group in ("states", "sources", "average")} == {Outcome.PASS}
    qtbot.keyClick(view.list, Qt.Key.Key_Return)
    quiet(view, qtbot, settle)
    assert view.path.read_text(encoding="utf-8") == view.text
    code, out, _ = command("gate", view.path.parent, "r4", "--limits", view.path, "--baseline", "r3", "--json")
    found = json.loads(out)
    assert [check["outcome"] for check in found["checks"]] == [row.check.outcome.value for row in view.shown.rows]
    assert code == view.shown.exit_code
    for row in view.shown.rows:
        assert view.text.splitlines()[row.line - 1].startswith(row.check.key[-1]), row


def test_a_limit_is_set_from_the_run_and_its_comment_stays(
    window: MainWindow, view: LimitsView, qtbot: QtBot, settle
) -> None:
    view.editor.setFocus()
    view.editor.insertPlainText(TEXT)
    quiet(view, qtbot, settle)
    assert [row.check.outcome for row in view.shown.rows] == [Outcome.FAIL, Outcome.PASS]
    assert view.list.row is view.shown.rows[0]  # what failed is looked at first
    assert "misses **1** of **2** limits: Count, mean" in window.pages.runs.sentence()
    assert "beyond it" in view.reason.text()
    assert view.place.text() == "line 5: states.Count.max_mean_a"
    proposed = view.shown.rows[0].proposed
    assert proposed is not None
    assert proposed > view.shown.rows[0].check.high
    qtbot.keyClick(view.list, Qt.Key.Key_L)
    quiet(view, qtbot, settle)
    assert view.text == TEXT.replace("3.9e-3", f"{proposed * 1e3:g}e-3")
    assert view.shown.rows[0].check.outcome is Outcome.PASS
    view.editor.undo()
    assert view.text == TEXT
    qtbot.keyClick(view.list, Qt.Key.Key_S)
    assert window.page.title == "States"
    settle()
    assert view.path.read_text(encoding="utf-8") == TEXT  # what was edited is not lost by going elsewhere


def test_row_and_line_choose_each_other(view: LimitsView, qtbot: QtBot, settle) -> None:
    view.editor.insertPlainText(TEXT)
    quiet(view, qtbot, settle)
    qtbot.keyClick(view.list, Qt.Key.Key_Down)
    assert view.editor.textCursor().blockNumber() + 1 == 8
    block = view.editor.document().findBlockByNumber(4)
    cursor = view.editor.textCursor()
    cursor.setPosition(block.position())
    view.editor.setTextCursor(cursor)
    assert view.list.row is not None
    assert view.list.row.line == 5
    qtbot.mouseClick(view.list, Qt.MouseButton.LeftButton, pos=view.list.row_box(1).center().toPoint())
    assert view.list.row.line == 8
    assert [item.name for item in view.list.read_items][-2:] == ["Count, mean", "Deep sleep, mean"]


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("format = 1\n[states\n", 2, "no TOML"),
        ("[average]\nmax_ma = 1\n", 2, "is max_a meant?"),
        ("[average]\nmax_a = '2 mA'\n", 2, "without a unit"),
        ("format = 1\n[states.Snooze]\nmax_mean_a = 1\n", 2, "no state 'Snooze'"),
    ],
)
def test_what_is_wrong_is_told_with_its_line(
    window: MainWindow, view: LimitsView, qtbot: QtBot, settle, text: str, line: int, words: str
) -> None:
    view.editor.insertPlainText(text)
    quiet(view, qtbot, settle)
    assert view.shown.problem_line == line
    assert words in view.reason.text()
    assert words in window.pages.runs.sentence()
    assert "Exit code 2" in view.tally.text()
    view.write_limits()  # nothing is put into what cannot be read
    view.set_strict(strict=True)
    assert view.text == text


@pytest.mark.all_runs
def test_undecided_ones_fail_where_that_is_chosen_and_the_baseline_can_be_left_out(
    window: MainWindow, view: LimitsView, qtbot: QtBot, settle
) -> None:
    view.editor.insertPlainText(TEXT.replace("3.9e-3", "1") + "[states.Transmit]\nmax_charge_c = 9\n"
                                "[baseline]\nmax_worse = 9.0\n")  # fmt: skip
    quiet(view, qtbot, settle)
    assert view.shown.count(Outcome.UNDECIDED) >= 1
    assert view.shown.exit_code == 0
    switches = {switch.title: switch for switch in window.pages.runs.switches()}
    assert switches["Compared with"].options == ("r3", "nothing")
    switches["Undecided"].choose("fails")
    quiet(view, qtbot, settle)
    assert "strict = true" in view.text
    assert view.shown.exit_code == 1
    switches["Compared with"].choose("nothing")
    quiet(view, qtbot, settle)
    assert [row.check.title for row in view.shown.rows if row.group == "baseline"] == ["any baseline"]


def test_a_file_that_another_program_changed_is_read_again(
    window: MainWindow, view: LimitsView, qtbot: QtBot, settle, tmp_path: Path
) -> None:
    view.path.write_text(TEXT, encoding="utf-8")
    window.show_page("States")
    settle()
    window.show_page("Runs")
    window.pages.runs.show_view(LIMITS)
    quiet(view, qtbot, settle)
    assert view.text == TEXT
    assert "saved" in view.file_label.text()
    view.editor.insertPlainText("# more\n")
    view.path.write_text("# other\n", encoding="utf-8")
    view.show_run("r4", "")
    quiet(view, qtbot, settle)
    assert "# more" in view.text  # what is being edited is not taken away


def test_places_on_the_axis_rise_and_end_at_its_ends() -> None:
    offs = [-9.0, -1.0, -0.3, -0.01, 0.0, 0.001, 0.2, 1.0, 7.0]
    places = [place_of(off) for off in offs]
    assert places == sorted(places)
    assert (places[0], places[-1], place_of(0.0)) == (-1.0, 1.0, 0.0)
    assert place_of(-0.2) == -place_of(0.2)
