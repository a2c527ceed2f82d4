"""Projects that nobody has named yet: kept in the user's data folder like all others, until they get a place.

They are saved by themselves and found again after a crash: an untitled project is a project like any other, in a
folder that the program chose.
"""

from __future__ import annotations

import errno
import logging
import shutil
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from warm_ember.errors import ProjectError
from warm_ember.places import data_folder
from warm_ember.session.session import Session
from warm_ember.store.project_folder import ProjectFolder

log = logging.getLogger(__name__)

UNTITLED = "untitled"


def untitled_root() -> Path:
    """Return the folder that untitled projects lie in."""
    return data_folder() / UNTITLED


def is_untitled(path: Path) -> bool:
    """Return whether a project's folder is one that the program chose."""
    return path.resolve().parent == untitled_root().resolve()


def begin_untitled(source: str = "") -> Session:
    """Begin a project without a name; `source` is what it is made from, for its title.

    Raises
    ------
    ProjectError
        If the user's data folder cannot be written.
    """
    stamp = datetime.now(UTC).strftime("%Y-%m-%d %H.%M.%S")
    root = untitled_root()
    path = next(path for k in range(1000) if not (path := root / (f"{stamp} {k}" if k else stamp)).exists())
    try:
        path.mkdir(parents=True)
    except OSError as error:
        raise ProjectError(path, f"cannot be made: {error.strerror}") from error
    session = Session.open_or_create(path)
    title = f"{UNTITLED}, from {source}" if source else UNTITLED
    session.project = msgspec.structs.replace(session.project, name=title)
    session.save()
    return session


def discard_untitled(session: Session) -> None:
    """Remove an untitled project without captures, of which nothing would be missed; any other one stays."""
    path = session.folder.path
    if not is_untitled(path) or session.project.runs or session.has_interrupted:
        return
    session.close()
    shutil.rmtree(path, ignore_errors=True)


def save_under(session: Session, path: Path) -> None:
    """Give a project another place; an untitled one is moved there, any other one copied.

    Parameters
    ----------
    session
        The open project, which is the one at the new place afterwards, with all that undo leads to.
    path
        The new folder; it is made, with those above it. One that is there must be empty.

    Raises
    ------
    ProjectError
        If the place is taken or cannot be written; the project stays where it is then.
    """
    source = session.folder.path
    if path.exists() and (not path.is_dir() or any(path.iterdir())):
        raise ProjectError(path, "there is something of that name", remedy="choose a new name")
    title = path.resolve().name
    if session.project.name.startswith(UNTITLED):
        session.project = msgspec.structs.replace(session.project, name=title)
    session.save()
    session.close()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if is_untitled(source):
            _move(source, path)
        else:
            _copy(source, path)
    except OSError as error:
        raise ProjectError(
            path, f"cannot be written: {error.strerror or error}", remedy="choose another place"
        ) from error
    session.relocate(ProjectFolder(path))


def _move(source: Path, path: Path) -> None:
    if path.exists():
        path.rmdir()
    try:
        source.rename(path)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        # Another disk: only when all of it is there does the old one go.
        _copy(source, path)
        shutil.rmtree(source, ignore_errors=True)


def _copy(source: Path, path: Path) -> None:
    """Copy a project's folder whole, or not at all."""
    try:
        shutil.copytree(source, path, dirs_exist_ok=True)
    except OSError:
        shutil.rmtree(path, ignore_errors=True)
        raise
