"""A data set whose captures are at hand, and a project of many runs: no project need be open, and captures open."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest
from made_fleet import Changed, make_fleet
from PySide6.QtCore import Qt

from warm_ember.errors import BadFileError
from warm_ember.fleet.data_set import DataSet
from warm_ember.fleet.history import read_history
from warm_ember.library.collecting import collect
from warm_ember.session.project_river import MANY, RUN
from warm_ember.session.reaching import reach_capture
from warm_ember.ui.pages.runs.page import LADDER, RIVER
from warm_ember.ui.shell.window import MainWindow


@pytest.fixture(scope="session")
def fleet(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Two boards with a project each, and the data set beside them, of twelve builds; the seventh made it worse."""
    folder = tmp_path_factory.mktemp("fleet")
    projects = make_fleet(folder, builds=12, boards=2, changes=(Changed(6, "Count", 1.0),), length_s=10.0)
    collect(str(folder / "set"), projects, jobs=1)
    return folder


@pytest.fixture
def shown(empty_window: MainWindow, fleet: Path, settle) -> MainWindow:
    """The window on that data set, and no project."""
    empty_window.way_in.open_folder(fleet / "set")
    settle()
    return empty_window


def test_a_data_set_is_opened_without_a_project(shown: MainWindow) -> None:
    assert shown.controller.session is None
    assert shown.page is shown.pages.runs
    assert shown.pages.runs.view == RIVER
    assert "24" in shown.pages.link("Runs").figure
    assert "12 builds" in shown.pages.link("Runs").detail
    assert shown.windowTitle().startswith("set")
    assert shown.status.text().startswith("set")
    assert shown.pages.runs.missing() is None


def test_two_builds_are_compared_by_state_and_their_captures_open(shown: MainWindow, qtbot, settle) -> None:
    river = shown.pages.runs.river
    qtbot.keyClick(river.chart, Qt.Key.Key_Return)  # nothing is picked: what changed last
    assert river.is_comparing
    assert river.table.isVisible()
    assert not river.states.isVisible()
    assert (river.table.rows[0].name, river.table.rows[0].is_real) == ("Count", True)
    assert "of that is Count" in shown.pages.runs.sentence()
    assert shown.pages.link("Runs").figure.endswith("of **24**")
    a, b = (river.river.history.runs[run] for run in river.chart.runs)
    qtbot.keyClick(river.chart, Qt.Key.Key_Return)
    assert not river.is_comparing
    assert river.states.isVisible()
    qtbot.keyClick(river.chart, Qt.Key.Key_O)
    settle()
    assert shown.controller.session is not None
    assert shown.controller.session.current == b.run
    assert shown.controller.session.capture(b.run).info.board == b.board
    assert shown.page.title == "Trace"
    shown.show_page("Runs")
    # The other capture is on the same board: both stand beside each other as runs of a project do.
    river.chart.picked.emit(river.chart.a, river.river.history.values[river.chart.runs[0]], True)
    if a.board != b.board:
        other = next(n for n, run in enumerate(river.river.history.runs) if (run.key, run.board) == (a.key, b.board))
        river.chart.picked.emit(river.chart.a, float(river.river.history.values[other]), True)
    qtbot.keyClick(river.chart, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert shown.pages.runs.view == LADDER
    assert (shown.pages.runs.first, shown.pages.runs.second) == (a.run, b.run)


def test_what_was_looked_at_is_there_after_reading_again(shown: MainWindow, qtbot, settle) -> None:
    river = shown.pages.runs.river
    qtbot.keyClick(river.chart, Qt.Key.Key_Return)
    river.chart.zoom(0.5, 6.0)
    seen = river.chart.first, river.chart.last, river.chart.a, river.chart.b
    qtbot.keyClick(river.chart, Qt.Key.Key_F5)
    settle()
    assert (river.chart.first, river.chart.last, river.chart.a, river.chart.b) == seen
    assert river.is_comparing
    river.close_data_set()
    assert river.river is None
    assert river.open_key.isVisible()


def test_only_the_very_capture_is_reached(fleet: Path, tmp_path: Path) -> None:
    shutil.copytree(fleet, tmp_path / "moved")
    address = str(tmp_path / "moved" / "set")
    run = read_history(DataSet(address)).runs[0]
    assert reach_capture(address, run).project == fleet / f"board-{run.board}"  # where it was collected from
    stem = fleet / f"board-{run.board}" / "captures" / f"{run.run}.h5"
    hidden = stem.rename(stem.with_suffix(".away"))
    try:
        assert reach_capture(address, run).project == tmp_path / "moved" / f"board-{run.board}"  # beside the data set
        other = "2" if run.board == "1" else "1"
        shutil.rmtree(tmp_path / "moved" / f"board-{run.board}")
        elsewhere = shutil.copytree(tmp_path / "moved" / f"board-{other}", tmp_path / "moved" / f"board-{run.board}")
        with pytest.raises(BadFileError, match=f"{run.run}.*is not on this machine; it was collected from"):
            reach_capture(address, run, (elsewhere, tmp_path / "nothing"))
    finally:
        hidden.rename(stem)


def test_a_project_of_very_many_runs_is_shown_as_a_river(
    empty_window: MainWindow, tmp_path: Path, settle, qtbot
) -> None:
    (project,) = make_fleet(tmp_path, builds=MANY, boards=1, changes=(Changed(20, "Count", 0.6),), length_s=5.0)
    assert empty_window.controller.open(project)
    empty_window.show_page("Runs")
    settle()
    page = empty_window.pages.runs
    assert page.view == RIVER
    river = page.river.river
    assert river is not None
    assert [change.at for change in river.trend.changes] == ["build 21"]
    assert river.causes[0] is not None
    assert river.causes[0].state == "Count"
    averages = empty_window.controller.averages_a
    values = dict(zip(river.history.table["run"].to_pylist(), river.history.values.tolist(), strict=True))
    assert values == pytest.approx(averages)
    page.river.choose_by(RUN)
    settle()
    assert page.river.river.history.keys == tuple(run.label for run in empty_window.controller.project.runs)
    qtbot.keyClick(page.river.chart, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    assert page.view == LADDER
    empty_window.controller.select_run(empty_window.controller.project.runs[0].name)
    settle()
    assert page.view == LADDER  # who asked for the ladder keeps it
