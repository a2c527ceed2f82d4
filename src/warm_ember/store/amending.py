"""Adding to a closed HDF5 file so that whatever ends the program leaves the old or the new file, never half of each.

New parts go to the file's end, where nobody looks yet. The few bytes that change in what was there are first written
to a file beside it, ``<file>.changes``; once that is complete they are applied, by this program or by `complete`.
"""

from __future__ import annotations

import logging
import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from warm_ember.store.hdf5_storage import UntouchedStorage, apply_changes, import_h5py
from warm_ember.store.new_file import write_new

if TYPE_CHECKING:
    import h5py

log = logging.getLogger(__name__)

_ENDING = ".changes"


class _Changes(msgspec.Struct, frozen=True):
    """What is to be written where: complete when it can be decoded, as its file appears at once."""

    changes: tuple[tuple[int, bytes], ...]


def amend(path: Path, change: Callable[[h5py.File], None], *, modified_ns: int | None = None) -> None:
    """Change a closed HDF5 file by adding to it.

    Parameters
    ----------
    path
        The file, which nobody else may write meanwhile.
    change
        Adds to the open file.
    modified_ns
        The time of its last change that the file shall show; now when None.

    Raises
    ------
    OSError
        If the disk is full or gone; the file holds what it held before then.
    """
    descriptor = os.open(path, os.O_RDWR | os.O_CLOEXEC)
    try:
        storage = UntouchedStorage(descriptor)
        try:
            with import_h5py().File(storage, "r+", libver="latest") as file:
                change(file)
            storage.raise_failure()
            os.fsync(descriptor)
            write_new(_changes_of(path), msgspec.msgpack.encode(_Changes(storage.changes)))
        except BaseException:
            forget(path)
            os.ftruncate(descriptor, storage.untouched)
            raise
        _apply(descriptor, path, storage.changes)
        if modified_ns is not None:
            os.utime(descriptor, ns=(modified_ns, modified_ns))
    finally:
        os.close(descriptor)


def complete(path: Path) -> None:
    """Apply what a killed program had decided to change and not applied yet.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    try:
        decided = msgspec.msgpack.decode(_changes_of(path).read_bytes(), type=_Changes)
    except FileNotFoundError:
        return
    log.info("completing %s", path)
    descriptor = os.open(path, os.O_RDWR | os.O_CLOEXEC)
    try:
        _apply(descriptor, path, decided.changes)
    finally:
        os.close(descriptor)


def forget(path: Path) -> None:
    """Remove what was decided to be changed in a file that is thrown away."""
    _changes_of(path).unlink(missing_ok=True)


def _apply(descriptor: int, path: Path, changes: tuple[tuple[int, bytes], ...]) -> None:
    apply_changes(descriptor, changes)
    os.fsync(descriptor)
    _changes_of(path).unlink()


def _changes_of(path: Path) -> Path:
    return path.with_name(path.name + _ENDING)
