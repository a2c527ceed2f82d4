"""How the process keeps the memory that it has freed, and what it searches for rubbish."""

from __future__ import annotations

import ctypes
import gc

_TRIM_THRESHOLD, _MMAP_THRESHOLD, _MOST_ARENAS = -1, -3, -8
_KEPT_BYTES = 64 << 20


def keep_freed_memory() -> None:
    """Let the C library keep up to 64 MiB of freed memory instead of giving each array back to the system.

    A repaint frees and takes pictures of a megabyte or two. Taken anew from the system, each of their pages costs
    a page fault, which in a virtual machine takes longer than filling it. A C library without ``mallopt`` goes on
    as before.
    """
    mallopt = getattr(ctypes.CDLL(None), "mallopt", None)
    if mallopt is not None:
        mallopt(_TRIM_THRESHOLD, _KEPT_BYTES)
        mallopt(_MMAP_THRESHOLD, _KEPT_BYTES // 2)
        mallopt(_MOST_ARENAS, 1)  # the heaps of further arenas are trimmed whatever the thresholds say


def spare_what_stays() -> None:
    """Leave all there is out of Python's search for rubbish from now on: for when only what stays is there.

    A full search stops all threads, the interface's too, for a microsecond an object; half of the objects are what the
    program is made of.
    """
    gc.freeze()
