"""The project folder: ``project.json`` and ``captures/<name>.h5``."""

from __future__ import annotations

import contextlib
import json
import logging
import math
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import msgspec

from warm_ember.errors import BadArgumentError, ProjectError
from warm_ember.model.project import FORMAT, Project, Run
from warm_ember.store.lock import Lock, locked
from warm_ember.store.new_file import remove_leftovers, write_new

log = logging.getLogger(__name__)

_MIGRATIONS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {}
"""From each older format to the next."""

_NAME_BYTES = 200
_LOCK_WAIT_S = 10.0


def check_capture_name(name: str) -> str:
    """Return a capture's name when it is one path component fit for a file.

    Raises
    ------
    BadArgumentError
        If it is empty, ``.`` or ``..``, holds a slash or a control character, or is longer than 200 bytes.
    """
    if not name.strip() or name in (".", ".."):
        raise BadArgumentError(f"{name!r} is no capture name: it needs at least one letter or digit")
    if "/" in name or "\\" in name or not name.isprintable():
        raise BadArgumentError(f"{name!r} is no capture name: no slashes and no control characters")
    try:
        length = len(name.encode("utf-8"))
    except UnicodeEncodeError:
        raise BadArgumentError(f"{name!a} is no capture name: it is no valid text") from None
    if length > _NAME_BYTES:
        raise BadArgumentError(f"the capture name is {length} bytes long, at most {_NAME_BYTES} are possible")
    return name


def readable(name: str) -> str:
    """Return a folder's name as text, though its bytes may be none."""
    return name.encode("utf-8", "replace").decode("utf-8")


class ProjectFolder:
    """Where a project lies on disk.

    Parameters
    ----------
    path
        The folder; it need not exist yet.
    """

    def __init__(self, path: Path) -> None:
        self.path = path

    @property
    def file(self) -> Path:
        """The project file."""
        return self.path / "project.json"

    @property
    def _lock(self) -> Path:
        return self.path / ".project.json.lock"

    @property
    def captures(self) -> Path:
        """The folder of captures."""
        return self.path / "captures"

    def capture_path(self, name: str) -> Path:
        """Return where a capture of that name lies.

        Raises
        ------
        BadArgumentError
            If the name is none.
        """
        return self.captures / f"{check_capture_name(name)}.h5"

    @property
    def exists(self) -> bool:
        """Whether there is a project."""
        return self.file.exists()

    @property
    def is_begun(self) -> bool:
        """Whether a project was being made here by a program that was ended, or still makes it."""
        with contextlib.suppress(OSError):
            beside = {path.name for path in self.path.iterdir() if not path.name.startswith(".")}
            inside = [path.name for path in self.captures.iterdir()]
            return beside == {self.captures.name} and all(name[0] == "." or name.endswith(".h5") for name in inside)
        return False

    def load(self) -> Project:
        """Read the project; captures in the folder that it does not list yet are added at its end.

        Raises
        ------
        ProjectError
            If there is none, or it cannot be read; nothing is changed on disk.
        """
        try:
            is_there, _ = self.path.exists(), self.exists
        except OSError as error:
            raise ProjectError(self.path, f"cannot be looked into: {error.strerror}") from error
        if not is_there:
            raise ProjectError(self.path, "there is no such project", remedy="make it with: warm-ember import")
        if not self.path.is_dir():
            raise ProjectError(self.path, "expected a project folder, found a file")
        if not self.exists:
            if self.is_begun:
                return self._with_found_captures(Project(name=readable(self.path.resolve().name)))
            raise ProjectError(self.path, "this folder holds no project.json", remedy="choose a project's folder")
        try:
            content = json.loads(self.file.read_bytes())
        except OSError as error:
            raise ProjectError(self.file, f"cannot be read: {error.strerror}") from error
        except (ValueError, RecursionError) as error:
            raise ProjectError(
                self.file, f"expected JSON: {error}", remedy="restore it from version control"
            ) from error
        return self._with_found_captures(_project_of(self.file, content))

    def _with_found_captures(self, project: Project) -> Project:
        known = {run.name for run in project.runs}
        added = tuple(Run(name) for name in self._found_captures() if name not in known)
        return msgspec.structs.replace(project, runs=project.runs + added) if added else project

    def _found_captures(self) -> Iterator[str]:
        for path in sorted(self.captures.glob("*.h5")):
            name = path.name.removesuffix(".h5")
            if name.startswith("."):
                continue
            try:
                yield check_capture_name(name)
            except BadArgumentError as error:
                log.warning("%a is left out: %s", path, error)

    def tidy(self) -> None:
        """Remove what killed programs left: files that nobody writes any more, locks and summaries of no capture."""
        for folder in (self.path, self.captures):
            remove_leftovers(folder)
        with contextlib.suppress(OSError):
            for path in (self._lock, *self.captures.glob(".*.h5.lock")):
                if path.exists() and Lock(path).take_and_release():
                    log.info("removed %s, which nobody holds", path)
            for path in self.captures.glob(".*.h5.summary"):
                if not path.with_name(path.name[1:].removesuffix(".summary")).exists():
                    path.unlink(missing_ok=True)

    @property
    def has_interrupted(self) -> bool:
        """Whether there are files of recordings in progress, of a living program or not."""
        return next(self.captures.glob(".*.recording"), None) is not None

    @property
    def version(self) -> tuple[int, int, int] | None:
        """What tells one state of the project file from another; None when there is no file."""
        try:
            status = self.file.stat()
        except OSError:
            return None
        return (status.st_ino, status.st_mtime_ns, status.st_size)

    def save(self, project: Project) -> None:
        """Write the project, whatever is there now; see `update` for a project that others may change too.

        Raises
        ------
        ProjectError
            If the folder cannot be written.
        """
        self.update(lambda _theirs: project)

    def update(self, change: Callable[[Project | None], Project]) -> Project:
        """Replace the project by what becomes of it, while no other program can.

        After a crash either the old or the new project is there. What cannot be read is never replaced.

        Parameters
        ----------
        change
            From the project as it is on disk to the next; None when there is none.

        Returns
        -------
        Project
            What was written.

        Raises
        ------
        ProjectError
            If the project that is there cannot be read, or the folder cannot be written.
        """
        try:
            self.captures.mkdir(parents=True, exist_ok=True)
            with locked(self._lock, _LOCK_WAIT_S):
                project = change(self.load() if self.exists else None)
                content = json.dumps(msgspec.to_builtins(project), indent=1, ensure_ascii=False) + "\n"
                write_new(self.file, content.encode("utf-8"))
        except ProjectError:
            raise
        except TimeoutError:
            problem = "another program has been writing this project for too long"
            raise ProjectError(self.path, problem, remedy="end it and try again") from None
        except UnicodeEncodeError as error:
            raise ProjectError(self.path, f"holds text that is no Unicode: {error.object!a}"[:200]) from error
        except OSError as error:
            raise ProjectError(self.path, f"cannot be written: {error.strerror or error}") from error
        return project


def _project_of(path: Path, content: Any) -> Project:
    if not isinstance(content, dict) or not isinstance(content.get("format"), int):
        raise ProjectError(path, "expected a project with a format number", remedy="restore it from version control")
    if content["format"] > FORMAT:
        raise ProjectError(
            path,
            f"format {content['format']} is newer than {FORMAT}",
            remedy="open it with a newer Warm Ember",
        )
    while content["format"] < FORMAT:
        migrate = _MIGRATIONS.get(content["format"])
        if migrate is None:
            raise ProjectError(path, f"format {content['format']} is not known")
        content = migrate(content)
    for place in _places_not_finite(content, "$"):
        raise ProjectError(path, f"expected a finite number at {place}", remedy="restore it from version control")
    try:
        return msgspec.convert(content, Project)
    except msgspec.ValidationError as error:
        raise ProjectError(path, f"not as expected: {error}", remedy="restore it from version control") from error


def _places_not_finite(content: Any, place: str) -> Iterator[str]:
    """Yield where numbers stand that are none: JSON as it is written here and there has NaN and Infinity."""
    if isinstance(content, dict):
        for key, value in content.items():
            yield from _places_not_finite(value, f"{place}.{key}")
    elif isinstance(content, list):
        for index, value in enumerate(content):
            yield from _places_not_finite(value, f"{place}[{index}]")
    elif isinstance(content, float) and not math.isfinite(content):
        yield place
