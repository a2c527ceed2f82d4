"""Any project that can be written is read back as it was."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from warm_ember.errors import WarmEmberError
from warm_ember.model.battery import (
    Activity,
    Battery,
    Cell,
    FromStates,
    FromStretch,
    FromWakes,
    SupplyKind,
    SupplyStage,
    Typed,
)
from warm_ember.model.parts import Part, PartMode, PartOn, Power, parts_text, read_parts
from warm_ember.model.project import Bracket, ExpectedValue, Project, Run, RunKind, StateGroup, TypedClock
from warm_ember.model.wakes import SleepMode, WakeSource
from warm_ember.session.session import Session
from warm_ember.store.project_folder import ProjectFolder

NUMBERS = st.floats(allow_nan=False, allow_infinity=False, width=64)
AMOUNTS = st.floats(0, 1e6)
NAMES = st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1, max_size=12)
POINTS = st.lists(st.tuples(st.floats(0, 1), st.floats(0, 5)), max_size=3).map(tuple)

RUNS = st.builds(Run, NAMES, NAMES, NAMES, st.sampled_from(RunKind), NAMES)
EXPECTED = st.builds(ExpectedValue, NAMES, AMOUNTS, st.floats(0, 1), NAMES, NAMES)
MODES = st.builds(PartMode, NAMES, AMOUNTS, power=st.sampled_from(Power), settle_s=AMOUNTS)
PARTS = st.builds(Part, NAMES, st.lists(MODES, max_size=3).map(tuple), NAMES)
SOURCES = st.one_of(
    st.builds(Typed, AMOUNTS, AMOUNTS, AMOUNTS),
    st.builds(FromStates, st.lists(NAMES, min_size=1, max_size=2).map(tuple), NAMES),
    st.builds(FromWakes, NAMES),
    st.builds(FromStretch, NAMES, AMOUNTS, AMOUNTS),
)
ACTIVITIES = st.builds(
    Activity, NAMES, SOURCES, st.none() | AMOUNTS, st.none() | AMOUNTS, st.floats(0, 1), is_random=st.booleans()
)
CELLS = st.none() | NAMES | st.builds(Cell, POINTS, NAMES, NAMES, st.none() | AMOUNTS)
BATTERIES = st.builds(Battery, AMOUNTS, st.floats(0, 1), st.floats(0, 1), cell=CELLS, series=st.integers(1, 9))


def several(one: st.SearchStrategy[Any]) -> st.SearchStrategy[tuple[Any, ...]]:
    return st.lists(one, max_size=3).map(tuple)


PROJECTS = st.builds(
    Project,
    name=NAMES,
    runs=several(RUNS),
    expected=several(EXPECTED),
    parts=several(PARTS),
    groups=several(st.builds(StateGroup, NAMES, several(NAMES))),
    brackets=several(st.builds(Bracket, NAMES, NAMES, NUMBERS, NUMBERS, NAMES)),
    clocks=several(st.builds(TypedClock, NAMES, NUMBERS, NUMBERS)),
    battery=BATTERIES,
    supply=st.builds(SupplyStage, st.sampled_from(SupplyKind), AMOUNTS, AMOUNTS, efficiency_by_load=POINTS),
    supply_v=st.none() | AMOUNTS,
    activities=several(ACTIVITIES),
    wake_sources=several(st.builds(WakeSource, NAMES, several(NAMES), NAMES, AMOUNTS, AMOUNTS, st.none() | AMOUNTS)),
    sleep_modes=several(st.builds(SleepMode, NAMES, NAMES, st.none() | NUMBERS, st.none() | AMOUNTS)),
    target_s=st.none() | AMOUNTS,
)


@given(PROJECTS)
def test_a_project_is_the_same_after_its_text(project: Project) -> None:
    assert msgspec.json.decode(msgspec.json.encode(project), type=Project) == project


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(PROJECTS, st.integers(0, 10**9))
def test_a_project_is_the_same_after_its_folder(tmp_path: Path, project: Project, number: int) -> None:
    path = tmp_path / f"{number}-{abs(hash(project.name))}"
    if path.exists():
        return
    folder = ProjectFolder(path)
    folder.save(project)
    text = (path / "project.json").read_text()
    assert ProjectFolder(path).load() == project
    folder.save(project)
    assert (path / "project.json").read_text() == text  # the same value is the same text, so that a diff is small


@given(PROJECTS)
def test_what_a_project_says_of_a_name_is_the_first_of_that_name(project: Project) -> None:
    for run in project.runs:
        assert project.run(run.name) == next(one for one in project.runs if one.name == run.name)
    for value in project.expected:
        assert project.expected_of(value.state) == next(v for v in project.expected if v.state == value.state)
    for bracket in project.brackets:
        assert bracket in project.brackets_of(bracket.capture)
    assert project.run("no run is called so, nor ever was") is None
    assert all(slack_s > 0 for slack_s in project.slack_s.values())
    assert set(project.group_of) == {state for group in project.groups for state in group.states}


@given(st.floats(0, 1), st.integers(0, 6))
def test_retries_add_up_to_the_geometric_series(probability: float, retries: int) -> None:
    activity = Activity("Send", Typed(1.0), 60.0, probability=probability, retries=retries)
    if probability == 1:
        assert activity.per_occasion == retries + 1
    else:
        closed = probability * (1 - probability ** (retries + 1)) / (1 - probability)
        assert activity.per_occasion == pytest.approx(closed, rel=1e-9, abs=1e-15)


PLAIN = st.text("abcdefgh", min_size=1, max_size=6)


@given(st.lists(st.tuples(PLAIN, PLAIN), min_size=1, max_size=4, unique=True))
def test_parts_in_words_are_read_as_they_were_written(pairs: list[tuple[str, str]]) -> None:
    library = tuple(
        Part(name, tuple(PartMode(mode, 1e-6) for part, mode in pairs if part == name))
        for name in dict.fromkeys(part for part, _ in pairs)
    )
    wanted = tuple(PartOn(*pair) for pair in pairs)
    found = read_parts(parts_text(wanted).upper(), library)
    assert [(one.part, one.mode) for one in found] == pairs


@given(st.text(max_size=40), st.sampled_from(("runs", "battery", "format", "parts", "nonsense")))
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_a_project_that_cannot_be_read_says_so_and_stays(tmp_path: Path, rubbish: str, key: str) -> None:
    path = tmp_path / "post"
    path.mkdir(exist_ok=True)
    file = path / "project.json"
    file.write_text(json.dumps({key: rubbish}))
    before = file.read_bytes()
    with pytest.raises(WarmEmberError, match=r"project\.json"):
        Session.open(path)
    assert file.read_bytes() == before


def test_no_figure_of_a_fresh_project_is_beyond_bounds() -> None:
    numbers = [value for value in msgspec.structs.asdict(Battery()).values() if isinstance(value, float)]
    assert all(math.isfinite(value) and value >= 0 for value in numbers)
