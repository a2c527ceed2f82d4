"""Operations that write into a project, each with what must hold after whatever ended it."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import h5py
import msgspec
import numpy as np
from fault_tracer import Fault, Traced, traced

from warm_ember.errors import BadFileError, WarmEmberError
from warm_ember.formats.source import ImportOptions
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.heard import Heard
from warm_ember.report.export import export
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.new_capture import adopt
from warm_ember.session.recovering import recover_all
from warm_ember.session.session import Session
from warm_ember.store.capture import Capture
from warm_ember.store.recording_file import RecordingFile

INFO = CaptureInfo(1e-3, supply_v=3.0)
OLD, NEW = 40_000, 30_000
PIECE, PIECES = 1000, 6
FLUSHED = "flushed"


def values(samples: int, seed: int) -> np.ndarray:
    """Return made-up currents, A."""
    return np.random.default_rng(seed).lognormal(-10, 2, samples).astype(np.float32)


@dataclass(frozen=True)
class Case:
    """One operation.

    Parameters
    ----------
    name
        For the table.
    prepare
        Makes what it starts from, in an empty folder.
    work
        The operation; raises what the program would tell the user.
    """

    name: str
    prepare: Callable[[Path], None]
    work: Callable[[Path], None]


def _project(folder: Path) -> None:
    raw = folder / "old.f32"
    values(OLD, 1).tofile(raw)
    with Session.open_or_create(folder / "p") as session:
        adopt(session, import_file(session, ImportRequest(raw, ImportOptions(rate_hz=1000.0))))
    values(NEW, 2).tofile(folder / "new.f32")
    (folder / "good.csv").write_text("what was exported before\n")


def _import(folder: Path) -> None:
    with Session.open(folder / "p") as session:
        adopt(session, import_file(session, ImportRequest(folder / "new.f32", ImportOptions(rate_hz=1000.0))))


def _replace(folder: Path) -> None:
    request = ImportRequest(folder / "new.f32", ImportOptions(rate_hz=1000.0), "old", replace=True)
    with Session.open(folder / "p") as session:
        adopt(session, import_file(session, request))


def _record(folder: Path) -> None:
    recording = RecordingFile(folder / "p" / "captures" / "night.h5", INFO, with_voltage=True, line_names=("A", "B"))
    current = values(PIECE * PIECES, 3)
    for turn in range(PIECES):
        piece = current[turn * PIECE : (turn + 1) * PIECE]
        recording.append(piece, piece, np.zeros(PIECE, np.uint8))
        recording.note(Heard(turn * 1.0, "state", f"s{turn}"))
        recording.flush()
        # Beside the traced folder: what was safe when the fault came.
        folder.with_suffix(f".{FLUSHED}").write_text(str(recording.samples))
    recording.finish(INFO, ())


def _interrupted(folder: Path) -> None:
    _project(folder)
    traced(lambda: _record(folder), folder, Fault.KILL, count_writes(_record, folder, _project) - 12)


def _recover(folder: Path) -> None:
    with Session.open(folder / "p") as session:
        for found in recover_all(session):
            if found.problem:
                raise WarmEmberError(found.problem)


def _save(folder: Path) -> None:
    with Session.open(folder / "p") as session:
        session.apply(lambda project: msgspec.structs.replace(project, target_s=1e7), "target")
        session.save()


def _touched(folder: Path) -> None:
    _project(folder)
    (folder / "p" / "captures" / "old.h5").touch()


def _summary(folder: Path) -> None:
    with Capture(folder / "p" / "captures" / "old.h5") as capture:
        capture.whole()


def _export_table(folder: Path) -> None:
    with Session.open(folder / "p") as session:
        export(session, "old", "capture", folder / "good.csv")


def _export_capture(folder: Path) -> None:
    with Session.open(folder / "p") as session:
        export(session, "old", "capture", folder / "copy.h5")


CASES = (
    Case("import", _project, _import),
    Case("import --replace", _project, _replace),
    Case("record and finish", _project, _record),
    Case("recover", _interrupted, _recover),
    Case("save", _project, _save),
    Case("summary of a touched capture", _touched, _summary),
    Case("export a table", _project, _export_table),
    Case("export a capture", _project, _export_capture),
)


def count_writes(work: Callable[[Path], None], folder: Path, prepare: Callable[[Path], None]) -> int:
    """Return how many writes an operation makes."""
    aside = folder.with_name(folder.name + "-counted")
    aside.mkdir()
    try:
        prepare(aside)
        return traced(lambda: work(aside), aside).writes
    finally:
        shutil.rmtree(aside)
        aside.with_suffix(f".{FLUSHED}").unlink(missing_ok=True)


def try_fault(case: Case, fault: Fault, point: int, prepared: Path, folder: Path) -> tuple[Traced, list[str]]:
    """Do an operation with a fault in it in a copy of what was prepared.

    Returns
    -------
    tuple
        How it ended, and what was lost or left, a sentence each.
    """
    shutil.copytree(prepared, folder)
    flushed = folder.with_suffix(f".{FLUSHED}")
    try:
        before = (folder / "p" / "captures" / "old.h5").read_bytes()
        ended = traced(lambda: case.work(folder), folder, fault, point)
        lost = [f"it crashed with {ended.exit_code}"] if fault is Fault.FULL and ended.exit_code not in (0, 3) else []
        if fault is Fault.FULL:
            lost += _left(folder, ended)
        lost += _lost(case, folder, before, int(flushed.read_text()) if flushed.exists() else 0)
        return ended, lost
    finally:
        shutil.rmtree(folder)
        flushed.unlink(missing_ok=True)


def _left(folder: Path, ended: Traced) -> list[str]:
    """Say what a command that told of a full disk left behind."""
    left = [path.name for path in folder.rglob(".warm-ember-*")]
    if ended.exit_code == 3 and (folder / "p" / "captures" / "new.h5").exists():
        left.append("new.h5, though it failed")
    return [f"left {name}" for name in left]


def _lost(case: Case, folder: Path, before: bytes, flushed: int) -> list[str]:
    """Open the project as the next command does, and say what is missing in it."""
    found: list[str] = []
    try:
        with Session.open(folder / "p") as session:
            found += [recovered.problem for recovered in recover_all(session) if recovered.problem]
            runs = {run.name for run in session.project.runs}
            if "old" not in runs:
                found.append("the old run is gone from the project")
            captures = {path.stem: path for path in session.folder.captures.glob("*.h5")}
            found += _capture_lost(case, captures, before, flushed)
            leftovers = [path.name for path in session.folder.path.rglob(".*") if path.is_file()]
            allowed = {".old.h5.summary"} if case.work is _summary else set()
            found += [f"{name} is never removed" for name in sorted(set(leftovers) - allowed)]
    except WarmEmberError as error:
        found.append(error.one_line)
    good = (folder / "good.csv").read_text()
    if good != "what was exported before\n" and good.count("\n") != OLD + 1:
        found.append("an export that was there is neither the old nor the new one")
    copy = folder / "copy.h5"
    if copy.exists() and hashlib.sha256(copy.read_bytes()).digest() != hashlib.sha256(before).digest():
        found.append("an exported capture is not whole")
    return found


def _capture_lost(case: Case, captures: dict[str, Path], before: bytes, flushed: int) -> list[str]:
    found = []
    wanted = {"old": values(OLD, 1), "new": values(NEW, 2), "night": values(PIECE * PIECES, 3)}
    if "old" not in captures:
        return ["the old capture is gone"]
    if case.work is not _replace and captures["old"].read_bytes() != before:
        found.append("the old capture was changed")
    if flushed and "night" not in captures:
        found.append(f"{flushed} samples that were safe are gone")
    for name, path in captures.items():
        try:
            with Capture(path) as capture:
                read = capture.current.read(0, capture.current.samples)
        except BadFileError as error:
            found.append(error.one_line)
            continue
        choices = [wanted[name]] + ([wanted["new"]] if name == "old" and case.work is _replace else [])
        if name == "night":
            if len(read) < flushed:
                found.append(f"only {len(read)} of {flushed} samples that were safe are there")
            choices = [wanted[name][: len(read)]]
        if not any(np.array_equal(read, choice) for choice in choices):
            found.append(f"{name} does not hold what was written")
        with h5py.File(path) as file:
            if "summary" not in file:
                found.append(f"{name} has no summary of its own")
    return found
