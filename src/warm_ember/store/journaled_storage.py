"""An HDF5 file that grows and holds at any moment what was last committed, whatever ends the program.

What is new goes to the file's end, where nobody looks yet. The few bytes that change in what was committed wait in
memory. To commit them they are first written to a file beside it, ``<file>.changes``, which appears at once and whole;
then they are applied, by this program or, when it was killed meanwhile, by `complete`. Samples need none of that: a
chunk of them that is written again holds the committed ones as before, and how many count stands in what is committed.
"""

from __future__ import annotations

import logging
import os
from pathlib import Path

import msgspec

from warm_ember.store.hdf5_storage import Storage
from warm_ember.store.new_file import write_new

log = logging.getLogger(__name__)

_ENDING = ".changes"


class _Changes(msgspec.Struct, frozen=True):
    """What is to be written where."""

    changes: tuple[tuple[int, bytes], ...]


class JournaledStorage(Storage):
    """The bytes of a growing HDF5 file.

    Parameters
    ----------
    descriptor
        Of the file, open for reading and writing; stays open.
    path
        Where it lies.
    sample_bytes
        A write of so many bytes and more is one of samples, not of what describes them.
    """

    def __init__(self, descriptor: int, path: Path, sample_bytes: int) -> None:
        super().__init__(descriptor)
        self._path, self._sample_bytes = path, sample_bytes
        self._committed = 0

    def _put(self, view: memoryview, offset: int) -> None:
        kept = 0 if len(view) >= self._sample_bytes else max(0, min(len(view), self._committed - offset))
        if kept:
            self._in_memory.append((offset, bytes(view[:kept])))
        if kept < len(view):
            super()._put(view[kept:], offset + kept)

    def truncate(self, size: int | None = None) -> int:
        """Set the length, but take nothing away of what was committed."""
        size = self._position if size is None else size
        super().truncate(max(size, self._committed))
        return size

    def commit(self, *, durable: bool = False) -> None:
        """Make what was written so far what the file holds.

        Parameters
        ----------
        durable
            Whether it has to outlive the machine too, not only this program.

        Raises
        ------
        OSError
            If a write failed; the file holds what was committed before then.
        """
        self.raise_failure()
        if durable:
            os.fsync(self._descriptor)
        if self._in_memory:
            changes = tuple(self._in_memory)
            journal = _journal_of(self._path)
            write_new(journal, msgspec.msgpack.encode(_Changes(changes)), durable=durable)
            _apply(self._descriptor, changes, durable=durable)
            journal.unlink()
            self._in_memory.clear()
        self._committed = self.size


def complete(path: Path) -> None:
    """Apply what a killed program had committed and not applied yet.

    Raises
    ------
    OSError
        If the file cannot be written.
    """
    journal = _journal_of(path)
    try:
        decided = msgspec.msgpack.decode(journal.read_bytes(), type=_Changes)
    except FileNotFoundError:
        return
    log.info("completing %s", path)
    descriptor = os.open(path, os.O_RDWR | os.O_CLOEXEC)
    try:
        _apply(descriptor, decided.changes, durable=True)
    finally:
        os.close(descriptor)
    journal.unlink()


def forget(path: Path) -> None:
    """Remove what was committed for a file that is thrown away."""
    _journal_of(path).unlink(missing_ok=True)


def _apply(descriptor: int, changes: tuple[tuple[int, bytes], ...], *, durable: bool) -> None:
    for offset, data in changes:
        view = memoryview(data)
        while view:
            count = os.pwrite(descriptor, view, offset)
            view, offset = view[count:], offset + count
    if durable:
        os.fsync(descriptor)


def _journal_of(path: Path) -> Path:
    return path.with_name(path.name + _ENDING)
