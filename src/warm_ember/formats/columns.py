"""Columns of a table to channels: which is time, current, voltage, a digital line, or something else."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from warm_ember.errors import BadArgumentError, BadFileError, ColumnError
from warm_ember.formats.clock_text import utc_text
from warm_ember.formats.column_words import HeaderColumn, Quantity, split_headers, unit_of
from warm_ember.formats.source import CURRENT_UNITS_A, ImportOptions, SourceBlock, check_finite
from warm_ember.model.arrays import Floats, Samples
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.program import ProgramTrace
from warm_ember.signal.series import Progress, ShouldStop
from warm_ember.signal.time_grid import HeldTimes, RegularTimes, held_interval, inspect_times

_INSPECTED_ROWS = 50_000
_EPOCH_S = (3e8, 6e9)
_EPOCH_COUNTS_S = (1.0, 1e-3, 1e-6, 1e-9)
_COUNTED = {1.0: "seconds", 1e-3: "milliseconds", 1e-6: "microseconds", 1e-9: "nanoseconds"}
_BETWEEN = " _/:,-.()[]{}<>"
"""What may stand between a name and its unit."""
MOST_LINES = 32
"""As many bits as the lines of a capture have."""


@dataclass(frozen=True)
class ColumnRoles:
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

    current: HeaderColumn
    current_scale: float
    current_offset: float
    time: HeaderColumn | None
    time_scale: float
    voltage: HeaderColumn | None
    voltage_scale: float
    lines: tuple[HeaderColumn, ...] = ()
    aux: tuple[HeaderColumn, ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def used(self) -> tuple[int, ...]:
        """Indices of all columns that are read."""
        some = (self.time, self.current, self.voltage, *self.lines, *self.aux)
        return tuple(sorted({column.index for column in some if column is not None}))


@dataclass
class _Finder:
    path: Path
    columns: list[HeaderColumn]
    named: bool
    options: ImportOptions
    words: frozenset[int] = frozenset()
    notes: list[str] = field(default_factory=list)

    def chosen(self, wanted: str | None, option: str) -> HeaderColumn | None:
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
    def _as_it_stands(column: HeaderColumn, wanted: str) -> bool:
        return column.text == wanted.strip().strip('"').strip()

    @staticmethod
    def _with_unit(column: HeaderColumn, wanted: str) -> bool:
        name, text = column.name.casefold(), wanted.strip().casefold()
        if column.measure is None or not text.startswith(name):
            return False
        unit = text.removeprefix(name).strip(_BETWEEN)
        return unit_of(unit.removeprefix("in ").removeprefix("in_").strip(_BETWEEN)) == column.measure

    @staticmethod
    def _by_name(column: HeaderColumn, wanted: str) -> bool:
        return wanted.strip().casefold() in (column.name.casefold(), column.text.casefold())

    @property
    def titles(self) -> tuple[str, ...]:
        return tuple(self.title(column) for column in self.columns)

    def title(self, column: HeaderColumn) -> str:
        return f"{column.name} ({column.unit})" if column.unit and column.unit != column.name else column.name

    def candidates(self, quantity: Quantity, taken: list[HeaderColumn | None]) -> list[HeaderColumn]:
        """Return the columns that may hold a quantity, by their unit or, where there is none, by their name.

        A limit or a set-point is none, nor is the largest or smallest of something.
        """
        free = [one for one in self.columns if one not in taken and one.is_measured and one.index not in self.words]
        return [
            one
            for one in free
            if (one.measure is not None and one.measure.quantity is quantity)
            or (not one.unit and one.is_called(quantity))
        ]

    def scale(self, column: HeaderColumn, quantity: Quantity, role: str, base: str) -> float:
        """Return how much of the SI unit a column's unit is; assumed only where nothing at all is said."""
        measure = column.measure
        if measure is not None and measure.quantity is quantity:
            return measure.scale
        if measure is not None or column.strange:
            named = column.unit or column.strange
            what = f"no unit of a {quantity.value}" if measure is not None else "no unit that is known"
            raise ColumnError(
                self.path,
                f"{role} column {column.text!r}: {named!r} is {what}",
                titles=self.titles,
                remedy="give --unit, or name another column" if quantity is Quantity.CURRENT else "name another column",
            )
        self.notes.append(f"unit of {role} column {column.name!r} assumed: {base}")
        return 1.0


def find_columns(
    path: Path,
    header: list[str] | None,
    width: int,
    options: ImportOptions,
    *,
    words: frozenset[int] = frozenset(),
) -> ColumnRoles:
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
    words
        Columns that hold no numbers, which are none of these unless the user says so.

    Raises
    ------
    BadFileError
        If a needed column is not there, naming those that are.
    """
    named = header is not None
    columns = [HeaderColumn(i, f"column {i + 1}") for i in range(width)] if header is None else split_headers(header)
    finder = _Finder(path, columns, named, options, words)
    current = finder.chosen(options.current_column, "--current-column")
    time = finder.chosen(options.time_column, "--time-column")
    voltage = finder.chosen(options.voltage_column, "--voltage-column")
    unused: list[HeaderColumn | None] = []
    if options.rate_hz is not None:
        like = [time] if time is not None else finder.candidates(Quantity.TIME, [current, voltage])[:1] if named else []
        unused = [*like]
        finder.notes += [f"time column {one.name!r} left out: --rate was given" for one in like]
        time = None
    elif time is None:
        time = _find_time(finder, [current, voltage])
    if current is None:
        current = _find_current(finder, [*unused, time, voltage])
    scale, offset = _current_scale(finder, current)
    if voltage is None and named:
        voltage = _find_voltage(finder, [*unused, time, current])
    rest = [one for one in columns if one not in (*unused, time, current, voltage) and one.name] if named else []
    rest = _named_apart(rest)
    if named:
        finder.notes.append(_taken(finder, current, time, voltage, rest))
    return ColumnRoles(
        current=current,
        current_scale=scale,
        current_offset=offset,
        time=time,
        time_scale=_time_scale(finder, time),
        voltage=voltage,
        voltage_scale=finder.scale(voltage, Quantity.VOLTAGE, "voltage", "V") if voltage is not None else 1.0,
        aux=tuple(rest),
        notes=tuple(finder.notes),
    )


def _taken(
    finder: _Finder,
    current: HeaderColumn,
    time: HeaderColumn | None,
    voltage: HeaderColumn | None,
    rest: list[HeaderColumn],
) -> str:
    """Return what was taken for what, and which columns were not."""
    roles = (("time", time), ("current", current), ("voltage", voltage))
    words = ", ".join(f"{role} from {finder.title(column)!r}" for role, column in roles if column is not None)
    others = ", ".join(repr(finder.title(column)) for column in rest if column.index not in finder.words)
    return f"{words}; kept as channels: {others}" if others else words


def _time_scale(finder: _Finder, time: HeaderColumn | None) -> float:
    return finder.scale(time, Quantity.TIME, "time", "s") if time is not None else 1.0


def _find_voltage(finder: _Finder, taken: list[HeaderColumn | None]) -> HeaderColumn | None:
    """Return the voltage; None where there is none, and where several may be it: one must not be guessed."""
    found = [one for one in finder.candidates(Quantity.VOLTAGE, taken) if not one.strange]
    if len(found) > 1:
        names = ", ".join(repr(finder.title(column)) for column in found)
        finder.notes.append(
            f"several columns may be the voltage: {names}; none was taken, name it with --voltage-column"
        )
    return found[0] if len(found) == 1 else None


def refuse_words(path: Path, columns: ColumnRoles, words: frozenset[int]) -> None:
    """Refuse a column that was asked for and holds no numbers.

    Raises
    ------
    ColumnError
        Naming it.
    """
    for one in (columns.current, columns.time, columns.voltage):
        if one is not None and one.index in words:
            raise ColumnError(path, f"column {one.name!r} holds no numbers", titles=(), remedy="name another one")


def _named_apart(columns: list[HeaderColumn]) -> list[HeaderColumn]:
    """Give columns names that are different from each other and fit for a channel of a capture file."""
    taken: set[str] = set()
    apart = []
    for column in columns:
        name = column.name.replace("/", "_").strip(".") or f"column {column.index + 1}"
        while name in taken:
            name = f"{name} ({column.index + 1})"
        taken.add(name)
        apart.append(HeaderColumn(column.index, name, column.unit))
    return apart


def _find_time(finder: _Finder, taken: list[HeaderColumn | None]) -> HeaderColumn:
    if not finder.named:
        if len(finder.columns) < 2:
            raise ColumnError(
                finder.path,
                "there is one column and no times",
                titles=finder.titles,
                remedy="give the rate with --rate",
            )
        return finder.columns[0]
    several = finder.candidates(Quantity.TIME, taken)
    found = next((one for one in several if one.measure is not None), next(iter(several), None))
    if found is None:
        raise ColumnError(
            finder.path,
            f"no time column among: {', '.join(finder.titles)}",
            titles=finder.titles,
            remedy="name it with --time-column or give the sample rate with --rate",
        )
    return found


def _find_current(finder: _Finder, taken: list[HeaderColumn | None]) -> HeaderColumn:
    free = [column for column in finder.columns if column not in taken]
    quantity = Quantity.VOLTAGE if finder.options.shunt_ohm is not None else Quantity.CURRENT
    if finder.named:
        found = finder.candidates(quantity, taken)
        if len(found) == 1:
            return found[0]
        if found:
            names = ", ".join(repr(finder.title(column)) for column in found)
            problem = f"several columns may be the current: {names}"
            raise ColumnError(finder.path, problem, titles=finder.titles, remedy="name it with --current-column")
    free = [one for one in free if one.index not in finder.words]
    bare = [one for one in free if one.is_measured and one.measure is None]
    if free and (len(free) == 1 == len(bare) or not finder.named):
        if finder.named:
            finder.notes.append(f"column {free[0].name!r} assumed to be the current")
        return free[0]
    across = finder.options.shunt_ohm is None and bool(finder.candidates(Quantity.VOLTAGE, taken))
    raise ColumnError(
        finder.path,
        f"cannot tell which column is the current among: {', '.join(finder.titles)}",
        titles=finder.titles,
        remedy="name it with --current-column" + (", and with --shunt what it was measured across" if across else ""),
    )


def _current_scale(finder: _Finder, current: HeaderColumn) -> tuple[float, float]:
    options = finder.options
    if options.shunt_ohm is not None:
        ohms = options.gain * options.shunt_ohm
        volts = finder.scale(current, Quantity.VOLTAGE, "shunt", "V")
        return volts / ohms, -options.offset_v / ohms
    if options.unit is not None:
        return CURRENT_UNITS_A[options.unit], 0.0
    if current.measure is not None and current.measure.quantity is Quantity.VOLTAGE:
        raise ColumnError(
            finder.path,
            f"column {finder.title(current)!r} is a voltage",
            titles=finder.titles,
            remedy="give the shunt it was measured across with --shunt",
        )
    return finder.scale(current, Quantity.CURRENT, "current", "A"), 0.0


def with_digital_lines(columns: ColumnRoles, rows: Floats) -> ColumnRoles:
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

    def __init__(self, path: Path, options: ImportOptions, columns: ColumnRoles, *, stamp_step_s: float) -> None:
        self._path, self._options, self.columns = path, options, columns
        self._stamp_step_s = stamp_step_s
        self._grid: RegularTimes | HeldTimes | None = None
        self._rows_seen = 0
        self._last_time = -np.inf
        self._first_count: int | None = None
        self._count_s = self._epoch_s = 1.0
        self._is_clocked = False
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
        """Yield the used columns piece by piece.

        Yields
        ------
        dict
            By index, float64, NaN where a cell is empty, all of one shape ``(rows,)``.

        Raises
        ------
        BadFileError
            If the file cannot be read on.
        Cancelled
            If `should_stop` answered yes.
        """

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

    def pieces(self, should_stop: ShouldStop, progress: Progress) -> Iterator[SourceBlock]:
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

    def _pieces(self, placed: Iterable[list[Floats]]) -> Iterator[SourceBlock]:
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
            with np.errstate(invalid="ignore", over="ignore"):
                if math.isfinite(float(values.sum())):  # what is no number makes the sum none
                    continue
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
        if self._first_count is None and len(times):
            self._find_epoch(float(times[0]))
        scale = self._count_s * self._epoch_s * self.columns.time_scale
        if times.dtype.kind not in "iu":
            return np.asarray(times * scale)
        if self._first_count is None:
            self._first_count = int(times[0])
        return (times - self._first_count).astype(np.float64) * scale

    def _find_epoch(self, first: float) -> None:
        """Tell counts since 1970 from times of their own by their size, and what they count where nobody says."""
        time = self.columns.time
        if time is None or self._rows_seen or self._is_clocked:
            return
        if time.measure is None:
            found = next((one for one in _EPOCH_COUNTS_S if _EPOCH_S[0] < first * one < _EPOCH_S[1]), None)
            if found is None:
                return
            self._epoch_s = found
            self._notes = [note for note in self._notes if not note.startswith("unit of time")]
            self._notes.append(f"time column {time.name!r} read as {_COUNTED[found]} since 1970")
        seconds = first * self._count_s * self._epoch_s * self.columns.time_scale
        if _EPOCH_S[0] < seconds < _EPOCH_S[1]:
            self.start_utc = utc_text(seconds)

    def _on_grid(self, times: Floats, values: list[Floats]) -> Iterable[list[Floats]]:
        if times[0] < self._last_time or (times[1:] < times[:-1]).any():
            falling = np.flatnonzero(np.diff(times, prepend=self._last_time) < 0)
            raise BadFileError(
                self._path,
                f"expected times that rise, found {times[falling[0]]:.9g} s after a later one",
                where=self.row_place(self._rows_seen + int(falling[0])),
            )
        self._last_time = float(times[-1])
        try:
            if self._grid is None:
                counted = (self._first_count or 0) * self._count_s * self._epoch_s * self.columns.time_scale
                self.first_time_s = counted + float(times[0])
                if len(times) < 2:
                    raise BadArgumentError("one row gives no sample interval: give the rate with --rate")
                kind = inspect_times(times[:_INSPECTED_ROWS])
                self._grid = (
                    HeldTimes(kind, held_interval(times[:_INSPECTED_ROWS], kind))
                    if kind.irregular
                    else RegularTimes(kind, self._stamp_step_s, holds=self._options.gaps_hold)
                )
            return self._grid.place(times, values)
        except BadArgumentError as error:
            raise BadFileError(self._path, str(error)) from error

    def _piece(self, values: list[Floats]) -> SourceBlock:
        columns = self.columns
        rest = list(values)
        current = rest.pop(0) * columns.current_scale + columns.current_offset
        voltage = rest.pop(0) * columns.voltage_scale if columns.voltage is not None else None
        bits = np.zeros(len(current), dtype=np.uint32) if columns.lines else None
        for bit, _ in enumerate(columns.lines):
            if bits is not None:
                bits |= (rest.pop(0) > 0.5).astype(np.uint32) << np.uint32(bit)
        return SourceBlock(
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
