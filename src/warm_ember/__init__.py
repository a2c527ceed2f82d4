"""Warm Ember: where a battery device's charge goes, from amperes to months.

For notebooks, scripts and tests: `open_project` and `record`; see docs/library.md.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from warm_ember.version import VERSION

if TYPE_CHECKING:
    from warm_ember.library.data_set import DataSet
    from warm_ember.library.project import Project
    from warm_ember.library.taken import Recordings

__version__ = VERSION

__all__ = ["open_data_set", "open_project", "record"]


def open_project(path: Path | str, *, create: bool = False) -> Project:
    """Open a project, with what a killed program left in it finished first.

    Parameters
    ----------
    path
        Its folder.
    create
        Begin a project there when there is none; it is saved with its first content.

    Raises
    ------
    ProjectError
        If there is none, or it cannot be read.
    """
    from warm_ember.library.project import Project  # nothing is imported before it is needed

    return Project.open(path, create=create)


def open_data_set(address: Path | str) -> DataSet:
    """Open a data set, as ``warm-ember collect`` writes it.

    Parameters
    ----------
    address
        Its folder, or an address that fsspec reads.
    """
    from warm_ember.library.data_set import DataSet

    return DataSet(str(address))


def record(project: Project | Path | str, source: str, duration_s: float | None = None, **settings: Any) -> Recordings:
    """Record from an instrument into a project, as ``warm-ember record`` does.

    Parameters
    ----------
    project
        An open project, or its folder: it is made where there is none.
    source
        The instrument, a VISA resource such as ``TCPIP::127.0.0.1::5025::SOCKET``.
    duration_s
        How long.
    settings
        `warm_ember.library.recording.Wanted` has them all: ``interval_s``, ``voltage_v``, ``limit_a``, ``name`` …

    Raises
    ------
    InstrumentError
        If the instrument fails; what came before is kept as a run.
    BadArgumentError
        If a setting is impossible.
    """
    from warm_ember.library import recording
    from warm_ember.library.project import Project
    from warm_ember.signal.series import never

    wanted = recording.Wanted(source=source, duration_s=duration_s, **settings)
    recording.check_wanted(wanted)
    if isinstance(project, Project):
        return recording.record(project, wanted, never)
    with open_project(project, create=True) as opened:
        return recording.record(opened, wanted, never)
