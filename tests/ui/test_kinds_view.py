"""A capture with nothing but a current, as a user drives it: kinds, their names, the model, states and parts."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import msgspec
import numpy as np
import pytest
from made_bursts import MadeKind, render
from PySide6.QtCore import QMimeData, QPointF, Qt
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from ui.driving import LEFT, type_into
from warm_ember.formats.source import ImportOptions
from warm_ember.model.battery import FromWakes
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.project import Bracket, Run
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.new_capture import adopt
from warm_ember.session.session import Session
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.ui.pages.wakes.kind_table import WAKE
from warm_ember.ui.pages.wakes.page import WakesPage
from warm_ember.ui.shell.window import MainWindow

PAGE = "Wakes"

RATE_HZ = 2e3
SENSOR = MadeKind(((3e-3, 0.03), (7e-3, 0.01)), "timer", 2.0, 1e-4, 0.01, 0.02, 2e-3)
RADIO = MadeKind(((4e-3, 0.2), (60e-3, 0.5), (9e-3, 0.3)), "timer", 16.0, 0.0, 0.005, 0.0, 5e-3)


def write(
    session: Session, name: str, *kinds: MadeKind, seed: int = 2, longer: float = 0.0, alone: bool = False
) -> None:
    """Write a run without anything but a current, one of its radio's wakes longer, and one wake like no other."""
    made = render(np.random.default_rng(seed), kinds, 4.2e-6, 0.2e-6, 120.0, RATE_HZ)
    values = made.current.read(0, made.current.samples).copy()
    if longer:
        at = round(float(made.end_s[made.kind == 1][2]) * RATE_HZ)
        values[at : at + round(longer * RATE_HZ)] += np.float32(9e-3)
    if alone:
        values[round(11.0 * RATE_HZ) : round(12.2 * RATE_HZ)] += np.float32(1.5e-3)
    with CaptureWriter(session.folder.capture_path(name)) as writer:
        writer.append(values)
        writer.finish(CaptureInfo(1 / RATE_HZ, supply_v=3.0), ())
    session.add_run(Run(name))


@pytest.fixture
def bare(empty_window: MainWindow, tmp_path: Path, settle) -> MainWindow:
    (tmp_path / "bare" / "captures").mkdir(parents=True)
    session = Session.open_or_create(tmp_path / "bare")
    write(session, "two", replace(SENSOR, period_s=4.0), RADIO, seed=5)
    write(session, "one", SENSOR, RADIO, seed=2, longer=0.25, alone=True)
    session.save()
    session.close()
    assert empty_window.controller.open(tmp_path / "bare")
    settle()
    empty_window.show_page("Wakes")
    settle()
    return empty_window


@pytest.fixture
def page(bare: MainWindow) -> WakesPage:
    return bare.pages.wakes


def labels(page: WakesPage) -> list[str]:
    assert page.kinds.shown is not None
    return [kind.label for kind in page.kinds.shown.kinds.kinds]


def test_kinds_are_what_is_seen_first(bare: MainWindow, page: WakesPage, qtbot: QtBot, settle) -> None:
    assert page.view == "kinds"
    assert page.kinds.chosen == "A"
    assert labels(page) == ["kind A", "kind B"]
    assert "**2** kinds of wakes take" in page.sentence()
    assert "One wake is like no other." in page.sentence()
    assert bare.navigation.links["Wakes"].shown.detail == "**2** kinds, **1** unsorted"
    assert [row.name for row in page.kinds.table.named_boxes()] == ["kind A", "kind B", "unsorted"]
    assert "every 16.0 s" in page.kinds.table.read_text()
    lit = page.stack.current.lit_s
    assert len(lit) == page.kinds.shown.kind("A").count
    qtbot.keyClick(page.kinds.table, Qt.Key.Key_Down)
    assert page.kinds.chosen == "B"
    assert len(page.stack.current.lit_s) > len(lit)
    assert page.raster.chosen == "kind B"
    page._copy()
    assert QApplication.clipboard().text().splitlines()[1].startswith("kind A\tevery 16.0 s")
    page.show_view("sources")
    assert len(page.stack.current.lit_s) == 0


def test_an_odd_one_is_listed_and_leads_to_its_moment(bare: MainWindow, page: WakesPage, qtbot: QtBot) -> None:
    detail = page.kinds.detail
    page.choose_kind("A")
    assert len(detail.odd) == 1
    qtbot.mouseClick(detail, LEFT, pos=detail.odd_box(0).center().toPoint())
    kinds = page.kinds.shown.kinds
    begin_s = float(kinds.first[detail.odd[0]]) * kinds.interval_s
    assert bare.window_on_time.from_s < begin_s < bare.window_on_time.to_s
    assert "odd wake 1" in [one.name for one in detail.named_boxes()]
    page.choose_kind("")
    assert detail.odd == tuple(kinds.unsorted.tolist())


def test_a_kind_is_named_and_the_name_is_used_everywhere(
    bare: MainWindow, page: WakesPage, qtbot: QtBot, settle
) -> None:
    page.choose_kind("A")
    page.kinds.table.rename()
    type_into(qtbot, page.kinds.table.edit, "report")
    settle()
    assert labels(page) == ["report", "kind B"]
    assert {row.source for row in page.ledger.sources} == {"report", "kind B", "unsorted"}
    bare.controller.select_run("two")
    settle()
    assert labels(page) == ["report", "kind B"]  # another capture's wakes are recognised
    assert bare.controller.session.undoable == "name a kind"
    bare.controller.undo()
    settle()
    assert labels(page) == ["kind A", "kind B"]


def test_kinds_are_joined_split_and_sorted_anew(bare: MainWindow, page: WakesPage, settle) -> None:
    counts = [kind.count for kind in page.kinds.shown.kinds.kinds]
    page.choose_kind("B")
    page.kind_editing.join_most_alike()
    settle()
    assert [kind.count for kind in page.kinds.shown.kinds.kinds] == [sum(counts)]
    bare.controller.undo()
    settle()
    page.choose_kind("A")
    page._split()
    settle()
    assert sorted(kind.count for kind in page.kinds.shown.kinds.kinds) == sorted([1, counts[0] - 1, counts[1]])
    page.kind_editing.forget()
    settle()
    assert [kind.count for kind in page.kinds.shown.kinds.kinds] == counts


def test_a_lone_wake_is_named_or_dropped_on_a_kind(bare: MainWindow, page: WakesPage, qtbot: QtBot, settle) -> None:
    (wake,) = page.kinds.shown.kinds.unsorted.tolist()
    before = page.kinds.shown.kind("B").count
    data = QMimeData()
    data.setData(WAKE, str(wake).encode())
    at = QPointF(page.kinds.table.row_box(1).center())
    page.kinds.table.dropEvent(
        QDropEvent(at, Qt.DropAction.MoveAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
    )  # fmt: skip
    settle()
    assert page.kinds.shown.kind("B").count == before + 1
    assert len(page.kinds.shown.kinds.unsorted) == 0
    bare.controller.undo()
    settle()
    page.choose_kind("")
    page.kinds.table.rename()
    type_into(qtbot, page.kinds.table.edit, "update")
    settle()
    assert "update" in labels(page)
    assert len(page.kinds.shown.kinds.unsorted) == 0


def test_a_bracket_says_what_its_wake_is(bare: MainWindow, page: WakesPage, settle) -> None:
    said = []
    bare.controller.noted.connect(said.append)
    page.choose_kind("A")
    page._on_b()
    assert "no bracket" in said[-1]
    bracket = Bracket("A", "one", 10.9, 12.3)
    bare.controller.apply(lambda project: msgspec.structs.replace(project, brackets=(bracket,)), "draw a bracket")
    settle()
    before = page.kinds.shown.kind("A").count
    page._on_b()
    settle()
    assert page.kinds.shown.kind("A").count == before + 1


def test_a_state_that_lasts_stands_below_the_kinds(bare: MainWindow, page: WakesPage, settle) -> None:
    session = bare.controller.session
    assert session is not None
    made = render(np.random.default_rng(4), (SENSOR, RADIO), 4.2e-6, 0.2e-6, 120.0, RATE_HZ)
    values = made.current.read(0, made.current.samples).copy()
    values[60_000:120_000] += np.float32(2e-3)
    path = session.folder.path / "idles.f32"
    values.tofile(path)
    adopt(session, import_file(session, ImportRequest(path, ImportOptions(rate_hz=RATE_HZ), supply_v=3.0)))
    assert bare.controller.open(session.folder.path)
    bare.controller.select_run("idles")
    settle()
    assert page.kinds.shown is not None
    height = page.kinds.table.minimumHeight()
    assert "longer than any wake\t\t\t30" in page.kinds.table.text()
    assert "30.0 s at 2.00 mA left out" in page.kinds.strip.sentence.words
    bare.controller.select_run("two")
    settle()
    assert page.kinds.shown.kinds.stays == ()
    assert page.kinds.table.minimumHeight() < height


def test_the_model_is_offered_until_it_is_taken(bare: MainWindow, page: WakesPage, qtbot: QtBot, settle) -> None:
    assert "reproduces" in page.kinds.strip.sentence.words
    assert page.kinds.strip.isVisible()
    bare.show_page("Battery")
    settle()
    battery = bare.pages.battery
    assert battery.strip.isVisible()
    assert "every 16.0 s" in battery.strip.sentence.text()
    qtbot.mouseClick(battery.strip.button, LEFT)
    settle()
    assert [one.source for one in bare.controller.project.activities] == [FromWakes("kind A"), FromWakes("kind B")]
    assert not battery.strip.isVisible()
    results = bare.controller.results
    assert results.reproduced.model_a == pytest.approx(results.ledger.mean_a, rel=0.15)  # one wake is like no other
    bare.show_page("Wakes")
    settle()
    assert not page.kinds.strip.isVisible()
    bare.controller.undo()
    settle()
    qtbot.keyClick(page.kinds.table, Qt.Key.Key_Return)
    settle()
    assert len(bare.controller.project.activities) == 2


def test_the_states_may_be_the_kinds(bare: MainWindow, page: WakesPage, qtbot: QtBot, settle) -> None:
    bare.show_page("States")
    settle()
    states = bare.pages.states
    assert "there is neither a log nor a line" in states.sentence()
    part = states.views["ledger"]
    (switch,) = [one for one in part._switches_now() if one.title == "States from"]
    assert switch.options == ("levels", "kinds")
    switch.choose("kinds")
    settle()
    names = [row.name for row in bare.controller.results.ledger.rows]
    assert set(names) == {"sleep", "kind A", "kind B", "unsorted"}
    ledger = bare.controller.results.ledger
    assert ledger.unplaced_share == 0
    assert ledger.row("kind A").entries == page.kinds.shown.kind("A").count
    page.kind_editing.name("A", "report")
    settle()
    assert bare.controller.results.ledger.row("report") is not None


def test_runs_say_what_became_of_each_kind(bare: MainWindow, settle) -> None:
    bare.show_page("Runs")
    settle()
    session = bare.controller.session
    found = session.tuning.compare(session.project, "one", "two")
    words = {one.label: one.words for one in found.kinds}
    assert "came every 2.00 s" in words["kind B"]
    assert {one.name for one in found.sources} >= {"kind A", "kind B"}


def test_parts_are_entered_until_a_cell_is_unexplained(bare: MainWindow, qtbot: QtBot, settle) -> None:
    bare.show_page("Tune")
    settle()
    tune, said = bare.pages.tune, []
    bare.controller.noted.connect(said.append)
    type_into(qtbot, tune.part_line.edit, "Rowan: run fast")
    assert "expected a mode and its current" in said[-1]
    assert bare.controller.project.parts == ()
    type_into(qtbot, tune.part_line.edit, "Rowan: deep sleep 1.6 uA, run 3.1 mA")
    settle()
    QApplication.clipboard().setText("part\tmode\tcurrent (uA)\nThrush\ton\t0.2\n\toff\t0")
    tune._paste_parts()
    settle()
    assert [part.name for part in bare.controller.project.parts] == ["Rowan", "Thrush"]
    matrix = tune.matrix
    lowest = matrix.matrix.columns[0].state
    matrix.mode_said.emit("Rowan", "deep sleep", lowest)
    matrix.mode_said.emit("Thrush", "on", lowest)
    settle()
    column = tune.matrix.matrix.column(lowest)
    assert column.sum_a == pytest.approx(1.8e-6)
    assert column.is_open
    assert "unexplained" in tune.broken.text()
    target = Path(bare.controller.session.folder.path) / "parts-out.json"
    tune.save_parts(target)
    assert target.exists()
    tune._drop_part()
    settle()
    assert [part.name for part in bare.controller.project.parts] == ["Thrush"]
