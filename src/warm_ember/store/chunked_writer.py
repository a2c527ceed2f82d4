"""Writing long HDF5 datasets at the speed of the disk."""

from __future__ import annotations

import ctypes
from typing import TYPE_CHECKING

import numpy as np

from warm_ember.store.write_behind import WriteBehind

if TYPE_CHECKING:
    import h5py

STORED_CHUNK = 1 << 18
"""Samples per stored chunk: 1 MiB of float32."""

_FLUSH_BYTES = 64 << 20
_WAITING_BYTES = 32 << 20
_SYNC_FILE_RANGE_WRITE = 2


class ChunkedDataset:
    """A growing one-dimensional dataset that is filled by whole stored chunks.

    Handing whole chunks to HDF5 skips its cache, which halves the time of a long import. What does not fill
    a chunk waits in memory until more comes or `finish` is called.
    """

    def __init__(self, file: h5py.File, name: str, kind: type[np.generic]) -> None:
        self.dataset = file.create_dataset(name, (0,), kind, maxshape=(None,), chunks=(STORED_CHUNK,))
        self._waiting: list[np.ndarray] = []
        self._waiting_samples = 0

    def append(self, values: np.ndarray) -> int:
        """Take the next samples, shape ``(n,)``, and return the number of bytes written."""
        self._waiting.append(np.asarray(values, dtype=self.dataset.dtype))
        self._waiting_samples += len(values)
        if self._waiting_samples < STORED_CHUNK:
            return 0
        return self._write(self._waiting_samples // STORED_CHUNK * STORED_CHUNK)

    def _write(self, samples: int) -> int:
        values = self._waiting[0] if len(self._waiting) == 1 else np.concatenate(self._waiting)
        values = np.ascontiguousarray(values)
        start = self.dataset.shape[0]
        self.dataset.resize((start + samples,))
        for first in range(0, samples, STORED_CHUNK):
            self.dataset.id.write_direct_chunk((start + first,), values[first : first + STORED_CHUNK])
        self._waiting = [values[samples:].copy()]
        self._waiting_samples = len(self._waiting[0])
        return samples * values.itemsize

    def finish(self) -> None:
        """Write what still waits."""
        if self._waiting_samples:
            start = self.dataset.shape[0]
            self.dataset.resize((start + self._waiting_samples,))
            self.dataset[start:] = np.concatenate(self._waiting)
            self._waiting, self._waiting_samples = [], 0


def _start_writing(descriptor: int) -> None:
    """Let the disk start now instead of at the final fsync, which then has little left to wait for.

    Linux only, and only a hint: where there is no such call the fsync does all the work.
    """
    start = getattr(ctypes.CDLL(None), "sync_file_range", None)
    if start is not None:
        start(ctypes.c_int(descriptor), ctypes.c_int64(0), ctypes.c_int64(0), ctypes.c_uint(_SYNC_FILE_RANGE_WRITE))


class BackgroundWriter:
    """Write samples while the caller prepares the next piece, with few pieces in flight.

    Parameters
    ----------
    descriptor
        Of the file that the datasets lie in.
    """

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self._writing = WriteBehind(_WAITING_BYTES, name="capture-writer")
        self._unflushed = 0

    def submit(self, dataset: ChunkedDataset, values: np.ndarray) -> None:
        """Queue samples, shape ``(n,)``, for a dataset; waits while too much is queued.

        Raises
        ------
        OSError
            If an earlier piece could not be written.
        """
        self._writing.put(lambda: self._append(dataset, values), values.nbytes)

    def _append(self, dataset: ChunkedDataset, values: np.ndarray) -> None:
        self._unflushed += dataset.append(values)
        if self._unflushed >= _FLUSH_BYTES:
            _start_writing(self._descriptor)
            self._unflushed = 0

    def close(self) -> None:
        """Wait for all that is queued and end the thread; raises what went wrong in it."""
        try:
            self._writing.drain()
        finally:
            self._writing.close()
