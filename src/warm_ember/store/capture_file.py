"""The capture file: HDF5 with the samples, the target's log, and the display pyramid.

``/current`` (A), ``/voltage`` (V), ``/lines`` (bit field), ``/aux/<name>``, ``/events``, ``/program`` with its
``/functions``, and attributes are the capture; everything below ``/summary`` is made from them and is rebuilt when the
file was touched since.
"""

from __future__ import annotations

import contextlib
import logging
import os
import time
from collections.abc import Iterable, Mapping
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

import msgspec
import numpy as np

from warm_ember.errors import BadFileError, Cancelled
from warm_ember.model.arrays import Bits, Blocks, Samples
from warm_ember.model.capture import CaptureInfo, Event, info_from
from warm_ember.model.program import ProgramTrace
from warm_ember.signal.bits import BitPyramidBuilder
from warm_ember.signal.pyramid import (
    BLOCK_SAMPLES,
    RATIO,
    Pyramid,
    PyramidBuilder,
)
from warm_ember.signal.series import CHUNK_SAMPLES, Progress, ShouldStop, ignore_progress, never
from warm_ember.store.chunked_writer import BackgroundWriter, ChunkedDataset
from warm_ember.store.program_trace import write_program

if TYPE_CHECKING:
    import h5py

log = logging.getLogger(__name__)

CAPTURE_FORMAT = 1
_SUMMARY_STAMP = "file_time_ns"


def import_h5py() -> Any:
    """Return the HDF5 library, imported when it is first needed."""
    import h5py  # 0.1 s to import, and the window need not wait for it

    return h5py


class CaptureWriter:
    """Write a capture piece by piece into a file that appears only when it is complete.

    Parameters
    ----------
    path
        Where the capture shall be.
    info
        Its identity and conditions; may be replaced in `finish`, when the interval is known for sure.
    with_voltage
        Whether each piece brings a voltage.
    line_names
        Names of the digital lines, least significant bit first; empty for none.
    aux_units
        Unit of each auxiliary channel by name.
    """

    def __init__(
        self,
        path: Path,
        *,
        with_voltage: bool = False,
        line_names: tuple[str, ...] = (),
        aux_units: Mapping[str, str] | None = None,
    ) -> None:
        self.path = path
        self._partial = path.with_name(f".{path.name}.{os.getpid()}.partial")
        self._file = import_h5py().File(self._partial, "w")
        self._background = BackgroundWriter(self._file)
        self._samples = 0
        self._channels = {"current": ChunkedDataset(self._file, "current", np.float32)}
        self._builders = {"current": PyramidBuilder()}
        if with_voltage:
            self._channels["voltage"] = ChunkedDataset(self._file, "voltage", np.float32)
            self._builders |= {"voltage": PyramidBuilder(), "power": PyramidBuilder()}
        for name, unit in (aux_units or {}).items():
            self._channels[f"aux/{name}"] = ChunkedDataset(self._file, f"aux/{name}", np.float32)
            self._channels[f"aux/{name}"].dataset.attrs["unit"] = unit
            self._builders[f"aux/{name}"] = PyramidBuilder()
        self._line_builder: BitPyramidBuilder | None = None
        if line_names:
            self._channels["lines"] = ChunkedDataset(self._file, "lines", line_type(len(line_names)))
            self._channels["lines"].dataset.attrs["names"] = list(line_names)
            self._line_builder = BitPyramidBuilder()

    @property
    def samples(self) -> int:
        """Number of samples written so far."""
        return self._samples

    def append(
        self,
        current: Samples,
        *,
        voltage: Samples | None = None,
        lines: Bits | None = None,
        aux: Mapping[str, Samples] | None = None,
    ) -> None:
        """Write the next samples of every channel, all of one length; the arrays must not change afterwards.

        Raises
        ------
        OSError
            If the disk is full or gone.
        """
        pieces = {"current": current} | {f"aux/{name}": values for name, values in (aux or {}).items()}
        if voltage is not None:
            pieces["voltage"] = voltage
        for name, values in pieces.items():
            self._background.submit(self._channels[name], values)
            self._builders[name].append(values)
        if voltage is not None:
            self._builders["power"].append(current * voltage)
        if lines is not None:
            self.append_lines(lines)
        self._samples += len(current)

    def append_lines(self, lines: Bits) -> None:
        """Write the next bit fields of the digital lines; they may come after the samples of all other channels."""
        if self._line_builder is not None:
            self._background.submit(self._channels["lines"], lines)
            self._line_builder.append(lines)

    def finish(self, info: CaptureInfo, events: Iterable[Event] = (), program: ProgramTrace | None = None) -> None:
        """Write what belongs to the whole capture and let the file appear under its name."""
        pyramids = {name: builder.finish() for name, builder in self._builders.items()}
        bits = self._line_builder.finish() if self._line_builder is not None else None
        self._background.close()
        for channel in self._channels.values():
            channel.finish()
        write_info(self._file, info)
        write_events(self._file, list(events))
        if program is not None:
            write_program(self._file, program)
        write_summary(self._file, pyramids, bits)
        self._file.close()
        replace_durably(self._partial, self.path)
        stamp(self.path)

    def abort(self) -> None:
        """Leave nothing behind; after `finish` there is nothing left to do."""
        if self._file:
            with contextlib.suppress(OSError):
                self._background.close()
            self._file.close()
        self._partial.unlink(missing_ok=True)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.abort()


def line_type(lines: int) -> type[np.unsignedinteger[Any]]:
    """Return the smallest type that holds a bit for each line."""
    if lines > 32:
        raise ValueError(f"{lines} digital lines are more than the 32 that a capture holds")
    return np.uint8 if lines <= 8 else np.uint16 if lines <= 16 else np.uint32


def replace_durably(partial: Path, path: Path) -> None:
    """Let a finished file take a name so that after a crash either the old or the new one is there."""
    with partial.open("rb") as written:
        os.fsync(written.fileno())
    partial.replace(path)
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def stamp(path: Path) -> None:
    """Set the file's time to the one its summary carries, so that any later change shows."""
    with import_h5py().File(path, "r") as file:
        stamp = int(file["summary"].attrs[_SUMMARY_STAMP])
    os.utime(path, ns=(stamp, stamp))


def write_info(file: h5py.File, info: CaptureInfo) -> None:
    """Write a capture's identity and conditions as attributes."""
    file.attrs["format"] = CAPTURE_FORMAT
    for name, value in msgspec.structs.asdict(info).items():
        if value is None or (isinstance(value, str | tuple) and not value):
            continue
        file.attrs[name] = list(value) if isinstance(value, tuple) else value


def read_info(file: h5py.File, path: Path) -> CaptureInfo:
    """Return a capture's identity and conditions.

    Raises
    ------
    BadFileError
        If an attribute is not as expected.
    """
    try:
        return info_from(file.attrs)
    except ValueError as error:
        raise BadFileError(path, f"the capture's attributes are not as expected: {error}") from error


def write_events(file: h5py.File, events: list[Event]) -> None:
    """Write the target's log."""
    if not events:
        return
    text = import_h5py().string_dtype()
    kind = np.dtype([("time_s", "<f8"), ("event", text), ("name", text), ("value", text)])
    table = np.empty(len(events), dtype=kind)
    for index, event in enumerate(events):
        table[index] = (event.time_s, event.event, event.name, event.value)
    file.create_dataset("events", data=table)


def write_summary(file: h5py.File, pyramids: Mapping[str, Pyramid], bits: list[Blocks] | None) -> None:
    """Write all pyramids of a capture below ``/summary``."""
    if "summary" in file:
        del file["summary"]
    group = file.create_group("summary")
    group.attrs[_SUMMARY_STAMP] = time.time_ns()
    group.attrs["samples"] = file["current"].shape[0]
    for name, pyramid in pyramids.items():
        for size, blocks in zip(pyramid.sizes, pyramid.levels, strict=True):
            group.create_dataset(f"{name}/blocks_of_{size}", data=blocks)
    for level, blocks in enumerate(bits or []):
        group.create_dataset(f"lines/blocks_of_{BLOCK_SAMPLES * RATIO**level}", data=blocks)


def rebuild_summary(
    capture_file: h5py.File, *, should_stop: ShouldStop = never, progress: Progress = ignore_progress
) -> tuple[dict[str, Pyramid], list[Blocks] | None]:
    """Make the pyramids of a capture anew, in one pass and bounded memory.

    Raises
    ------
    Cancelled
        As soon as `should_stop` answers yes.
    """
    current = capture_file["current"]
    voltage = capture_file.get("voltage")
    lines = capture_file.get("lines")
    aux = {f"aux/{name}": data for name, data in capture_file.get("aux", {}).items()}
    builders = {"current": PyramidBuilder()} | {name: PyramidBuilder() for name in aux}
    if voltage is not None:
        builders |= {"voltage": PyramidBuilder(), "power": PyramidBuilder()}
    line_builder = BitPyramidBuilder()
    samples = current.shape[0]
    for first in range(0, samples, CHUNK_SAMPLES):
        if should_stop():
            raise Cancelled("stopped")
        piece = slice(first, first + CHUNK_SAMPLES)
        amperes = current[piece].astype(np.float32, copy=False)
        builders["current"].append(amperes)
        if voltage is not None:
            volts = voltage[piece].astype(np.float32, copy=False)
            builders["voltage"].append(volts)
            builders["power"].append(amperes * volts)
        for name, data in aux.items():
            builders[name].append(data[piece].astype(np.float32, copy=False))
        if lines is not None:
            line_builder.append(lines[piece])
        progress(min(1.0, (first + CHUNK_SAMPLES) / samples))
    pyramids = {name: builder.finish() for name, builder in builders.items()}
    return pyramids, line_builder.finish() if lines is not None else None


def summary_is_current(file: h5py.File, path: Path) -> bool:
    """Answer whether the stored summary was made from the samples as they are."""
    group = file.get("summary")
    if group is None or group.attrs.get("samples") != file["current"].shape[0]:
        return False
    return int(group.attrs.get(_SUMMARY_STAMP, -1)) == path.stat().st_mtime_ns


def open_with_summary(
    path: Path, *, should_stop: ShouldStop = never, progress: Progress = ignore_progress
) -> tuple[h5py.File, dict[str, Pyramid] | None, list[Blocks] | None]:
    """Open a capture for reading; where its summary is missing or stale, make it anew.

    The new summary is stored when the file can be written, else returned to be kept in memory.
    """
    file = open_file(path, "r")
    if summary_is_current(file, path):
        return file, None, None
    log.info("making the summary of %s anew", path)
    try:
        pyramids, bits = rebuild_summary(file, should_stop=should_stop, progress=progress)
    except BaseException:
        file.close()
        raise
    if not os.access(path, os.W_OK):
        return file, pyramids, bits
    file.close()
    with open_file(path, "r+") as writable:
        write_summary(writable, pyramids, bits)
    stamp(path)
    return open_file(path, "r"), None, None


def open_file(path: Path, mode: str) -> h5py.File:
    """Open a capture file and check that it is one.

    Raises
    ------
    BadFileError
        If it is missing, no HDF5 file, newer than this program, or without usable ``/current``.
    """
    h5py = import_h5py()
    if not path.exists():
        raise BadFileError(path, "there is no such capture")
    try:
        # Without a cache a short read takes its part of a stored chunk only, not all of it.
        file = h5py.File(path, mode, rdcc_nbytes=0)
    except OSError as error:
        raise BadFileError(
            path, "expected an HDF5 capture, found something else or a damaged file", remedy="import it again"
        ) from error
    try:
        _check_layout(file, path)
    except BadFileError:
        file.close()
        raise
    return file


def _check_layout(file: h5py.File, path: Path) -> None:
    h5py = import_h5py()
    written = file.attrs.get("format", CAPTURE_FORMAT)
    if int(written) > CAPTURE_FORMAT:
        raise BadFileError(
            path, f"capture format {written} is newer than {CAPTURE_FORMAT}", remedy="use a newer Warm Ember"
        )
    current = file.get("current")
    if not isinstance(current, h5py.Dataset) or current.ndim != 1 or current.dtype.kind != "f":
        raise BadFileError(path, "expected a one-dimensional float dataset /current", where="/current")
    if "sample_interval_s" not in file.attrs:
        raise BadFileError(path, "the attribute sample_interval_s is missing", where="attributes")
    for name in ("voltage", "lines"):
        if name in file and file[name].shape != current.shape:
            raise BadFileError(
                path,
                f"expected {current.shape[0]} samples like /current, found {file[name].shape}",
                where=f"/{name}",
            )
