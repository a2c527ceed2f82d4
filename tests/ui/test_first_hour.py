"""The first hour: from an empty window to a named project, by keys and clicks."""

from __future__ import annotations

import errno
import os
import shutil
from pathlib import Path

import numpy as np
import pytest
from driving import LEFT, type_into
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu, QWidget
from pytestqt.qtbot import QtBot

from warm_ember.model.project import Project
from warm_ember.session.recent import recent_projects
from warm_ember.session.session import Session
from warm_ember.session.state_results import day_ledger
from warm_ember.session.untitled import is_untitled, untitled_root
from warm_ember.store.project_folder import ProjectFolder
from warm_ember.ui.look.rich_text import plain
from warm_ember.ui.shell.action_finder import ActionFinder, actions_in
from warm_ember.ui.shell.page_stack import TITLES
from warm_ember.ui.shell.tour_steps import tour_steps
from warm_ember.ui.shell.window import MainWindow
from warm_ember.units import MONTH_S, months_text

_TEXT = "s,A\n" + "".join(f"{k / 100:.2f},{0.02 if k % 100 < 5 else 0.0004}\n" for k in range(1000))


@pytest.fixture(autouse=True)
def own_data_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))


@pytest.fixture
def here(own_data_folder: None, empty_window: MainWindow) -> MainWindow:
    """A window with nothing open, as it is the very first time."""
    return empty_window


def answer(monkeypatch: pytest.MonkeyPatch, how: str, *paths: Path) -> list[str]:
    """Let the next file dialogs be answered with paths; return the names that they suggest."""
    left, suggested = [str(path) for path in paths], []

    def one(_window: object, _title: str, suggestion: str = "", **_more: object) -> object:
        suggested.append(suggestion)
        path = left.pop(0)
        return {"getExistingDirectory": path, "getOpenFileNames": ([path], "")}.get(how, (path, ""))

    monkeypatch.setattr(QFileDialog, how, one)
    return suggested


def test_the_first_window_offers_four_ways_in(here: MainWindow, qtbot: QtBot) -> None:
    start = here.pages.start
    assert here.pages.is_starting
    assert here.controller.session is None
    assert start.cards["demo"].hasFocus(), "Enter explores the demo"
    assert not start.rows
    assert not here.header.isVisible()
    assert not here.budget.isVisible()
    assert start.scale.lives is None, "the window is up before they are worked out"
    qtbot.waitUntil(lambda: start.scale.lives is not None, timeout=60_000)
    here.grab()


def test_a_file_is_shown_without_any_project_and_saved_under_a_name(
    here: MainWindow, tmp_path: Path, qtbot: QtBot, settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "night.csv").write_text(_TEXT)
    answer(monkeypatch, "getOpenFileNames", tmp_path / "night.csv")
    qtbot.keyClick(here.pages.start.cards["demo"], Qt.Key.Key_O)
    settle()
    assert here.pages.is_importing
    here.pages.imports.accept()
    settle()
    session = here.controller.session
    assert session is not None
    assert is_untitled(session.folder.path)
    assert session.title == "untitled, from night.csv"
    assert "not named yet" in here.status.text()
    assert here.page is here.pages.trace
    assert here.controller.results.run.name == "night"
    mean_a = here.controller.results.load.mean_a
    suggested = answer(monkeypatch, "getSaveFileName", tmp_path / "post")
    here.way_in.save()
    settle()
    assert suggested[0].endswith("night")
    assert (tmp_path / "post" / "project.json").exists()
    assert not list(untitled_root().iterdir())
    assert here.controller.session.title == "post"
    assert here.controller.results.load.mean_a == mean_a
    assert "not named yet" not in here.status.text()
    answer(monkeypatch, "getSaveFileName")  # asking again would fail
    here.way_in.save()
    assert [one.path for one in recent_projects() if one.is_there] == [str(tmp_path / "post")]


def test_what_is_left_out_leaves_nothing_behind(here: MainWindow, tmp_path: Path, qtbot: QtBot, settle) -> None:
    (tmp_path / "night.csv").write_text(_TEXT)
    here.way_in.import_files([tmp_path / "night.csv"])
    settle()
    here.pages.imports.skip()
    settle()
    assert here.pages.is_starting
    assert here.controller.session is None
    assert not list(untitled_root().iterdir())
    assert [row.is_there for row in here.pages.start.rows] == []


def test_a_place_that_is_taken_is_told_and_nothing_is_lost(
    here: MainWindow, tmp_path: Path, settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "night.csv").write_text(_TEXT)
    (tmp_path / "taken").mkdir()
    (tmp_path / "taken" / "thesis.txt").write_text("not ours")
    here.way_in.import_files([tmp_path / "night.csv"])
    settle()
    here.pages.imports.accept()
    settle()
    answer(monkeypatch, "getSaveFileName", tmp_path / "taken")
    here.way_in.save()
    settle()
    assert "something of that name" in here.messages.words.text()
    assert here.controller.session is not None
    assert here.controller.results.run.name == "night"


def test_projects_open_by_their_number_and_lost_ones_are_located(
    here: MainWindow, tmp_path: Path, qtbot: QtBot, settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(7):
        ProjectFolder(tmp_path / f"p{number}").save(Project(name=f"post {number}"))
        assert here.controller.open(tmp_path / f"p{number}")
        settle()
    here.way_in.show_start()
    start = here.pages.start
    assert [row.entry.name for row in start.rows] == [f"post {number}" for number in (6, 5, 4, 3, 2)]
    qtbot.keyClick(start.cards["demo"], Qt.Key.Key_0)
    assert len(start.rows) == 7
    qtbot.keyClick(start.cards["demo"], Qt.Key.Key_3)
    assert here.controller.session.title == "post 4"
    assert not here.pages.is_starting
    shutil.move(tmp_path / "p1", tmp_path / "elsewhere")
    here.way_in.show_start()
    lost = next(row for row in start.rows if row.entry.name == "post 1")
    assert not lost.is_there
    assert "the folder is not there" in lost.place
    answer(monkeypatch, "getExistingDirectory", tmp_path / "elsewhere")
    lost.setFocus()
    qtbot.keyClick(lost, Qt.Key.Key_L)
    settle()
    assert here.controller.session.folder.path == tmp_path / "elsewhere"
    assert all(one.path != str(tmp_path / "p1") for one in recent_projects())
    here.grab()


def test_the_demo_opens_with_its_tour(here: MainWindow, demo_copy: Path, qtbot: QtBot, settle) -> None:
    # It was made before: making it again is tested where it is made.
    shutil.copytree(demo_copy, Path(untitled_root().parent) / "demo")
    qtbot.keyClick(here.pages.start.cards["demo"], Qt.Key.Key_D)
    settle()
    tour = here.tour
    assert tour.isVisible()
    assert len(tour.steps) == 7
    seen = []
    for place in range(7):
        assert f"{place + 1} of 7" in tour.count.text()
        qtbot.mouseClick(tour.show_key, LEFT)
        settle()
        seen.append(here.page.title)
        here.grab()
        qtbot.mouseClick(tour.next_key, LEFT)
    assert seen == ["Runs", "Trace", "States", "Wakes", "Battery", "Tune", "Tune"]
    assert not tour.isVisible()
    assert here.controller.session.current == "r5"
    here.help.begin_tour()
    qtbot.keyClick(tour, Qt.Key.Key_Escape)
    assert not tour.isVisible()


@pytest.mark.all_runs
def test_what_the_tour_says_is_true(window: MainWindow, settle) -> None:
    window.show_page("Runs")
    settle()
    project, results = window.controller.project, window.controller.results
    lives = {name: one.life.life_s for name, one in window.controller.all_results.items()}
    assert len(lives) == 5
    assert f"{project.target_s / MONTH_S:.0f} months" in tour_steps(window)[0].words
    assert [name for name, life_s in lives.items() if life_s >= project.target_s] == ["r5"]
    assert results.run.name == "r4"
    day = day_ledger(results)
    assert max(day, key=lambda name: day[name].charge_c) == "Modem idle"
    assert day["Modem idle"].time_share < 0.05


def test_the_guide_opens_at_the_page_and_is_searched(window: MainWindow, qtbot: QtBot) -> None:
    for title in TITLES:
        window.show_page(title)
        window.help.show_guide()
        guide = window.pages.guide
        assert guide.chapter == title
        text = guide.text.toPlainText()
        assert f"Alt+{TITLES.index(title) + 1}" in text
        assert "Ctrl+I" in text
        assert "Ctrl+Z" in text
        window.help.show_guide()
        assert window.page is window.pages.page(title)
    window.help.show_guide()
    qtbot.keyClicks(guide.search, "break-even")
    found = [guide.list.item(row).text().split("\n")[0] for row in range(guide.list.count())]
    assert "Wakes" in found
    assert "Bench" not in found
    window.grab()
    qtbot.keyClick(guide.search, Qt.Key.Key_Escape)
    assert not window.pages.is_reading


def test_every_action_is_found_by_its_words(window: MainWindow, qtbot: QtBot) -> None:
    window.show_page("Runs")
    window.help.find_action()
    finder = next(one for one in QApplication.topLevelWidgets() if isinstance(one, ActionFinder))
    every = finder.list.count()
    assert every > 60
    qtbot.keyClicks(finder.words, "exp fold")
    assert finder.list.count() == 1
    finder.words.clear()
    qtbot.keyClicks(finder.words, "nothing has these")
    assert finder.list.count() == 0
    assert finder.none.isVisibleTo(finder)
    finder.words.clear()
    qtbot.keyClicks(finder.words, "view bat")
    qtbot.keyClick(finder.words, Qt.Key.Key_Return)
    assert window.page is window.pages.battery
    window.help.find_action()  # what is only a button is found as well, in the view that it stands in
    finder = [one for one in QApplication.topLevelWidgets() if isinstance(one, ActionFinder) and one.isVisible()][-1]
    qtbot.keyClicks(finder.words, "take baseline")
    qtbot.keyClick(finder.words, Qt.Key.Key_Return)
    assert window.page is window.pages.bench
    assert window.pages.trace.view == "data quality"


def test_what_was_done_is_not_told_of_another_project(window: MainWindow, tmp_path: Path, settle) -> None:
    window.controller.noted.emit("r4 is there")
    assert window.messages.isVisible()
    with Session.open_or_create(tmp_path / "other") as other:
        other.save()
    assert window.controller.open(tmp_path / "other")
    settle()
    assert not window.messages.isVisible()


def test_no_two_actions_share_a_shortcut(window: MainWindow) -> None:
    for title in TITLES:
        window.pages.page(title)
    everywhere = [one for name in ("File", "View", "Capture", "Help") for one in actions_in(window.menu_of[name])]
    of_page = Qt.ShortcutContext.WidgetWithChildrenShortcut
    shared = [one for one in everywhere if one.action.shortcutContext() != of_page]
    assert len(shared) > 20
    for title in TITLES:
        known: dict[str, list[QWidget]] = {}
        for one in (*shared, *actions_in(window.page_menus[title])):
            widgets = [two for two in one.action.associatedObjects() if isinstance(two, QWidget)]
            listens = next((two for two in widgets if not isinstance(two, QMenu)), window)
            for other in known.setdefault(one.keys, []) if one.keys else ():
                # Two views of a page may each have a key of their own, as only one has the keyboard.
                is_apart = not (listens is other or listens.isAncestorOf(other) or other.isAncestorOf(listens))
                assert is_apart, (title, one.keys)
            known.setdefault(one.keys, []).append(listens)


def test_without_hardware_the_simulated_bench_is_recorded(here: MainWindow, qtbot: QtBot, settle) -> None:
    qtbot.keyClick(here.pages.start.cards["demo"], Qt.Key.Key_R)
    settle()
    page = here.pages.bench
    assert here.page is page
    assert here.controller.session.title == "untitled"
    qtbot.mouseClick(page.recipe.simulated_key, LEFT)
    settle()
    simulated = page.bench_controller.simulated
    assert simulated is not None
    assert here.controller.project.bench.resource == simulated.resource
    type_into(qtbot, page.recipe.settings["duration_s"], "1 s")
    qtbot.mouseClick(page.strip.key, LEFT)
    qtbot.waitUntil(
        lambda: bool(here.controller.project.runs) and not page.bench_controller.is_recording, timeout=60_000
    )
    settle()
    assert here.controller.results.capture.duration_s == pytest.approx(1.0)
    assert here.controller.results.load.mean_a > 1e-5
    assert is_untitled(here.controller.session.folder.path)
    here.close()
    assert not simulated.is_running


def test_a_folder_of_files_is_imported_at_once(here: MainWindow, tmp_path: Path, qtbot: QtBot, settle) -> None:
    folder = tmp_path / "week"
    folder.mkdir()
    for day in range(20):
        (folder / f"day {day:02d}.csv").write_text(_TEXT)
    (folder / "notes.md").write_text("rainy")
    (folder / "day 03.events.csv").write_text("time_s,event,name,value\n0,state,Sleep,\n")
    here.way_in.import_files([folder])
    settle()
    imports = here.pages.imports
    assert "File 1 of 20" in plain(here.header.sentence)
    assert imports.all_button.text() == "Import all 20"
    imports.skip()
    settle()
    assert "File 2 of 20" in plain(here.header.sentence)
    qtbot.keyClick(imports, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    settle()
    runs = here.controller.project.runs
    assert sorted(run.name for run in runs) == [f"day {day:02d}" for day in range(1, 20)]
    assert here.controller.session.capture("day 03").events
    means_a = {here.controller.session.run(run.name).whole.mean_a for run in runs}
    assert len(means_a) == 1


def test_a_file_of_another_kind_shows_nothing_of_the_one_before(
    here: MainWindow, tmp_path: Path, qtbot: QtBot, settle
) -> None:
    (tmp_path / "night.csv").write_text(_TEXT)
    (tmp_path / "photo.png").write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(range(256)) * 8)
    here.way_in.import_files([tmp_path / "night.csv", tmp_path / "photo.png"])
    settle()
    imports = here.pages.imports
    assert "s,A" in imports.raw.toPlainText()
    imports.skip()
    settle()
    assert "binary data" in plain(here.header.warning)
    assert imports.raw.toPlainText() == ""
    assert not imports.import_button.isEnabled()
    assert not imports.all_button.isVisible()
    imports.numbers["rate"].set_value(1000.0)
    imports.numbers["ampere per count"].set_value(1e-6)
    imports.choose("samples are", "i16")
    settle()
    assert imports.shown is not None, "it can be told that these are numbers all the same"
    imports.skip()
    settle()
    assert here.pages.is_starting


def test_a_file_that_cannot_be_understood_shows_its_lines(here: MainWindow, tmp_path: Path, settle) -> None:
    (tmp_path / "odd.csv").write_text("when;how much\nnoon;some\none;more\n")
    here.way_in.import_files([tmp_path / "odd.csv"])
    settle()
    assert here.pages.imports.shown is None
    assert "noon;some" in here.pages.imports.raw.toPlainText()
    here.grab()


@pytest.mark.parametrize("what", ["empty", "of notes", "forbidden", "gone"])
def test_a_folder_that_is_of_no_use_is_told_and_nothing_begins(
    what: str, here: MainWindow, tmp_path: Path, settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "lab"
    if what != "gone":
        folder.mkdir()
    if what == "of notes":
        (folder / "notes.md").write_text("rainy")
    if what == "forbidden":
        ProjectFolder(folder).save(Project(name="lab"))
        folder.chmod(0)
        as_somebody_else(monkeypatch, folder)
    before = here.controller.session
    here.way_in.import_files([folder])
    settle()
    if here.pages.is_importing:
        assert what == "gone"
        assert plain(here.header.warning)
        here.pages.imports.skip()
        settle()
    else:
        assert "folder" in here.messages.words.text()
    assert here.controller.session is before is None
    assert here.pages.is_starting
    assert not here.controller.open(folder)
    assert here.messages.words.text()


def as_somebody_else(monkeypatch: pytest.MonkeyPatch, folder: Path) -> None:
    """Let the rights on a folder hold for the superuser too."""
    if os.geteuid() != 0:
        return
    for name in ("stat", "listdir", "scandir"):
        plain_call = getattr(os, name)

        def checked(path: object = ".", *more: object, call=plain_call, **named: object) -> object:
            if str(path).startswith(f"{folder}/") or (call is not os_stat and str(path) == str(folder)):
                raise PermissionError(errno.EACCES, os.strerror(errno.EACCES), str(path))
            return call(path, *more, **named)

        monkeypatch.setattr(os, name, checked)


os_stat = os.stat


def test_each_page_offers_the_step_that_fills_it(
    here: MainWindow, tmp_path: Path, qtbot: QtBot, settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "night.csv").write_text(_TEXT)
    ProjectFolder(tmp_path / "post").save(Project(name="post"))
    assert here.controller.open(tmp_path / "post")
    offered = {}
    for title in TITLES:
        here.show_page(title)
        offered[title] = [name for name, key in here.next_step.keys.items() if key.isVisible()]
        here.grab()
    assert offered == {title: [] if title == "Bench" else ["file", "record"] for title in TITLES}
    answer(monkeypatch, "getOpenFileNames", tmp_path / "night.csv")
    qtbot.mouseClick(here.next_step.keys["file"], LEFT)
    settle()
    assert not here.next_step.isVisible()
    here.pages.imports.accept()
    settle()
    for title in TITLES:
        here.show_page(title)
        settle()
        offered[title] = [name for name, key in here.next_step.keys.items() if key.isVisible()]
    assert {title: names for title, names in offered.items() if names} == {
        "Tune": ["parts"],
        "Runs": ["file", "record"],
    }
    qtbot.mouseClick(here.next_step.keys["record"], LEFT)
    assert here.page is here.pages.bench


def test_from_ones_own_file_to_months_by_keys_alone(
    here: MainWindow, tmp_path: Path, qtbot: QtBot, settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A gate sensor that no one has seen before, in a file with decimal commas and microamperes."""
    random, at = np.random.default_rng(3), np.arange(60_000) / 1e3
    current = np.where(at % 7.0 < 0.04, 4e-3, 6.3e-6)
    current = np.where((at - 3) % 30.0 < 0.18, 38e-3, current) * (1 + 0.01 * random.standard_normal(len(at)))
    lines = (f"{a:.3f};{b * 1e6:.3f}".replace(".", ",") for a, b in zip(at, current, strict=True))
    (tmp_path / "gate sensor.csv").write_text("time [s];I [uA]\n" + "\n".join(lines))
    answer(monkeypatch, "getOpenFileNames", tmp_path / "gate sensor.csv")

    def press(key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        qtbot.keyClick(QApplication.focusWidget() or here, key, modifier)
        settle()

    def tab_to(name: str) -> QWidget:
        for _ in range(60):
            press(Qt.Key.Key_Tab)
            focused = QApplication.focusWidget()
            if focused is not None and focused.accessibleName().casefold() == name:
                return focused
        raise AssertionError(f"Tab does not come to {name}")

    press(Qt.Key.Key_O)
    press(Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert here.page is here.pages.trace
    assert here.controller.results.whole.mean_a == pytest.approx(current.mean(), rel=1e-4)
    press(Qt.Key.Key_5, Qt.KeyboardModifier.AltModifier)
    assert here.page is here.pages.battery
    assert "no battery chosen" in here.header.warning
    qtbot.keyClicks(tab_to("cell"), "FR6")
    press(Qt.Key.Key_Return)
    target = tab_to("target")
    target.selectAll()
    qtbot.keyClicks(target, "36 months")
    press(Qt.Key.Key_Return)
    life = here.controller.results.life
    assert life.target_s == pytest.approx(36 * MONTH_S)
    assert here.header.sentence.startswith(f"{months_text(life.life_s).rich}; target **36**")
