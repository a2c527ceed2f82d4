"""HDF5: captures of this program, and tables of one-dimensional datasets of others."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from warm_ember.errors import BadArgumentError, BadFileError, Cancelled
from warm_ember.formats.clock_text import is_clock, start_utc_of
from warm_ember.formats.columns import ColumnReader, ColumnRoles, find_columns, with_digital_lines
from warm_ember.formats.hdf5_fields import find_fields
from warm_ember.formats.source import CURRENT_UNITS_A, ImportOptions, SourceBlock, check_finite, sample_place
from warm_ember.model.capture import CaptureInfo, Event, events_from, info_from, text_of
from warm_ember.model.program import ProgramTrace, program_from
from warm_ember.signal.series import CHUNK_SAMPLES, Progress, ShouldStop
from warm_ember.store.layout import check_size, open_file
from warm_ember.units import counted

if TYPE_CHECKING:
    import h5py

_INTERVAL_NAMES = ("sample_interval_s", "interval_s", "dt")
_RATE_NAMES = ("sample_rate_hz", "rate_hz", "sample_rate", "fs")
_PEEK_ROWS = 200
_ROWS = 1 << 18
_DAMAGE = (OSError, RuntimeError, KeyError, ValueError, TypeError, OverflowError)


@contextlib.contextmanager
def _reading(path: Path) -> Iterator[None]:
    """Turn what the HDF5 library raises on damaged files into a message."""
    try:
        yield
    except (BadFileError, BadArgumentError):
        raise
    except _DAMAGE as error:
        words = " ".join(str(error).split())[:160]
        raise BadFileError(path, f"expected a readable HDF5 file: {words}", where="byte 0") from error


def open_hdf5(path: Path, options: ImportOptions) -> CaptureSource | DatasetSource:
    """Open a capture of this program, or a file of one-dimensional datasets that are named like columns.

    Raises
    ------
    BadFileError
        If it is no HDF5 file or holds nothing that can be the current.
    """
    with _reading(path), _opened(path) as file:
        is_capture = file.get("current", getlink=True) is not None and "sample_interval_s" in file.attrs
    return CaptureSource(path, options) if is_capture else DatasetSource(path, options)


def _opened(path: Path) -> Any:
    import h5py

    # Only read, and perhaps while another program that keeps it open reads it too.
    return h5py.File(path, "r", locking=False)


class CaptureSource:
    """A capture file from elsewhere; its attributes and its log come with it.

    ``--rate`` and ``--unit`` go before what the file says.
    """

    def __init__(self, path: Path, options: ImportOptions) -> None:
        self._path = path
        with _reading(path), open_file(path) as file:
            self.info: CaptureInfo | None = _info(path, file)
            if options.shunt_ohm is not None:
                raise BadFileError(path, "a capture holds amperes; --shunt does not apply to it")
            self._samples = int(file["current"].shape[0])
            self.with_voltage = "voltage" in file
            names = (
                [text_of(name) for name in np.atleast_1d(file["lines"].attrs.get("names", []))]
                if "lines" in file
                else []
            )
            self.line_names = tuple(names)
            aux = file.get("aux", {})
            self.aux_units = {name: text_of(aux[name].attrs.get("unit", "")) for name in aux}
            self.events = _events(path, file)
            self.program = _program(path, file)
        info = self.info
        self.length: int | None = self._samples
        self.interval_s = 1 / options.rate_hz if options.rate_hz else info.sample_interval_s
        self.first_time_s, self.start_utc = info.first_time_s, info.start_utc
        self._scale = CURRENT_UNITS_A[options.unit] if options.unit else 1.0
        self.notes: tuple[str, ...] = ("a capture file: its attributes and log were taken over",)

    def pieces(self, should_stop: ShouldStop, progress: Progress) -> Iterator[SourceBlock]:
        """Yield the samples in order."""
        with _reading(self._path), _opened(self._path) as file:
            for first in range(0, self._samples, CHUNK_SAMPLES):
                if should_stop():
                    raise Cancelled("stopped")
                part = slice(first, first + CHUNK_SAMPLES)
                with np.errstate(over="ignore", invalid="ignore"):  # what does not fit is refused below
                    current = np.asarray(file["current"][part] * np.float64(self._scale), dtype=np.float32)
                check_finite(current, self._path, sample_place(first))
                yield SourceBlock(
                    current,
                    np.asarray(file["voltage"][part], dtype=np.float32) if self.with_voltage else None,
                    np.asarray(file["lines"][part]) if self.line_names else None,
                    {name: np.asarray(file[f"aux/{name}"][part], dtype=np.float32) for name in self.aux_units},
                )
                progress(min(1.0, (first + CHUNK_SAMPLES) / self._samples))


def _info(path: Path, file: h5py.File) -> CaptureInfo:
    try:
        return info_from(file.attrs)
    except ValueError as error:
        raise BadFileError(path, f"the attributes are not as expected: {error}", where="attributes") from error


def _events(path: Path, file: h5py.File) -> tuple[Event, ...]:
    if "events" not in file:
        return ()
    table = file["events"][:]
    if not {"time_s", "event", "name", "value"} <= set(table.dtype.names or ()):
        raise BadFileError(path, "expected the columns time_s, event, name and value", where="/events")
    return events_from(table)


def _program(path: Path, file: h5py.File) -> ProgramTrace | None:
    try:
        return program_from(file)
    except ValueError as error:
        raise BadFileError(path, f"expected {error}", where="/program") from error


def _interval(file: h5py.File, datasets: list[Any]) -> float | None:
    """Return the sample interval that the file or one of its datasets tells in its attributes."""
    for item in (file, *datasets):
        for name in _INTERVAL_NAMES + _RATE_NAMES:
            if name in item.attrs and np.ndim(item.attrs[name]) == 0:
                value = float(item.attrs[name])
                if 0 < value < float("inf"):
                    return value if name in _INTERVAL_NAMES else 1 / value
    return None


class DatasetSource(ColumnReader):
    """The columns in the datasets of a file, of one length, named like the columns of a delimited text."""

    def __init__(self, path: Path, options: ImportOptions) -> None:
        with _reading(path), _opened(path) as file:
            found = find_fields(path, file)
            if found.outside and not found.fields:
                raise BadFileError(path, "its datasets lie in other files, which are not read", where=found.outside[0])
            if not found.fields:
                raise BadFileError(path, "expected datasets of numbers, in one dimension or as a table, found none")
            self._fields = found.fields
            titles = [one.title for one in found.fields]
            header = [
                f"{one.dataset} {one.title}" if titles.count(one.title) > 1 else one.title for one in self._fields
            ]
            notes = []
            known_interval_s = _interval(file, [file[one.dataset] for one in self._fields])
            if options.rate_hz is None and known_interval_s is not None:
                options = replace(options, rate_hz=1 / known_interval_s)
                notes.append(f"sample interval from the file's attributes: {known_interval_s:.9g} s")
            columns = find_columns(path, header, len(header), options)
            current = self._fields[columns.current.index]
            columns = self._of_one_length(path, file, columns)
            rows = np.full((min(self._rows, _PEEK_ROWS), len(header)), np.nan)
            for index in columns.used:
                rows[:, index] = self._fields[index].read(file, 0, _PEEK_ROWS)
        super().__init__(path, options, with_digital_lines(columns, rows), stamp_step_s=0.0)
        self.length = self._rows
        self._notes += notes
        if current.scale != 1.0 or current.offset:
            self._notes.append(
                f"current multiplied by {current.scale:g} and raised by {current.offset:g}, as the file says"
            )
        if columns.time is not None:
            since = self._fields[columns.time.index].since
            self.start_utc = start_utc_of(since) if is_clock(since) else ""
            self._is_clocked = bool(since)
        if found.outside:
            self._notes.append(f"datasets that lie in other files left out: {', '.join(found.outside)}")
        self.titles = tuple(header)

    def _of_one_length(self, path: Path, file: h5py.File, columns: ColumnRoles) -> ColumnRoles:
        """Return the columns that have a value for each sample of the current; note how many there are."""
        current = self._fields[columns.current.index].dataset
        self._rows = int(file[current].shape[0])
        check_size(file[current], current, path)
        same = [k for k, one in enumerate(self._fields) if file[one.dataset].shape[0] == self._rows]
        if any(index not in same for index in (c.index for c in (columns.time, columns.voltage) if c is not None)):
            raise BadFileError(path, f"expected {counted(self._rows, 'sample')} in every used dataset")
        return replace(columns, aux=tuple(column for column in columns.aux if column.index in same))

    def row_place(self, row: int) -> str:
        """Name a sample for an error message."""
        return f"sample {row}"

    def batches(self, should_stop: ShouldStop, progress: Progress) -> Iterator[dict[int, np.ndarray]]:
        """Yield the used datasets piece by piece, as `ColumnReader` says: by index, each of shape ``(rows,)``."""
        with _reading(self._path), _opened(self._path) as file:
            for first in range(0, self._rows, _ROWS):
                if should_stop():
                    raise Cancelled("stopped")
                last = min(first + _ROWS, self._rows)
                yield {index: self._fields[index].read(file, first, last) for index in self.columns.used}
                progress(last / self._rows)
