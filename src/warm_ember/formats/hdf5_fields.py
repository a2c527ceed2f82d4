"""The columns that lie in the datasets of an HDF5 file, however their writer arranged them."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.formats.source import as_floats
from warm_ember.model.arrays import Floats
from warm_ember.model.capture import text_of

if TYPE_CHECKING:
    import h5py

_MOST_COLUMNS = 64
_TITLES = ("columns", "column_names", "names", "labels", "channels", "fields", "header")
_SINCE = re.compile(r"\s*(\w+)\s+since\s+(.+?)\s*\Z", re.IGNORECASE)
_NAMES_IN_PICKLE = re.compile(rb"(?:^|\n)[aSV(]*S'([^'\n]+)'|X....(?P<long>[\x20-\x7e]+?)q", re.DOTALL)


@dataclass(frozen=True)
class Hdf5Field:
    """One column in a dataset.

    Parameters
    ----------
    dataset
        The dataset's path.
    title
        What the column is called, with its unit.
    pick
        The name of a field, or the number of a column; empty for all of a one-dimensional dataset.
    scale, offset
        What its numbers are multiplied with and what is added then.
    missing
        The number that stands for a missing one; NaN for none.
    since
        The moment that its times are counted from, as it is written; empty where nobody says.
    """

    dataset: str
    title: str
    pick: tuple[str | int, ...] = ()
    scale: float = 1.0
    offset: float = 0.0
    missing: float = float("nan")
    since: str = ""

    def read(self, file: h5py.File, first: int, last: int) -> Floats:
        """Return its numbers ``[first, last)``, NaN where they are missing, shape ``(last - first,)``."""
        values = file[self.dataset][first:last]
        for one in self.pick:
            values = values[one] if isinstance(one, str) else values[:, one]
        found = as_floats(np.asarray(values))
        if self.missing == self.missing:
            found = np.where(found == self.missing, np.nan, found)
        return found if self.scale == 1.0 and not self.offset else found * self.scale + self.offset


@dataclass
class Hdf5Fields:
    """All columns of a file, and what lies outside of it.

    Parameters
    ----------
    fields
        In the order of the file.
    outside
        Datasets that lie in other files.
    """

    fields: list[Hdf5Field] = field(default_factory=list)
    outside: list[str] = field(default_factory=list)


def find_fields(path: Path, file: h5py.File) -> Hdf5Fields:
    """Find the columns of numbers in a file.

    Parameters
    ----------
    path
        The file, for messages.
    file
        It, open.

    Returns
    -------
    Hdf5Fields
        One-dimensional datasets, columns of two-dimensional ones, fields of compound ones, and the blocks in which
        tables of data frames are stored. What `scale_factor`, `add_offset` and `_FillValue` say is applied.

    Raises
    ------
    BadFileError
        If a dataset is packed in a way that cannot be unpacked here.
    """
    import h5py

    found = Hdf5Fields()
    frames = [name for name, item in _groups(file) if text_of(item.attrs.get("pandas_type", "")) == "frame"]

    def visit(name: str, item: Any) -> None:
        if not isinstance(item, h5py.Dataset) or any(name.startswith(f"{frame}/") for frame in frames):
            return
        if item.is_virtual or item.external:
            found.outside.append(name)
            return
        fields = _fields_of(name, item)
        if fields:
            _check_codec(path, name, item)
            found.fields += fields

    file.visititems(visit)
    for frame in frames:
        found.fields += _of_frame(frame, file[frame])
    return found


def _groups(file: h5py.File) -> list[tuple[str, Any]]:
    import h5py

    groups: list[tuple[str, Any]] = []
    file.visititems(lambda name, item: groups.append((name, item)) if isinstance(item, h5py.Group) else None)
    return groups


def _fields_of(name: str, item: Any) -> list[Hdf5Field]:
    last = name.rsplit("/", 1)[-1]
    if item.dtype.names and item.ndim == 1 and len(item):
        return [one for part in item.dtype.names for one in _of_part(name, item, part)]
    if item.dtype.kind not in "fiub" or not item.size:
        return []
    if item.ndim == 1:
        return [_field(name, _titled(last, item), item)]
    if item.ndim == 2 and item.shape[1] == 1:
        return [_field(name, _titled(last, item), item, (0,))]
    if item.ndim == 2 and item.shape[1] <= _MOST_COLUMNS and item.shape[0] > item.shape[1]:
        titles = _titles(item, item.shape[1]) or [f"{last} {k + 1}" for k in range(item.shape[1])]
        return [_field(name, title, item, (k,)) for k, title in enumerate(titles)]
    return []


def _of_part(name: str, item: Any, part: str) -> list[Hdf5Field]:
    """Return the columns of one field of a compound dataset, which may be a block of several."""
    kind = item.dtype[part]
    if kind.kind in "fiub":
        return [Hdf5Field(name, part, (part,))]
    if kind.subdtype is None or kind.subdtype[0].kind not in "fiub" or len(kind.subdtype[1]) != 1:
        return []
    width = kind.subdtype[1][0]
    titles = _pickled_names(item.attrs.get(f"{part}_kind")) or _pickled_names(item.attrs.get("values_cols"))
    if len(titles) != width:
        titles = [f"{part} {k + 1}" for k in range(width)]
    return [Hdf5Field(name, title, (part, k)) for k, title in enumerate(titles)]


def _pickled_names(value: Any) -> list[str]:
    """Return the names that a pickled list of text shows; it is not unpickled, which could run what it holds."""
    raw = value.tobytes() if hasattr(value, "tobytes") else value if isinstance(value, bytes) else b""
    return [(found[1] or found["long"] or b"").decode("utf-8", "replace") for found in _NAMES_IN_PICKLE.finditer(raw)]


def _of_frame(name: str, group: Any) -> list[Hdf5Field]:
    """Return the columns of a data frame stored in blocks of columns of one kind."""
    fields = []
    index = group.get("axis1")
    if index is not None and index.ndim == 1 and index.dtype.kind in "fiu":
        is_time = "datetime" in text_of(index.attrs.get("kind", ""))
        fields.append(Hdf5Field(f"{name}/axis1", "time (ns)" if is_time else "index"))
    for block in range(int(group.attrs.get("nblocks", 0))):
        items, values = group.get(f"block{block}_items"), group.get(f"block{block}_values")
        if items is None or values is None or values.ndim != 2 or values.dtype.kind not in "fiub":
            continue
        titles = [text_of(one) for one in items[:]]
        fields += [Hdf5Field(f"{name}/block{block}_values", title, (k,)) for k, title in enumerate(titles)]
    return fields


def _titles(item: Any, width: int) -> list[str]:
    """Return the names of a two-dimensional dataset's columns, where an attribute has them."""
    for key in _TITLES:
        value = item.attrs.get(key)
        names = [text_of(one) for one in np.ravel(value)] if value is not None else []
        names = [part.strip() for part in names[0].split(",")] if len(names) == 1 and width > 1 else names
        if len(names) == width:
            return names
    return []


def _titled(last: str, item: Any) -> str:
    unit = text_of(item.attrs.get("unit", item.attrs.get("units", "")))
    since = _SINCE.match(unit)
    unit = since[1] if since else unit
    return f"{last} ({unit})" if unit else last


def _field(name: str, title: str, item: Any, pick: tuple[str | int, ...] = ()) -> Hdf5Field:
    def number(key: str, default: float) -> float:
        value = np.ravel(item.attrs.get(key, default))
        return float(value[0]) if len(value) == 1 and value.dtype.kind in "fiu" else default

    since = _SINCE.match(text_of(item.attrs.get("unit", item.attrs.get("units", ""))))
    missing = number("_FillValue", number("missing_value", float("nan")))
    scale, offset = number("scale_factor", 1.0), number("add_offset", 0.0)
    return Hdf5Field(name, title, pick, scale, offset, missing, since[2] if since else "")


def _check_codec(path: Path, name: str, item: Any) -> None:
    from h5py import h5z

    plan = item.id.get_create_plist()
    for number in range(plan.get_nfilters()):
        code, _, _, called = plan.get_filter(number)
        if not h5z.filter_avail(code):
            codec = f"{text_of(called) or 'a codec'} (number {code})"
            problem = f"it is packed by {codec}, which is not there to unpack it"
            raise BadFileError(path, problem, where=f"/{name}", remedy="store it without, or packed by gzip")
