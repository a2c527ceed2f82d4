"""Raw binary samples and NumPy arrays."""

from __future__ import annotations

import ast
import math
import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from tokenize import TokenError
from typing import Any, BinaryIO

import numpy as np

from warm_ember.errors import BadFileError, Cancelled
from warm_ember.formats.columns import ColumnReader, ColumnRoles, find_columns, refuse_words
from warm_ember.formats.source import (
    CURRENT_UNITS_A,
    ImportOptions,
    SourceBlock,
    as_floats,
    check_finite,
    require_rate,
    sample_place,
)
from warm_ember.model.arrays import Samples
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.program import ProgramTrace
from warm_ember.signal.series import CHUNK_SAMPLES, Progress, ShouldStop
from warm_ember.units import counted

_MOST_COLUMNS = 1024
_FEW, _MANY = 16, 64
_HEADER_ERRORS = (ValueError, TypeError, KeyError, OverflowError, SyntaxError, RecursionError, MemoryError, TokenError)
"""What the library raises on a header that is no description of an array."""
_MOST_HEADER = 1 << 16
_LONG_INTEGER = re.compile(rb"(?<=\d)L(?=[,)])")
"""Python 2 wrote ``10L`` for ten."""
_FORMATS: dict[str, np.dtype[Any]] = {"f32": np.dtype("<f4"), "f64": np.dtype("<f8"), "i16": np.dtype("<i2")}


class BinarySource:
    """One channel of current as consecutive binary numbers.

    Parameters
    ----------
    path, options
        The file, and what the user said about it.
    element
        Type of one sample.
    start_byte, count
        Where the samples start and how many there are.
    """

    with_voltage = False
    line_names: tuple[str, ...] = ()
    first_time_s = 0.0
    start_utc = ""
    info: CaptureInfo | None = None
    events: tuple[Event, ...] = ()
    program: ProgramTrace | None = None

    def __init__(self, path: Path, options: ImportOptions, element: np.dtype[Any], start_byte: int, count: int) -> None:
        self._path, self._element, self._start_byte, self._count = path, element, start_byte, count
        self.length: int | None = count
        self.aux_units: dict[str, str] = {}
        self.interval_s = require_rate(path, options)
        self._notes: list[str] = []
        self._scale, self._offset = self._scaling(options)

    def _scaling(self, options: ImportOptions) -> tuple[float, float]:
        if options.shunt_ohm is not None:
            volts = options.scale_a if options.scale_a is not None else 1.0
            ohms = options.gain * options.shunt_ohm
            return volts / ohms, -options.offset_v / ohms
        if options.unit is not None and options.scale_a is None:
            return CURRENT_UNITS_A[options.unit], 0.0
        if options.scale_a is None and self._element.kind != "f":
            raise BadFileError(
                self._path,
                "whole numbers are counts of a converter",
                remedy="give the A per count with --scale",
            )
        if options.scale_a is None:
            self._notes.append("unit assumed: A")
        return options.scale_a or 1.0, 0.0

    @property
    def notes(self) -> tuple[str, ...]:
        """What was assumed."""
        return tuple(self._notes)

    def pieces(self, should_stop: ShouldStop, progress: Progress) -> Iterator[SourceBlock]:
        """Yield the samples in order."""
        with self._path.open("rb") as file:
            file.seek(self._start_byte)
            done = 0
            while done < self._count:
                if should_stop():
                    raise Cancelled("stopped")
                values = np.fromfile(file, self._element, min(CHUNK_SAMPLES, self._count - done))
                if not len(values):
                    raise BadFileError(self._path, "the file ends before its last sample", where=f"sample {done}")
                yield SourceBlock(self._amperes(values, done))
                done += len(values)
                progress(done / self._count)

    def _amperes(self, values: np.ndarray, first: int) -> Samples:
        amperes: Samples
        if self._scale == 1.0 and self._offset == 0.0 and values.dtype == np.float32:
            amperes = values
        else:
            with np.errstate(over="ignore", invalid="ignore"):  # what does not fit is refused below
                amperes = (values * np.float64(self._scale) + self._offset).astype(np.float32)
        check_finite(amperes, self._path, sample_place(first))
        return amperes


def open_raw(path: Path, options: ImportOptions) -> BinarySource:
    """Open raw little-endian samples; the format follows from ``--format`` or the ending.

    Raises
    ------
    BadFileError
        If the format is not known or the length is no whole number of samples.
    """
    name = options.sample_format or path.suffix.lstrip(".").lower()
    assumed = name not in _FORMATS and options.sample_format is None
    if assumed:
        name = "f32"
    if name not in _FORMATS:
        raise BadFileError(path, f"expected --format f32, f64 or i16, found {name!r}")
    element = _FORMATS[name]
    size = path.stat().st_size
    if size == 0 or size % element.itemsize:
        raise BadFileError(
            path,
            f"expected a multiple of {element.itemsize} bytes for {name}, found {size}",
            where=f"byte {size}",
        )
    source = BinarySource(path, options, element, 0, size // element.itemsize)
    if assumed:
        source._notes.append("sample format assumed: f32, little-endian")
    return source


def _npy_header(file: BinaryIO) -> tuple[tuple[int, ...], bool, np.dtype[Any]]:
    """Read what an array is, and leave the file at its first byte.

    NumPy's own reader mends headers that it does not understand, and says so by a warning.

    References
    ----------
    NEP 1, "A simple file format for NumPy arrays": a magic string, the version, the header's length, little-endian in
    two bytes or from version 2 on in four, and a Python dictionary.
    """
    version = np.lib.format.read_magic(file)
    length = int.from_bytes(file.read(2 if version == (1, 0) else 4), "little")
    if length > _MOST_HEADER:
        raise ValueError(f"its header has {length} bytes")
    header = ast.literal_eval(_LONG_INTEGER.sub(b" ", file.read(length)).decode("latin-1").strip())
    shape, by_column = header["shape"], header["fortran_order"]
    if not isinstance(shape, tuple) or not all(type(size) is int and size >= 0 for size in shape):
        raise ValueError(f"its shape is {shape!r}")
    if not isinstance(by_column, bool):
        raise ValueError(f"its order is {by_column!r}")
    return shape, by_column, np.lib.format.descr_to_dtype(header["descr"])


def open_npy(path: Path, options: ImportOptions) -> BinarySource | TableSource:
    """Open a NumPy array: one dimension is current, rows of two and more or named fields are a table.

    Raises
    ------
    BadFileError
        If it is no array of numbers.
    """
    try:
        with path.open("rb") as file:
            shape, by_column, element = _npy_header(file)
            start_byte = file.tell()
    except _HEADER_ERRORS as error:
        words = " ".join(str(error).split())[:160]
        raise BadFileError(path, f"expected a NumPy array file: {words}", where="byte 0") from error
    if element.hasobject or (element.names is None and element.kind not in "fiu"):
        raise BadFileError(path, f"expected an array of numbers, found {element}")
    if not shape or 0 in shape:
        raise BadFileError(path, f"expected at least one sample, found the shape {shape}")
    size = path.stat().st_size - start_byte
    if size < math.prod(shape) * element.itemsize:
        raise BadFileError(path, "the file ends before its last sample", where=f"byte {start_byte + size}")
    if element.names is None and (len(shape) == 1 or (len(shape) == 2 and 1 in shape)):
        return BinarySource(path, options, element, start_byte, math.prod(shape))
    if len(shape) > 2 or (element.names is not None and len(shape) > 1):
        raise BadFileError(path, f"expected one or two dimensions, found the shape {shape}")
    if element.names is None and shape[0] <= _FEW < _MANY <= shape[1]:
        # A few long rows are channels one below the other; in memory that is a table stored by columns.
        return TableSource(path, options, shape[::-1], element, start_byte, by_column=not by_column, turned=True)
    return TableSource(path, options, shape, element, start_byte, by_column=by_column)


_STAMPS = {"D": "days", "h": "h", "m": "min", "s": "s", "ms": "ms", "us": "us", "ns": "ns"}


def _title(name: str, kind: np.dtype[Any]) -> str:
    """Return a field's name, with the unit that a time stamp counts in."""
    if kind.kind not in "Mm":
        return name
    unit, count = np.datetime_data(kind)
    if unit not in _STAMPS or count != 1:
        return f"{name} ({kind})"
    return f"{name} ({_STAMPS[unit]})"


def _counted(values: np.ndarray) -> np.ndarray:
    """Return numbers as floats, and time stamps as whole counts, which a float would round."""
    return values.astype(np.int64) if values.dtype.kind in "Mm" else as_floats(values)


class TableSource(ColumnReader):
    """A NumPy table: columns of a two-dimensional array, or named fields.

    Parameters
    ----------
    path, options
        The file, and what the user said about it.
    shape, element, start_byte
        Rows and columns, type of one number or of a row of named fields, and where they start.
    by_column
        Whether the numbers of a column, not those of a row, follow each other.
    turned
        Whether the file's rows are taken as columns.
    """

    def __init__(
        self,
        path: Path,
        options: ImportOptions,
        shape: tuple[int, ...],
        element: np.dtype[Any],
        start_byte: int,
        *,
        by_column: bool = False,
        turned: bool = False,
    ) -> None:
        self._rows, self._start_byte, self._by_column = shape[0], start_byte, by_column
        self._width = 0 if element.names else shape[1]
        self._element = element
        if self._width > _MOST_COLUMNS:
            raise BadFileError(path, f"expected at most {counted(_MOST_COLUMNS, 'column')}, found the shape {shape}")
        names = [_title(name, element[name]) for name in element.names] if element.names else None
        words = frozenset(k for k, name in enumerate(element.names or ()) if element[name].kind not in "fiubMm")
        width = self._width or len(element.names or ())
        columns: ColumnRoles = find_columns(path, names, width, options, words=words)
        refuse_words(path, columns, words)
        columns = replace(columns, aux=tuple(one for one in columns.aux if one.index not in words))
        super().__init__(path, options, columns, stamp_step_s=0.0)
        self.length = self._rows
        if turned:
            self._notes.append(f"{counted(self._width, 'row')} of {self._rows} numbers taken as columns")
        self.titles = tuple(names or (f"column {index + 1}" for index in range(self._width)))

    def row_place(self, row: int) -> str:
        """Name a row for an error message."""
        return f"row {row}"

    def batches(self, should_stop: ShouldStop, progress: Progress) -> Iterator[dict[int, np.ndarray]]:
        """Yield the used columns piece by piece, as `ColumnReader` says: by index, each of shape ``(rows,)``."""
        rows_at_once = max(1, CHUNK_SAMPLES // max(self._width, 1))
        with self._path.open("rb") as file:
            for first in range(0, self._rows, rows_at_once):
                if should_stop():
                    raise Cancelled("stopped")
                rows = min(rows_at_once, self._rows - first)
                yield self._by_columns(file, first, rows) if self._by_column else self._by_rows(file, first, rows)
                progress((first + rows) / self._rows)

    def _by_rows(self, file: BinaryIO, first: int, rows: int) -> dict[int, np.ndarray]:
        per_row = max(self._width, 1)
        table = self._numbers(file, first * per_row, rows * per_row)
        if self._width:
            table = table.reshape(rows, self._width)
            return {c: as_floats(table[:, c]) for c in self.columns.used}
        fields = self._element.names or ()
        return {c: _counted(table[fields[c]]) for c in self.columns.used}

    def _by_columns(self, file: BinaryIO, first: int, rows: int) -> dict[int, np.ndarray]:
        return {c: as_floats(self._numbers(file, c * self._rows + first, rows)) for c in self.columns.used}

    def _numbers(self, file: BinaryIO, first: int, count: int) -> np.ndarray:
        file.seek(self._start_byte + first * self._element.itemsize)
        numbers = np.fromfile(file, self._element, count)
        if len(numbers) < count:
            raise BadFileError(self._path, "the file ends before its last number", where=f"number {first}")
        return numbers
