"""The capture file: HDF5 with the samples, the target's log, and the display pyramid.

``/current`` (A), ``/voltage`` (V), ``/lines`` (bit field), ``/aux/<name>``, ``/events``, ``/program`` with its
``/functions``, ``/readings`` as they came where they come unevenly, and attributes are the capture; everything below
``/summary`` is made from them. Once it has its name a capture is never written again.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Mapping
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

import msgspec
import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.model.arrays import Bits, Samples
from warm_ember.model.capture import CaptureInfo, Event, info_from
from warm_ember.model.program import ProgramTrace
from warm_ember.signal.bits import BitPyramidBuilder
from warm_ember.signal.pyramid import PyramidBuilder
from warm_ember.store.capture_name import CaptureName
from warm_ember.store.chunked_writer import BackgroundWriter, ChunkedDataset
from warm_ember.store.hdf5_storage import Storage, import_h5py
from warm_ember.store.layout import CAPTURE_FORMAT, MAKER, MOST_LINES
from warm_ember.store.new_file import NewFile
from warm_ember.store.program_trace import write_program
from warm_ember.store.summary import remove_beside, stamp_now, write_summary
from warm_ember.version import VERSION

if TYPE_CHECKING:
    import h5py


class CaptureWriter:
    """Write a capture piece by piece into a file that appears only when it is complete.

    Parameters
    ----------
    path
        Where the capture shall be; the name is taken from now on, so that no other program writes one of that name.
    name
        The name where it is taken already; it is released with the writer.
    replace
        Whether a capture that has the name may go.
    with_voltage
        Whether each piece brings a voltage.
    line_names
        Names of the digital lines, least significant bit first; empty for none.
    aux_units
        Unit of each auxiliary channel by name.

    Raises
    ------
    BadArgumentError
        If the name is taken.
    BadFileError
        If there are more lines than a capture holds.
    OSError
        If the folder cannot be written.
    """

    def __init__(
        self,
        path: Path,
        *,
        name: CaptureName | None = None,
        replace: bool = False,
        with_voltage: bool = False,
        line_names: tuple[str, ...] = (),
        aux_units: Mapping[str, str] | None = None,
    ) -> None:
        if len(line_names) > MOST_LINES:
            raise BadFileError(path, f"{len(line_names)} digital lines are more than the {MOST_LINES} that it can hold")
        self.path = path
        self._samples = 0
        self._name = name if name is not None else CaptureName.take(path, replace=replace)
        self._new: NewFile | None = None
        self._background: BackgroundWriter | None = None
        self._file: h5py.File | None = None
        try:
            self._new = NewFile(path)
            self._storage = Storage(self._new.descriptor)
            self._background = BackgroundWriter(self._new.descriptor)
            self._file = import_h5py().File(self._storage, "w")
            write_maker(self._file)
            self._make_channels(self._file, with_voltage, line_names, aux_units or {})
        except BaseException:
            self.abort()
            raise

    def _make_channels(
        self, file: h5py.File, with_voltage: bool, line_names: tuple[str, ...], aux_units: Mapping[str, str]
    ) -> None:
        self._channels = {"current": ChunkedDataset(file, "current", np.float32)}
        self._builders = {"current": PyramidBuilder()}
        if with_voltage:
            self._channels["voltage"] = ChunkedDataset(file, "voltage", np.float32)
            self._builders |= {"voltage": PyramidBuilder(), "power": PyramidBuilder()}
        for name, unit in aux_units.items():
            channel = ChunkedDataset(file, f"aux/{storable(name)}", np.float32)
            channel.dataset.attrs["unit"] = storable(unit)
            self._channels[f"aux/{name}"] = channel
            self._builders[f"aux/{name}"] = PyramidBuilder()
        self._line_builder: BitPyramidBuilder | None = None
        if line_names:
            self._channels["lines"] = ChunkedDataset(file, "lines", line_type(len(line_names)))
            self._channels["lines"].dataset.attrs["names"] = list(map(storable, line_names))
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
        """Write the next samples of every channel; the arrays must not change afterwards.

        Parameters
        ----------
        current
            A, NaN where it is missing, shape ``(n,)``.
        voltage
            V, shape ``(n,)``; given each time or never.
        lines
            Bit fields, shape ``(n,)``; they may also come later, by `append_lines`.
        aux
            Further channels by name, each of shape ``(n,)``.

        Raises
        ------
        OSError
            If the disk is full or gone.
        """
        pieces = {"current": current} | {f"aux/{name}": values for name, values in (aux or {}).items()}
        if voltage is not None:
            pieces["voltage"] = voltage
        assert self._background is not None
        for name, values in pieces.items():
            self._background.submit(self._channels[name], values)
            self._builders[name].append(values)
        if voltage is not None:
            self._builders["power"].append(power_of(current, voltage))
        if lines is not None:
            self.append_lines(lines)
        self._samples += len(current)
        self._storage.raise_failure()

    def append_lines(self, lines: Bits) -> None:
        """Write the next bit fields of the digital lines, shape ``(n,)``.

        They may come after the samples of all other channels.
        """
        if self._line_builder is not None and self._background is not None:
            self._background.submit(self._channels["lines"], lines)
            self._line_builder.append(lines)

    def copy_readings(self, of: h5py.File) -> None:
        """Write the readings of another file as they came, if it has any."""
        assert self._file is not None
        if "readings" in of:
            of.copy("readings", self._file)

    def finish(self, info: CaptureInfo, events: Iterable[Event] = (), program: ProgramTrace | None = None) -> None:
        """Write what belongs to the whole capture and let the file appear under its name.

        Raises
        ------
        OSError
            If the disk is full or gone; what had the name before still has it then.
        """
        assert self._background is not None
        assert self._file is not None
        assert self._new is not None
        pyramids = {name: builder.finish() for name, builder in self._builders.items()}
        bits = self._line_builder.finish() if self._line_builder is not None else None
        self._background.close()
        for channel in self._channels.values():
            channel.finish()
        write_info(self._file, info)
        write_events(self._file, list(events))
        if program is not None:
            write_program(self._file, program)
        stamp_ns = stamp_now()
        stored = {storable(name): pyramid for name, pyramid in pyramids.items()}
        write_summary(self._file, self._samples, stored, bits, stamp_ns)
        self._file.close()
        self._storage.raise_failure()
        self._new.keep(modified_ns=stamp_ns)
        remove_beside(self.path)

    def abort(self) -> None:
        """Leave nothing behind; after `finish` there is nothing left to do."""
        try:
            with contextlib.suppress(OSError, RuntimeError):
                if self._background is not None:
                    self._background.close()
            with contextlib.suppress(OSError, RuntimeError):
                if self._file:
                    self._file.close()
        finally:
            if self._new is not None:
                self._new.drop()
            self._name.release()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.abort()


def reading_types(*, with_voltage: bool) -> dict[str, type[np.generic]]:
    """Return what is kept of readings as they came, and how."""
    found: dict[str, type[np.generic]] = {"time_s": np.float64, "current_a": np.float32}
    return found | {"voltage_v": np.float32} if with_voltage else found


def power_of(current: Samples, voltage: Samples) -> Samples:
    """Return the power of each sample, W, shape ``(n,)`` as both; infinite where it is beyond a float32."""
    with np.errstate(over="ignore", invalid="ignore"):
        return current * voltage


def line_type(lines: int) -> type[np.unsignedinteger[Any]]:
    """Return the smallest type that holds a bit for each line."""
    return np.uint8 if lines <= 8 else np.uint16 if lines <= 16 else np.uint32


def storable(text: str) -> str:
    """Return text as an HDF5 file can hold it: without NUL, and in Unicode."""
    return text.replace("\0", "\N{REPLACEMENT CHARACTER}").encode("utf-8", "replace").decode("utf-8")


def write_maker(file: h5py.File) -> None:
    """Write which program made a file, before anything else: a desktop knows it by what stands near its beginning."""
    file.attrs[MAKER] = f"Warm Ember {VERSION}"


def write_info(file: h5py.File, info: CaptureInfo) -> None:
    """Write a capture's identity and conditions as attributes."""
    file.attrs["format"] = CAPTURE_FORMAT
    for name, value in msgspec.structs.asdict(info).items():
        if value is None or (isinstance(value, str | tuple) and not value):
            continue
        if isinstance(value, str):
            value = storable(value)
        file.attrs[name] = list(map(storable, value)) if isinstance(value, tuple) else value


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
        table[index] = (event.time_s, storable(event.event), storable(event.name), storable(event.value))
    file.create_dataset("events", data=table)
