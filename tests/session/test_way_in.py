"""Projects without a name, and those that are remembered: nothing is lost, nothing is left behind."""

from __future__ import annotations

import math
import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from session.small import make_small
from warm_ember.battery.life import life_of
from warm_ember.errors import ProjectError
from warm_ember.model.figure import Figure
from warm_ember.model.load import LifeModel, Load
from warm_ember.session import edits, untitled
from warm_ember.session.demo import demo_project
from warm_ember.session.guide import chapters, passage
from warm_ember.session.recent import forget, note_opened, note_shown, picture_of, recent_file, recent_projects
from warm_ember.session.session import Session
from warm_ember.session.start_figures import decade_lives
from warm_ember.session.untitled import begin_untitled, discard_untitled, is_untitled, save_under
from warm_ember.units import DAY_S


@pytest.fixture(autouse=True)
def own_data_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))


def unnamed() -> Session:
    """Return an untitled project with the captures of the small one."""
    session = begin_untitled("night.csv")
    folder = session.folder.path
    shutil.rmtree(folder)
    make_small(folder).close()
    return Session.open_or_create(folder)


def test_an_untitled_project_says_what_it_is_made_from_and_lies_where_it_is_found() -> None:
    with begin_untitled("night.csv") as first, begin_untitled() as second:
        assert first.folder.path != second.folder.path
        assert is_untitled(first.folder.path)
        assert is_untitled(second.folder.path)
        assert first.title == "untitled, from night.csv"
        assert second.title == "untitled"
        found = {one.path for one in recent_projects()}
        assert {str(first.folder.path), str(second.folder.path)} <= found, "a crash would lose them"


def test_only_an_untitled_project_without_a_capture_is_dropped(tmp_path: Path) -> None:
    empty, full, named = begin_untitled(), unnamed(), Session.open_or_create(tmp_path / "named")
    named.save()
    for session in (empty, full, named):
        discard_untitled(session)
    assert not empty.folder.path.exists()
    assert full.folder.path.exists()
    assert named.folder.path.exists()
    full.close()
    named.close()


def test_saving_moves_what_had_no_name_and_copies_what_had_one(tmp_path: Path) -> None:
    session = unnamed()
    seen = session.run("a")
    before = seen.load.mean_a
    beginning = seen.capture.current.read(0, 10).tolist()
    session.apply(edits.SetFields("project", {"name": "untitled, from night.csv"}), "a title")
    first = session.folder.path
    save_under(session, tmp_path / "deep" / "post")
    assert not first.exists()
    assert session.title == "post"
    assert session.run("a").capture.current.read(0, 10).tolist() == beginning, "it reads on at the new place"
    assert session.undo(), "what was done before can still be undone"
    assert session.redo()
    save_under(session, tmp_path / "copy")
    assert (tmp_path / "deep" / "post" / "project.json").exists()
    assert session.folder.path == tmp_path / "copy"
    session.apply(edits.SetFields("project", {"name": "changed here"}), "rename")
    session.save()
    session.close()
    with (
        Session.open_or_create(tmp_path / "copy") as again,
        Session.open_or_create(tmp_path / "deep" / "post") as other,
    ):
        assert again.title == "changed here"
        assert other.title == "post"
        assert math.isclose(again.run("a").load.mean_a, before, rel_tol=1e-12)
        assert math.isclose(other.run("a").load.mean_a, before, rel_tol=1e-12)


def test_what_cannot_be_saved_stays_as_it_is(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    session = unnamed()
    taken = tmp_path / "taken"
    taken.mkdir()
    (taken / "thesis.txt").write_text("not ours")
    (tmp_path / "a file").write_text("not a folder")
    for place in (taken, tmp_path / "a file", tmp_path / "a file" / "below"):
        with pytest.raises(ProjectError):
            save_under(session, place)
    assert (taken / "thesis.txt").read_text() == "not ours"

    def full_disk(source: Path, path: Path, **_more: object) -> None:
        path.mkdir()
        (path / "half").write_text("half")
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(untitled, "is_untitled", lambda _path: False)
    monkeypatch.setattr(shutil, "copytree", full_disk)
    with pytest.raises(ProjectError, match="No space left"):
        save_under(session, tmp_path / "other disk")
    assert not (tmp_path / "other disk").exists(), "half a project is worse than none"
    assert len(session.run("a").capture.current.read(0, 10)) == 10
    session.apply(edits.SetFields("project", {"name": "still here"}), "rename")
    session.save()
    session.close()
    with Session.open_or_create(session.folder.path) as again:
        assert again.title == "still here"


def test_recent_projects_show_what_was_seen_of_them(small_session: Session, tmp_path: Path) -> None:
    results = small_session.run("a")
    note_opened(small_session)
    assert recent_projects()[0].mean_a is None
    picture = picture_of(results)
    note_shown(small_session, results, picture)
    entry = recent_projects()[0]
    assert entry.is_there
    assert entry.runs == len(small_session.project.runs)
    assert entry.mean_a == results.load.mean_a
    assert entry.life_s == results.life.life_s
    assert entry.picture == picture
    # The mean of a picture's columns is the mean of the capture: they are of equal width.
    current = results.capture.current
    mean_a = current.read(0, current.samples).mean()
    assert math.isclose(np.mean([one or 0.0 for one in picture.mean]), mean_a, rel_tol=0.01)
    other = Session.open_or_create(tmp_path / "other")
    other.save()
    note_opened(other)
    assert [one.name for one in recent_projects()] == ["other", small_session.title]
    note_opened(small_session)
    assert recent_projects()[0].picture == picture, "opening again forgets nothing"
    other.close()
    shutil.rmtree(tmp_path / "other")
    assert [one.is_there for one in recent_projects()] == [True, False]
    forget(str(tmp_path / "other"))
    assert len(recent_projects()) == 1


@pytest.mark.parametrize("broken", ["", "{", "[3]", '[{"path": 3}]', "\x00"])
def test_a_broken_list_of_recent_projects_is_an_empty_one(broken: str, small_session: Session) -> None:
    recent_file().parent.mkdir(parents=True, exist_ok=True)
    recent_file().write_text(broken)
    assert recent_projects() == ()
    note_opened(small_session)
    assert len(recent_projects()) == 1


def test_the_title_scale_says_the_life_of_the_demos_battery() -> None:
    lives, project = decade_lives(), demo_project()
    assert [math.isclose(a, 10.0**k) for (a, _), k in zip(lives.lives_s, range(-9, 1), strict=True)] == [True] * 10
    falling = [life_s for _, life_s in lives.lives_s]
    assert falling == sorted(falling, reverse=True)
    assert lives.budget_a is not None
    model = LifeModel(Load(Figure(lives.budget_a), "constant", ()), project.battery, project.supply, project.climate)
    assert math.isclose(life_of(model), lives.target_s, abs_tol=DAY_S)


def test_the_guide_has_a_chapter_for_the_start_and_for_each_page() -> None:
    titles = [one.title for one in chapters()]
    assert titles[:8] == ["Start", "Bench", "Trace", "States", "Wakes", "Battery", "Tune", "Runs"]
    assert all(len(one.text) > 400 for one in chapters())
    for one in chapters():
        for wanted in ("break-even", "self-discharge", "bracket"):
            assert one.fits(wanted) == (wanted in one.text.casefold())
            assert not one.fits(wanted) or wanted in passage(one.text, wanted).casefold()


def test_programs_that_open_projects_at_the_same_time_lose_none(tmp_path: Path) -> None:
    sessions = [Session.open_or_create(tmp_path / f"p{number}") for number in range(12)]
    for session in sessions:
        session.save()
    script = (
        "import sys; from pathlib import Path; from warm_ember.session.recent import note_opened; "
        "from warm_ember.session.session import Session; "
        "opened = [Session.open(Path(one)) for one in sys.argv[1:]]; sys.stdin.readline(); "
        "[note_opened(one) for one in opened]"
    )
    environment = os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)}
    paths = [str(session.folder.path) for session in sessions]
    programs = [
        subprocess.Popen(
            [sys.executable, "-c", script, *paths[k::4]], stdin=subprocess.PIPE, text=True, env=environment
        )
        for k in range(4)
    ]
    for program in programs:
        assert program.stdin is not None
        program.stdin.write("go\n")
        program.stdin.flush()
    for program in programs:
        program.communicate(timeout=60)
        assert program.returncode == 0
    assert {one.path for one in recent_projects()} == set(paths)
