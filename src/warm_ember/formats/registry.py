"""Which reader opens which file. A new format is one module and one line here."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from warm_ember.errors import BadFileError
from warm_ember.formats.binary import open_npy, open_raw
from warm_ember.formats.source import ImportOptions, Source
from warm_ember.formats.text import TextSource

_OPENERS: dict[str, Callable[[Path, ImportOptions], Source]] = {
    ".npy": open_npy,
    ".f32": open_raw,
    ".f64": open_raw,
    ".i16": open_raw,
    ".bin": open_raw,
    ".raw": open_raw,
    ".dat": open_raw,
}


def open_source(path: Path, options: ImportOptions) -> Source:
    """Open a foreign file for reading; what has no ending of its own is delimited text.

    Raises
    ------
    BadFileError
        If the file is missing, a folder, or not what its ending says.
    """
    if not path.exists():
        raise BadFileError(path, "there is no such file")
    if not path.is_file():
        raise BadFileError(path, "expected a file, found something else")
    try:
        with path.open("rb") as file:
            head = file.read(4096)
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    if options.sample_format is not None:
        return open_raw(path, options)
    opener = _OPENERS.get(path.suffix.lower(), TextSource)
    if path.suffix.lower() == ".dat" and b"\0" not in head:
        opener = TextSource
    return opener(path, options)
