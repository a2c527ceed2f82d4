import json
import os
import subprocess
import sys
import threading
from pathlib import Path

import h5py
import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError, BadFileError, Cancelled, ProjectError
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.project import Project, Run
from warm_ember.model.rules import BandRule, HandRule, LevelsRule, LineRule, LogRule
from warm_ember.session.demo import demo_project
from warm_ember.store import summary
from warm_ember.store.capture import Capture
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.store.chunked_writer import STORED_CHUNK
from warm_ember.store.project_folder import ProjectFolder, check_capture_name

INFO = CaptureInfo(1e-3, start_utc="2026-06-14T00:00:00Z", supply_v=3.0, firmware="r4", corrections=("none",))
EVENTS = (Event(0.25, "state", "Schlaf ☾"), Event(1.0, "log", "a,b", "7"))


def write(path: Path, current: np.ndarray, **channels: object) -> Path:
    with CaptureWriter(
        path, with_voltage="voltage" in channels, line_names=("A", "B") if "lines" in channels else ()
    ) as writer:
        for first in range(0, len(current), 100_001):
            piece = slice(first, first + 100_001)
            writer.append(current[piece], **{name: values[piece] for name, values in channels.items()})  # type: ignore[index]
        writer.finish(INFO, EVENTS)
    return path


@pytest.mark.parametrize("size", [1, 1000, STORED_CHUNK, STORED_CHUNK + 1, 2 * STORED_CHUNK + 333])
def test_a_capture_reads_back_as_it_was_written(tmp_path: Path, random: np.random.Generator, size: int) -> None:
    current = random.standard_normal(size).astype(np.float32)
    voltage = np.full(size, 2.0, dtype=np.float32)
    lines = random.integers(0, 4, size).astype(np.uint8)
    with Capture(write(tmp_path / "a.h5", current, voltage=voltage, lines=lines)) as capture:
        np.testing.assert_array_equal(capture.current.read(0, size), current)
        assert capture.lines is not None
        np.testing.assert_array_equal(capture.lines.read(0, size), lines)
        assert (capture.info, capture.events, capture.lines.names) == (INFO, EVENTS, ("A", "B"))
        whole = capture.whole()
        assert whole.charge_c == pytest.approx(current.sum(dtype=np.float64) * 1e-3, rel=1e-9, abs=1e-12)
        assert whole.energy_j == pytest.approx(2.0 * whole.charge_c, rel=1e-9)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.h5"]


def test_any_hdf5_tool_can_read_it(tmp_path: Path) -> None:
    path = write(tmp_path / "a.h5", np.ones(10, dtype=np.float32))
    with h5py.File(path) as file:
        assert file["current"].dtype == np.float32
        assert file.attrs["sample_interval_s"] == 1e-3
        assert file["events"].dtype.names == ("time_s", "event", "name", "value")


def test_a_capture_that_another_tool_changed_gets_a_new_summary(tmp_path: Path) -> None:
    path = write(tmp_path / "a.h5", np.ones(5000, dtype=np.float32))
    with h5py.File(path, "r+") as file:
        file["current"][2000:3000] = 5.0
    content = path.read_bytes()
    for _ in range(2):
        with Capture(path) as capture:
            assert capture.whole().charge_c == pytest.approx(9.0)
    assert path.read_bytes() == content
    assert sorted(found.name for found in tmp_path.iterdir()) == [".a.h5.summary", "a.h5"]


def test_a_capture_without_a_summary_is_opened(tmp_path: Path) -> None:
    path = tmp_path / "foreign.h5"
    with h5py.File(path, "w") as file:
        file["current"] = np.full(1000, 2e-3, dtype=np.float32)
        file["aux/case"] = np.full(1000, 20.0, dtype=np.float32)
        file.attrs["sample_interval_s"] = 0.5
    content = path.read_bytes()
    with Capture(path) as capture:
        assert capture.whole().charge_c == pytest.approx(1.0)
        assert list(capture.aux) == ["case"]
    assert path.read_bytes() == content


class Passes:
    """Counts how often the samples of a capture are all read."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.count = 0
        true = summary.rebuild

        def counted(*arguments: object, **named: object) -> object:
            self.count += 1
            return true(*arguments, **named)

        monkeypatch.setattr(summary, "rebuild", counted)


@pytest.mark.parametrize("granularity_ns", [1, 1_000_000_000, 2_000_000_000])
def test_a_file_system_of_coarse_times_neither_wears_a_summary_out_nor_keeps_a_stale_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, granularity_ns: int
) -> None:
    passes = Passes(monkeypatch)
    path = write(tmp_path / "a.h5", np.ones(5000, dtype=np.float32))

    def as_stored() -> None:
        coarse = path.stat().st_mtime_ns // granularity_ns * granularity_ns
        os.utime(path, ns=(coarse, coarse))

    as_stored()
    Capture(path).close()
    assert passes.count == 0
    with h5py.File(path, "r+") as file:
        file["current"][2000:2001] = 5.0
    as_stored()
    for _ in range(2):
        with Capture(path) as capture:
            assert capture.whole().charge_c == pytest.approx(5.004)
    assert passes.count == 1  # what was made beside the capture is used the second time


def test_a_summary_is_believed_only_where_the_samples_agree(tmp_path: Path) -> None:
    """The time of the last change can be set by anybody, and a summary say anything."""
    path = write(tmp_path / "a.h5", np.ones(5000, dtype=np.float32))
    before = path.stat()
    with h5py.File(path, "r+") as file:
        level = file["summary/current/blocks_of_256"]
        blocks = level[:]
        blocks["sum"] *= 2
        level[:] = blocks
    os.utime(path, ns=(before.st_mtime_ns, before.st_mtime_ns))
    with Capture(path) as capture:
        assert capture.whole().charge_c == pytest.approx(5.0)


def test_what_lies_behind_a_symbolic_link_is_only_read(tmp_path: Path) -> None:
    (tmp_path / "mine").mkdir()
    path = write(tmp_path / "theirs.h5", np.ones(5000, dtype=np.float32))
    path.touch()
    content = path.read_bytes()
    (tmp_path / "mine" / "a.h5").symlink_to(path)
    with Capture(tmp_path / "mine" / "a.h5") as capture:
        assert capture.whole().charge_c == pytest.approx(5.0)
    assert path.read_bytes() == content
    assert sorted(found.name for found in (tmp_path / "mine").iterdir()) == [".a.h5.summary", "a.h5"]


def test_six_readers_of_a_touched_capture_all_read_it(tmp_path: Path) -> None:
    path = write(tmp_path / "a.h5", np.ones(500_000, dtype=np.float32))
    path.touch()
    script = "import sys; from pathlib import Path; from warm_ember.store.capture import Capture\n"
    script += "with Capture(Path(sys.argv[1])) as capture: print(round(capture.whole().charge_c))"
    readers = [
        subprocess.Popen(
            [sys.executable, "-c", script, str(path)],
            stdout=subprocess.PIPE,
            text=True,
            env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)},
        )
        for _ in range(6)
    ]
    with Capture(path) as mine:
        assert [reader.communicate()[0].strip() for reader in readers] == ["500"] * 6
        assert mine.whole().charge_c == pytest.approx(500.0)


def test_making_the_summary_can_be_stopped(tmp_path: Path) -> None:
    path = tmp_path / "foreign.h5"
    with h5py.File(path, "w") as file:
        file["current"] = np.ones(10, dtype=np.float32)
        file.attrs["sample_interval_s"] = 1.0
    with pytest.raises(Cancelled):
        Capture(path, should_stop=lambda: True)


@pytest.mark.parametrize(
    ("make", "problem"),
    [
        (lambda file: None, "/current"),
        (lambda file: file.create_dataset("current", data=np.ones((2, 2))), "/current"),
        (lambda file: file.create_dataset("current", data=np.ones(3)), "sample_interval_s is missing"),
        (
            lambda file: (file.create_dataset("current", data=np.ones(3)), file.attrs.update(sample_interval_s=-1.0)),
            "above 0",
        ),
        (lambda file: (file.create_dataset("current", data=np.ones(3)), file.attrs.update(format=99)), "newer"),
        (
            lambda file: (
                file.create_dataset("current", data=np.ones(3)),
                file.create_dataset("voltage", data=np.ones(2)),
                file.attrs.update(sample_interval_s=1.0),
            ),
            "/voltage",
        ),
    ],
)
def test_other_files_are_refused(tmp_path: Path, make, problem: str) -> None:
    path = tmp_path / "a.h5"
    with h5py.File(path, "w") as file:
        make(file)
    with pytest.raises(BadFileError, match=problem):
        Capture(path)


def test_a_damaged_file_is_refused(tmp_path: Path) -> None:
    path = write(tmp_path / "a.h5", np.ones(5000, dtype=np.float32))
    path.write_bytes(path.read_bytes()[:3000])
    with pytest.raises(BadFileError, match="damaged"):
        Capture(path)


def test_a_writer_that_fails_leaves_nothing(tmp_path: Path) -> None:
    def broken() -> None:
        with CaptureWriter(tmp_path / "a.h5") as writer:
            writer.append(np.ones(10, dtype=np.float32))
            raise RuntimeError("the cable fell out")

    with pytest.raises(RuntimeError, match="cable"):
        broken()
    assert list(tmp_path.iterdir()) == []
    assert not [thread for thread in threading.enumerate() if thread.name.startswith("capture-writer")]


def test_a_project_reads_back_as_it_was_saved(tmp_path: Path) -> None:
    project = msgspec.structs.replace(
        demo_project(),
        rules=(
            HandRule("X", "r1", 0.0, 1.0),
            BandRule("Y", 1e-3, 2e-3),
            LineRule("Z", ("A",)),
            LogRule(),
            LevelsRule({"a": "b"}),
        ),
    )
    folder = ProjectFolder(tmp_path / "p")
    folder.save(project)
    assert folder.load() == project
    first = folder.file.read_bytes()
    folder.save(folder.load())
    assert folder.file.read_bytes() == first
    assert sorted(path.name for path in folder.path.iterdir()) == ["captures", "project.json"]


def test_the_names_of_fields_in_a_file_stay_what_they_were(tmp_path: Path) -> None:
    """Code may call a field by a better name; a project that was written before is read, and written as before."""
    written = {
        "format": 1,
        "sleep_modes": [{"name": "stop", "floor_a": 3e-6, "crossing_c": 2e-6}],
        "plan": {"changes": [{"name": "slower", "effects": [], "is_in": False}]},
    }
    (tmp_path / "project.json").write_text(json.dumps(written))
    folder = ProjectFolder(tmp_path)
    project = folder.load()
    assert project.sleep_modes[0].transition_charge_c == 2e-6
    assert not project.plan.changes[0].is_planned
    folder.save(project)
    again = json.loads((tmp_path / "project.json").read_text())
    assert again["sleep_modes"][0]["crossing_c"] == 2e-6
    assert again["plan"]["changes"][0]["is_in"] is False


def test_captures_that_lie_in_the_folder_are_added(tmp_path: Path) -> None:
    folder = ProjectFolder(tmp_path)
    folder.save(Project(runs=(Run("b"),)))
    for name in ("a", "b", "c"):
        write(folder.capture_path(name), np.ones(3, dtype=np.float32))
    assert [run.name for run in folder.load().runs] == ["b", "a", "c"]


@pytest.mark.parametrize(
    ("content", "problem"),
    [
        ("{", "expected JSON"),
        ("[]", "format number"),
        ('{"name": "x"}', "format number"),
        ('{"format": 999}', "newer"),
        ('{"format": 0}', "not known"),
        ('{"format": 1, "runs": 3}', "not as expected"),
        ('{"format": 1, "unheard": 3}', "unheard"),
        ("[" * 100_000, "expected JSON|format number"),
    ],
)
def test_an_unreadable_project_stays_untouched(tmp_path: Path, content: str, problem: str) -> None:
    (tmp_path / "project.json").write_text(content)
    with pytest.raises(ProjectError, match=problem):
        ProjectFolder(tmp_path).load()
    assert (tmp_path / "project.json").read_text() == content


def test_no_project(tmp_path: Path) -> None:
    with pytest.raises(ProjectError, match="no such project"):
        ProjectFolder(tmp_path / "nowhere").load()
    with pytest.raises(ProjectError, match=r"no project\.json"):
        ProjectFolder(tmp_path).load()


@given(st.text(max_size=300))
def test_a_capture_name_is_one_path_component_or_refused(name: str) -> None:
    try:
        checked = check_capture_name(name)
    except BadArgumentError:
        return
    assert Path(checked).name == checked
    assert checked.isprintable()
    assert len(checked.encode()) <= 200


@pytest.mark.parametrize("name", ["", " ", ".", "..", "a/b", "../a", "a\\b", "a\nb", "a\0b", "x" * 201, "ü" * 101])
def test_names_that_are_refused(name: str) -> None:
    with pytest.raises(BadArgumentError):
        check_capture_name(name)


def test_one_edit_is_a_small_diff(tmp_path: Path) -> None:
    folder = ProjectFolder(tmp_path)
    folder.save(demo_project())
    before = folder.file.read_text().splitlines()
    folder.save(msgspec.structs.replace(demo_project(), target_s=1.0))
    after = folder.file.read_text().splitlines()
    assert sum(a != b for a, b in zip(before, after, strict=True)) == 1
    assert json.loads(folder.file.read_text())["target_s"] == 1.0
