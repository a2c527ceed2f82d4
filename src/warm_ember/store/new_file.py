"""Files that appear only when they are complete: written beside their place, safe on the disk, then renamed.

What a killed program left of one is removed by whoever next writes into the same folder: the file is locked while its
writer lives.
"""

from __future__ import annotations

import contextlib
import logging
import os
import secrets
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Self

from warm_ember.store.lock import is_at, lock_open_file

log = logging.getLogger(__name__)

_PREFIX, _ENDING = ".warm-ember-", ".partial"


class NewFile:
    """A file that takes its name in `keep` and leaves nothing behind in `drop`.

    Parameters
    ----------
    path
        The name that it will have; its folder must exist.

    Attributes
    ----------
    partial
        Where it is until then.
    descriptor
        Open for reading and writing.

    Raises
    ------
    OSError
        If the folder cannot be written.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._is_open = False
        remove_leftovers(path.parent)
        self.partial = path.parent / f"{_PREFIX}{secrets.token_hex(6)}{_ENDING}"
        try:
            self._open()
        except BaseException:
            self.partial.unlink(missing_ok=True)
            raise

    def _open(self) -> None:
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC
        while not self._is_open:
            self.descriptor = os.open(self.partial, flags, 0o666)
            # Another program may look for leftovers between these two lines and take this for one.
            self._is_open = lock_open_file(self.descriptor) and is_at(self.descriptor, self.partial)
            if not self._is_open:
                os.close(self.descriptor)
                self.partial = self.path.parent / f"{_PREFIX}{secrets.token_hex(6)}{_ENDING}"

    def write(self, data: bytes | memoryview) -> None:
        """Write the next bytes.

        Raises
        ------
        OSError
            If the disk is full or gone.
        """
        view = memoryview(data)
        while view:
            view = view[os.write(self.descriptor, view) :]

    def keep(self, *, modified_ns: int | None = None, durable: bool = True) -> None:
        """Let it take its name, so that after a crash either the old or the new file is there.

        Parameters
        ----------
        modified_ns
            The time of its last change that it shall show; now when None.
        durable
            Whether that holds for a crash of the machine too, not only of this program.

        Raises
        ------
        OSError
            If the disk is full or gone; nothing has changed then.
        """
        if durable:
            os.fsync(self.descriptor)
        if modified_ns is not None:
            os.utime(self.descriptor, ns=(modified_ns, modified_ns))
        self.partial.replace(self.path)
        self._close()
        if durable:
            sync_folder(self.path.parent)

    def drop(self) -> None:
        """Leave nothing behind; after `keep` there is nothing left to do."""
        if self._is_open:
            with contextlib.suppress(OSError):
                self.partial.unlink(missing_ok=True)
            self._close()

    def _close(self) -> None:
        self._is_open = False
        os.close(self.descriptor)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.drop()


def write_new(path: Path, content: bytes, *, durable: bool = True) -> None:
    """Write a whole file that takes its name at once; see `NewFile.keep`.

    Raises
    ------
    OSError
        If the disk is full or gone; what was there under that name is untouched then.
    """
    with NewFile(path) as file:
        file.write(content)
        file.keep(durable=durable)


def sync_folder(folder: Path) -> None:
    """Make names in a folder safe from a crash of the machine; a disk that refuses has the names all the same."""
    try:
        descriptor = os.open(folder, os.O_RDONLY | os.O_CLOEXEC)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
    except OSError:
        log.warning("the names in %s may not survive a crash of the machine", folder, exc_info=True)


def remove_leftovers(folder: Path) -> None:
    """Remove what killed programs left of files that they were writing in a folder."""
    for partial in _leftovers(folder):
        with contextlib.suppress(OSError):
            descriptor = os.open(partial, os.O_RDONLY | os.O_CLOEXEC)
            try:
                if lock_open_file(descriptor):
                    partial.unlink(missing_ok=True)
                    log.info("removed %s, which nobody writes any more", partial)
            finally:
                os.close(descriptor)


def _leftovers(folder: Path) -> Iterator[Path]:
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            if entry.name.startswith(_PREFIX) and entry.name.endswith(_ENDING):
                yield Path(entry.path)
