"""The sweep on Tune: it is run, stopped, gone on with, looked at, and its best setting goes into the plan."""

from __future__ import annotations

import json

import pytest
from PySide6.QtCore import QPointF, Qt
from pytestqt.qtbot import QtBot

from bench.benches import AskedClock, Serve, address, console_address, serve
from warm_ember.bench.simulated.server import BenchServer
from warm_ember.model.plan import ReduceAverage
from warm_ember.model.project import RunKind
from warm_ember.session.edits import SetFields
from warm_ember.ui.pages.tune.sweep_view import SweepView
from warm_ember.ui.shell.window import MainWindow

__all__ = ["serve"]

PAGE = "Tune"


@pytest.fixture
def bench(serve: Serve) -> BenchServer:
    """A bench whose time goes on as it is asked."""
    return serve(clock=AskedClock(20.0))


@pytest.fixture
def view(window: MainWindow, bench: BenchServer, settle) -> SweepView:
    """The sweep's view on the demo, with that bench."""
    window.controller.apply(SetFields("bench", {"resource": address(bench)}), "bench")
    window.show_page("Tune")
    window.pages.tune.show_view("sweep")
    settle()
    return window.pages.tune.sweep


def recipe(bench: BenchServer, **changed: object) -> str:
    interval = {"name": "interval", "values": [60, 90, 120], "send": "interval {value}", "confirm": "^ok", "unit": "s"}
    sleep = {"name": "sleep", "values": ["deep", "off"], "send": "sleep {value}", "confirm": "^ok"}
    usual = {
        "parameters": [interval | {"latency_per_value": 1}, sleep],
        "repeats": 1,
        "record_s": 120,
        "console": console_address(bench),
        "settings": {"voltage_v": 3.0, "limit_a": 0.5, "interval_s": 2e-3},
        "goal": {"max_latency_s": 100},
        "search": "grid",
        "prepare": ["passers off"],
    }
    return json.dumps(usual | changed)


def run(view: SweepView, qtbot: QtBot, settle, text: str) -> None:
    """Run a recipe to its end."""
    view.recipe.setPlainText(text)
    qtbot.mouseClick(view.keys["run"], Qt.MouseButton.LeftButton)
    assert view.sweeps.is_running
    qtbot.waitUntil(lambda: not view.sweeps.is_running, timeout=120_000)
    settle()


def test_before_there_is_one_a_recipe_to_begin_with_is_there(window: MainWindow, view: SweepView) -> None:
    assert "No sweep yet" in window.pages.tune.sentence()
    assert json.loads(view.recipe.toPlainText())["parameters"][0]["name"] == "interval"
    assert view.keys["run"].isVisible()
    assert not view.keys["stop"].isVisible()
    assert not view.take_key.isVisible()


def test_it_is_run_and_looked_at_and_goes_into_the_plan(
    window: MainWindow, view: SweepView, bench: BenchServer, qtbot: QtBot, settle
) -> None:
    current = window.controller.session.current
    run(view, qtbot, settle, recipe(bench))
    assert not bench.instrument.is_on
    assert view.result is not None
    assert view.result.measured == 6
    assert "**6** of **6** settings measured" in window.pages.tune.sentence()
    assert "Interval **90** s" in window.pages.tune.sentence()
    assert window.controller.session.current == current  # what is looked at stays
    assert [one.name for one in window.controller.project.rungs] == ["r4"]
    assert sum(one.kind is RunKind.POINT for one in window.controller.project.runs) == 6
    assert len(view.points.named_boxes()) == 6
    assert len(view.chart.named_boxes()) == 6
    assert len(view.grid.named_boxes()) == 6
    names = [name for name, *_ in view.learnt.rows()]
    assert names[:2] == ["floor", "charge"]
    assert "sleep" in names
    assert len(view.result.course) == 6
    # A point in the picture, a row and a cell choose the same.
    box = view.chart.named_boxes()[0].box.center()
    qtbot.mouseClick(view.chart, Qt.MouseButton.LeftButton, pos=QPointF(box).toPoint())
    assert view.chosen is not None
    before = view.chosen
    view.points.setFocus()
    qtbot.keyClick(view.points, Qt.Key.Key_Down)
    assert view.chosen != before or view.points.rows()[-1].setting == before
    qtbot.keyClick(view.points, Qt.Key.Key_Return)
    change = window.controller.project.plan.changes[-1]
    assert change.on == window.controller.project.latest
    assert change.latency_s == 30.0
    assert isinstance(change.effects[0], ReduceAverage)
    assert change.effects[0].saved_a == pytest.approx(view.result.chosen.saves_a.value)
    qtbot.keyClick(view.points, Qt.Key.Key_O)
    settle()
    assert window.page.title == "Trace"
    assert window.controller.session.current.startswith("sweep ")


def test_it_is_stopped_and_goes_on(
    window: MainWindow, view: SweepView, bench: BenchServer, qtbot: QtBot, settle
) -> None:
    view.recipe.setPlainText(recipe(bench, repeats=2))
    view.run()
    journal = window.controller.project_folder / "sweeps"
    qtbot.waitUntil(lambda: any(journal.glob("*.json")), timeout=60_000)
    assert view.recipe.isReadOnly()
    qtbot.mouseClick(view.keys["stop"], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not view.sweeps.is_running, timeout=60_000)
    settle()
    assert not bench.instrument.is_on
    assert view.result is not None
    kept = [one.capture for one in view.result.progress.recordings]
    assert 1 <= len(kept) < 12
    run(view, qtbot, settle, recipe(bench, repeats=2))
    done = [one.capture for one in view.result.progress.recordings]
    assert done[: len(kept)] == kept
    assert len(set(done)) == 12
    # It is there again when the project is opened the next time.
    window.controller.open(window.controller.project_folder)
    settle()
    window.pages.tune.show_view("sweep")
    settle()
    assert view.result is not None
    assert len(view.result.progress.recordings) == 12


def test_what_is_wrong_with_a_recipe_is_told(view: SweepView, window: MainWindow, qtbot: QtBot) -> None:
    told: list[str] = []
    window.controller.troubled.connect(told.append)
    for text, words in (("{", "no recipe of a sweep"), ('{"parameters": []}', "one parameter at least")):
        view.recipe.setPlainText(text)
        view.run()
        assert words in told[-1]
        assert not view.sweeps.is_running


def test_a_person_is_asked_and_answers(
    view: SweepView, window: MainWindow, bench: BenchServer, qtbot: QtBot, settle
) -> None:
    jumper = {"name": "jumper", "values": [1, 2], "send": {"ask": "Set the jumper to {value}"}}
    view.recipe.setPlainText(recipe(bench, parameters=[jumper], record_s=20, console="", prepare=[]))
    view.run()
    for _ in range(2):
        qtbot.waitUntil(lambda: view.keys["done"].isVisible(), timeout=60_000)
        assert view.state.text().startswith("Set the jumper to")
        view.keys["done"].click()
        qtbot.waitUntil(lambda: not view.keys["done"].isVisible(), timeout=60_000)
    qtbot.waitUntil(lambda: not view.sweeps.is_running, timeout=60_000)
    settle()
    assert view.result is not None
    assert view.result.measured == 2


def entered(view: SweepView, qtbot: QtBot, name: str, words: str) -> None:
    """Enter something in a field of the recipe, as a person does."""
    field = view.form.fields[name]
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, words)
    qtbot.keyClick(field, Qt.Key.Key_Return)


def test_the_recipe_is_entered_in_fields(
    window: MainWindow, view: SweepView, bench: BenchServer, qtbot: QtBot, settle
) -> None:
    view.recipe.setPlainText(recipe(bench, note="build 7"))
    view.show_recipe_as("fields")
    for name, words in (
        ("values 1", "60 to 120, 2 steps"),
        ("values 2", "deep off"),
        ("lives at least", "3 months"),
        ("answers within", "2 min"),
        ("stop after", "2 h"),
        ("repeats", "2"),
    ):
        entered(view, qtbot, name, words)
    told = json.loads(view.recipe.toPlainText())
    assert told["parameters"][0]["values"] == {"from": 60, "to": 120, "steps": 2, "log": False}
    assert told["goal"] == {"min_months": 3, "max_latency_s": 120}
    assert (told["stop"], told["repeats"], told["note"]) == ({"hours": 2}, 2, "build 7")  # what has no field stays
    troubles: list[str] = []
    window.controller.troubled.connect(troubles.append)
    entered(view, qtbot, "values 1", "a to b, 3 steps")
    assert "ends of a range are numbers" in troubles[-1]
    assert view.form.fields["values 1"].text() == "60 to 120, 2 steps"
    qtbot.mouseClick(view.form.keys["add"], Qt.MouseButton.LeftButton)
    assert len(view.form.recipe.parameters) == 3
    qtbot.mouseClick(view.keys["run"], Qt.MouseButton.LeftButton)  # the new one says not yet how it is set
    assert "{value}" in troubles[-1]
    assert not view.sweeps.is_running
    qtbot.mouseClick(view.form.keys["remove 3"], Qt.MouseButton.LeftButton)
    entered(view, qtbot, "repeats", "1")
    field = view.form.fields["values 2"]
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, "deep")  # not left yet: the key that runs it takes it all the same
    view.run()
    qtbot.waitUntil(lambda: not view.sweeps.is_running, timeout=120_000)
    settle()
    assert view.result is not None
    assert [point.setting for point in view.result.points] == [(60.0, "deep"), (120.0, "deep")]
    view.show_recipe_as("text")
    view.recipe.setPlainText('{"parameters": 7}')
    view.show_recipe_as("fields")
    assert "no recipe" in troubles[-1]
    assert view.recipe_stack.currentIndex() == 1
