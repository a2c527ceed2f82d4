"""``warm-ember [PROJECT]``: the window."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated

import typer

from warm_ember.errors import BadArgumentError, BadFileError, WarmEmberError
from warm_ember.report.writing import check_target
from warm_ember.session.file_kinds import is_data_set, project_of
from warm_ember.session.session import Session
from warm_ember.store.project_folder import ProjectFolder


def open_window(
    project: Annotated[
        str | None, typer.Argument(metavar="[PROJECT]", help="A project or a capture to open, or a data set.")
    ] = None,
) -> int:
    """Open the window."""
    if project is None:
        return show(None)
    if "://" in project or is_data_set(Path(project)):
        from warm_ember.fleet.data_set import DataSet

        if not DataSet(project).exists():
            raise BadFileError(Path(project), "there is no data set", remedy="collect some runs first")
        return show(None, data_set=project)
    path = Path(project)
    owner = project_of(path.resolve())
    if owner is not None:
        path, run = owner
    elif path.is_file():
        return show(path)  # it is looked at, to be imported
    else:
        run = ""
    ProjectFolder(path).load()  # a project that cannot be opened is said here, without a window
    return show(path, run=run)


def show(project: Path | None, *, make_demo: bool = False, data_set: str = "", run: str = "") -> int:
    """Open the window on a project or one of its runs, a file to import, or a data set, and return its exit code.

    Raises
    ------
    WarmEmberError
        If there is no window to be had.
    """
    try:
        from warm_ember.ui.application import run_window  # commands work without Qt
    except ImportError as error:
        if (error.name or "").partition(".")[0] == "PySide6" and isinstance(error, ModuleNotFoundError):
            remedy = "pip install 'warm-ember[window]'"
            raise WarmEmberError(f"the window is not installed: {remedy}; commands work without it") from error
        raise WarmEmberError(f"the window cannot be opened: {error}; commands work without it") from error
    return run_window(project, make_demo=make_demo, data_set=data_set, run=run)


def save_trace(
    session: Session, name: str, path: Path, stretch: tuple[float | None, float | None], width: int | None = None
) -> None:
    """Draw the lanes of a capture into a file.

    Raises
    ------
    BadArgumentError
        If the stretch is reversed or outside the capture.
    WarmEmberError
        If there is no drawing library.
    """
    check_target(path, session.folder.path)
    results = session.run(name)
    begin, end = (0.0 if stretch[0] is None else stretch[0]), stretch[1]
    end = results.capture.duration_s if end is None else end
    if not 0 <= begin < end <= results.capture.duration_s * (1 + 1e-9):
        raise BadArgumentError(f"expected --from and --to within 0 to {results.capture.duration_s:g} s")
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    try:
        from warm_ember.ui import picture
    except ImportError as error:
        raise WarmEmberError(f"the picture cannot be drawn: {error}") from error
    project = session.project
    picture.save_trace(
        results, path, (begin, end), brackets=project.brackets_of(name), notes=project.notes_of(name), width=width
    )
