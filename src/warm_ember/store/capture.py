"""An open capture: its channels as series that are read piece by piece."""

from __future__ import annotations

import threading
from functools import cached_property
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.model.arrays import Bits, Blocks, Samples
from warm_ember.model.capture import AT_LEAST, AT_MOST, CaptureInfo, Event, events_from, text_of
from warm_ember.model.program import ProgramTrace, program_from
from warm_ember.model.readings import Readings
from warm_ember.signal.joining import MeanBounds, mean_bounds
from warm_ember.signal.pyramid import BLOCK_SAMPLES, RATIO
from warm_ember.signal.series import Progress, Series, ShouldStop, ignore_progress, never
from warm_ember.signal.stretch import StretchReading, read_samples, read_stretch, snap
from warm_ember.store.capture_file import power_of, read_info
from warm_ember.store.content_hash import content_hash
from warm_ember.store.layout import damaged, open_file
from warm_ember.store.summary import summary_of

_IN_MEMORY_BLOCKS = 1 << 20


class _Levels:
    """The pyramid's levels of one channel: coarse ones in memory, fine ones read on demand."""

    def __init__(self, levels: list[Any]) -> None:
        self._levels = [level[:] if len(level) <= _IN_MEMORY_BLOCKS else level for level in levels]
        self.sizes = tuple(BLOCK_SAMPLES * RATIO**index for index in range(len(levels)))

    def read(self, level: int, first: int, last: int) -> Blocks:
        return np.asarray(self._levels[level][first:last])


class _Stored:
    """A dataset on the capture's grid with the levels of its summary."""

    def __init__(self, path: Path, data: Any, interval_s: float, levels: list[Any]) -> None:
        self._path, self._data = path, data
        self._levels = _Levels(levels)
        self.interval_s = interval_s
        self.samples = int(data.shape[0])

    @property
    def levels(self) -> tuple[int, ...]:
        return self._levels.sizes

    def blocks(self, level: int, first: int, last: int) -> Blocks:
        return self._levels.read(level, first, last)

    def _read(self, first: int, last: int) -> Any:
        try:
            return self._data[first:last]
        except OSError as error:
            raise damaged(self._path, error, where=f"samples {first} to {last}") from error


class _StoredSeries(_Stored):
    def read(self, first: int, last: int) -> Samples:
        return np.asarray(self._read(first, last), dtype=np.float32)


class _Product:
    """The sample-by-sample product of two datasets, for power from voltage and current."""

    def __init__(self, one: Any, other: Any) -> None:
        self._one, self._other = one, other
        self.shape = one.shape

    def __getitem__(self, piece: slice) -> Samples:
        return power_of(self._one[piece], self._other[piece])


class _StoredLines(_Stored):
    def __init__(self, path: Path, data: Any, interval_s: float, levels: list[Any], names: tuple[str, ...]) -> None:
        super().__init__(path, data, interval_s, levels)
        self.names = names

    def read(self, first: int, last: int) -> Bits:
        return np.asarray(self._read(first, last))


def identity_of(path: Path) -> tuple[int, int, int, int]:
    """Return which file it is and as of when, for what is remembered by the capture it came from."""
    status = path.stat()
    return status.st_dev, status.st_ino, status.st_mtime_ns, status.st_size


class Capture:
    """A capture opened for reading; close it or use it as a context.

    Parameters
    ----------
    path
        The HDF5 file.
    should_stop, progress
        For the pass over the samples that is needed when the stored summary is missing or stale.

    Attributes
    ----------
    identity
        Which file it is and as of when, for what is remembered by the capture it came from.

    Raises
    ------
    BadFileError
        If the file is no capture, or a damaged one.
    Cancelled
        If `should_stop` answered yes.
    """

    def __init__(self, path: Path, *, should_stop: ShouldStop = never, progress: Progress = ignore_progress) -> None:
        self.path = path
        self._file = open_file(path)
        self.identity = identity_of(path)
        self._lock = threading.Lock()
        try:
            self.info: CaptureInfo = read_info(self._file, path)
            self._summary = summary_of(self._file, path, should_stop=should_stop, progress=progress)
        except (OSError, RuntimeError, KeyError) as error:
            self._file.close()
            raise damaged(path, error) from error
        except BaseException:
            self._file.close()
            raise
        try:
            self.current: Series = self._series("current", self._file["current"])
            self.voltage: Series | None = None
            self.power: Series | None = None
            if "voltage" in self._file:
                self.voltage = self._series("voltage", self._file["voltage"])
                self.power = self._series("power", _Product(self._file["voltage"], self._file["current"]))
            self.lines = self._open_lines()
            self.aux: dict[str, tuple[Series, str]] = {
                name: (self._series(f"aux/{name}", data), str(data.attrs.get("unit", "")))
                for name, data in self._file.get("aux", {}).items()
            }
        except BaseException:
            self.close()
            raise

    @property
    def name(self) -> str:
        """The capture's name: the file's without its ending."""
        return self.path.name.removesuffix(".h5")

    @property
    def duration_s(self) -> float:
        """Length of the capture."""
        return self.current.samples * self.current.interval_s

    @cached_property
    def events(self) -> tuple[Event, ...]:
        """The target's log in its own clock, as it was written."""
        if "events" not in self._file:
            return ()
        try:
            return events_from(self._file["events"][:])
        except OSError as error:
            raise damaged(self.path, error, where="/events") from error
        except ValueError as error:
            raise BadFileError(self.path, str(error), where="/events") from error

    @cached_property
    def readings(self) -> Readings | None:
        """Readings as they came, where the instrument does not sample evenly."""
        if "readings" not in self._file:
            return None
        try:
            found = {name: data[:] for name, data in self._file["readings"].items()}
            return Readings(found["time_s"], found["current_a"], found.get("voltage_v"))
        except (OSError, KeyError) as error:
            raise damaged(self.path, error, where="/readings") from error

    @cached_property
    def program(self) -> ProgramTrace | None:
        """Samples of the program counter, where some were imported with the capture."""
        try:
            return program_from(self._file)
        except ValueError as error:
            raise BadFileError(self.path, f"expected {error}", where="/program") from error
        except OSError as error:
            raise damaged(self.path, error, where="/program") from error

    def content_hash(self, should_stop: ShouldStop = never) -> str:
        """Return 16 characters that stand for all that was measured and for what is known of it.

        The summary, and how the file stores things, are not in it.
        """
        return content_hash(self._file, should_stop)

    def reading(self, from_s: float, to_s: float, *, supply_v: float | None = None) -> StretchReading:
        """Read a stretch; `supply_v` is used where the capture has no voltage of its own."""
        return read_stretch(self.current, from_s, to_s, power=self.power, supply_v=self._supply(supply_v))

    def bounds(self, from_s: float, to_s: float) -> MeanBounds | None:
        """Bound the mean of a stretch of a joined capture; None for one that is not joined."""
        if AT_LEAST not in self.aux or AT_MOST not in self.aux:
            return None
        first, last = snap(self.current, from_s, to_s)
        return mean_bounds(self.current, self.aux[AT_LEAST][0], self.aux[AT_MOST][0], first, last)

    def whole(self, *, supply_v: float | None = None) -> StretchReading:
        """Read the whole capture."""
        return read_samples(self.current, 0, self.current.samples, power=self.power, supply_v=self._supply(supply_v))

    def _supply(self, supply_v: float | None) -> float | None:
        return self.info.supply_v if self.info.supply_v is not None else supply_v

    def _series(self, name: str, data: Any) -> Series:
        return _StoredSeries(self.path, data, self.info.sample_interval_s, self._stored_levels(name))

    def _stored_levels(self, name: str) -> list[Any]:
        return self._summary.levels[name]

    def _open_lines(self) -> _StoredLines | None:
        if "lines" not in self._file:
            return None
        data = self._file["lines"]
        names = tuple(text_of(name) for name in data.attrs.get("names", []))
        return _StoredLines(self.path, data, self.info.sample_interval_s, self._stored_levels("lines"), names)

    def close(self) -> None:
        """Close the file."""
        with self._lock:
            if self._file:
                self._summary.close()
                self._file.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
