"""Columns of a table to channels: which is time, current, voltage, a digital line, or something else."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from warm_ember.errors import BadArgumentError, BadFileError, ColumnError
from warm_ember.formats.source import CURRENT_UNITS_A, ImportOptions, Piece, check_finite
from warm_ember.model.arrays import Floats, Samples
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.program import ProgramTrace
from warm_ember.signal.series import Progress, ShouldStop
from warm_ember.signal.time_grid import HeldTimes, RegularTimes, inspect_times

VOLTAGE_UNITS_V = {"V": 1.0, "mV": 1e-3, "uV": 1e-6, "µV": 1e-6, "μV": 1e-6}
TIME_UNITS_S = {
    "s": 1.0, "ms": 1e-3, "us": 1e-6, "µs": 1e-6, "μs": 1e-6, "ns": 1e-9, "min": 60.0, "h": 3600.0,
    "sec": 1.0, "seconds": 1.0,
}  # fmt: skip
_INSPECTED_ROWS = 50_000
MOST_LINES = 32
"""As many bits as the lines of a capture have."""
_UNITS = CURRENT_UNITS_A | VOLTAGE_UNITS_V | TIME_UNITS_S
_SNAKE_UNITS = {unit.lower(): unit for unit in ("mA", "uA", "nA", "pA", "mV", "uV", "V", "A")}
_NAMES = {
    "time": re.compile(r"(t|x|time.*|.*time|.*time ?stamp|zeit.*|temps|tiempo|elapsed.*|seconds|sec)\Z", re.IGNORECASE),
    "current": re.compile(
        r"(i|i[_ ]?\w{1,4}|.*current.*|.*strom.*|amps?|amperes?|courant.*|corriente.*)\Z", re.IGNORECASE
    ),
    "voltage": re.compile(r"(v|u|v[_ ]?\w{1,4}|.*voltage.*|.*spannung.*|volts?|tension.*)\Z", re.IGNORECASE),
}


@dataclass(frozen=True)
class Column:
    """One column of a table: its header split into name and unit (empty when not given), and as it stands."""

    index: int
    name: str
    unit: str = ""
    text: str = field(default="", compare=False)


@dataclass(frozen=True)
class Columns:
    """What each used column is.

    Parameters
    ----------
    current
        The current, or the voltage across the shunt.
    current_scale, current_offset
        ``A = column * scale + offset``.
    time, voltage
        None where there is none.
    lines, aux
        Digital and other columns.
    notes
        What was assumed.
    """

    current: Column
    current_scale: float
    current_offset: float
    time: Column | None
    time_scale: float
    voltage: Column | None
    voltage_scale: float
    lines: tuple[Column, ...] = ()
    aux: tuple[Column, ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def used(self) -> tuple[int, ...]:
        """Indices of all columns that are read."""
        some = (self.time, self.current, self.voltage, *self.lines, *self.aux)
        return tuple(sorted({column.index for column in some if column is not None}))


def split_header(index: int, text: str) -> Column:
    """Split a header such as ``"Current (mA)"``, ``"time_ms"`` or ``"I / µA"`` into name and unit."""
    text = text.strip().strip('"').strip()
    name, unit = _split(text)
    return Column(index, name, unit, text)


def _split(text: str) -> tuple[str, str]:
    bracketed = re.match(r"(.*?)\s*[\[(]\s*([^\])]*?)\s*[\])]\s*\Z", text)
    if bracketed:
        return bracketed[1].strip() or text, bracketed[2]
    if text in _UNITS and text not in ("h", "min", "V"):
        return text, text
    tail = re.match(r"(.*?)[\s_/:,-]+([A-Za-zµμ°%]+)\Z", text)
    if tail and tail[1]:
        unit = tail[2] if tail[2] in _UNITS else _SNAKE_UNITS.get(tail[2], "")
        if unit:
            return re.sub(r"[\s_]+in\Z", "", tail[1].strip(" _/")), unit
    return text, ""


def _plain(unit: str) -> str:
    """Write micro in one way."""
    return unit.replace("μ", "u").replace("µ", "u")


@dataclass
class _Finder:
    path: Path
    columns: list[Column]
    named: bool
    options: ImportOptions
    notes: list[str] = field(default_factory=list)

    def chosen(self, wanted: str | None, option: str) -> Column | None:
        if wanted is None:
            return None
        for called in (self._as_it_stands, self._with_unit, self._by_name) if self.named else ():
            found = [column for column in self.columns if called(column, wanted)]
            if len(found) == 1:
                return found[0]
            if found:
                several = ", ".join(column.text for column in found)
                problem = f"{option} {wanted!r} is several columns: {several}"
                raise ColumnError(self.path, problem, titles=self.titles, remedy="name it by its number, from 1")
        if wanted.isdecimal() and 1 <= int(wanted) <= len(self.columns):
            return self.columns[int(wanted) - 1]
        known = ", ".join(self.titles) if self.named else len(self.columns)
        raise ColumnError(self.path, f"{option} {wanted!r} is no column; there are: {known}", titles=self.titles)

    @staticmethod
    def _as_it_stands(column: Column, wanted: str) -> bool:
        return column.text == wanted.strip().strip('"').strip()

    @staticmethod
    def _with_unit(column: Column, wanted: str) -> bool:
        name, unit = _split(wanted.strip())
        same_unit = _plain(unit) == _plain(column.unit)
        return bool(unit) and same_unit and name.casefold() == column.name.casefold()

    @staticmethod
    def _by_name(column: Column, wanted: str) -> bool:
        return wanted.strip().casefold() in (column.name.casefold(), column.text.casefold())

    @property
    def titles(self) -> tuple[str, ...]:
        return tuple(self.title(column) for column in self.columns)

    def title(self, column: Column) -> str:
        return f"{column.name} ({column.unit})" if column.unit and column.unit != column.name else column.name

    def by_role(self, role: str, units: dict[str, float], taken: list[Column | None]) -> Column | None:
        free = [column for column in self.columns if column not in taken]
        with_unit = [column for column in free if column.unit in units]
        with_name = [column for column in free if not column.unit and _NAMES[role].match(column.name)]
        both = [column for column in with_unit if _NAMES[role].match(column.name)]
        return next(iter([*both, *with_unit, *with_name]), None)

    def scale(self, column: Column, units: dict[str, float], role: str, base: str) -> float:
        if column.unit in units:
            return units[column.unit]
        self.notes.append(f"unit of {role} column {column.name!r} assumed: {base}")
        return 1.0


def find_columns(path: Path, header: list[str] | None, width: int, options: ImportOptions) -> Columns:
    """Decide what each column of a table is.

    Parameters
    ----------
    path
        The file, for messages.
    header
        The header's cells; None without one: then time in s (unless a rate is given) and current.
    width
        Number of columns.
    options
        What the user said, which goes before what the header says.

    Raises
    ------
    BadFileError
        If a needed column is not there, naming those that are.
    """
    named = header is not None
    columns = [split_header(i, text) for i, text in enumerate(header)] if header is not None else [
        Column(i, f"column {i + 1}") for i in range(width)
    ]  # fmt: skip
    finder = _Finder(path, columns, named, options)
    current = finder.chosen(options.current_column, "--current-column")
    time = finder.chosen(options.time_column, "--time-column")
    voltage = finder.chosen(options.voltage_column, "--voltage-column")
    if time is None and options.rate_hz is None:
        time = _find_time(finder, [current, voltage])
    elif time is None and named:
        time_like = finder.by_role("time", TIME_UNITS_S, [current, voltage])
    unused = [time] if time is not None else []
    if time is None and options.rate_hz is not None and named and time_like is not None:
        unused = [time_like]
        finder.notes.append(f"time column {time_like.name!r} left out: --rate was given")
    if options.rate_hz is not None:
        time = None
    if current is None:
        current = _find_current(finder, [*unused, voltage])
    scale, offset = _current_scale(finder, current)
    if voltage is None and named:
        voltage = finder.by_role("voltage", VOLTAGE_UNITS_V, [*unused, current])
    rest = [column for column in columns if column not in (*unused, time, current, voltage)] if named else []
    rest = _named_apart([column for column in rest if column.name])
    return Columns(
        current=current,
        current_scale=scale,
        current_offset=offset,
        time=time,
        time_scale=finder.scale(time, TIME_UNITS_S, "time", "s") if time is not None else 1.0,
        voltage=voltage,
        voltage_scale=finder.scale(voltage, VOLTAGE_UNITS_V, "voltage", "V") if voltage is not None else 1.0,
        aux=tuple(rest),
        notes=tuple(finder.notes),
    )


def _named_apart(columns: list[Column]) -> list[Column]:
    """Give columns names that are different from each other and fit for a channel of a capture file."""
    taken: set[str] = set()
    apart = []
    for column in columns:
        name = column.name.replace("/", "_").strip(".") or f"column {column.index + 1}"
        while name in taken:
            name = f"{name} ({column.index + 1})"
        taken.add(name)
        apart.append(Column(column.index, name, column.unit))
    return apart


def _find_time(finder: _Finder, taken: list[Column | None]) -> Column:
    if not finder.named:
        if len(finder.columns) < 2:
            raise ColumnError(
                finder.path,
                "there is one column and no times",
                titles=finder.titles,
                remedy="give the rate with --rate",
            )
        return finder.columns[0]
    found = finder.by_role("time", TIME_UNITS_S, taken)
    if found is None:
        raise ColumnError(
            finder.path,
            f"no time column among: {', '.join(finder.titles)}",
            titles=finder.titles,
            remedy="name it with --time-column or give the sample rate with --rate",
        )
    return found


def _find_current(finder: _Finder, taken: list[Column | None]) -> Column:
    free = [column for column in finder.columns if column not in taken]
    if finder.options.shunt_ohm is not None:
        volts = [column for column in free if column.unit in VOLTAGE_UNITS_V or _NAMES["voltage"].match(column.name)]
        if finder.named and len(volts) == 1:
            return volts[0]
    elif finder.named:
        found = finder.by_role("current", CURRENT_UNITS_A, taken)
        if found is not None:
            return found
    if free and (len(free) == 1 or not finder.named):
        if finder.named:
            finder.notes.append(f"column {free[0].name!r} assumed to be the current")
        return free[0]
    raise ColumnError(
        finder.path,
        f"cannot tell which column is the current among: {', '.join(finder.titles)}",
        titles=finder.titles,
        remedy="name it with --current-column",
    )


def _current_scale(finder: _Finder, current: Column) -> tuple[float, float]:
    options = finder.options
    if options.shunt_ohm is not None:
        ohms = options.gain * options.shunt_ohm
        volts = finder.scale(current, VOLTAGE_UNITS_V, "shunt", "V")
        return volts / ohms, -options.offset_v / ohms
    if options.unit is not None:
        return CURRENT_UNITS_A[options.unit], 0.0
    if current.unit in VOLTAGE_UNITS_V:
        raise ColumnError(
            finder.path,
            f"column {finder.title(current)!r} is a voltage",
            titles=finder.titles,
            remedy="give the shunt it was measured across with --shunt",
        )
    return finder.scale(current, CURRENT_UNITS_A, "current", "A"), 0.0


def with_digital_lines(columns: Columns, rows: Floats) -> Columns:
    """Take columns without a unit that hold nothing but 0 and 1 in the first rows for digital lines.

    Parameters
    ----------
    columns
        As found by name.
    rows
        The first rows, shape ``(rows, width)``.
    """
    digital = tuple(
        column for column in columns.aux if not column.unit and np.isin(rows[:, column.index], (0.0, 1.0)).all()
    )
    if not digital or not len(rows):
        return columns
    lines, more = digital[:MOST_LINES], digital[MOST_LINES:]
    notes = ["columns of 0 and 1 taken as digital lines: " + ", ".join(column.name for column in lines)]
    if more:
        names = ", ".join(column.name for column in more)
        notes.append(
            f"a capture holds {MOST_LINES} digital lines; further columns of 0 and 1 kept as channels: {names}"
        )
    rest = tuple(column for column in columns.aux if column not in lines)
    return replace(columns, lines=lines, aux=rest, notes=(*columns.notes, *notes))


class ColumnReader(ABC):
    """Turn batches of table columns into pieces of a capture.

    Parameters
    ----------
    path, options
        The file, and what the user said about it.
    columns
        What each column is.
    stamp_step_s
        The finest step that the written times can show.
    """

    def __init__(self, path: Path, options: ImportOptions, columns: Columns, *, stamp_step_s: float) -> None:
        self._path, self._options, self.columns = path, options, columns
        self._stamp_step_s = stamp_step_s
        self._grid: RegularTimes | HeldTimes | None = None
        self._rows_seen = 0
        self._last_time = -np.inf
        self._first_count: int | None = None
        self._count_s = 1.0
        self._notes: list[str] = list(columns.notes)
        self.titles: tuple[str, ...] = ()
        self.length: int | None = None
        self.first_time_s = 0.0
        self.start_utc = ""
        self.info: CaptureInfo | None = None
        self.events: tuple[Event, ...] = ()
        self.program: ProgramTrace | None = None
        self.with_voltage = columns.voltage is not None
        self.line_names = tuple(column.name for column in columns.lines)
        self.aux_units = {column.name: column.unit for column in columns.aux}

    @abstractmethod
    def batches(self, should_stop: ShouldStop, progress: Progress) -> Iterator[dict[int, np.ndarray]]:
        """Yield the used columns by index, float64, NaN where a cell is empty."""

    @abstractmethod
    def row_place(self, row: int) -> str:
        """Name a row (counted from 0) for an error message."""

    @property
    def interval_s(self) -> float:
        """Sample interval; final after the last piece."""
        if self._options.rate_hz is not None:
            return 1.0 / self._options.rate_hz
        if self._grid is None:
            raise BadFileError(self._path, "there are no rows")
        return self._grid.interval_s

    @property
    def notes(self) -> tuple[str, ...]:
        """What was assumed, filled or dropped."""
        extra = []
        if isinstance(self._grid, HeldTimes):
            extra.append("times are irregular: resampled, each value holds until the next")
        elif self._grid is not None and self._grid.missing:
            what = "filled with the value before" if self._options.gaps_hold else "left empty"
            extra.append(f"{self._grid.missing} missing samples in gaps of the time column {what}")
        return (*self._notes, *extra)

    def pieces(self, should_stop: ShouldStop, progress: Progress) -> Iterator[Piece]:
        """Yield the samples in order."""
        for batch in self.batches(should_stop, progress):
            self._check(batch)
            rows = len(next(iter(batch.values())))
            values = [batch[index] for index in self._value_columns]
            placed: Iterable[list[Floats]] = [values]
            if self.columns.time is not None:
                placed = self._on_grid(self._seconds(batch[self.columns.time.index]), values)
            self._rows_seen += rows
            yield from self._pieces(placed)
        if isinstance(self._grid, HeldTimes):
            yield from self._pieces(self._grid.finish())
        if not self._rows_seen:
            raise BadFileError(self._path, "there are no rows")

    def _pieces(self, placed: Iterable[list[Floats]]) -> Iterator[Piece]:
        try:
            for values in placed:
                if len(values[0]):
                    yield self._piece(values)
        except BadArgumentError as error:
            raise BadFileError(self._path, str(error)) from error

    @property
    def _value_columns(self) -> list[int]:
        columns = self.columns
        some = (columns.current, columns.voltage, *columns.lines, *columns.aux)
        return [column.index for column in some if column is not None]

    def _check(self, batch: dict[int, np.ndarray]) -> None:
        for index in (self.columns.current, self.columns.voltage, self.columns.time):
            if index is None:
                continue
            values = batch[index.index]
            bad = np.isinf(values) if index is not self.columns.time else ~np.isfinite(values)
            if bad.any():
                row = self._rows_seen + int(np.flatnonzero(bad)[0])
                found = "inf" if np.isinf(values[bad][0]) else "an empty cell"
                raise BadFileError(
                    self._path,
                    f"column {index.name!r}: expected a number, found {found}",
                    where=self.row_place(row),
                )

    def _seconds(self, times: np.ndarray) -> Floats:
        """Return times in s; whole counts, such as nanoseconds since 1970, from the first one on, which is exact."""
        if times.dtype.kind not in "iu":
            return np.asarray(times * self.columns.time_scale)
        if self._first_count is None:
            self._first_count = int(times[0])
        return (times - self._first_count).astype(np.float64) * self._count_s * self.columns.time_scale

    def _on_grid(self, times: Floats, values: list[Floats]) -> Iterable[list[Floats]]:
        if times[0] < self._last_time or (len(times) > 1 and float(np.diff(times).min()) < 0):
            falling = np.flatnonzero(np.diff(times, prepend=self._last_time) < 0)
            raise BadFileError(
                self._path,
                f"expected times that rise, found {times[falling[0]]:.9g} s after a later one",
                where=self.row_place(self._rows_seen + int(falling[0])),
            )
        self._last_time = float(times[-1])
        try:
            if self._grid is None:
                counted = (self._first_count or 0) * self._count_s * self.columns.time_scale
                self.first_time_s = counted + float(times[0])
                if len(times) < 2:
                    raise BadArgumentError("one row gives no sample interval: give the rate with --rate")
                kind = inspect_times(times[:_INSPECTED_ROWS])
                self._grid = (
                    HeldTimes(kind)
                    if kind.irregular
                    else RegularTimes(kind, self._stamp_step_s, holds=self._options.gaps_hold)
                )
            return self._grid.place(times, values)
        except BadArgumentError as error:
            raise BadFileError(self._path, str(error)) from error

    def _piece(self, values: list[Floats]) -> Piece:
        columns = self.columns
        rest = list(values)
        current = rest.pop(0) * columns.current_scale + columns.current_offset
        voltage = rest.pop(0) * columns.voltage_scale if columns.voltage is not None else None
        bits = np.zeros(len(current), dtype=np.uint32) if columns.lines else None
        for bit, _ in enumerate(columns.lines):
            if bits is not None:
                bits |= (rest.pop(0) > 0.5).astype(np.uint32) << np.uint32(bit)
        return Piece(
            self._narrowed(current, "current"),
            None if voltage is None else self._narrowed(voltage, "voltage"),
            bits,
            {column.name: self._narrowed(rest.pop(0), column.name) for column in columns.aux},
        )

    def _narrowed(self, values: Floats, what: str) -> Samples:
        with np.errstate(over="ignore", invalid="ignore"):  # what does not fit is refused
            narrow = values.astype(np.float32)
        first = self._rows_seen - len(values)
        check_finite(narrow, self._path, lambda k: self.row_place(max(first + k, 0)), what=what)
        return narrow
