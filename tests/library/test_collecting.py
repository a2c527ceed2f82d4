"""Projects become a data set: once, whoever does it, and a failed capture stops no other."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path

import numpy as np
import pyarrow.dataset
import pytest
from made_fleet import Changed, make_fleet

import warm_ember
from warm_ember.errors import BadArgumentError, Cancelled
from warm_ember.fleet.data_set import TABLES
from warm_ember.library.collecting import collect
from warm_ember.model.rules import LogRule
from warm_ember.session import edits

SHORT = {"length_s": 8.0, "rate_hz": 200.0}


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, ...]:
    """Two boards with three builds each."""
    return tuple(make_fleet(tmp_path_factory.mktemp("fleet"), builds=3, boards=2, changes=(), **SHORT))


def copied(made: tuple[Path, ...], folder: Path) -> list[Path]:
    """Return copies that a test may change."""
    return [Path(shutil.copytree(path, folder / path.name)) for path in made]


def rows(data_set: Path, table: str) -> list[dict[str, object]]:
    """Return a table as any engine reads it."""
    found = pyarrow.dataset.dataset(data_set / table, partitioning="hive", format="parquet").to_table()
    return sorted(found.to_pylist(), key=lambda row: (row["project"], row["run"], str(row.get("name"))))


def content(folder: Path) -> dict[str, bytes]:
    """Return all files of a folder."""
    return {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*.parquet")}


def test_rows_say_what_the_commands_say(made: tuple[Path, ...], tmp_path: Path) -> None:
    found = collect(str(tmp_path / "set"), made, tags={"commit": "1f3c", "lab": "north"}, jobs=1)
    assert (found.written, found.there, found.failed) == (6, 0, 0)
    runs = rows(tmp_path / "set", "runs")
    assert [(row["project"], row["run"], row["board"]) for row in runs[:4]] == [
        ("board-1", "b001", "1"), ("board-1", "b002", "1"), ("board-1", "b003", "1"), ("board-2", "b001", "2"),
    ]  # fmt: skip
    first = runs[0]
    assert (first["firmware"], first["recorded_utc"], first["commit"]) == ("build 1", "2026-02-02T21:00:00Z", "1f3c")
    assert first["lab"] == "north"
    with warm_ember.open_project(made[0]) as project:
        for name, value in project.life("b001").as_json().items():
            if not isinstance(value, dict):
                assert first[name] == value, name
        states = [
            row for row in rows(tmp_path / "set", "states") if (row["project"], row["run"]) == ("board-1", "b001")
        ]
        expected = {state.name: state.as_json() for state in project.runs["b001"].states().states}
        assert {row["name"] for row in states} == set(expected)
        for row in states:
            assert {name: row[name] for name in expected[row["name"]]} == expected[row["name"]]
            assert row["hash"] == first["hash"]
        added_a = sum(float(row["added_a"]) for row in states)
        assert added_a == pytest.approx(first["mean_a"], rel=0.01)
    for table in TABLES:
        assert (tmp_path / "set" / table / "firmware=build%201").is_dir()


def test_the_same_run_is_written_once(made: tuple[Path, ...], tmp_path: Path) -> None:
    data_set = tmp_path / "set"
    projects = copied(made, tmp_path)
    collect(str(data_set), [projects[0]], jobs=1)
    before = content(data_set)
    again = collect(str(data_set), [*projects, projects[0]], jobs=1)
    assert (again.written, again.there) == (3, 3)
    moved = projects[0].rename(tmp_path / "elsewhere")
    assert collect(str(data_set), [moved], tags={"lab": "south"}, jobs=1).there == 3
    assert {path: bytes_ for path, bytes_ in content(data_set).items() if path in before} == before
    with warm_ember.open_project(moved) as project:  # other rules: the same capture, read anew
        project.session.apply(edits.rename_state("Count", "Passer-by", (LogRule(),)), "rename")
        project.session.apply(edits.SetFields("battery", {"reserve": 0.5}), "reserve")
        project.session.save()
    assert collect(str(data_set), [moved], jobs=1).written == 3
    found = rows(data_set, "runs")
    assert len(found) == 6
    assert len({row["hash"][:16] for row in found}) == 6
    with warm_ember.open_project(moved) as project:  # what no figure depends on is no rule
        project.session.apply(edits.SetFields("project", {"name": "board-1"}), "name")
        project.session.apply(edits.change_run("b001", note="seen"), "note")
        project.session.save()
    assert collect(str(data_set), [moved], jobs=1).there == 3


def test_a_failed_capture_stops_no_other(made: tuple[Path, ...], tmp_path: Path, command) -> None:
    projects = copied(made, tmp_path)
    damaged = projects[0] / "captures" / "b002.h5"
    damaged.write_bytes(damaged.read_bytes()[:3000])
    code, out, err = command("collect", tmp_path / "set", *projects, "--jobs", 1, "--json")
    told = json.loads(out)
    assert (code, told["written"], told["failed"]) == (2, 5, 1)
    assert err.count("\n") == 1
    assert "b002 could not be collected" in err
    failed = next(run for run in told["runs"] if run["state"] == "failed")
    assert failed["run"] == "b002"
    assert failed["reason"]
    shutil.copy(made[0] / "captures" / "b002.h5", damaged)
    code, out, err = command("collect", tmp_path / "set", *projects, "--jobs", 1)
    assert (code, out, err) == (0, "1 run written, 5 there already, 0 failed\n", "")


def test_stopped_in_the_middle_it_goes_on_where_it_was(made: tuple[Path, ...], tmp_path: Path) -> None:
    done: list[str] = []
    with pytest.raises(Cancelled):
        collect(
            str(tmp_path / "set"), made, jobs=1, on_done=lambda one, of: done.append(f"{one.run} of {of}"),
            should_stop=lambda: len(done) >= 2,
        )  # fmt: skip
    assert done == ["b001 of 6", "b002 of 6"]
    found = collect(str(tmp_path / "set"), made, jobs=1)
    assert found.written + found.there == 6
    assert found.there >= 2
    assert len(rows(tmp_path / "set", "runs")) == 6


@pytest.mark.parametrize("tag", ["mean_a", "Hash", "name", "with space", "1st", "firm-ware", "ünits"])
def test_tags_have_names_of_their_own(made: tuple[Path, ...], tmp_path: Path, tag: str) -> None:
    with pytest.raises(BadArgumentError, match="tag"):
        collect(str(tmp_path / "set"), made, tags={tag: "x"})
    for value in ("", "a\nb", "x" * 300):
        with pytest.raises(BadArgumentError, match="printable"):
            collect(str(tmp_path / "set"), made, tags={"lab": value})
    assert not (tmp_path / "set").exists()


def test_usage_is_told_in_one_line(made: tuple[Path, ...], tmp_path: Path, command) -> None:
    for arguments, words in (
        (("collect", tmp_path / "set", tmp_path / "nothing"), "nothing"),
        (("collect", tmp_path / "set", made[0], "--tag", "lab"), "KEY=VALUE"),
        (("collect", tmp_path / "set", made[0], "--jobs", 0), "--jobs"),
        (("collect", tmp_path / "set", made[0], "--scheduler", "tcp://127.0.0.1:9", "--jobs", 2), "--scheduler"),
        (("collect", tmp_path / "set"), "PROJECT"),
        (("trend", tmp_path / "set"), "no data set"),
        (("trend", tmp_path / "set", "--of", "mood"), "--of"),
        (("trend", tmp_path / "set", "--only", "lab"), "KEY=VALUE"),
    ):
        code, out, err = command(*arguments)
        assert (code, out, err.count("\n")) == (2, "", 1), arguments
        assert words in err
    assert not (tmp_path / "set").exists()


def test_a_fleet_is_collected_by_processes_and_its_regression_named(tmp_path: Path, command) -> None:
    changed = (Changed(5, "Deep sleep", 0.3),)
    projects = make_fleet(tmp_path / "fleet", builds=10, boards=3, changes=changed, scatter=0.01, **SHORT)
    one = collect(str(tmp_path / "one"), projects, jobs=1)
    two = collect(str(tmp_path / "two"), projects, jobs=2)
    assert one.written == two.written == 30
    assert content(tmp_path / "one") == content(tmp_path / "two")
    code, out, _ = command("trend", tmp_path / "two", "--json")
    told = json.loads(out)
    assert code == 0
    assert (told["of"], told["by"], len(told["series"])) == ("average", "firmware", 30)
    (change,) = told["changes"]
    assert change["at"] == "build 6"
    assert 0 < change["low"] < change["change"] < change["high"]
    code, out, _ = command("trend", tmp_path / "two", "--of", "state:Deep sleep")
    assert "build 6" in out
    assert re.search(r"\+(2[89]|3[012])", out)
    assert "state:Deep sleep of 30 runs, 10 firmwares: 1 change" in out
    # The next build is compared with what the history scatters by since then.
    limits = tmp_path / "limits.toml"
    limits.write_text("format = 1\n[baseline]\nmax_worse = 0.03\n")
    for worse, code_wanted in ((0.0, 0), (0.25, 1)):
        changes = (*changed, Changed(11, "Deep sleep", worse))
        (project,) = make_fleet(tmp_path / f"next-{worse}", builds=12, boards=1, changes=changes, scatter=0.01, **SHORT)
        baseline = f"dataset:{tmp_path / 'two'}"
        code, out, err = command("gate", project, "b012", "--limits", limits, "--baseline", baseline, "--json")
        checks = {check["name"]: check for check in json.loads(out)["checks"]}
        assert (code, err) == (code_wanted, "")
        sleep = checks["baseline.states.Deep sleep.mean_a"]
        assert sleep["outcome"] == ("fail" if worse else "pass") or (not worse and sleep["outcome"] == "undecided")
        assert "since build 6" in sleep["text"]
        assert sleep["low"] < sleep["value"] < sleep["high"]
        assert sleep["value"] == pytest.approx(worse, abs=0.06)


def test_a_trend_is_a_record(tmp_path: Path) -> None:
    projects = make_fleet(tmp_path / "fleet", builds=2, boards=1, changes=(), **SHORT)
    collect(str(tmp_path / "set"), projects, jobs=1)
    found = warm_ember.open_data_set(tmp_path / "set").trend(by="time")
    assert found.table().column_names[:3] == ["key", "run", "value"]
    assert [point.run for point in found.series] == ["b001", "b002"]
    assert np.isfinite([point.value for point in found.series]).all()
    assert "b001" in found._repr_html_()
