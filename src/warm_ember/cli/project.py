"""Opening the project of a command, with what a killed program left there finished first."""

from __future__ import annotations

import contextlib
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from warm_ember.units import THIN_SPACE

if TYPE_CHECKING:
    from warm_ember.library.project import Project


def open_project(path: Path, *, create: bool = False) -> Project:
    """Open a project, finish its interrupted recordings, and say so on stderr.

    Parameters
    ----------
    path
        The folder.
    create
        Begin a project there when there is none; it is saved with its first content.

    Raises
    ------
    ProjectError
        If there is none, or it cannot be read.
    """
    from warm_ember.library.project import Project  # arguments are checked before all that is imported

    project = Project.open(path, create=create)
    for sentence in project.recovered:
        say(sentence)
    return project


def say(sentence: str) -> None:
    """Write one line to stderr, so that a command's answer stays alone on stdout."""
    with contextlib.suppress(OSError, AttributeError):  # a terminal that was closed takes no more words
        sys.stderr.write(f"warm-ember: {sentence}\n".replace(THIN_SPACE, " "))
        sys.stderr.flush()
