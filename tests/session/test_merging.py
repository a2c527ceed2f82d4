"""Two programs' edits put together."""

from __future__ import annotations

from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import ProjectError
from warm_ember.model.project import Bracket, Project, Run
from warm_ember.model.rules import HandRule
from warm_ember.model.wakes import SleepMode
from warm_ember.session import edits
from warm_ember.session.merging import merged
from warm_ember.session.session import Session

replace = msgspec.structs.replace
NAMES = st.sampled_from("abcdefg")


@st.composite
def projects(draw: st.DrawFn) -> Project:
    names = draw(st.lists(NAMES, unique=True, max_size=5))
    brackets = draw(st.lists(st.sampled_from("ABCD"), unique=True, max_size=3))
    return Project(
        name=draw(st.sampled_from(["x", "y"])),
        runs=tuple(Run(name, draw(st.sampled_from(["", "one", "two"]))) for name in names),
        rules=tuple(HandRule("s", "a", float(k), k + 1.0) for k in draw(st.lists(st.integers(0, 4), max_size=4))),
        sleep_modes=tuple(SleepMode(name) for name in draw(st.lists(NAMES, unique=True, max_size=3))),
        brackets=tuple(Bracket(letter, "a", draw(st.sampled_from([0.0, 1.0])), 2.0) for letter in brackets),
        target_s=draw(st.sampled_from([None, 1.0, 2.0])),
        supply_v=draw(st.sampled_from([None, 3.0])),
    )


@given(projects(), projects())
def test_where_one_side_changed_nothing_the_other_side_counts(base: Project, other: Project) -> None:
    assert merged(base, base, other) == other
    assert merged(base, other, base) == other
    assert merged(base, other, other) == other


@given(projects(), projects(), projects())
def test_nothing_that_either_side_added_is_lost(base: Project, ours: Project, theirs: Project) -> None:
    found = merged(base, ours, theirs)
    for field in ("runs", "sleep_modes"):
        before, mine, others, now = (
            {row.name for row in getattr(project, field)} for project in (base, ours, theirs, found)
        )
        assert (mine | others) - before <= now
        assert now <= mine | others
        assert not (before - mine - others) & now
        assert len(getattr(found, field)) == len(now)
    stretches = {(b.from_s, b.to_s) for b in found.brackets}
    known = {b.letter for b in base.brackets}
    for project in (ours, theirs):
        assert {(b.from_s, b.to_s) for b in project.brackets if b.letter not in known} <= stretches
    assert len({b.letter for b in found.brackets}) == len(found.brackets)
    if theirs.target_s != base.target_s and ours.target_s == base.target_s:
        assert found.target_s == theirs.target_s
    if ours.target_s != base.target_s:
        assert found.target_s == ours.target_s


@given(projects(), st.lists(st.integers(0, 4), max_size=3), st.lists(st.integers(5, 9), max_size=3))
def test_strokes_that_have_no_name_are_all_kept(base: Project, mine: list[int], others: list[int]) -> None:
    def with_more(starts: list[int]) -> Project:
        return replace(base, rules=(*base.rules, *(HandRule("t", "b", float(k), k + 0.5) for k in starts)))

    found = merged(base, with_more(mine), with_more(others))
    assert len(found.rules) == len(base.rules) + len(mine) + len(others)


def two_sessions(folder: Path) -> tuple[Session, Session]:
    with Session.open_or_create(folder) as first:
        first.save()
    return Session.open(folder), Session.open(folder)


def test_two_programs_on_one_project_lose_none_of_each_others_edits(tmp_path: Path) -> None:
    one, two = two_sessions(tmp_path / "p")
    one.apply(lambda project: replace(project, target_s=1e7), "target")
    assert not one.save()
    two.apply(lambda project: replace(project, supply_v=3.3), "voltage")
    assert two.save()
    assert (two.project.target_s, two.project.supply_v) == (1e7, 3.3)
    assert Session.open(tmp_path / "p").project == two.project
    assert one.take_in_others()
    assert one.project == two.project


def test_undo_takes_back_ones_own_edit_and_not_the_others(tmp_path: Path) -> None:
    one, two = two_sessions(tmp_path / "p")
    two.apply(lambda project: replace(project, supply_v=3.3), "voltage")
    one.apply(lambda project: replace(project, target_s=1e7), "target")
    one.save()
    two.save()
    two.undo()
    two.save()
    found = Session.open(tmp_path / "p").project
    assert (found.target_s, found.supply_v) == (1e7, None)
    two.redo()
    assert (two.project.target_s, two.project.supply_v) == (1e7, 3.3)


def test_a_project_that_was_moved_away_is_not_made_anew(tmp_path: Path) -> None:
    one, _ = two_sessions(tmp_path / "p")
    one.apply(edits.SetFields("project", {"target_s": 1e7}), "target")
    (tmp_path / "p").rename(tmp_path / "elsewhere")
    with pytest.raises(ProjectError, match="moved or removed"):
        one.save()
    assert not (tmp_path / "p").exists()
    assert not one.is_saved
    (tmp_path / "elsewhere").rename(tmp_path / "p")
    one.save()
    assert Session.open(tmp_path / "p").project.target_s == 1e7


@pytest.mark.parametrize("content", ["<<<<<<< mine\n{}\n=======\n", "", '{"format": 99}'])
def test_what_cannot_be_read_is_never_replaced(tmp_path: Path, content: str) -> None:
    one, _ = two_sessions(tmp_path / "p")
    one.apply(edits.SetFields("project", {"target_s": 1e7}), "target")
    (tmp_path / "p" / "project.json").write_text(content)
    with pytest.raises(ProjectError):
        one.save()
    assert (tmp_path / "p" / "project.json").read_text() == content
    assert one.project.target_s == 1e7


@pytest.mark.parametrize(
    ("content", "place"),
    [
        ('{"format": 1, "supply_v": NaN}', r"\$\.supply_v"),
        ('{"format": 1, "target_s": Infinity}', r"\$\.target_s"),
        ('{"format": 1, "battery": {"capacity_c": 1e999}}', r"\$\.battery\.capacity_c"),
        ('{"format": 1, "brackets": [{"letter": "A", "capture": "a", "from_s": -Infinity, "to_s": 1}]}',
         r"\$\.brackets\[0\]\.from_s"),
    ],
)  # fmt: skip
def test_numbers_that_are_none_are_refused_with_their_place(tmp_path: Path, content: str, place: str) -> None:
    (tmp_path / "project.json").write_text(content)
    with pytest.raises(ProjectError, match=place):
        Session.open(tmp_path)


def test_a_file_name_that_is_no_text_blocks_nothing(tmp_path: Path) -> None:
    one, _ = two_sessions(tmp_path / "p")
    (one.folder.captures / b"q\xff.h5".decode("utf-8", "surrogateescape")).touch()
    again = Session.open(tmp_path / "p")
    again.apply(edits.SetFields("project", {"target_s": 1e7}), "target")
    again.save()
    assert Session.open(tmp_path / "p").project.runs == ()


def test_a_project_begun_by_a_program_that_was_killed_goes_on(tmp_path: Path) -> None:
    (tmp_path / "p" / "captures").mkdir(parents=True)
    (tmp_path / "p" / "captures" / ".a.h5.recording").touch()
    Session.open_or_create(tmp_path / "p").save()
    (tmp_path / "q" / "captures").mkdir(parents=True)
    (tmp_path / "q" / "letters.txt").touch()
    with pytest.raises(ProjectError, match=r"holds no project\.json"):
        Session.open_or_create(tmp_path / "q")
