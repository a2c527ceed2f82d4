"""The window as a user drives it: act on the widget and look at the project, then the reverse."""

import itertools
import os
import subprocess
import sys
from pathlib import Path

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFont, QGuiApplication
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from ui.driving import LEFT, drag, type_into
from ui.golden import differ, looks_as_it_did, small_picture
from warm_ember.model.battery import SupplyKind
from warm_ember.model.heat_ramp import DAY_DECADES, NIGHT_DECADES
from warm_ember.model.project import Project
from warm_ember.model.rules import BandRule, LevelsRule, LogRule
from warm_ember.session import edits
from warm_ember.session.recent import recent_projects
from warm_ember.store.project_folder import ProjectFolder
from warm_ember.ui.look.ramp import Ramp
from warm_ember.ui.look.rich_text import plain
from warm_ember.ui.look.theme import DAY, NIGHT
from warm_ember.ui.shell.page_stack import TITLES
from warm_ember.ui.shell.window import MainWindow
from warm_ember.ui.widgets.room import Room


@pytest.mark.all_runs
def test_the_way_from_trace_to_the_reason(window: MainWindow, qtbot: QtBot, settle) -> None:
    """Trace, a bracket, States, Battery: why r4 misses the target and r5 meets it."""
    lane = window.pages.trace.stack.current
    before = len(window.pages.trace.book.brackets)
    drag(qtbot, lane, lane.x_of(20.0), lane.x_of(50.0), Qt.KeyboardModifier.AltModifier)
    settle()
    assert len(window.pages.trace.book.brackets) == before + 1
    qtbot.mouseClick(window.navigation.links["States"], LEFT)
    assert window.page is window.pages.states
    assert "Modem idle takes 28.5 % of the charge" in plain(window.header.sentence)
    qtbot.mouseClick(window.navigation.links["Battery"], LEFT)
    assert plain(window.header.sentence).startswith("25.5 months; target 36")
    window.controller.select_run("r5")
    settle()
    assert "target **36**: met" in window.header.sentence
    assert plain(window.navigation.links["Battery"].shown.figure) == "42.2 months"
    assert plain(window.navigation.links["Runs"].shown.figure) == "1st of 5"


def test_a_rule_by_band_is_previewed_and_placed(window: MainWindow, qtbot: QtBot, settle) -> None:
    page = window.pages.states
    window.show_page("States")
    page.choose("Transmit")
    editor = page.editor
    for edit, text in ((editor.low_edit, "150m"), (editor.high_edit, "0.25 A"), (editor.as_edit, "Burst")):
        edit.setFocus()
        edit.selectAll()
        qtbot.keyClicks(edit, text)
    qtbot.waitUntil(lambda: "Burst would have" in editor.words.text(), timeout=90_000)
    assert window.controller.project.rules == ()
    qtbot.mouseClick(editor.place_button, LEFT)
    settle()
    assert window.controller.project.rules[0] == BandRule("Burst", 0.15, 0.25, 0.1, 0.005)
    assert window.controller.project.rules[1] == LogRule()
    row = window.controller.results.ledger.row("Burst")
    assert row.entries >= 6
    window.controller.undo()
    settle()
    assert window.controller.results.ledger.row("Burst") is None


def test_a_rule_by_hand_takes_the_drawn_stretch(window: MainWindow, qtbot: QtBot, settle) -> None:
    window.show_page("States")
    page, lane = window.pages.states, window.pages.states.stack.current
    page.choose("Modem idle")
    drag(qtbot, lane, lane.x_of(100.0), lane.x_of(120.0))
    page.editor.as_edit.setText("Tilt check")
    qtbot.mouseClick(page.editor.place_button, LEFT)
    settle()
    row = window.controller.results.ledger.row("Tilt check")
    assert row.dwell_s == pytest.approx(20.0, abs=1.0)
    rule = window.controller.project.rules[0]
    page.editor.rule_dropped.emit(rule)
    settle()
    assert window.controller.results.ledger.row("Tilt check") is None


def test_states_are_renamed_and_expected_in_the_row(window: MainWindow, qtbot: QtBot, settle) -> None:
    window.show_page("States")
    page = window.pages.states
    page.choose("Count")
    type_into(qtbot, page.editor.name_edit, "Counting")
    settle()
    assert window.controller.results.ledger.row("Counting") is not None
    page.choose("Counting")
    type_into(qtbot, page.editor.expected_edit, "7 mA")
    settle()
    assert window.controller.project.expected_of("Counting").current_a == 7e-3
    assert window.controller.results.ledger.row("Counting").verdict.value == "ok"


def test_states_can_come_from_levels_and_unplaced_ones_warn(window: MainWindow, qtbot: QtBot, settle) -> None:
    window.show_page("States")
    qtbot.mouseClick(window.pages.states.part.switches.words["States from", "levels"], LEFT)
    settle()
    assert window.controller.project.rules == (LevelsRule(),)
    assert window.controller.results.ledger.rows[0].name.startswith("level ")
    window.controller.apply(edits.SetFields("project", {"rules": (BandRule("Hot", 0.1, 1.0),)}), "only one band")
    settle()
    assert "is unplaced, the limit is" in plain(window.header.warning)
    assert window.navigation.links["States"].shown.doubt
    window.pages.states.choose("unplaced")
    assert window.pages.states.stack.current.highlight is not None


def test_the_ledger_sorts_and_copies(window: MainWindow, qtbot: QtBot) -> None:
    window.show_page("States")
    view = window.pages.states.ledger
    view.sort_by("share of time")
    shares = [shown.time_share for shown in view.rows]
    assert shares == sorted(shares, reverse=True)
    view.sort_by("state")
    names = [shown.row.name for shown in view.rows]
    assert names == sorted(names, key=str.casefold)
    window.pages.states.page_actions()[0].trigger()
    copied = QGuiApplication.clipboard().text().splitlines()
    assert len(copied) == 1 + len(names)
    assert copied[1].startswith(names[0] + "\t")


def test_arrows_walk_through_the_ledger(window: MainWindow, qtbot: QtBot) -> None:
    window.show_page("States")
    view = window.pages.states.ledger
    view.setFocus()
    qtbot.keyClick(view, Qt.Key.Key_Down)
    assert view.chosen == view.rows[0].row.name
    qtbot.keyClick(view, Qt.Key.Key_Down)
    assert view.chosen == view.rows[1].row.name
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    assert view.chosen == ""


def test_a_rate_typed_on_the_battery_page_changes_the_life(window: MainWindow, qtbot: QtBot, settle) -> None:
    window.show_page("Battery")
    before = window.controller.results.life.life_s
    edit = window.pages.battery.activities.day.edits["Report"]
    type_into(qtbot, edit, "each 12 h")
    settle()
    activity = next(a for a in window.controller.project.activities if a.name == "Report")
    assert (activity.interval_s, activity.per_day) == (43200.0, None)
    assert window.controller.results.life.life_s > before
    type_into(qtbot, edit, "whenever")
    settle()
    assert next(a for a in window.controller.project.activities if a.name == "Report").interval_s == 43200.0


def test_the_battery_is_typed_where_it_stands(window: MainWindow, qtbot: QtBot, settle) -> None:
    window.show_page("Battery")
    fields = window.pages.battery.panel.fields
    type_into(qtbot, fields["battery", "capacity_c"], "12 Ah")
    type_into(qtbot, fields["project", "target_s"], "24 months")
    type_into(qtbot, fields["battery", "reserve"], "5 %")
    settle()
    project = window.controller.project
    assert (project.battery.capacity_c, project.battery.reserve) == (43200.0, 0.05)
    assert project.target_s == pytest.approx(2 * 8760 * 3600)
    type_into(qtbot, fields["battery", "reserve"], "150 %")
    settle()
    assert window.controller.project.battery.reserve == 0.05
    assert "reserve" in window.messages.words.text()
    window.pages.battery.panel.changed.emit("supply", "kind", SupplyKind.SWITCHING)
    settle()
    assert fields["supply", "efficiency"].isVisible()


def test_activities_are_added_and_removed(window: MainWindow, settle) -> None:
    window.pages.battery.activities.add_from("Modem idle")
    settle()
    names = [activity.name for activity in window.controller.project.activities]
    assert names[-1] == "Modem idle"
    assert "Modem idle" in window.pages.battery.activities.day.edits
    window.controller.apply(edits.drop_activity("Modem idle"), "remove")
    settle()
    assert "Modem idle" not in window.pages.battery.activities.day.edits


@pytest.mark.all_runs
def test_two_runs_are_picked_on_the_ladder(window: MainWindow, qtbot: QtBot, settle) -> None:
    window.show_page("Runs")
    settle()
    history = window.pages.runs.history
    window.grab()
    centre = [history._column(index).center().toPoint() for index in range(5)]
    qtbot.mouseClick(history, LEFT, pos=centre[4])
    qtbot.mouseClick(history, LEFT, Qt.KeyboardModifier.ShiftModifier, pos=centre[0])
    assert (window.pages.runs.first, window.pages.runs.second) == ("r1", "r5")
    assert "r5 takes 4.07 mA less than r1" in plain(window.header.sentence)
    qtbot.mouseDClick(history, LEFT, pos=centre[1])
    settle()
    assert window.controller.session.current == "r2"
    qtbot.mouseClick(window.header.switches.words["Ladder", "one state"], LEFT)
    assert window.pages.runs.history.shows_state != ""


def test_a_budget_segment_leads_to_its_state(window: MainWindow, qtbot: QtBot) -> None:
    window.grab()
    piece = next(p for p in window.budget._pieces if p.segment.name == "Count")
    qtbot.mouseClick(window.budget, LEFT, pos=piece.rect.center().toPoint())
    assert window.page is window.pages.states
    assert window.pages.states.ledger.chosen == "Count"
    window.budget.set_by("activities")
    window.grab()
    assert {p.segment.name for p in window.budget._pieces} == {"Report", "Passer-by", "Each second", "Deep sleep"}


def test_edits_are_saved_by_themselves(window: MainWindow, qtbot: QtBot, settle) -> None:
    folder = window.controller.session.folder
    window.controller.apply(edits.SetFields("project", {"name": "renamed"}), "rename")
    assert folder.load().name != "renamed"
    with qtbot.waitSignal(window.controller.saved_changed, timeout=90_000):
        pass
    qtbot.waitUntil(lambda: window.controller.session.is_saved, timeout=90_000)
    assert folder.load().name == "renamed"


def test_every_page_of_an_empty_window_says_what_to_do(empty_window: MainWindow) -> None:
    for title in TITLES:
        empty_window.show_page(title)
        assert empty_window.header.sentence
        empty_window.grab()  # what goes wrong in painting fails the test
    empty_window.show_page("Trace")
    assert "Ctrl+I" in empty_window.header.sentence


def test_a_new_project_is_begun_and_broken_ones_are_told(empty_window: MainWindow, tmp_path: Path, settle) -> None:
    assert empty_window.way_in.begin_project(tmp_path / "fresh")
    settle()
    assert (tmp_path / "fresh" / "project.json").exists()
    assert recent_projects()[0].path == str(tmp_path / "fresh")
    broken = tmp_path / "broken"
    broken.mkdir()
    (broken / "project.json").write_text("{")
    assert not empty_window.controller.open(broken)
    assert "expected JSON" in empty_window.messages.words.text()
    assert empty_window.controller.session.folder.path == tmp_path / "fresh"


def test_work_shows_progress_and_can_be_stopped(window: MainWindow, qtbot: QtBot) -> None:
    jobs = window.controller.jobs

    def slow(should_stop, progress) -> None:
        share = 0.0
        while not should_stop():
            share = min(1.0, share + 1e-6)
            progress(share)

    with qtbot.waitSignal(jobs.shown, timeout=90_000):
        jobs.run(
            "slow", "counting sheep", slow, lambda _r: pytest.fail("it was stopped"), lambda e: pytest.fail(str(e))
        )
    assert window.progress.isVisible()
    assert "counting sheep" in window.progress.words.text()
    window.progress.stop_asked.emit()
    assert not window.progress.isVisible()
    assert not jobs.is_busy


def test_a_later_request_wins(window: MainWindow, settle) -> None:
    answers: list[int] = []
    for number in range(5):
        window.controller.jobs.run(
            "race", "racing", lambda _s, _p, n=number: n, answers.append, lambda e: pytest.fail(str(e))
        )
    settle()
    assert answers == [4]


@pytest.mark.all_runs
@pytest.mark.parametrize("theme", [NIGHT, DAY])
def test_every_page_paints_in_both_themes_with_long_names_and_many_runs(window: MainWindow, settle, theme) -> None:
    window.look.set_theme(theme)
    long = "a name that somebody gave at the end of a long day on the mountain " * 2
    project = window.controller.project
    runs = tuple(msgspec.structs.replace(run, title=long, changed=long) for run in project.runs)
    activities = tuple(msgspec.structs.replace(a, name=f"{a.name} {long}") for a in project.activities)
    window.controller.apply(edits.SetFields("project", {"runs": runs, "activities": activities}), "long names")
    window.controller.apply(edits.rename_state("Deep sleep", long, (LogRule(),)), "long state")
    settle()
    for title in TITLES:
        window.show_page(title)
        window.grab()
        assert (window.width(), window.height()) == (1280, 800)  # however long the names are


@pytest.mark.all_runs
@pytest.mark.parametrize("theme", [NIGHT, DAY], ids=lambda theme: theme.name)
def test_pages_look_as_they_did(window: MainWindow, settle, theme) -> None:
    window.look.set_theme(theme)
    changed, seen = [], []
    for title in TITLES:
        window.show_page(title)
        settle()
        if not looks_as_it_did(window, f"{title.lower()}-{theme.name.lower()}"):
            changed.append(title)
        seen.append(small_picture(window))
    assert not changed
    assert all(differ(one, other) for one, other in itertools.combinations(seen, 2)), "this could not fail"


@pytest.mark.parametrize(("decades", "rising"), [(NIGHT_DECADES, True), (DAY_DECADES, False)])
def test_lightness_is_monotonic_along_the_ramp(decades: tuple[str, ...], rising: bool) -> None:
    ramp = Ramp(decades)
    colors = [ramp.color(10.0**k) for k in np.arange(-9, 0.01, 0.25)]
    luminance = [0.2126 * c.redF() ** 2.2 + 0.7152 * c.greenF() ** 2.2 + 0.0722 * c.blueF() ** 2.2 for c in colors]
    steps = np.diff(luminance if rising else luminance[::-1])
    assert (steps > -1e-9).all()
    assert ramp.color(5.0) == QColor(decades[-1])
    assert ramp.color(None) == ramp.color(-1.0) == QColor(decades[0])


def test_settings_are_remembered(window: MainWindow, settle) -> None:
    window.show_page("Runs")
    window.look.set_theme(DAY)
    window.pages.trace.stack.set_folded("Lines", True)
    window.close()
    assert window.settings.value("page") == "Runs"
    assert window.settings.value("theme") == "day"
    assert "Lines" in window.settings.value("folded")


def test_a_project_without_voltage_lines_or_log_opens(empty_window: MainWindow, tmp_path: Path, settle) -> None:
    folder = ProjectFolder(tmp_path / "p")
    folder.save(Project(name="plain"))
    path = tmp_path / "flat.f32"
    np.full(5000, 2e-3, dtype="<f4").tofile(path)
    empty_window.controller.open(tmp_path / "p")
    settle()
    text = tmp_path / "flat.csv"
    text.write_text("s,A\n" + "".join(f"{k / 100:.2f},0.002\n" for k in range(500)))
    empty_window.way_in.import_files([text])
    settle()
    empty_window.pages.imports.accept()
    settle()
    for title in TITLES:
        empty_window.show_page(title)
        empty_window.grab()
    assert "no battery chosen" in plain(empty_window.pages.battery.warning())
    assert not empty_window.pages.trace.stack.lines.isVisible()


def test_an_empty_window_loads_no_more_than_it_shows(tmp_path: Path) -> None:
    script = (
        "import sys; from PySide6.QtCore import QSettings; from PySide6.QtWidgets import QApplication\n"
        "from warm_ember.ui.application import make_window\n"
        "application = QApplication([])\n"
        "window = make_window(application, QSettings(sys.argv[1], QSettings.Format.IniFormat))\n"
        "window.show(); application.processEvents()\n"
        "print(*window.pages.built, *(name for name in sys.modules if name.startswith(('warm_ember', 'scipy'))))\n"
    )
    words = [sys.executable, "-c", script, str(tmp_path / "window.ini")]
    environment = os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)}
    loaded = set(subprocess.run(words, capture_output=True, text=True, check=True, env=environment).stdout.split())
    assert {one for one in loaded if "." not in one} == {"warm_ember"}
    elsewhere = {
        "scipy.signal",
        "warm_ember.report.export",
        "warm_ember.session.importing",
        "warm_ember.session.results",
        "warm_ember.ui.pages.guide.view",
        *(f"warm_ember.ui.pages.{title.lower()}.page" for title in TITLES),
    }
    assert loaded & elsewhere == set()


def test_every_page_fits_a_small_window(window: MainWindow, settle) -> None:
    window.resize(1024, 700)
    for title in TITLES:
        window.show_page(title)
        settle()
        wanted, there = window.pages.minimumSizeHint(), window.pages.parentWidget().parentWidget().size()
        assert wanted.width() <= there.width(), title
        assert wanted.height() <= there.height(), title


def test_large_text_fits_the_screen_and_every_switch_can_be_reached(window: MainWindow, qtbot: QtBot, settle) -> None:
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    before = application.font()
    larger = QFont(before)
    larger.setPointSizeF(before.pointSizeF() * 1.5)
    try:
        application.setFont(larger)
        window.resize(1280, 800)
        for title in TITLES:
            window.show_page(title)
            settle()
            assert window.minimumSizeHint().width() <= 1280, title
            assert window.minimumSizeHint().height() <= 800, title
            QApplication.processEvents()  # what stands beside each other gets below each other
            assert window.findChild(Room).horizontalScrollBar().maximum() == 0, title
            header = window.header
            for word in header.switches.words.values():
                corner = word.mapTo(header, word.rect().bottomRight())
                assert word.isVisible(), title
                assert header.rect().contains(corner), (title, word.text())
            window.grab()
    finally:
        application.setFont(before)
