"""Which reader opens which file. A new format is one module and one line here."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from warm_ember.errors import BadFileError
from warm_ember.formats.binary import open_npy, open_raw
from warm_ember.formats.hdf5 import open_hdf5
from warm_ember.formats.kernel_source import KernelTraceSource
from warm_ember.formats.kernel_trace import is_kernel_trace
from warm_ember.formats.parquet import ArrowSource
from warm_ember.formats.source import ImportOptions, Source, check_regular
from warm_ember.formats.text import TextSource

_OPENERS: dict[str, Callable[[Path, ImportOptions], Source]] = {
    ".npy": open_npy,
    ".f32": open_raw,
    ".f64": open_raw,
    ".i16": open_raw,
    ".bin": open_raw,
    ".raw": open_raw,
    ".dat": open_raw,
    ".parquet": ArrowSource,
    ".pq": ArrowSource,
    ".arrow": ArrowSource,
    ".arrows": ArrowSource,
    ".feather": ArrowSource,
    ".h5": open_hdf5,
    ".hdf5": open_hdf5,
    ".hdf": open_hdf5,
}
_MAGIC: tuple[tuple[bytes, Callable[[Path, ImportOptions], Source]], ...] = (
    (b"PAR1", ArrowSource),
    (b"ARROW1", ArrowSource),
    (b"\x89HDF\r\n\x1a\n", open_hdf5),
    (b"\x93NUMPY", open_npy),
)


def open_source(path: Path, options: ImportOptions) -> Source:
    """Open a foreign file for reading, by its ending, else by its first bytes; anything else is delimited text.

    Raises
    ------
    BadFileError
        If the file is missing, a folder, or not what its ending says.
    """
    check_regular(path)
    try:
        with path.open("rb") as file:
            head = file.read(4096)
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    if options.sample_format is not None:
        return open_raw(path, options)
    if path.suffix.lower() == ".vcd":
        raise BadFileError(path, "a value change dump holds no current", remedy="give it with --lines to a capture")
    if is_kernel_trace(head):
        return KernelTraceSource(path)
    by_magic = next((opener for magic, opener in _MAGIC if head.startswith(magic)), TextSource)
    opener = _OPENERS.get(path.suffix.lower(), by_magic)
    if path.suffix.lower() == ".dat" and b"\0" not in head:
        opener = TextSource
    return opener(path, options)
