"""What the window computes, when it says that it does, and what it shows where it cannot."""

from __future__ import annotations

import msgspec
import pytest
from pytestqt.qtbot import QtBot

from ui.conftest import Settle
from warm_ember.errors import BadArgumentError
from warm_ember.model.plan import PlannedChange, ReduceAverage
from warm_ember.session import edits, plan_edits
from warm_ember.session.run_results import RunResults
from warm_ember.ui.shell.window import MainWindow


@pytest.mark.all_runs
def test_all_runs_are_read_only_while_somebody_looks_at_them(window: MainWindow, settle: Settle) -> None:
    controller = window.controller
    window.show_page("Trace")
    controller.apply(edits.SetFields("battery", {"capacity_c": 9000.0}), "battery")
    settle()
    assert controller.all_results == {}
    assert set(controller.averages_a) == {run.name for run in controller.project.runs}
    assert window.pages.runs.link().figure == "**2**nd of **5**"
    window.show_page("Runs")
    settle()
    assert set(controller.all_results) == {run.name for run in controller.project.runs}
    first = controller.all_results["r1"].life.life_s
    controller.apply(edits.SetFields("battery", {"capacity_c": 4500.0}), "battery")
    settle()
    assert controller.all_results["r1"].life.life_s < 0.6 * first


def test_only_the_results_themselves_say_that_they_are_there(window: MainWindow, qtbot: QtBot, settle: Settle) -> None:
    controller, said = window.controller, []
    controller.recomputing.connect(said.append)

    def fail(_should_stop: object, _progress: object) -> None:
        raise BadArgumentError("no such claim")

    with qtbot.waitSignal(controller.troubled):
        controller.work("claim", "checking", fail, said.append)
    assert said == []
    controller.apply(edits.SetFields("battery", {"capacity_c": 9000.0}), "battery")
    settle()
    assert said == [1, 0]


def test_figures_of_an_earlier_project_are_not_shown_where_the_new_ones_cannot_be_computed(
    window: MainWindow, qtbot: QtBot, settle: Settle
) -> None:
    controller, shown = window.controller, []
    controller.results_changed.connect(shown.append)
    loop = tuple(
        msgspec.structs.replace(one, interval_s=None, per_day=None, follows=other.name)
        for one, other in zip(controller.project.activities, reversed(controller.project.activities), strict=True)
    )
    with qtbot.waitSignal(controller.troubled):
        controller.apply(edits.SetFields("project", {"activities": loop}), "activities that follow each other")
        settle()
    assert controller.results is None
    assert shown[-1] is None
    controller.undo()
    settle()
    assert isinstance(controller.results, RunResults)


def test_an_older_answer_meets_a_newer_plan(window: MainWindow, settle: Settle) -> None:
    window.show_page("Tune")
    settle()
    page, controller = window.pages.tune, window.controller
    older = page.found
    for number in range(3):
        controller.apply(plan_edits.add_change(PlannedChange(f"more {number}", (ReduceAverage(1e-6),), "r4")), "plan")
    page._show(older)  # as when it was under way already
    assert len(page.waterfall.bars) > 0
    settle()
    assert len(page.found.steps) == len(older.steps) + 3
