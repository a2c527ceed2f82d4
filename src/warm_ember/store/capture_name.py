"""Names of captures: taken by whoever is first, in any program, until the capture is there or given up."""

from __future__ import annotations

from pathlib import Path

from warm_ember.errors import BadArgumentError
from warm_ember.store.lock import Lock

_ENDING = ".lock"
_LOOKED_AT_S = 0.3


class CaptureName:
    """The right to write the capture of one name, from `take` to `release`.

    Attributes
    ----------
    path
        Where the capture shall be.
    """

    def __init__(self, path: Path, lock: Lock) -> None:
        self.path, self._lock = path, lock

    @classmethod
    def take(cls, path: Path, *, replace: bool = False) -> CaptureName:
        """Take a name.

        Parameters
        ----------
        path
            Where the capture shall be; its folder must exist.
        replace
            Whether a capture that is there may go.

        Raises
        ------
        BadArgumentError
            If another writer has the name, or a capture has it and may not go.
        OSError
            If the folder cannot be written.
        """
        name = path.name.removesuffix(".h5")
        lock = Lock(lock_path(path))
        # Somebody who only looks whether it is held, or tidies up, holds it for an instant too.
        if not lock.take(_LOOKED_AT_S):
            raise BadArgumentError(f"another program is writing a capture {name!r}: choose another --name")
        if path.exists() and not replace:
            lock.release()
            raise BadArgumentError(f"there already is a capture {name!r}: choose another --name or give --replace")
        return cls(path, lock)

    def release(self) -> None:
        """Give the name up, or leave it to the capture that has it now."""
        self._lock.release()


def lock_path(path: Path) -> Path:
    """Return the lock file of a capture's name."""
    return path.with_name(f".{path.name}{_ENDING}")


def is_being_written(path: Path) -> bool:
    """Return whether some program writes a capture of that name now."""
    return Lock(lock_path(path)).is_held_by_anyone()
