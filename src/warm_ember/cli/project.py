"""Opening the project of a command, with what a killed program left there finished first."""

from __future__ import annotations

import contextlib
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from warm_ember.units import THIN_SPACE

if TYPE_CHECKING:
    from warm_ember.session.session import Session


def open_project(path: Path, *, create: bool = False) -> Session:
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
    from warm_ember.session.session import Session  # arguments are checked before all that is imported

    session = Session.open_or_create(path) if create else Session.open(path)
    if session.has_interrupted:
        from warm_ember.session.recovering import recover_all  # reading commands rarely need it

        try:
            for found in recover_all(session):
                say(found.sentence)
        except BaseException:
            session.close()
            raise
    return session


def say(sentence: str) -> None:
    """Write one line to stderr, so that a command's answer stays alone on stdout."""
    with contextlib.suppress(OSError, AttributeError):  # a terminal that was closed takes no more words
        sys.stderr.write(f"warm-ember: {sentence}\n".replace(THIN_SPACE, " "))
        sys.stderr.flush()
