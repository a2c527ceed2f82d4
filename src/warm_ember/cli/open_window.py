"""``warm-ember [PROJECT]``: the window."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from warm_ember.errors import WarmEmberError
from warm_ember.store.project_folder import ProjectFolder


def open_window(
    project: Annotated[Path | None, typer.Argument(metavar="[PROJECT]", help="A project to open.")] = None,
) -> int:
    """Open the window."""
    if project is not None:
        ProjectFolder(project).load()  # a project that cannot be opened is said here, without a window
    return show(project)


def show(project: Path | None, *, make_demo: bool = False) -> int:
    """Open the window on a project and return its exit code.

    Raises
    ------
    WarmEmberError
        If there is no window to be had.
    """
    try:
        from warm_ember.ui.application import run_window  # commands work without Qt
    except ImportError as error:
        raise WarmEmberError(f"the window cannot be opened: {error}; commands work without it") from error
    return run_window(project, make_demo=make_demo)
