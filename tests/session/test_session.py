import math

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.attribution.day import day_rows, hourly
from warm_ember.errors import BadFileError, Cancelled, ProjectError
from warm_ember.model.battery import Activity, FromStates, FromStretch, Typed
from warm_ember.model.project import Project
from warm_ember.model.rules import BandRule, LevelsRule, LogRule
from warm_ember.session import edits
from warm_ember.session.demo import demo_project, make_demo
from warm_ember.session.session import Session
from warm_ember.store.project_folder import ProjectFolder
from warm_ember.tuning.difference import ComparedRun, by_state
from warm_ember.units import DAY_S


def test_the_demo_misses_the_target_with_r4_and_meets_it_with_r5(demo_session: Session) -> None:
    lives = {run.name: demo_session.run(run.name).life for run in demo_session.project.runs}
    means = [life.mean_a for life in lives.values()]
    assert means == sorted(means, reverse=True)
    assert lives["r4"].budget_a == pytest.approx(196.4e-6, rel=1e-3)
    assert lives["r4"].life_s < lives["r4"].target_s < lives["r5"].life_s
    assert lives["r4"].chance < 0.05
    assert lives["r5"].chance > 0.9


def test_budgets_add_up_to_the_average(demo_session: Session) -> None:
    for run in demo_session.project.runs:
        results = demo_session.run(run.name)
        for segments in (results.by_state, results.by_activity):
            assert sum(s.added_a for s in segments) == pytest.approx(results.load.mean_a, rel=1e-9)
        day = day_rows(results.load, results.ledger)
        assert sum(row.charge_share for row in day.values()) == pytest.approx(1.0)
        assert sum(row.time_share for row in day.values()) == pytest.approx(1.0)
        assert sum(row.charge_c for row in day.values()) == pytest.approx(results.load.mean_a * DAY_S)
        for cost in results.load.costs:
            assert hourly(cost, results.load.base_a).mean() == pytest.approx(cost.added_a(results.load.base_a))


def test_without_activities_the_capture_stands_for_the_life(demo_session: Session) -> None:
    demo_session.apply(edits.SetFields("project", {"activities": ()}), "forget activities")
    results = demo_session.run("r4")
    assert results.window is not None
    stands = results.capture.reading(results.window.from_s, results.window.to_s).mean_a
    assert results.load.mean_a == pytest.approx(stands, rel=1e-6)
    assert results.load.mean_a == pytest.approx(results.whole.mean_a, rel=0.01)
    assert sum(s.added_a for s in results.by_state) == pytest.approx(results.load.mean_a)


def test_results_are_remembered_and_shared(demo_session: Session) -> None:
    first = demo_session.run("r5")
    demo_session.apply(edits.SetFields("battery", {"capacity_c": 1000.0}), "smaller battery")
    second = demo_session.run("r5")
    assert second.placement is first.placement
    assert second.ledger is first.ledger
    assert second.life.life_s < first.life.life_s
    demo_session.undo()
    assert demo_session.run("r5").life is first.life


def test_undo_and_redo_go_through_all_edits(demo_session: Session) -> None:
    versions = [demo_session.project]
    for edit in (
        edits.add_bracket("r4", 1.0, 2.0),
        edits.change_bracket("r4", "C", name="mine"),
        edits.drop_bracket("r4", "A"),
        edits.drop_activity("Report"),
        edits.change_run("r4", title="better"),
    ):
        demo_session.apply(edit, "an edit")
        versions.append(demo_session.project)
    for version in reversed(versions[:-1]):
        assert demo_session.undo() == "an edit"
        assert demo_session.project == version
    assert demo_session.undo() is None
    for version in versions[1:]:
        demo_session.redo()
        assert demo_session.project == version
    assert demo_session.redo() is None


def test_an_edit_that_changes_nothing_is_no_edit(demo_session: Session) -> None:
    demo_session.apply(edits.SetFields("project", {"name": demo_session.project.name}), "nothing")
    assert demo_session.undoable is None


def test_a_new_rule_keeps_what_held_before(demo_session: Session) -> None:
    rules = demo_session.run("r4").placement.rules
    assert rules == (LogRule(),)
    demo_session.apply(edits.add_rule(BandRule("Hot", 0.15, 0.25), rules), "place Hot")
    assert demo_session.project.rules == (BandRule("Hot", 0.15, 0.25), LogRule())
    ledger = demo_session.run("r4").ledger
    assert ledger.row("Hot") is not None
    assert ledger.row("Deep sleep") is not None
    demo_session.apply(edits.drop_rule(BandRule("Hot", 0.15, 0.25)), "remove")
    assert demo_session.run("r4").ledger.row("Hot") is None


@pytest.mark.parametrize("base", [LogRule(), LevelsRule()])
def test_renaming_a_state_moves_all_that_speaks_of_it(demo_session: Session, base: object) -> None:
    demo_session.apply(edits.place_rest_by(base), "base")
    before = demo_session.run("r4").ledger
    old = before.rows[0].name
    demo_session.apply(edits.set_activity(Activity("x", FromStates((old,), old), per_day=1.0)), "activity")
    demo_session.apply(edits.rename_state(old, "Slumber", ()), "rename")
    after = demo_session.run("r4").ledger
    row, was = after.row("Slumber"), before.row(old)
    assert row is not None
    assert was is not None
    assert row.charge_c == pytest.approx(was.charge_c)
    assert after.row(old) is None
    activity = next(a for a in demo_session.project.activities if a.name == "x")
    assert activity.source == FromStates(("Slumber",), "Slumber")


def test_a_state_named_like_another_joins_it(demo_session: Session) -> None:
    before = demo_session.run("r4").ledger
    demo_session.apply(edits.rename_state("Log write", "Count", (LogRule(),)), "join")
    after = demo_session.run("r4").ledger
    parts = [before.row("Count"), before.row("Log write")]
    assert after.row("Count").charge_c == pytest.approx(sum(row.charge_c for row in parts))


def test_activities_from_brackets_and_typed_ones(demo_session: Session) -> None:
    bracket = demo_session.project.brackets_of("r4")[1]
    reading = demo_session.capture("r4").reading(bracket.from_s, bracket.to_s)
    stretch = FromStretch("r4", bracket.from_s, bracket.to_s)
    project = {"activities": (Activity("a", stretch, interval_s=1000.0), Activity("b", Typed(0.5), per_day=86.4))}
    demo_session.apply(edits.SetFields("project", project), "activities")
    load = demo_session.run("r4").load
    expected = load.base_a + (reading.charge_c - load.base_a * reading.length_s) / 1000 + 0.5 / 1000
    # What reaches from the bracket into the sleep beside it is the bracket's.
    assert load.mean_a == pytest.approx(expected, rel=1e-3)
    assert load.mean_a >= expected
    gone = FromStretch("gone", 0.0, 1.0)
    demo_session.apply(edits.set_activity(Activity("c", gone, per_day=1.0)), "gone")
    assert demo_session.run("r4").load.missing == ("c",)


def test_a_comparison_finds_the_state_that_changed(demo_session: Session) -> None:
    before, after = demo_session.run("r3"), demo_session.run("r4")
    one, other = (ComparedRun(run.by_state, run.ledger, run.load) for run in (before, after))
    rows = by_state(one, other)
    assert rows[0].name == "Deep sleep"
    assert rows[0].is_real
    assert sum(row.change_a for row in rows) == pytest.approx(after.load.mean_a - before.load.mean_a)
    assert not any(row.is_real for row in by_state(one, one))


@given(st.integers(0, 60))
def test_letters_go_on_after_z(count: int) -> None:
    project = Project()
    for _ in range(count):
        project = edits.add_bracket("r", 0.0, 1.0)(project)
    letters = [bracket.letter for bracket in project.brackets]
    assert len(set(letters)) == count


def test_a_saved_session_opens_as_it_was(demo_session: Session) -> None:
    demo_session.apply(edits.add_bracket("r4", 1.0, 2.0, "one"), "bracket")
    assert not demo_session.is_saved
    demo_session.save()
    assert demo_session.is_saved
    again = Session.open(demo_session.folder.path)
    assert again.project == demo_session.project


def test_a_capture_that_is_not_there(demo_session: Session) -> None:
    with pytest.raises(BadFileError, match="no capture 'r9'; there are: r1"):
        demo_session.capture("r9")


def test_work_stops_when_told(demo_session: Session) -> None:
    demo_session.apply(edits.add_rule(BandRule("never placed before", 1e-3, 1.01e-3), ()), "what nobody has computed")
    with pytest.raises(Cancelled):
        demo_session.run("r1", lambda: True)


def test_a_demo_that_was_stopped_leaves_nothing(tmp_path) -> None:
    with pytest.raises(Cancelled):
        make_demo(tmp_path / "demo", should_stop=lambda: True)
    assert not (tmp_path / "demo").exists()


def test_a_folder_with_something_else_is_left_alone(tmp_path) -> None:
    (tmp_path / "letter.txt").write_text("dear")
    with pytest.raises(ProjectError, match="not empty"):
        make_demo(tmp_path)
    ProjectFolder(tmp_path / "other").save(Project(name="mine"))
    with pytest.raises(ProjectError, match="another project"):
        make_demo(tmp_path / "other")
    assert (tmp_path / "letter.txt").read_text() == "dear"


def test_an_impossible_target_says_so(demo_session: Session) -> None:
    demo_session.apply(edits.SetFields("battery", {"self_discharge_per_year": 0.9, "capacity_c": 10.0}), "tiny")
    life = demo_session.run("r5").life
    assert life.budget_a is not None
    assert life.budget_a < 1e-6
    assert math.isfinite(life.life_s)


def test_the_demo_project_is_a_plain_value() -> None:
    assert msgspec.convert(msgspec.to_builtins(demo_project()), Project) == demo_project()


def test_a_closed_session_keeps_nothing_that_reads_on_in_its_captures(demo_copy) -> None:
    session = Session.open(demo_copy)
    assert session.kinds.shown(session.project, "r5").kinds
    assert session.gate is not None
    before = session.run("r5")
    session.close()
    assert not {"results", "kinds", "gate", "tuning", "wakes"} & set(vars(session))
    assert session.run("r5") is not before
    assert session.kinds.shown(session.project, "r5").kinds
    session.close()


@pytest.mark.parametrize("name", ["r1", "r2", "r3", "r4", "r5"])
def test_no_mean_is_said_to_be_possibly_less_than_what_its_lowest_state_draws(demo_session: Session, name: str) -> None:
    ledger = demo_session.results.ledger(demo_session.project, name)
    low, high = ledger.interval or (math.nan, math.nan)
    assert 0 < ledger.lowest_a <= low <= ledger.mean_a <= high
    alone = ledger.estimate.interval()
    assert alone is not None
    assert high == alone[1]
