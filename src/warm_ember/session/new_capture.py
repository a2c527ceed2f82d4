"""A capture that becomes part of a project: its name, its place, and the run that is made of it."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from itertools import chain, count
from pathlib import Path

from warm_ember.errors import BadArgumentError, ProjectError
from warm_ember.model.project import Run
from warm_ember.model.wakes import SleepMode
from warm_ember.session.session import Session
from warm_ember.store.project_folder import check_capture_name
from warm_ember.store.recording_file import is_taken

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class ImportReport:
    """What came of an import: the capture's name and size, what was assumed, and whether one of that name was there."""

    name: str
    samples: int
    sample_interval_s: float
    events: int
    notes: tuple[str, ...]
    sleep_modes: tuple[SleepMode, ...] = ()
    replaced: bool = False

    @property
    def duration_s(self) -> float:
        """Length of the capture."""
        return self.samples * self.sample_interval_s

    @property
    def left_out(self) -> tuple[str, ...]:
        """The notes on what of the file was left out."""
        return tuple(note for note in self.notes if "left out" in note)


def new_capture_path(session: Session, name: str, *, replace: bool = False) -> Path:
    """Return where a capture of that name is to be written.

    Raises
    ------
    BadArgumentError
        If the name is impossible, or taken and nothing may be replaced.
    """
    path = session.folder.capture_path(check_capture_name(name))
    if path.exists() and not replace:
        raise BadArgumentError(f"there already is a capture {name!r}: choose another --name or give --replace")
    return path


def free_name(session: Session, wanted: str) -> str:
    """Return a capture name that is not taken: the wanted one, or with a number after it."""
    candidates = chain((wanted,), (f"{wanted} {number}" for number in count(2)))
    return next(name for name in candidates if not is_taken(session.folder.capture_path(name)))


def adopt(session: Session, report: ImportReport) -> None:
    """Make an imported capture a run of the project and save the project.

    Raises
    ------
    ProjectError
        If the project cannot be written; a capture that has replaced none is gone again then.
    """
    session.forget_capture(report.name)
    was_known = session.project.run(report.name) is not None
    session.add_run(Run(report.name), report.sleep_modes)
    try:
        session.save()
    except ProjectError:
        if not report.replaced and not was_known:
            session.drop_run(report.name)
            session.folder.capture_path(report.name).unlink(missing_ok=True)
        raise


def make_folders(folder: Path) -> list[Path]:
    """Make a folder and its parents and return those that were missing, innermost first."""
    missing = [one for one in (folder, *folder.parents) if not one.exists()]
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        remove_folders(missing)
        raise ProjectError(folder, f"cannot be made: {error.strerror}") from error
    return missing


def remove_folders(made: list[Path]) -> None:
    """Remove folders that were made, as far as they are empty."""
    for folder in made:
        if folder.is_dir() and not any(folder.iterdir()):
            folder.rmdir()
