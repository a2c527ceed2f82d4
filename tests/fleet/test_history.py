"""What is read of a data set: every run once, in its order, and what may mislead is told."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pyarrow.dataset
import pytest

from fleet.made_rows import day, write_run
from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.fleet.data_set import DataSet
from warm_ember.fleet.expected import Expected, expect
from warm_ember.fleet.history import read_histories, read_history
from warm_ember.fleet.trend import find_trend


@pytest.fixture
def data_set(tmp_path: Path) -> DataSet:
    """A data set that nothing is in yet."""
    return DataSet(str(tmp_path / "set"))


def fill(data_set: DataSet, builds: int = 20, boards: int = 3, step: float = 0.0, at: int = 10, seed: int = 1) -> None:
    """Write runs of builds on boards; from one build on they draw more."""
    random = np.random.default_rng(seed)
    for build in range(builds):
        for board in range(boards):
            average_a = 2e-4 * (1 + step * (build >= at)) * (1 + 0.01 * board) * (1 + 0.01 * random.standard_normal())
            write_run(data_set, f"b{build}", f"r{build}", average_a, board=str(board), recorded_utc=day(build))


def test_a_regression_is_named_with_its_build(data_set: DataSet) -> None:
    fill(data_set, step=0.06)
    histories = read_histories(data_set, ("average", "life", "state:Deep sleep", "source:pir"))
    for of, sign in (("average", 1), ("life", -1), ("state:Deep sleep", 1), ("source:pir", 1)):
        (change,) = find_trend(histories[of]).changes
        assert change.at == "b10"
        assert sign * change.low <= sign * change.high or sign < 0
        assert change.low <= change.change <= change.high
        assert change.change / change.before == pytest.approx(0.06 if sign > 0 else 1 / 1.06 - 1, abs=0.015)
    assert histories["average"].keys == tuple(f"b{build}" for build in range(20))  # by time, not by name
    assert histories["average"].by == "firmware"


def test_each_run_is_read_once_however_it_is_stored(data_set: DataSet) -> None:
    fill(data_set)
    asked = ("average", "finding:tick-running")
    before = [one.runs for one in read_histories(data_set, asked).values()]
    names = {path.rpartition("/")[2] for path in data_set.paths("runs")}
    assert len(names) == 60
    assert data_set.merge(at_least=2) == 20
    assert len(data_set.paths("runs")) == 20
    assert [one.runs for one in read_histories(data_set, asked).values()] == before
    assert len(data_set.merged_hashes()) == 60
    fill(data_set)  # as a program killed between writing the merged file and removing the others leaves it
    assert len(data_set.paths("runs")) == 80
    assert [one.runs for one in read_histories(data_set, asked).values()] == before
    data_set.merge(at_least=2)
    rows = pyarrow.dataset.dataset(f"{data_set.root}/states", partitioning="hive").to_table()
    assert rows.num_rows == 120  # and any other engine reads it once again
    assert set(rows["firmware"].to_pylist()) == {f"b{build}" for build in range(20)}


def test_newer_rules_take_the_place_of_older_ones(data_set: DataSet) -> None:
    first = write_run(data_set, "b1", "r1", 2e-4, findings={"tick-running": 1e-5})
    newer = first[:16] + "0" * 16
    write_run(data_set, "b1", "r1", 3e-4, hash=newer)
    assert [path.rpartition("/")[2] for path in data_set.paths("runs")] == [f"{newer}.parquet"]
    write_run(data_set, "b1", "r1", 2e-4, findings={"tick-running": 1e-5})
    data_set.merge(at_least=1)
    write_run(data_set, "b1", "r1", 3e-4, hash=newer)
    found = read_histories(data_set, ("average", "finding:tick-running"), "firmware")
    assert [run.value for run in found["average"].runs] == [3e-4]
    assert [run.value for run in found["finding:tick-running"].runs] == [0.0]
    data_set.merge(at_least=1)
    assert [run.value for run in read_history(data_set).runs] == []  # no time, and one firmware: nothing to place
    assert len(data_set.merged_hashes()) == 1


def test_what_killed_and_newer_writers_left_is_told(data_set: DataSet) -> None:
    fill(data_set, builds=6)
    folder = Path(data_set.paths("runs")[0]).parent
    (folder / ".warm-ember-012345.partial").write_bytes(b"PAR1 half a file")
    assert not read_history(data_set).notes
    (folder / f"{'f' * 32}.parquet").write_bytes(b"PAR1 half a file")
    (note,) = read_history(data_set).notes
    assert "1 file of runs cannot be read" in note
    assert "f" * 32 in note
    assert len(read_history(data_set).runs) == 18
    write_run(data_set, "b7", "r7", 2e-4, recorded_utc=day(7), schema_version=2)
    assert any("1 run of a newer version" in note for note in read_history(data_set).notes)
    assert data_set.merge(at_least=1) == 7
    assert len(read_history(data_set).runs) == 19


def test_wrong_clocks_move_no_build(data_set: DataSet) -> None:
    fill(data_set, builds=12, step=0.1, at=6)
    for build, when in ((3, "1970-01-01T00:00:04Z"), (8, "2031-01-01T00:00:00Z"), (9, None)):
        write_run(data_set, f"b{build}", "again", 2e-4 * (1.1 if build > 5 else 1), board="0", recorded_utc=when)
    history = read_history(data_set)
    assert history.keys == tuple(f"b{build}" for build in range(12))
    assert [note for note in history.notes if "clock" in note] == [
        "3 runs whose clock was wrong or not set, placed by the others of their firmware"
    ]
    assert [change.at for change in find_trend(history).changes] == ["b6"]
    by_time = read_history(data_set, by="time")
    assert len(by_time.runs) == 36
    assert any("3 runs with no place in time left out" in note for note in by_time.notes)
    write_run(data_set, "b99", "lost", 2e-4, board="0")
    assert any("1 place without a time left out" in note for note in read_history(data_set).notes)


def test_without_any_clock_names_tell_the_order(data_set: DataSet) -> None:
    for build in (10, 9, 1, 2):
        write_run(data_set, f"b{build}", "r", 2e-4)
    history = read_history(data_set)
    assert history.keys == ("b1", "b2", "b9", "b10")
    assert any("no run has a time" in note for note in history.notes)


def test_without_any_clock_commits_are_in_the_order_of_collecting(data_set: DataSet) -> None:
    commits = ["f3a1", "09bc", "77d0", "1e5f"]
    for number, commit in enumerate(commits):
        run_hash = write_run(data_set, "", "r", 2e-4, commit=commit, hash=f"{number}" * 32)
        path = Path(data_set.folder("runs", "")) / f"{run_hash}.parquet"
        os.utime(path, (1.7e9 + number, 1.7e9 + number))
    history = read_history(data_set)
    assert (history.by, list(history.keys)) == ("commit", commits)
    assert any("in the order in which they were collected" in note for note in history.notes)


def test_mixed_tags_and_devices_are_told(data_set: DataSet) -> None:
    fill(data_set, builds=4)
    write_run(data_set, "b5", "r5", 2e-4, recorded_utc=day(5), commit="c5", lab="north")
    write_run(data_set, "b6", "r6", 5e-4, recorded_utc=day(6), commit="c6", target="another post")
    history = read_history(data_set)
    assert (history.by, history.keys) == ("commit", ("c5", "c6"))
    assert any("12 runs with no commit left out" in note for note in history.notes)
    assert any("2 targets" in note and "--only target=" in note for note in history.notes)
    only = read_history(data_set, by="firmware", only=(("target", "post"),))
    assert len(only.runs) == 13
    assert not any("targets" in note for note in only.notes)
    assert [run.run for run in read_history(data_set, by="lab").runs] == ["r5"]
    for _ in range(50):
        write_run(data_set, "b2", f"again {_}", 2e-4, board="0", recorded_utc=day(2))
    assert any("'b2' was measured 53 times" in note for note in read_history(data_set, by="firmware").notes)


def test_findings_are_counted_or_costed(data_set: DataSet) -> None:
    for build in range(4):
        found = {"tick-running": 1e-5, "clipped": None} if build > 1 else {}
        write_run(data_set, f"b{build}", "r", 2e-4, recorded_utc=day(build), findings=found)
    histories = read_histories(data_set, ("finding:tick-running", "finding:clipped", "finding:hum"))
    assert [run.value for run in histories["finding:tick-running"].runs] == [0, 0, 1e-5, 1e-5]
    assert [run.value for run in histories["finding:clipped"].runs] == [0, 0, 1, 1]
    assert [run.value for run in histories["finding:hum"].runs] == [0, 0, 0, 0]


def test_what_there_is_not_is_told(data_set: DataSet, tmp_path: Path) -> None:
    with pytest.raises(BadFileError, match="no data set"):
        read_history(data_set)
    fill(data_set, builds=2)
    with pytest.raises(BadArgumentError, match=r"have no 'branch'; there are: .*board"):
        read_history(data_set, by="branch")
    for of in ("state", "states:Count", "average:x", "", "life:"):
        with pytest.raises(BadArgumentError, match="--of is average"):
            read_history(data_set, of)
    history = read_history(data_set, "state:Awake")
    assert not find_trend(history).changes
    assert "no run has the state 'Awake'; there are: Count, Deep sleep" in history.notes
    (tmp_path / "file").write_text("x")
    with pytest.raises(BadFileError, match="is a file"):
        DataSet(str(tmp_path / "file"))
    with pytest.raises(BadFileError, match="no data set can be there"):
        DataSet("nowhere://x")


def test_names_of_builds_are_what_they_are() -> None:
    data_set = DataSet("memory://fleet-names")
    names = ["1/2=3 é", "0123", "2026-01-01", "", "%20", "'; DROP TABLE runs; --"]
    for number, name in enumerate(names):
        write_run(data_set, name, f"r{number}", 2e-4, recorded_utc=day(number))
    assert read_history(data_set).keys == tuple(name for name in names if name)
    assert [run.firmware for run in read_history(data_set, by="time").runs] == names
    with pytest.raises(BadFileError, match="too long"):
        data_set.folder("runs", "x" * 300)


def test_what_is_expected_holds_nine_in_ten(tmp_path: Path) -> None:
    random, held = np.random.default_rng(3), 0
    for number in range(25):
        data_set = DataSet(f"memory://expected-{number}")
        fill(data_set, builds=6, boards=2, seed=100 + number)
        trend = find_trend(read_history(data_set))
        expected = expect(trend, "1")
        assert isinstance(expected, Expected)
        assert expected.runs >= 10
        for _ in range(20):
            _, low, high = expected.worse(2e-4 * 1.01 * (1 + 0.01 * random.standard_normal()))
            held += low <= 0 <= high
    assert 0.84 <= held / 500 <= 0.96
    assert isinstance(expect(trend, "7"), str)  # of two boards nothing is known of a third
