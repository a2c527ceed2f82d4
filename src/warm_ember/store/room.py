"""Room on the disk, and what to say when there is none."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from warm_ember.errors import ProjectError

_MB = 1e6


def room_left(folder: Path) -> int:
    """Return how many bytes the disk of a folder still takes."""
    status = os.statvfs(folder)
    return status.f_bavail * status.f_frsize


def not_written(path: Path, error: OSError, kept: str) -> ProjectError:
    """Return what to say of something that could not be written.

    Parameters
    ----------
    path
        What was being written.
    error
        What the system said.
    kept
        What became of it: ``"nothing was kept"``.
    """
    if error.errno == errno.ENOSPC:
        return ProjectError(path, f"the disk is full ({_left(path)}): {kept}", remedy="make room and try again")
    if error.errno == errno.EDQUOT:
        return ProjectError(path, f"your quota on this disk is used up: {kept}", remedy="make room and try again")
    if error.errno == errno.EFBIG:
        return ProjectError(path, f"no larger files may be written here: {kept}", remedy="lift the limit on their size")
    return ProjectError(path, f"cannot be written: {error.strerror or error}: {kept}")


def _left(path: Path) -> str:
    existing = next((folder for folder in path.parents if folder.exists()), Path("/"))
    return f"{room_left(existing) / _MB:.3g} MB left"
