"""The bytes of an HDF5 file as its library reads and writes them, through an open file of ours.

The library does not survive a write that fails: closing the file then crashes the program. So a failed write is
remembered here, the library goes on as if nothing had happened, and `raise_failure` tells whoever asked for the file.
"""

from __future__ import annotations

import os
from typing import Any


def import_h5py() -> Any:
    """Return the HDF5 library, imported when it is first needed."""
    import h5py  # 0.1 s to import, and the window need not wait for it

    return h5py


class Storage:
    """An open file as the HDF5 library uses it.

    Parameters
    ----------
    descriptor
        Open for reading and writing; stays open.

    Attributes
    ----------
    failure
        The first write that failed.
    """

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self._position = 0
        self._in_memory: list[tuple[int, bytes]] = []
        self.failure: BaseException | None = None

    @property
    def size(self) -> int:
        """Length in bytes."""
        return max([os.fstat(self._descriptor).st_size, *(first + len(data) for first, data in self._in_memory)])

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        """Move to a place, as of any file."""
        start = {os.SEEK_SET: 0, os.SEEK_CUR: self._position}.get(whence, self.size)
        self._position = start + offset
        return self._position

    def tell(self) -> int:
        """Return the place."""
        return self._position

    def read(self, count: int = -1) -> bytes:
        """Return bytes from the place on, all when `count` is negative."""
        data = bytearray(self.size - self._position if count < 0 else count)
        return bytes(data[: self.readinto(data)])

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer from the place on."""
        view = memoryview(buffer).cast("B")
        first = self._position
        count = os.preadv(self._descriptor, [view], first)
        for offset, data in self._in_memory:
            start, end = max(offset, first), min(offset + len(data), first + len(view))
            if start < end:
                view[start - first : end - first] = data[start - offset : end - offset]
                count = max(count, end - first)
        self._position += count
        return count

    def write(self, data: Any) -> int:
        """Write at the place."""
        view = memoryview(data).cast("B")
        self._put(view, self._position)
        self._position += len(view)
        return len(view)

    def _put(self, view: memoryview, offset: int) -> None:
        try:
            while view and self.failure is None:
                count = os.pwrite(self._descriptor, view, offset)
                view, offset = view[count:], offset + count
        except BaseException as error:  # noqa: BLE001 - a signal too must not go through the library
            self.failure = error
        if view:
            self._in_memory.append((offset, bytes(view)))

    def truncate(self, size: int | None = None) -> int:
        """Set the length."""
        size = self._position if size is None else size
        if self.failure is None:
            try:
                os.ftruncate(self._descriptor, size)
            except BaseException as error:  # noqa: BLE001 - as above
                self.failure = error
        return size

    def flush(self) -> None:
        """Nothing waits here."""

    def raise_failure(self) -> None:
        """Raise what went wrong.

        Raises
        ------
        OSError
            The first write that failed; or the signal that came then.
        """
        if self.failure is not None:
            raise self.failure
