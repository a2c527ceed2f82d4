"""Imports that are stopped, refused, repeated, or run into a full disk."""

import json
import os
from pathlib import Path

import numpy as np
import pytest

from warm_ember.errors import BadArgumentError, BadFileError, Cancelled, ProjectError
from warm_ember.formats.source import ImportOptions
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.new_capture import adopt, free_name
from warm_ember.session.session import Session

RATE = ImportOptions(rate_hz=1000.0)


@pytest.fixture
def raw_file(tmp_path: Path) -> Path:
    path = tmp_path / "raw.f32"
    np.arange(3_000_000, dtype="<f4").tofile(path)
    return path


@pytest.fixture
def session(tmp_path: Path):
    opened = Session.open_or_create(tmp_path / "p")
    yield opened
    opened.close()


def test_an_import_reports_its_progress(session: Session, raw_file: Path) -> None:
    shares: list[float] = []
    report = import_file(session, ImportRequest(raw_file, RATE), progress=shares.append)
    assert shares == sorted(shares)
    assert shares[-1] == 1.0
    assert (report.name, report.samples, report.duration_s) == ("raw", 3_000_000, 3000.0)
    assert session.project.runs == ()
    adopt(session, report)
    assert [run.name for run in session.project.runs] == ["raw"]
    assert Session.open(session.folder.path).project == session.project


@pytest.mark.parametrize("after", [0, 1, 2])
def test_a_stopped_import_leaves_nothing(session: Session, raw_file: Path, after: int) -> None:
    asked = iter(range(100))
    with pytest.raises(Cancelled):
        import_file(session, ImportRequest(raw_file, RATE), should_stop=lambda: next(asked) >= after)
    assert not session.folder.path.exists()


def test_a_refused_file_leaves_nothing(session: Session, tmp_path: Path) -> None:
    path = tmp_path / "late.csv"
    path.write_text("s,A\n" + "".join(f"{k / 1000:.3f},1\n" for k in range(50_000)) + "50.000,x\n50.001,1\n")
    with pytest.raises(BadFileError, match="line 50002"):
        import_file(session, ImportRequest(path))
    assert not session.folder.path.exists()


def test_an_existing_capture_survives_a_refused_replacement(session: Session, raw_file: Path, tmp_path: Path) -> None:
    adopt(session, import_file(session, ImportRequest(raw_file, RATE, name="one")))
    before = session.capture("one").whole()
    with pytest.raises(BadArgumentError, match="already is"):
        import_file(session, ImportRequest(raw_file, RATE, name="one"))
    bad = tmp_path / "bad.csv"
    bad.write_text("s,A\n0,1\n1,2\n2,x\n3,4\n")
    with pytest.raises(BadFileError):
        import_file(session, ImportRequest(bad, name="one", replace=True))
    session.forget_capture("one")
    assert session.capture("one").whole() == before
    assert [path.name for path in session.folder.captures.iterdir()] == ["one.h5"]


def test_a_replaced_capture_is_read_anew(session: Session, raw_file: Path, tmp_path: Path) -> None:
    adopt(session, import_file(session, ImportRequest(raw_file, RATE, name="one")))
    first = session.run("one")
    flat = tmp_path / "flat.f32"
    np.full(1000, 2.0, dtype="<f4").tofile(flat)
    adopt(session, import_file(session, ImportRequest(flat, RATE, name="one", replace=True)))
    second = session.run("one")
    assert first.whole.mean_a != second.whole.mean_a == 2.0
    assert second.ledger.duration_s == 1.0


def test_a_folder_that_cannot_be_written_is_told(raw_file: Path, tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    session = Session.open_or_create(tmp_path / "q")
    session.folder.path = tmp_path / "file" / "q"
    with pytest.raises(ProjectError, match="cannot be made"):
        import_file(session, ImportRequest(raw_file, RATE))


def test_a_full_disk_is_told_and_leaves_nothing(
    session: Session, raw_file: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*_arguments: object) -> int:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("warm_ember.store.chunked_writer.ChunkedDataset.append", full)
    with pytest.raises(ProjectError, match="the disk is full"):
        import_file(session, ImportRequest(raw_file, RATE))
    assert not session.folder.path.exists()


@pytest.mark.parametrize("taken", [0, 1, 2, 11])
def test_a_free_name_is_free(tmp_path: Path, taken: int) -> None:
    session = Session.open_or_create(tmp_path / "p")
    session.folder.captures.mkdir(parents=True)
    for _ in range(taken):
        session.folder.capture_path(free_name(session, "night")).touch()
    assert len(list(session.folder.captures.iterdir())) == taken
    assert not session.folder.capture_path(free_name(session, "night")).exists()


def test_a_shunt_and_a_supply_stand_in_the_capture(session: Session, tmp_path: Path) -> None:
    path = tmp_path / "volts.csv"
    path.write_text("s,V\n0,1.0\n1,2.0\n2,3.0\n")
    request = ImportRequest(path, ImportOptions(shunt_ohm=10.0, gain=5.0, offset_v=0.5), supply_v=3.3)
    adopt(session, import_file(session, request))
    capture = session.capture("volts")
    assert capture.current.read(0, 3) == pytest.approx([0.01, 0.03, 0.05])
    assert capture.info.corrections == ("current from the voltage across 10 ohm, gain 5, offset 0.5 V",)
    assert capture.whole().energy_j == pytest.approx(3.3 * 0.09)
    assert os.fspath(path.name) in capture.info.note


@pytest.mark.parametrize("shift_s", [0.0, 1e6])
def test_a_log_of_another_run_is_told_in_a_line_at_import(tmp_path: Path, command, shift_s: float) -> None:
    random = np.random.default_rng(4)
    current = np.full(60_000, 5e-6)
    for at in np.sort(random.integers(500, 59_000, 40)).tolist():
        current[at : at + 100] = 4e-3
    np.save(tmp_path / "a.npy", (current * (1 + 0.01 * random.standard_normal(60_000))).astype(np.float32))
    times_s = np.sort(random.uniform(0, 60, 80)) + shift_s
    rows = [f"{t:.4f},state,{('Work', 'Sleep')[k % 2]}," for k, t in enumerate(times_s)]
    (tmp_path / "log.csv").write_text("time_s,event,name,value\n" + "\n".join(rows) + "\n")
    log = ("--events", tmp_path / "log.csv")
    code, out, err = command("import", tmp_path / "p", tmp_path / "a.npy", "--rate", "1000", *log, "--json")
    assert (code, err) == (0, "")
    (line,) = [note for note in json.loads(out)["assumed"] if "log" in note]
    assert line.startswith("the log places nothing: ")
    states = json.loads(command("states", tmp_path / "p", "a", "--json")[1])
    assert states["states"] == []
    assert states["unplaced_share"] == pytest.approx(1.0)
    kinds = [one["kind"] for one in json.loads(command("findings", tmp_path / "p", "a", "--json")[1])["findings"]]
    assert kinds == ["ambiguous-clock"]
    assert {one["source"] for one in json.loads(command("wakes", tmp_path / "p", "a", "--json")[1])["sources"]} == {
        "unknown"
    }
