"""Where the capture of a collected run is on this machine."""

from __future__ import annotations

import logging
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from warm_ember.errors import BadFileError, WarmEmberError
from warm_ember.fleet.data_set import CAPTURE_LENGTH, DataSet
from warm_ember.fleet.history import Measured, project_path
from warm_ember.session.recent import recent_projects
from warm_ember.store.capture import Capture
from warm_ember.store.project_folder import ProjectFolder

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class ReachedCapture:
    """A capture in a project."""

    project: Path
    run: str


def known_projects() -> tuple[Path, ...]:
    """Return the projects that were open before and are still there."""
    return tuple(Path(one.path) for one in recent_projects() if one.is_there)


def reach_capture(address: str, run: Measured, known: Iterable[Path] = ()) -> ReachedCapture:
    """Return where the capture of a collected run is: the very capture, whatever else has its name.

    It is looked for where it was collected from, in projects that are known, and beside the data set.

    Parameters
    ----------
    address
        The data set.
    run
        Its run.
    known
        Folders of projects.

    Raises
    ------
    BadFileError
        If it is in none of them.
    """
    data_set = DataSet(address)
    beside = [Path(address).parent / run.project] if data_set.is_local else []
    was = project_path(data_set, run.run_hash)
    places = dict.fromkeys([*([Path(was)] if was else []), *beside, *known])
    for folder in places:
        if _holds(folder, run):
            return ReachedCapture(folder, run.run)
    raise BadFileError(
        Path(address),
        f"the capture {run.run!r} of {run.project!r} is not on this machine"
        + (f"; it was collected from {was}" if was else ""),
        remedy="open its project once, and try again",
    )


def _holds(folder: Path, run: Measured) -> bool:
    try:
        path = ProjectFolder(folder).capture_path(run.run)
        if not path.exists():
            return False
        capture = Capture(path)
    except (WarmEmberError, OSError) as error:
        log.info("the capture %s of %s is not looked at: %s", run.run, folder, error)
        return False
    try:
        return capture.content_hash() == run.run_hash[:CAPTURE_LENGTH]
    finally:
        capture.close()
