"""The project folder: ``project.json`` and ``captures/<name>.h5``."""

from __future__ import annotations

import json
import logging
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from warm_ember.errors import BadArgumentError, ProjectError
from warm_ember.model.project import FORMAT, Project, Run
from warm_ember.store.capture_file import replace_durably

log = logging.getLogger(__name__)

_MIGRATIONS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {}
"""From each older format to the next."""

_NAME_BYTES = 200


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

    def load(self) -> Project:
        """Read the project; captures in the folder that it does not list yet are added at its end.

        Raises
        ------
        ProjectError
            If there is none, or it cannot be read; nothing is changed on disk.
        """
        if not self.path.exists():
            raise ProjectError(self.path, "there is no such project", remedy="make it with: warm-ember import")
        if not self.path.is_dir():
            raise ProjectError(self.path, "expected a project folder, found a file")
        if not self.exists:
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
        found = [
            path.name.removesuffix(".h5")
            for path in sorted(self.captures.glob("*.h5"))
            if not path.name.startswith(".")
        ]
        added = tuple(Run(name) for name in found if name not in known)
        return msgspec.structs.replace(project, runs=project.runs + added) if added else project

    def save(self, project: Project) -> None:
        """Write the project so that after a crash either the old or the new one is there.

        Raises
        ------
        ProjectError
            If the folder cannot be written.
        """
        text = json.dumps(msgspec.to_builtins(project), indent=1, ensure_ascii=False) + "\n"
        partial = self.path / f".project.json.{os.getpid()}.partial"
        try:
            self.captures.mkdir(parents=True, exist_ok=True)
            partial.write_text(text, encoding="utf-8")
            replace_durably(partial, self.file)
        except OSError as error:
            partial.unlink(missing_ok=True)
            raise ProjectError(self.path, f"cannot be written: {error.strerror}") from error


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
    try:
        return msgspec.convert(content, Project)
    except msgspec.ValidationError as error:
        raise ProjectError(path, f"not as expected: {error}", remedy="restore it from version control") from error
