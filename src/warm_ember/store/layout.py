"""What must hold of a capture file before anything in it is believed: it may come from anybody."""

from __future__ import annotations

import math
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.store.hdf5_storage import import_h5py
from warm_ember.units import counted

if TYPE_CHECKING:
    import h5py

CAPTURE_FORMAT = 1
MAKER = "program"
"""The attribute that names the program that made a file, with its version."""
MOST_SAMPLES = 1 << 36
"""More than eight days at 100 kS/s: what says that it holds more is a mistake or a trap."""
MOST_LINES = 32
_MOST_ROWS = 1 << 27
_SIGNATURE = b"\x89HDF\r\n\x1a\n"
_LEAST_FILLED = 1e-3


def open_file(path: Path) -> h5py.File:
    """Open a capture file for reading and check that it is one.

    It is opened without a lock of its own, as no finished capture is ever written: any number of programs may read.

    Raises
    ------
    BadFileError
        If it is missing, may not be read, is no HDF5 file or a damaged one, is newer than this program, reads from
        other files, or holds something else than a capture.
    """
    try:
        with path.open("rb") as opened:
            start = opened.read(len(_SIGNATURE))
    except FileNotFoundError:
        raise BadFileError(path, "there is no such capture") from None
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}", remedy="check its permissions") from error
    if start != _SIGNATURE:
        raise BadFileError(path, "expected an HDF5 capture, found something else", remedy="import it if it is a table")
    try:
        file = _opened(path)
    except OSError as error:
        raise BadFileError(path, _reason(error), remedy="take it from a copy") from error
    try:
        check_layout(file, path)
    except BadFileError:
        file.close()
        raise
    except (KeyError, ValueError, TypeError, RuntimeError, OSError) as error:
        # Whatever the library runs into below damaged or made-up structures.
        file.close()
        raise damaged(path, error) from error
    return file


def _opened(path: Path) -> h5py.File:
    # Without a cache a short read takes its part of a stored chunk only, not all of it.
    options: dict[str, Any] = {"rdcc_nbytes": 0}
    try:
        return import_h5py().File(path, "r", locking=False, **options)
    except OSError as error:
        # Whoever uses us as a library may have it open in this very process, in the library's own way.
        if "locking flag values" not in str(error):
            raise
        return import_h5py().File(path, "r", **options)


def damaged(path: Path, error: Exception, *, where: str = "") -> BadFileError:
    """Return what to say when the HDF5 library runs into something that it cannot read."""
    problem = f"this capture is damaged ({_words(error)})"
    return BadFileError(path, problem, where=where, remedy="take it from a copy")


def _reason(error: OSError) -> str:
    words = _words(error)
    if "truncated" in words:
        return "this capture is damaged: its end is missing"
    if "consistency flags" in words or "already open for write" in words or "file is already open" in words:
        return "another program writes this file, or was ended while it did"
    return "this capture is damaged"


def _words(error: Exception) -> str:
    return " ".join(str(error).split())[:120]


def check_layout(file: h5py.File, path: Path) -> None:
    """Check what a capture file holds, without reading its samples.

    Raises
    ------
    BadFileError
        If something is not as expected; it says where.
    """
    _check_format(file, path)
    current = _dataset(file, "current", path)
    if current is None or current.ndim != 1 or current.dtype.kind != "f" or current.dtype.itemsize > 8:
        raise BadFileError(path, "expected a one-dimensional float dataset /current", where="/current")
    if not current.shape[0]:
        raise BadFileError(path, "this capture holds no samples", where="/current")
    if "sample_interval_s" not in file.attrs:
        raise BadFileError(path, "the attribute sample_interval_s is missing", where="attributes")
    voltage, lines = _dataset(file, "voltage", path), _dataset(file, "lines", path)
    channels = {"current": current, "voltage": voltage, "lines": lines}
    channels |= {f"aux/{name}": one for name, one in _members(file, "aux", path)}
    for name, one in channels.items():
        if one is None:
            continue
        kind = "u" if name == "lines" else "f"
        if one.dtype.kind != kind or one.dtype.itemsize > (4 if kind == "u" else 8):
            wanted = "unsigned bit fields of 32 bits at most" if kind == "u" else "a float dataset"
            raise BadFileError(path, f"expected {wanted}, found {one.dtype}", where=f"/{name}")
        if one.shape != current.shape:
            raise BadFileError(
                path,
                f"expected {counted(current.shape[0], 'sample')} like /current, found {one.shape}",
                where=f"/{name}",
            )
        check_size(one, f"/{name}", path)
    if lines is not None and len(np.atleast_1d(lines.attrs.get("names", []))) > 8 * lines.dtype.itemsize:
        raise BadFileError(path, "expected a name for each bit at most", where="/lines")
    events = _dataset(file, "events", path)
    if events is not None:
        _check_table(events, "/events", path, ("time_s", "event", "name", "value"))
    program = dict(_members(file, "program", path))
    for name, one in program.items():
        if one.ndim != 1 or one.dtype.kind not in "fiu":
            raise BadFileError(path, f"expected a column of numbers, found {one.dtype}", where=f"/program/{name}")
        check_size(one, f"/program/{name}", path)
    functions = _dataset(file, "functions", path)
    if functions is not None:
        _check_table(functions, "/functions", path, ("address", "size", "name", "file"))


def _check_format(file: h5py.File, path: Path) -> None:
    written = np.asarray(file.attrs.get("format", CAPTURE_FORMAT))
    if written.ndim or written.dtype.kind not in "iu":
        raise BadFileError(path, "expected a whole number as its format", where="attributes")
    if int(written) > CAPTURE_FORMAT:
        raise BadFileError(
            path, f"capture format {int(written)} is newer than {CAPTURE_FORMAT}", remedy="use a newer Warm Ember"
        )


def _dataset(group: h5py.Group, name: str, path: Path) -> h5py.Dataset | None:
    """Return a dataset that lies in this very file; None when there is none of that name."""
    h5py = import_h5py()
    found = _own(group, name, path)
    if found is None:
        return None
    where = f"{group.name.rstrip('/')}/{name}"
    if not isinstance(found, h5py.Dataset):
        raise BadFileError(path, "expected a dataset, found a group", where=where)
    if found.is_virtual or found.external:
        raise BadFileError(path, "its samples lie in other files, which a capture must not read", where=where)
    return found


def _members(file: h5py.File, name: str, path: Path) -> Iterator[tuple[str, h5py.Dataset]]:
    """Yield the datasets of a group."""
    group = _own(file, name, path)
    if group is None:
        return
    if not isinstance(group, import_h5py().Group):
        raise BadFileError(path, "expected a group, found a dataset", where=f"/{name}")
    for member in group:
        found = _dataset(group, member, path)
        if found is not None:
            yield member, found


def _own(group: h5py.Group, name: str, path: Path) -> Any:
    h5py = import_h5py()
    link = group.get(name, getlink=True)
    if link is None:
        return None
    if not isinstance(link, h5py.HardLink):
        where = f"{group.name.rstrip('/')}/{name}"
        raise BadFileError(path, "this is a link to elsewhere, which a capture must not follow", where=where)
    return group[name]


def _check_table(table: h5py.Dataset, where: str, path: Path, columns: tuple[str, ...]) -> None:
    names = table.dtype.names or ()
    if table.ndim != 1 or not set(columns) <= set(names):
        raise BadFileError(path, f"expected a table with {', '.join(columns)}, found {table.dtype}"[:200], where=where)
    numbers = [name for name in ("time_s", "address", "size") if name in columns]
    for name in columns:
        is_number = name in numbers
        if (table.dtype[name].kind in "fiu") is not is_number or table.dtype[name].shape:
            raise BadFileError(path, f"expected {'numbers' if is_number else 'text'} as {name}", where=where)
    check_size(table, where, path, _MOST_ROWS)


def check_size(data: h5py.Dataset, where: str, path: Path, most: int = MOST_SAMPLES) -> None:
    """Refuse a size that is impossible, or for which next to nothing is stored.

    Raises
    ------
    BadFileError
        If that is so.
    """
    count = int(data.shape[0])
    stored = int(data.id.get_storage_size())
    claimed = count * data.dtype.itemsize
    is_packed = data.compression is not None or data.scaleoffset is not None
    least = claimed * (_LEAST_FILLED**2 if is_packed else _LEAST_FILLED)
    # A file of a few thousand samples may leave chunks out that hold nothing but missing ones.
    if count > most or (claimed > 1 << 24 and stored < least):
        raise BadFileError(path, f"says that it holds {count:.6g} values, {stored} bytes are stored", where=where)


def check_finite(lowest: float, highest: float, where: str, path: Path) -> None:
    """Refuse a channel with an infinity or a value beyond all sense in it.

    Raises
    ------
    BadFileError
        If there is one.
    """
    if math.isinf(lowest) or math.isinf(highest):
        raise BadFileError(path, "holds an infinite value", where=where)
