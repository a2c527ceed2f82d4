"""What stands for all that a capture holds, so that the same capture is known again wherever it lies."""

from __future__ import annotations

from collections.abc import Iterator
from hashlib import blake2b
from typing import TYPE_CHECKING, Any

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.signal.series import ShouldStop, never
from warm_ember.store.layout import MAKER

if TYPE_CHECKING:
    import h5py

_MADE = "summary"
_ROWS = 1 << 20


def content_hash(file: h5py.File, should_stop: ShouldStop = never) -> str:
    """Return 16 characters that stand for a capture's samples, its log and its attributes.

    What is made from them is not in it, nor how the file stores them, nor which version wrote it: a copy whose summary
    was made anew is the same.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    found = blake2b(digest_size=8)
    for name, data in [("", file), *_datasets(file, "")]:
        attributes = sorted((key, _plain(value)) for key, value in data.attrs.items() if name or key != MAKER)
        found.update(f"\0{name}\0{attributes!r}\0".encode())
        for first in range(0, len(data) if name else 0, _ROWS):
            if should_stop():
                raise Cancelled("stopped")
            rows = np.asarray(data[first : first + _ROWS])
            found.update(repr(rows.tolist()).encode() if rows.dtype.hasobject else np.ascontiguousarray(rows).tobytes())
    return found.hexdigest()


def _datasets(group: Any, path: str) -> Iterator[tuple[str, Any]]:
    for name in sorted(group):
        if path or name != _MADE:
            one = group[name]
            yield from _datasets(one, f"{path}/{name}") if hasattr(one, "keys") else ((f"{path}/{name}", one),)


def _plain(value: Any) -> Any:
    return value.tolist() if isinstance(value, np.ndarray | np.generic) else value
