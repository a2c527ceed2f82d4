"""Locks between programs: held by whoever writes, and let go of by the system however that program ends."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterator
from pathlib import Path

_AGAIN_S = 0.02


def lock_open_file(descriptor: int) -> bool:
    """Lock an open file for its holder alone; False when somebody else holds it."""
    from filelock import lock_descriptor  # 50 ms to import, and no reading command needs it

    return lock_descriptor(descriptor, blocking=False)


def is_at(descriptor: int, path: Path) -> bool:
    """Return whether an open file is still the one at a path."""
    try:
        found = path.stat()
    except FileNotFoundError:
        return False
    mine = os.fstat(descriptor)
    return (found.st_dev, found.st_ino) == (mine.st_dev, mine.st_ino)


class Lock:
    """A lock file, there only while somebody holds it.

    Parameters
    ----------
    path
        The lock file.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._descriptor: int | None = None

    def take(self, wait_s: float = 0.0) -> bool:
        """Take the lock; False when somebody else holds it for all of that time.

        Raises
        ------
        OSError
            If the folder cannot be written.
        """
        until_s = time.monotonic() + wait_s
        while True:
            descriptor = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o666)
            # Whoever held it may have removed the file between our opening and locking it.
            if lock_open_file(descriptor) and is_at(descriptor, self.path):
                self._descriptor = descriptor
                return True
            os.close(descriptor)
            if time.monotonic() >= until_s:
                return False
            time.sleep(_AGAIN_S)

    def release(self) -> None:
        """Let go; after that there is nothing left to do."""
        if self._descriptor is not None:
            descriptor, self._descriptor = self._descriptor, None
            with contextlib.suppress(OSError):
                self.path.unlink(missing_ok=True)
            os.close(descriptor)

    def take_and_release(self) -> bool:
        """Remove a lock file that nobody holds; False when somebody does."""
        try:
            if not self.take():
                return False
        except OSError:
            return False
        self.release()
        return True

    def is_held_by_anyone(self) -> bool:
        """Return whether some program holds it now."""
        if self._descriptor is not None:
            return True
        try:
            descriptor = os.open(self.path, os.O_RDONLY | os.O_CLOEXEC)
        except FileNotFoundError:
            return False
        try:
            return not lock_open_file(descriptor)
        finally:
            os.close(descriptor)


@contextlib.contextmanager
def locked(path: Path, wait_s: float) -> Iterator[None]:
    """Hold a lock file for a moment.

    Raises
    ------
    TimeoutError
        If somebody else held it for all of that time.
    """
    lock = Lock(path)
    if not lock.take(wait_s):
        raise TimeoutError(f"{path} is held by another program")
    try:
        yield
    finally:
        lock.release()
