"""A recording in progress: a capture file that can be read whatever happens to the program that writes it.

The samples go into an HDF5 file that is written in single-writer mode, so that what was flushed stays readable after
the program was killed; what belongs to the whole capture comes in a file of JSON Lines beside it. Both lie in the
project's folder of captures, as ``.<name>.h5.recording`` and ``.<name>.h5.recording.log``. When a recording is
finished it becomes an ordinary capture. When it was not, `interrupted` finds it and `recover` makes it one.
"""

from __future__ import annotations

import contextlib
import fcntl
import logging
import os
import threading
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

import msgspec
import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.model.arrays import Bits, Blocks, Samples
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.signal.bits import BitPyramidBuilder
from warm_ember.signal.pyramid import GrowingBlocks, PyramidBuilder
from warm_ember.signal.series import CHUNK_SAMPLES
from warm_ember.store.capture_file import (
    CaptureWriter,
    import_h5py,
    line_type,
    read_info,
    replace_durably,
    stamp,
    write_events,
    write_info,
    write_summary,
)

if TYPE_CHECKING:
    from collections.abc import Mapping

    import h5py

log = logging.getLogger(__name__)

_STORED_CHUNK = 1 << 18
_CACHE_BYTES = 4 << 20
_ENDING = ".recording"
_LOG_ENDING = ".log"


class _Note(msgspec.Struct, frozen=True):
    """A line of the file beside the samples: the identity as it is known by then, or an event."""

    info: CaptureInfo | None = None
    event: Event | None = None


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
        """Return summary blocks of one level."""
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

    Raises
    ------
    OSError
        If the folder cannot be written.
    """

    def __init__(
        self, path: Path, info: CaptureInfo, *, with_voltage: bool = False, line_names: tuple[str, ...] = ()
    ) -> None:
        self.path, self.info, self.samples = path, info, 0
        self.partial = path.with_name(f".{path.name}{_ENDING}")
        self._lock = threading.Lock()
        self._log = _locked(self.partial.with_name(self.partial.name + _LOG_ENDING))
        self._file: h5py.File | None = import_h5py().File(self.partial, "w", libver="latest", rdcc_nbytes=_CACHE_BYTES)
        kinds: dict[str, type[np.generic]] = {"current": np.float32}
        if with_voltage:
            kinds["voltage"] = np.float32
        if line_names:
            kinds["lines"] = line_type(len(line_names))
        self._data = {
            name: self._file.create_dataset(name, (0,), kind, maxshape=(None,), chunks=(_STORED_CHUNK,))
            for name, kind in kinds.items()
        }
        if line_names:
            self._data["lines"].attrs["names"] = list(line_names)
        self._growing: dict[str, PyramidBuilder] = {"current": PyramidBuilder()}
        if with_voltage:
            self._growing |= {"voltage": PyramidBuilder(), "power": PyramidBuilder()}
        self._bits = BitPyramidBuilder() if line_names else None
        write_info(self._file, info)
        self._file.swmr_mode = True
        self._note(_Note(info=info))
        self.current = LiveChannel(self, self._data["current"], self._growing["current"])
        self.voltage = LiveChannel(self, self._data["voltage"], self._growing["voltage"]) if with_voltage else None
        self.lines = LiveChannel(self, self._data["lines"], self._bits, line_names) if self._bits is not None else None

    def append(self, current: Samples, voltage: Samples | None = None, lines: Bits | None = None) -> None:
        """Write the next samples of every channel, all of one length.

        Raises
        ------
        OSError
            If the disk is full or gone.
        """
        pieces: dict[str, np.ndarray] = {"current": current}
        if voltage is not None:
            pieces["voltage"] = voltage
        if lines is not None:
            pieces["lines"] = lines
        last = self.samples + len(current)
        with self._lock:
            for name, values in pieces.items():
                self._data[name].resize((last,))
                self._data[name][self.samples :] = values
        self._growing["current"].append(current)
        if voltage is not None:
            self._growing["voltage"].append(voltage)
            self._growing["power"].append(current * voltage)
        if lines is not None and self._bits is not None:
            self._bits.append(lines)
        self.samples = last

    def note(self, event: Event) -> None:
        """Write down an event at once."""
        self._note(_Note(event=event))

    def _note(self, note: _Note) -> None:
        self._log.write(msgspec.json.encode(note) + b"\n")
        self._log.flush()

    def flush(self) -> None:
        """Make what was written so far safe from the end of this program."""
        with self._lock:
            if self._file is not None:
                self._file.flush()

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

    def _close(self) -> None:
        with self._lock:
            if self._file is not None:
                file, self._file = self._file, None
                file.close()

    def finish(self, info: CaptureInfo, events: tuple[Event, ...]) -> None:
        """Make the recording a capture of its name.

        Raises
        ------
        OSError
            If the disk is full or gone; the recording can be recovered later then.
        """
        self._close()
        pyramids = {name: growing.finish() for name, growing in self._growing.items()}
        with import_h5py().File(self.partial, "r+") as file:
            write_info(file, info)
            write_events(file, list(events))
            write_summary(file, pyramids, self._bits.finish() if self._bits is not None else None)
        replace_durably(self.partial, self.path)
        stamp(self.path)
        _remove_log(self._log)

    def leave(self) -> None:
        """Stop writing and leave the recording to be recovered."""
        with contextlib.suppress(OSError, RuntimeError):
            self._close()
        self._log.close()

    def discard(self) -> None:
        """Leave nothing behind."""
        self.leave()
        self.partial.unlink(missing_ok=True)
        Path(self._log.name).unlink(missing_ok=True)


def _locked(path: Path) -> IO[bytes]:
    """Open the file beside the samples, and say by a lock that somebody is writing."""
    file = path.open("wb")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.close()
        raise BadFileError(path, "another program is recording this capture", remedy="choose another name") from None
    return file


def _remove_log(file: IO[bytes]) -> None:
    Path(file.name).unlink(missing_ok=True)
    file.close()


def interrupted(captures: Path) -> tuple[Path, ...]:
    """Return the recordings in a folder of captures that nobody finished and nobody writes any more."""
    return tuple(path for path in sorted(captures.glob(f".*.h5{_ENDING}")) if not _is_written(path))


def _is_written(partial: Path) -> bool:
    try:
        with partial.with_name(partial.name + _LOG_ENDING).open("rb") as file:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except FileNotFoundError:
        return False
    except OSError:
        return True
    return False


def name_of(partial: Path) -> str:
    """Return the name that an interrupted recording was to have."""
    return partial.name[1:].removesuffix(_ENDING).removesuffix(".h5")


def discard(partial: Path) -> None:
    """Throw an interrupted recording away."""
    partial.unlink(missing_ok=True)
    partial.with_name(partial.name + _LOG_ENDING).unlink(missing_ok=True)


def recover(partial: Path, path: Path) -> int:
    """Make a capture of what an interrupted recording holds, and remove the recording.

    Parameters
    ----------
    partial
        From `interrupted`.
    path
        Where the capture shall be.

    Returns
    -------
    int
        Number of samples.

    Raises
    ------
    BadFileError
        If nothing can be read from it.
    OSError
        If the disk is full or gone; the recording stays then.
    """
    info, events = _notes_of(partial)
    try:
        file = import_h5py().File(partial, "r", swmr=True)
    except OSError as error:
        raise BadFileError(partial, "nothing of this recording can be read", remedy="discard it") from error
    with file:
        data: Mapping[str, Any] = {name: file[name] for name in ("current", "voltage", "lines") if name in file}
        samples = min((len(one) for one in data.values()), default=0)
        if not samples:
            raise BadFileError(partial, "this recording holds no samples", remedy="discard it")
        info = info or read_info(file, partial)
        names = tuple(map(str, data["lines"].attrs["names"])) if "lines" in data else ()
        with CaptureWriter(path, with_voltage="voltage" in data, line_names=names) as writer:
            for first in range(0, samples, CHUNK_SAMPLES):
                piece = slice(first, min(first + CHUNK_SAMPLES, samples))
                writer.append(
                    data["current"][piece],
                    voltage=data["voltage"][piece] if "voltage" in data else None,
                    lines=data["lines"][piece] if "lines" in data else None,
                )
            writer.finish(info, events)
    discard(partial)
    return samples


def _notes_of(partial: Path) -> tuple[CaptureInfo | None, tuple[Event, ...]]:
    """Return what was noted beside the samples; a last line that was cut off is left out."""
    info, events = None, []
    with contextlib.suppress(FileNotFoundError):
        for line in partial.with_name(partial.name + _LOG_ENDING).read_bytes().splitlines():
            try:
                note = msgspec.json.decode(line, type=_Note)
            except msgspec.MsgspecError:
                log.info("a line of %s.log is cut off", partial.name)
                continue
            info = note.info or info
            if note.event is not None:
                events.append(note.event)
    return info, tuple(events)


def room_left(folder: Path) -> int:
    """Return how many bytes the disk of a folder still takes."""
    status = os.statvfs(folder)
    return status.f_bavail * status.f_frsize
