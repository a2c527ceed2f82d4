"""A recording in progress: a capture file that can be read whatever happens to the program that writes it.

The samples go into an HDF5 file of which what was flushed stays readable after the program was killed, as
`warm_ember.store.journaled_storage` has it; what belongs to the whole capture comes in a file of JSON Lines beside it.
Both lie in the project's folder of captures, as ``.<name>.h5.recording`` and ``.<name>.h5.recording.log``. When a
recording is finished it becomes a capture like any other; when it was not, `interrupted` finds it and `recover` makes
it one.
"""

from __future__ import annotations

import contextlib
import logging
import os
import threading
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Bits, Blocks, Samples
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.heard import Heard
from warm_ember.model.readings import Readings
from warm_ember.signal.bits import BitPyramidBuilder
from warm_ember.signal.pyramid import GrowingBlocks, PyramidBuilder
from warm_ember.store.capture_file import (
    line_type,
    power_of,
    reading_types,
    storable,
    write_events,
    write_info,
    write_maker,
)
from warm_ember.store.capture_name import CaptureName, is_being_written
from warm_ember.store.hdf5_storage import import_h5py
from warm_ember.store.journaled_storage import JournaledStorage, forget
from warm_ember.store.new_file import sync_folder
from warm_ember.store.summary import remove_beside, stamp_now, write_summary

if TYPE_CHECKING:
    import h5py

log = logging.getLogger(__name__)

_STORED_CHUNK = 1 << 18
_CACHE_BYTES = 4 << 20
_FEW_CHUNK = 1 << 12
ENDING = ".recording"
LOG_ENDING = ".log"


class Note(msgspec.Struct, frozen=True):
    """A line of the file beside the samples: the identity as it is known by then, or what the console said."""

    info: CaptureInfo | None = None
    heard: Heard | None = None


class LiveChannel:
    """A channel of a recording as a series that grows: `warm_ember.signal.series.Series`."""

    def __init__(
        self, recording: RecordingFile, data: Any, growing: GrowingBlocks, names: tuple[str, ...] = ()
    ) -> None:
        self._recording, self._data, self._growing = recording, data, growing
        self._missing = np.float32(np.nan) if data.dtype.kind == "f" else data.dtype.type(0)
        self.names = names

    @property
    def samples(self) -> int:
        """Number of samples so far."""
        return self._recording.samples

    @property
    def interval_s(self) -> float:
        """Length of one sample."""
        return self._recording.info.sample_interval_s

    @property
    def levels(self) -> tuple[int, ...]:
        """Block sizes of the pyramid in samples."""
        return self._growing.sizes

    def blocks(self, level: int, first: int, last: int) -> Blocks:
        """Return the summary blocks ``[first, last)`` of one level as far as they are there, shape ``(n,)``."""
        return self._growing.blocks(level, first, last)

    def read(self, first: int, last: int) -> Any:
        """Return samples; nothing but missing ones (lines: low) once the file is closed."""
        values = self._recording.read(self._data, first, last)
        if values is None:
            values = np.full(max(0, min(last, self.samples) - first), self._missing)
        return values


class RecordingFile:
    """Write a recording so that a killed program loses no more than what was not flushed.

    Parameters
    ----------
    path
        Where the capture shall be.
    info
        Its identity and conditions; may be replaced in `finish`.
    with_voltage
        Whether each piece brings a voltage.
    line_names
        Names of the digital lines, least significant bit first; empty for none.
    aux_units
        Unit of each further channel by name.
    with_readings
        Whether the instrument does not sample evenly, so that each piece brings the readings as they came.
    name
        The name where it is taken already, from `take_name`; it is released with the recording.

    Raises
    ------
    BadArgumentError
        If the name is taken.
    OSError
        If the folder cannot be written.
    """

    def __init__(
        self,
        path: Path,
        info: CaptureInfo,
        *,
        with_voltage: bool = False,
        line_names: tuple[str, ...] = (),
        with_readings: bool = False,
        aux_units: Mapping[str, str] | None = None,
        name: CaptureName | None = None,
    ) -> None:
        self.path, self.info, self.samples = path, info, 0
        self.partial = partial_of(path)
        self._lock = threading.Lock()
        self._name = name if name is not None else take_name(path)
        self._file: h5py.File | None = None
        try:
            self._log = log_of(self.partial).open("wb")
            self._begin(info, with_voltage, line_names, with_readings, aux_units or {})
        except BaseException:
            self._name.release()
            raise

    def _begin(
        self,
        info: CaptureInfo,
        with_voltage: bool,
        line_names: tuple[str, ...],
        with_readings: bool,
        aux_units: Mapping[str, str],
    ) -> None:
        self._descriptor = os.open(self.partial, os.O_RDWR | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o666)
        self._storage = JournaledStorage(self._descriptor, self.partial, _STORED_CHUNK)
        self._file = import_h5py().File(self._storage, "w", rdcc_nbytes=_CACHE_BYTES)
        write_maker(self._file)
        kinds: dict[str, type[np.generic]] = {"current": np.float32}
        if with_voltage:
            kinds["voltage"] = np.float32
        if line_names:
            kinds["lines"] = line_type(len(line_names))
        kinds |= {f"aux/{storable(name)}": np.float32 for name in aux_units}
        self._data = {
            name: self._file.create_dataset(name, (0,), kind, maxshape=(None,), chunks=(_STORED_CHUNK,))
            for name, kind in kinds.items()
        }
        for name, unit in aux_units.items():
            self._data[f"aux/{storable(name)}"].attrs["unit"] = storable(unit)
        if line_names:
            self._data["lines"].attrs["names"] = list(map(storable, line_names))
        self._readings = {
            name: self._file.create_dataset(f"readings/{name}", (0,), kind, maxshape=(None,), chunks=(_FEW_CHUNK,))
            for name, kind in reading_types(with_voltage=with_voltage).items()
            if with_readings
        }
        self._growing: dict[str, PyramidBuilder] = {"current": PyramidBuilder()}
        if with_voltage:
            self._growing |= {"voltage": PyramidBuilder(), "power": PyramidBuilder()}
        self._growing |= {f"aux/{storable(name)}": PyramidBuilder() for name in aux_units}
        self._bits = BitPyramidBuilder() if line_names else None
        write_info(self._file, info)
        self.flush()
        # From here on there is something to recover.
        self._note(Note(info=info))
        self.current = LiveChannel(self, self._data["current"], self._growing["current"])
        self.voltage = LiveChannel(self, self._data["voltage"], self._growing["voltage"]) if with_voltage else None
        self.lines = LiveChannel(self, self._data["lines"], self._bits, line_names) if self._bits is not None else None
        self.aux = {
            name: (LiveChannel(self, self._data[key], self._growing[key]), unit)
            for (name, unit), key in zip(aux_units.items(), (f"aux/{storable(one)}" for one in aux_units), strict=True)
        }

    def append(
        self,
        current: Samples,
        voltage: Samples | None = None,
        lines: Bits | None = None,
        readings: Readings | None = None,
        aux: Mapping[str, Samples] | None = None,
    ) -> None:
        """Write the next samples of every channel.

        Parameters
        ----------
        current
            A, NaN where it is missing, shape ``(n,)``.
        voltage
            V, shape ``(n,)``; given each time or never.
        lines
            Bit fields, shape ``(n,)``; given each time or never.
        readings
            What the samples were made of, where the instrument does not sample evenly.
        aux
            Further channels by name, of that shape; given each time or never.

        Raises
        ------
        OSError
            If the disk is full or gone.
        """
        further = {f"aux/{storable(name)}": values for name, values in (aux or {}).items()}
        pieces: dict[str, np.ndarray] = {"current": current} | further
        if voltage is not None:
            pieces["voltage"] = voltage
        if lines is not None:
            pieces["lines"] = lines
        last = self.samples + len(current)
        with self._lock:
            for name, values in pieces.items():
                self._data[name].resize((last,))
                self._data[name][self.samples :] = values
            for name, more in (readings.channels if readings is not None else {}).items():
                data = self._readings[name]
                data.resize((len(data) + len(more),))
                data[len(data) - len(more) :] = more
            self._storage.raise_failure()
        for name, values in {"current": current, **further}.items():
            self._growing[name].append(values)
        if voltage is not None:
            self._growing["voltage"].append(voltage)
            self._growing["power"].append(power_of(current, voltage))
        if lines is not None and self._bits is not None:
            self._bits.append(lines)
        self.samples = last

    def note(self, heard: Heard) -> None:
        """Write down what the console said, at once."""
        self._note(Note(heard=heard))

    def _note(self, note: Note) -> None:
        self._log.write(msgspec.json.encode(note) + b"\n")
        self._log.flush()

    def flush(self) -> None:
        """Make what was written so far safe from the end of this program.

        Raises
        ------
        OSError
            If the disk is full or gone.
        """
        with self._lock:
            if self._file is not None:
                self._file.flush()
                self._storage.commit()

    def read(self, data: Any, first: int, last: int) -> Any:
        """Return samples of a channel for drawing; None once the file is closed."""
        with self._lock:
            if self._file is None:
                return None
            return np.asarray(data[first : min(last, self.samples)])

    @property
    def bytes_written(self) -> int:
        """Size of the samples so far."""
        return self.samples * sum(int(data.dtype.itemsize) for data in self._data.values())

    def _close(self, *, durable: bool) -> None:
        """Close the file with all that was written."""
        with self._lock:
            if self._file is None:
                return
            file, self._file = self._file, None
            file.close()
        try:
            self._storage.commit(durable=durable)
        finally:
            os.close(self._descriptor)

    def finish(self, info: CaptureInfo, events: tuple[Event, ...]) -> None:
        """Make the recording a capture of its name.

        Raises
        ------
        OSError
            If the disk is full or gone; the recording can be recovered later then.
        """
        self.flush()
        stamp_ns = stamp_now()
        pyramids = {name: growing.finish() for name, growing in self._growing.items()}
        bits = self._bits.finish() if self._bits is not None else None
        with self._lock:
            assert self._file is not None
            write_info(self._file, info)
            write_events(self._file, list(events))
            write_summary(self._file, self.samples, pyramids, bits, stamp_ns)
        self._close(durable=True)
        os.utime(self.partial, ns=(stamp_ns, stamp_ns))
        self.partial.replace(self.path)
        sync_folder(self.path.parent)
        self._log.close()
        log_of(self.partial).unlink(missing_ok=True)
        remove_beside(self.path)
        self._name.release()

    def leave(self) -> None:
        """Stop writing and leave the recording to be recovered."""
        with contextlib.suppress(OSError):
            self._close(durable=False)
        with contextlib.suppress(OSError):
            self._log.close()
        self._name.release()

    def discard(self) -> None:
        """Leave nothing behind."""
        self.leave()
        discard(self.partial)


def partial_of(path: Path) -> Path:
    return path.with_name(f".{path.name}{ENDING}")


def log_of(partial: Path) -> Path:
    return partial.with_name(partial.name + LOG_ENDING)


def path_of(partial: Path) -> Path:
    return partial.with_name(f"{name_of(partial)}.h5")


def name_of(partial: Path) -> str:
    """Return the name that an interrupted recording was to have."""
    return partial.name[1:].removesuffix(ENDING).removesuffix(".h5")


def take_name(path: Path, *, replace: bool = False) -> CaptureName:
    """Take the name of a capture that is to be recorded.

    Parameters
    ----------
    path
        Where the capture shall be.
    replace
        Whether a capture that has the name may go, or what an interrupted recording of that name left.

    Raises
    ------
    BadArgumentError
        If the name is taken.
    OSError
        If the folder cannot be written.
    """
    name = CaptureName.take(path, replace=replace)
    partial = partial_of(path)
    if partial.exists():
        if not replace:
            name.release()
            raise BadArgumentError(
                f"an interrupted recording has the name {name_of(partial)!r}: finish it with: warm-ember recover, "
                "or choose another --name"
            )
        discard(partial)
    return name


def is_taken(path: Path) -> bool:
    """Return whether a capture has a name, or some program writes one of that name now."""
    return path.exists() or is_being_written(path)


def discard(partial: Path) -> None:
    """Throw an interrupted recording away."""
    partial.unlink(missing_ok=True)
    log_of(partial).unlink(missing_ok=True)
    forget(partial)
