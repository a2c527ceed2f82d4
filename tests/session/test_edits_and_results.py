"""Whatever is edited: what is remembered is what would be computed from nothing, and undo gives the figures back."""

from __future__ import annotations

import inspect
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from session.same import difference
from session.small import PARTS, SOURCES, STATES, make_small
from warm_ember.attribution.day import day_rows
from warm_ember.attribution.relabelling import SplitBy
from warm_ember.attribution.sleep_agreement import Marker
from warm_ember.errors import WarmEmberError
from warm_ember.model.band_limit import BandLimit
from warm_ember.model.battery import Activity, FromStates, FromStretch, FromWakes, Typed
from warm_ember.model.fold import AlignBy, FoldPlan
from warm_ember.model.parts import PartLibrary, PartOn
from warm_ember.model.plan import (
    ActivityEvery,
    CurrentBy,
    CurrentTo,
    LengthTo,
    PartTo,
    PlanLimits,
    PlannedChange,
    ReduceAverage,
    ReplaceState,
    ScaleRate,
)
from warm_ember.model.project import Edit, ExpectedValue, Note, Project, TypedClock
from warm_ember.model.rules import BandRule, HandRule, LevelsRule, LineRule, LogRule, Rule
from warm_ember.model.wake_plan import ModePower, WakePath, WakePlan
from warm_ember.model.wakes import SleepMode, WakeSource
from warm_ember.session import edits, plan_edits, wake_edits
from warm_ember.session.battery_results import BatteryResults
from warm_ember.session.results import Results
from warm_ember.session.session import Session
from warm_ember.session.state_results import StateResults
from warm_ember.session.tuning_results import TuningResults
from warm_ember.session.wake_results import WakeResults
from warm_ember.signal.levels import MOST_LEVELS

captures = st.sampled_from(["a", "b"])
states = st.sampled_from([*STATES, "Rest", "Busy"])
sources = st.sampled_from([*SOURCES, "timer", "pir"])
activities = st.sampled_from(["Measure", "Send", "Around", "More"])
parts = st.sampled_from([part.name for part in PARTS])
modes = st.sampled_from(["deep", "shallow", "on", "off"])
times_s = st.sampled_from([0.0, 2.5, 4.0, 7.75, 12.0, 20.0])
currents_a = st.sampled_from([1e-6, 3e-5, 5e-4, 2e-3, 1e-2])

rules: st.SearchStrategy[Rule] = st.one_of(
    st.builds(LogRule, states, states),
    st.just(LogRule()),
    st.just(LineRule()),
    st.builds(BandRule, states, st.just(1e-5), currents_a),
    st.builds(LevelsRule, st.dictionaries(st.sampled_from(["level 1", "level 2"]), states)),
    st.builds(HandRule, states, captures, st.just(1.0), times_s),
)
an_activity: st.SearchStrategy[Activity] = st.builds(
    lambda name, source, often, follows: Activity(
        name, source, **(often if not follows or follows == name else {"follows": follows})
    ),
    activities,
    st.one_of(
        st.builds(FromWakes, sources),
        st.builds(lambda state: FromStates((state,), state), states),
        st.builds(lambda capture, s: FromStretch(capture, s, s + 1.5), captures, times_s.filter(lambda s: s < 18)),
        st.builds(Typed, st.just(1e-3), st.sampled_from([0.0, 0.5]), st.just(1e-2)),
    ),
    st.sampled_from([{"interval_s": 5.0}, {"interval_s": 600.0}, {"per_day": 50.0}]),
    st.sampled_from(["", "", "Send"]),
)
effects = st.one_of(
    st.builds(CurrentBy, currents_a.map(lambda a: -a), states),
    st.builds(CurrentTo, states, currents_a),
    st.builds(LengthTo, states, st.just(0.03)),
    st.builds(ScaleRate, states, st.just(0.5)),
    st.builds(ReplaceState, states, states),
    st.builds(PartTo, parts, modes, states),
    st.builds(ActivityEvery, activities, st.just(60.0)),
    st.builds(ReduceAverage, st.just(1e-6)),
)
changes = st.builds(
    PlannedChange,
    st.sampled_from(["one", "two", "three"]),
    st.lists(effects, max_size=2).map(tuple),
    captures,
    st.sampled_from(["", "matrix"]),
    proved_by=st.sampled_from(["", "b"]),
    is_planned=st.booleans(),
)
wake_sources = st.builds(
    WakeSource, sources, st.just(()), st.sampled_from(["", "Radio"]), slack_s=st.sampled_from([0.0, 0.4])
)
expected_values = st.builds(
    ExpectedValue, states, currents_a, parts=st.lists(st.builds(PartOn, parts, modes), max_size=2).map(tuple)
)
sleep_modes = st.builds(SleepMode, st.sampled_from(["deep", "Sleep", "stop"]), floor_a=st.none() | currents_a)
folds = st.builds(
    FoldPlan, captures, st.sampled_from([AlignBy.WAKE, AlignBy.STATE]), st.sampled_from(["", "rtc", "Sense"])
)
clocks = st.builds(TypedClock, captures, st.sampled_from([0.0, 0.25, -3.0]))
fields = st.sampled_from(
    [
        ("battery", {"capacity_c": 4000.0}),
        ("battery", {"self_discharge_per_year": 0.05}),
        ("supply", {"input_f": 1e-3}),
        ("supply", {"efficiency": 0.8}),
        ("climate", {"months_c": (5.0,) * 12}),
        ("project", {"target_s": None}),
        ("project", {"target_s": 6e7}),
        ("project", {"supply_v": 2.4}),
        (
            "project",
            {
                "wake_plan": WakePlan(
                    (WakePath("rtc", oscillator="slow"), WakePath("alarm")), (ModePower("deep", (), ("slow",)),)
                )
            },
        ),
    ]
)
known_changes = st.lists(changes, max_size=3).map(tuple)


def edit_of(make: Callable[..., Edit], *arguments: st.SearchStrategy[Any]) -> st.SearchStrategy[Edit]:
    return st.builds(make, *arguments)


EDITS: dict[str, st.SearchStrategy[Edit]] = {
    "add_bracket": edit_of(edits.add_bracket, captures, st.just(1.0), times_s),
    "change_bracket": st.builds(lambda c, s: edits.change_bracket(c, "A", to_s=s), captures, times_s),
    "drop_bracket": edit_of(edits.drop_bracket, captures, st.just("A")),
    "set_band_limit": st.builds(
        lambda c, s, places: edits.set_band_limit(BandLimit(c, "current", s, places_states=places)),
        captures,
        st.sampled_from([0.01, 0.05, 100.0]),
        st.booleans(),
    ),
    "drop_band_limit": st.builds(lambda c: edits.drop_band_limit(c, "current"), captures),
    "set_note": st.builds(
        lambda c, s, text: edits.set_note(Note(c, s, text)), captures, times_s, st.sampled_from(["", "why"])
    ),
    "set_fold": edit_of(edits.set_fold, folds),
    "add_parts": st.just(edits.add_parts(PartLibrary(PARTS[:1]))),
    "expect": st.lists(expected_values, max_size=2).map(lambda found: edits.expect(tuple(found))),
    "set_group": edit_of(edits.set_group, states, st.sampled_from(["", "awake"])),
    "set_clock": edit_of(edits.set_clock, clocks),
    "find_clock": edit_of(edits.find_clock, captures),
    "add_rule": edit_of(edits.add_rule, rules, st.just((LogRule(),))),
    "drop_rule": edit_of(edits.drop_rule, rules),
    "put_first": edit_of(edits.put_first, rules),
    "place_rest_by": edit_of(edits.place_rest_by, st.sampled_from([LogRule(), LevelsRule()])),
    "rename_state": edit_of(edits.rename_state, states, states, st.just((LogRule(),)), st.just(frozenset({"deep"}))),
    "set_expected": st.builds(lambda s, v: edits.set_expected(v, s), states, st.none()),
    "set_activity": edit_of(edits.set_activity, an_activity),
    "drop_activity": edit_of(edits.drop_activity, activities),
    "SetFields": fields.map(lambda one: edits.SetFields(*one)),
    "change_feed": st.sampled_from(
        [
            ("battery", "cell", "FR6"),
            ("battery", "capacity_c", 9e3),
            ("battery", "parallel", 3),
            ("supply", "min_v", 1.8),
        ]
    ).map(lambda one: edits.change_feed(*one)),
    "change_run": st.builds(lambda c: edits.change_run(c, title="Titled", changed="much"), captures),
    "change_source": st.builds(
        lambda s, by: wake_edits.change_source(s, slack_s=by), sources, st.sampled_from([0.0, 0.3])
    ),
    "rename": edit_of(wake_edits.rename, sources, sources),
    "split": edit_of(wake_edits.split, sources, wake_sources),
    "as_logged": st.just(wake_edits.as_logged),
    "set_mode": edit_of(wake_edits.set_mode, sleep_modes),
    "drop_mode": edit_of(wake_edits.drop_mode, st.just("deep")),
    "add_change": edit_of(plan_edits.add_change, changes),
    "set_change": edit_of(plan_edits.set_change, changes, changes),
    "drop_change": edit_of(plan_edits.drop_change, changes),
    "order_changes": edit_of(plan_edits.order_changes, known_changes),
    "move_change": st.builds(lambda c, by: plan_edits.move_change(c, by, (c,)), changes, st.sampled_from([-1, 1])),
    "choose_changes": edit_of(plan_edits.choose_changes, known_changes, known_changes),
    "set_limits": edit_of(plan_edits.set_limits, st.builds(PlanLimits, st.sampled_from([None, 0.1]))),
    "plan_part": edit_of(plan_edits.plan_part, parts, modes, states, modes, captures),
    "set_part": edit_of(plan_edits.set_part, parts, modes, states),
    "set_power": st.builds(lambda on: plan_edits.set_power("slow", "deep", on=on), st.booleans()),
}


def test_every_edit_is_tried() -> None:
    there_are = {
        name
        for module in (edits, wake_edits, plan_edits)
        for name, one in vars(module).items()
        if callable(one) and getattr(one, "__module__", "") == module.__name__ and not name.startswith("_")
        if inspect.isclass(one) or str(inspect.signature(one).return_annotation) in ("Edit", "Project")
    }
    assert there_are - {"Batched"} == set(EDITS)


def all_results(results: Results, project: Project, name: str) -> dict[str, Callable[[], Any]]:
    """Return everything that can be asked of a run."""
    states, wakes, battery, tuning = (
        kind(results) for kind in (StateResults, WakeResults, BatteryResults, TuningResults)
    )
    other = "b" if name == "a" else "a"
    return {
        "run": lambda: results.run(project, name),
        "findings": lambda: results.findings(project, name),
        "wakes": lambda: wakes.shown(project, name),
        "saving": lambda: wakes.saving(project, name, "rtc"),
        "fold": lambda: results.fold(project, name, results.fold_plan(project, name)),
        "groups": lambda: states.grouped(project, name),
        "sub-rows": lambda: states.sub_rows(project, name, "Sense", SplitBy.ENTRY),
        "levels": lambda: states.level_stays(project, name, MOST_LEVELS),
        "crossings": lambda: states.transitions(project, name),
        "belief": lambda: states.agreement(project, name, Marker()),
        "residuals": lambda: states.residuals(project, name),
        "steps": lambda: battery.steps(project, name),
        "years": lambda: battery.in_years(project, name),
        "trade-offs": lambda: battery.tradeoffs(project, name, "", ""),
        "plan": lambda: tuning.plan(project, name),
        "ahead": lambda: tuning.ahead(project, name),
        "periods": lambda: tuning.periods(project, name),
        "compare": lambda: tuning.compare(project, name, other),
    }


def answer(ask: Callable[[], Any]) -> Any:
    """Return an answer, or what is said in place of one."""
    try:
        return ask()
    except WarmEmberError as error:
        return str(error)


OF_CAPTURES_ALONE = ("quality", "alignment", "levels", "hum")


class FromNothing(Results):
    """Everything computed anew, but for what depends on a capture alone."""

    def __init__(self, session: Session) -> None:
        super().__init__(session.capture)
        for name in OF_CAPTURES_ALONE:
            setattr(self, name, getattr(session.results, name))


def test_what_is_of_captures_alone_reads_nothing_of_the_project(small: Session) -> None:
    results = small.results
    for name in OF_CAPTURES_ALONE:
        getattr(results, name)(small.project, "a")
        reads = next(
            kept.reads for kept in results.graph._by_age.values() if kept.key[0].__name__ == name and "a" in kept.key
        )
        assert reads
        assert all(question == results.graph._identity_of for question, _ in reads), name


def stale_of(session: Session) -> str:
    """Return what is remembered of a run but is not what would be computed from nothing."""
    project = session.project
    remembered, fresh = (all_results(one, project, "a") for one in (session.results, FromNothing(session)))
    return next((d for what in fresh if (d := difference(answer(remembered[what]), answer(fresh[what]), what))), "")


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory):
    with make_small(tmp_path_factory.mktemp("small") / "p") as session:
        yield session


@pytest.mark.parametrize("name", EDITS)
@settings(max_examples=3)
@given(data=st.data())
def test_no_edit_of_any_kind_leaves_anything_stale(small: Session, name: str, data: st.DataObject) -> None:
    """On a project of which everything is known already."""
    known = [answer(ask) for ask in all_results(small.results, small.project, "a").values()]
    small.apply(data.draw(EDITS[name]), name)
    try:
        assert stale_of(small) == ""
    finally:
        small.undo()
    again = [answer(ask) for ask in all_results(small.results, small.project, "a").values()]
    assert difference(known, again) == ""


@settings(max_examples=4, stateful_step_count=5, suppress_health_check=list(HealthCheck))
class Editing(RuleBasedStateMachine):
    """One who edits whatever there is to edit, takes it back, does it again, and looks at everything all the time."""

    session: Session

    @initialize()
    def open(self) -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.session = make_small(Path(self.folder.name) / "p")
        self.known: list[tuple[Project, Any]] = []

    @rule(edit=st.one_of(*EDITS.values()))
    def edit(self, edit: Edit) -> None:
        self.session.apply(edit, "edit")

    @precondition(lambda self: self.session.undoable)
    @rule()
    def undo(self) -> None:
        self.session.undo()
        figures = [answer(lambda name=name: self.session.run(name)) for name in ("a", "b")]
        for project, before in self.known:
            if project == self.session.project:
                assert difference(figures, before) == ""

    @precondition(lambda self: self.session.redoable)
    @rule()
    def redo(self) -> None:
        self.session.redo()

    @invariant()
    def remembered_is_recomputed(self) -> None:
        project = self.session.project
        assert stale_of(self.session) == ""
        self.known.append((project, [answer(lambda name=name: self.session.run(name)) for name in ("a", "b")]))

    @invariant()
    def a_day_is_a_day(self) -> None:
        for name in ("a", "b"):
            results = answer(lambda name=name: self.session.run(name))
            if isinstance(results, str):
                continue
            day = day_rows(results.load, results.ledger).values()
            assert sum(row.time_share for row in day) == pytest.approx(1.0)
            if results.load.mean_a > 0:
                assert sum(row.charge_share for row in day) == pytest.approx(1.0)
                assert sum(one.added_a for one in results.by_state) == pytest.approx(results.load.mean_a)

    def teardown(self) -> None:
        if hasattr(self, "session"):
            self.session.close()
            self.folder.cleanup()


TestEditing = Editing.TestCase


def names_in(value: Any, *, translated: frozenset[str] = frozenset({"event_name", "of", "names"})) -> set[str]:
    """Return all texts in a project but those that say what a log, lines or levels call a thing themselves."""
    if isinstance(value, str):
        return {value}
    if isinstance(value, dict):
        own = set(value.get("names", {}).values()) if isinstance(value.get("names"), dict) else set()
        return own.union(*(names_in(one) for key, one in value.items() if key not in translated))
    if isinstance(value, (list, tuple)):
        return set().union(*map(names_in, value))
    return set()


def full_project() -> Project:
    """Return a project that speaks of the state *Old* and the source *old-source* wherever one can."""
    return Project(
        rules=(BandRule("Old", 1e-3, 2e-3), HandRule("Old", "a", 0, 1), LogRule("x", "Old"), LineRule("Old", ("L",))),
        expected=(ExpectedValue("Old", 1e-3),),
        groups=edits.set_group("Old", "group")(Project()).groups,
        folds=(FoldPlan("a", AlignBy.STATE, "Old"), FoldPlan("b", AlignBy.WAKE, "old-source")),
        activities=(
            Activity("one", FromStates(("Old", "Other"), "Old"), per_day=1.0),
            Activity("two", FromWakes("old-source"), per_day=1.0),
        ),
        wake_sources=(WakeSource("part", ("p",), ran="Old"), WakeSource("old-source", slack_s=1.0)),
        sleep_modes=(SleepMode("Old", floor_a=1e-3),),
        wake_plan=WakePlan((WakePath("old-source"),)),
        plan=plan_edits.add_change(
            PlannedChange(
                "change",
                (
                    CurrentBy(1.0, "Old"),
                    CurrentTo("Old", 1.0),
                    LengthTo("Old", 1.0),
                    ScaleRate("Old", 1.0),
                    ReplaceState("Old", "Other"),
                    ReplaceState("Other", "Old"),
                    PartTo("part", "on", "Old"),
                ),
            )
        )(Project()).plan,
    )


def test_after_a_rename_the_old_name_is_nowhere() -> None:
    project = full_project()
    assert {"Old", "old-source"} <= names_in(msgspec.to_builtins(project))
    renamed = edits.rename_state("Old", "New", (LogRule(),))(project)
    assert "Old" not in names_in(msgspec.to_builtins(renamed))
    renamed = wake_edits.rename("old-source", "new-source")(renamed)
    assert "old-source" not in names_in(msgspec.to_builtins(renamed))
    back = edits.rename_state("New", "Old", (LogRule(),))(wake_edits.rename("new-source", "old-source")(renamed))
    assert names_in(msgspec.to_builtins(back)) == names_in(msgspec.to_builtins(project))


@pytest.mark.parametrize("base", [LineRule(), LevelsRule(), LogRule()])
def test_a_name_given_to_what_lines_levels_or_log_call_otherwise_holds(base: Rule) -> None:
    renamed = edits.rename_state("own", "Ours", (base,))(Project())
    again = edits.rename_state("Ours", "Mine", ())(renamed)
    assert "Ours" not in names_in(msgspec.to_builtins(again))
    assert "Mine" in names_in(msgspec.to_builtins(again))


def test_wake_sources_that_are_joined_change_the_life_of_what_they_do(small: Session) -> None:
    before = small.run("a").load
    small.apply(wake_edits.rename("alarm", "rtc"), "join")
    after = small.run("a").load
    (cost,) = (one for one in after.costs if one.name == "Measure")
    wakes = sum(row.count for row in small.wakes.shown(small.project, "a").ledger.sources)
    assert cost.origin.startswith(f"{wakes} ×")
    assert after.mean_a > before.mean_a  # what alarm takes is dearer
    small.undo()
    assert small.run("a").load is before


def test_strokes_by_hand_on_another_capture_do_not_bring_the_default_rules_back(small: Session) -> None:
    small.apply(edits.SetFields("project", {"rules": (HandRule("Mine", "b", 0.0, 1.0),)}), "only a stroke on b")
    assert [row.name for row in small.run("b").ledger.rows] == ["Mine"]
    assert small.run("a").ledger.rows == ()
    assert small.run("a").ledger.unplaced_share == pytest.approx(1.0)
    small.undo()


def test_a_day_with_a_bracket_over_what_is_the_base_too_adds_up(small: Session) -> None:
    activity = Activity("Around", FromStretch("a", 0.5, 12.5), interval_s=14.0)
    typed = Activity("Typed", Typed(1e-3, 0.4), interval_s=7.0)
    small.apply(edits.SetFields("project", {"activities": (activity, typed)}), "a long bracket")
    results = small.run("a")
    day = day_rows(results.load, results.ledger)
    assert sum(row.time_share for row in day.values()) == pytest.approx(1.0)
    assert sum(row.charge_share for row in day.values()) == pytest.approx(1.0)
    assert day["Typed"].time_share == pytest.approx(0.4 / 7.0)
    # Of 14 s the bracket is 12, what is left of the base is asleep for the most part.
    assert day["Sleep"].time_share > 0.85
    small.undo()
