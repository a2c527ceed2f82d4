"""Delimited text: CSV, TSV, semicolons and decimal commas, read in a stream."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from warm_ember.errors import BadFileError, Cancelled
from warm_ember.formats.ahead import prefetch
from warm_ember.formats.cells import MISSING, OVERRANGE, TRUTHS, split_unit
from warm_ember.formats.clock_text import Unroller, clock_seconds, start_utc_of, utc_text
from warm_ember.formats.column_words import Quantity, split_header, unit_of
from warm_ember.formats.columns import MOST_LINES, ColumnReader, ColumnRoles, find_columns, with_digital_lines
from warm_ember.formats.source import ImportOptions
from warm_ember.formats.text_dialect import (
    CellKind,
    CellType,
    Dialect,
    bad_row,
    cells_of,
    find_dialect,
    fitted_row,
    is_comment,
    is_row,
    row_problem,
)
from warm_ember.signal.series import Progress, ShouldStop
from warm_ember.units import counted

if TYPE_CHECKING:
    import pyarrow as pa

_PART_BYTES = 8 << 20
_PARSE_BYTES = 1 << 20
_SPACES = re.compile(rb" +")
_EDGE_SPACES = re.compile(rb"(?m)^ +| +(?=\r?$)")
_PEEK_ROWS = 200
_LONG_COUNT = re.compile(r"[0-9]{16,18}|[1-8][0-9]{18}")
_NULLS = sorted({way for word in MISSING for way in (word, word.upper(), word.capitalize())} | {"NaN"})


class TextSource(ColumnReader):
    """The table in a text file.

    Raises
    ------
    BadFileError
        If there is no table, a needed column is missing, or a row between rows cannot be read.
    """

    def __init__(self, path: Path, options: ImportOptions) -> None:
        self.dialect = dialect = find_dialect(
            path, delimiter=options.delimiter, decimal=options.decimal, month_first=options.month_first
        )
        self._overrange = 0
        header = with_units_of_cells(dialect)
        _check_unnamed(path, dialect, options)
        words = frozenset(k for k, one in enumerate(dialect.columns) if one.kind in _NO_NUMBERS)
        columns = find_columns(path, header, dialect.width, options, words=words)
        columns = with_digital_lines(columns, _first_rows(dialect))
        time, step = columns.time, 0.0
        clocked = time is not None and time.index in dialect.clocks
        if time is not None:
            columns = replace(columns, time_scale=1.0) if clocked else columns
            step = columns.time_scale * 10.0 ** -dialect.decimals[time.index]
        columns, left_out = _readable(path, columns, dialect)
        self._date = _date_of(columns, dialect)
        self._units = _unit_column(columns, dialect)
        super().__init__(path, options, columns, stamp_step_s=step)
        self._notes = [*dialect.notes, *self._notes, *left_out]
        names = dialect.header or [f"column {index + 1}" for index in range(dialect.width)]
        self.titles = tuple(name.strip() or f"column {index + 1}" for index, name in enumerate(names))
        self._is_clocked = clocked
        if time is not None and clocked:
            first, form = dialect.columns[time.index].example, dialect.columns[time.index].form
            self.start_utc = start_utc_of(first, form)
            self._notes = [note for note in self._notes if not note.startswith("unit of time")]
            told = f" with the date {dialect.columns[self._date].example}" if self._date is not None else ""
            unsure = form is not None and form.month_first is None
            self._notes.append(f"time read as a clock: {first}{told}" + (", its day unsure" if unsure else ""))

    @property
    def notes(self) -> tuple[str, ...]:
        """What was assumed, filled or dropped."""
        over = self._overrange
        told = (f"{counted(over, 'reading')} out of the instrument's range: missing",) if over else ()
        return (*super().notes, *told)

    def row_place(self, row: int) -> str:
        """Name a row for an error message; exact where no blank lines stand between rows."""
        return f"line {self.dialect.first_line + row}"

    def batches(self, should_stop: ShouldStop, progress: Progress) -> Iterator[dict[int, np.ndarray]]:
        """Yield the used columns block by block, as `ColumnReader` says: by index, each of shape ``(rows,)``."""
        import pyarrow as pa  # half a second to import

        dialect, used = self.dialect, self.columns.used

        def tables() -> Iterator[tuple[float, pa.Table]]:
            for share, part in _parts(dialect):
                try:
                    yield share, self._parsed(part)
                except pa.ArrowInvalid:
                    # Comments between rows, delimiters too many, readings out of range: line by line it may be read.
                    try:
                        table = self._parsed(self._tidied(part))
                    except pa.ArrowInvalid as error:
                        raise bad_row(self._path, dialect, used) from error
                    yield share, table

        time = self.columns.time
        form = dialect.columns[time.index].form if time is not None else None
        roller = Unroller(form.turns_s if form is not None and self._date is None else math.inf)
        for share, table in prefetch(tables()):
            if should_stop():
                raise Cancelled("stopped")
            batch = {index: self._numbers(table.column(f"c{index}"), index) for index in used}
            if time is not None and form is not None:
                batch[time.index] = roller.unrolled(batch[time.index] + self._days(table))
                if self._date is not None and not self.start_utc:
                    self.start_utc = utc_text(float(batch[time.index][0]))
            if self._units is not None:
                batch[self.columns.current.index] = batch[self.columns.current.index] * self._scales(table)
            yield batch
            progress(share)

    def _days(self, table: pa.Table) -> np.ndarray | float:
        """Return the day of each row in s since 1970, from a column of its own; 0 where there is none."""
        form = self.dialect.columns[self._date].form if self._date is not None else None
        if form is None:
            return 0.0
        days = clock_seconds(table.column(f"c{self._date}"), form, dates=True)
        if np.isnan(days).any():
            raise bad_row(self._path, self.dialect, (*self.columns.used, self._date or 0))
        return np.asarray(days)

    def _scales(self, table: pa.Table) -> np.ndarray:
        """Return how much of an ampere each row's unit is, where it stands in a column of its own."""
        units = [unit_of(cell or "") for cell in table.column(f"c{self._units}").to_pylist()]
        for row, unit in enumerate(units):
            if unit is None or unit.quantity is not Quantity.CURRENT:
                cell = table.column(f"c{self._units}")[row].as_py()
                where = self.row_place(self._rows_seen + row)
                raise BadFileError(self._path, f"expected a unit of current, found {cell!r}", where=where)
        return np.array([unit.scale for unit in units if unit is not None])

    @property
    def _read(self) -> tuple[int, ...]:
        """Indices of the columns that are read."""
        extra = {index for index in (self._date, self._units) if index is not None}
        return tuple(sorted(extra | set(self.columns.used)))

    def _parsed(self, part: pa.Buffer) -> pa.Table:
        import pyarrow as pa
        from pyarrow import csv

        dialect, used = self.dialect, self._read
        names = [f"c{index}" for index in range(dialect.width)]
        plain = [index for index in used if _is_plain(dialect.columns[index], dialect)]
        return csv.read_csv(
            pa.BufferReader(part),
            read_options=csv.ReadOptions(column_names=names, block_size=_PARSE_BYTES),
            parse_options=csv.ParseOptions(delimiter=_pyarrow_delimiter(dialect)),
            convert_options=csv.ConvertOptions(
                include_columns=[names[index] for index in used],
                column_types={names[index]: self._type(index, plain) for index in used},
                null_values=_NULLS,
                strings_can_be_null=True,
                decimal_point=dialect.decimal,
            ),
        )

    def _type(self, index: int, plain: list[int]) -> pa.DataType:
        """Return what a column is read as; long counts stay whole, as a float would round them."""
        import pyarrow as pa

        if index not in plain:
            return pa.string()
        time = self.columns.time
        is_long = (
            time is not None and index == time.index and _LONG_COUNT.fullmatch(self.dialect.columns[index].example)
        )
        return pa.int64() if is_long else pa.float64()

    def _tidied(self, part: pa.Buffer) -> pa.Buffer:
        """Write a part of the table anew, row by row."""
        import pyarrow as pa

        dialect, used = self.dialect, self.columns.used
        lines = []
        for line in part.to_pybytes().decode(dialect.encoding, "replace").splitlines():
            if not line.strip() or is_comment(line):
                continue
            row = fitted_row(cells_of(line, dialect.delimiter), dialect.width)
            if row is None or row_problem(line, dialect, used) is not None:
                raise bad_row(self._path, dialect, used)
            over = [index for index in used if row[index].casefold() in OVERRANGE]
            self._overrange += self.columns.current.index in over
            lines.append(dialect.delimiter.join(_quoted("" if k in over else cell) for k, cell in enumerate(row)))
        return pa.py_buffer(("\n".join(lines) + "\n").encode())

    def _numbers(self, column: pa.ChunkedArray, index: int) -> np.ndarray:
        kind = self.dialect.columns[index]
        if kind.form is not None:
            seconds = clock_seconds(column, kind.form)
            if np.isnan(seconds).any():
                raise bad_row(self._path, self.dialect, self.columns.used)
            return seconds
        if _is_plain(kind, self.dialect):
            return _floats(column) if column.null_count or column.type != "int64" else np.asarray(column.to_numpy())
        values = [
            kind.read(cell or "") if kind.kind is CellType.NUMBER else _truth(cell) for cell in column.to_pylist()
        ]
        if None in values:
            raise bad_row(self._path, self.dialect, self.columns.used)
        return np.array(values, dtype=np.float64)


def _check_unnamed(path: Path, dialect: Dialect, options: ImportOptions) -> None:
    """Refuse a table without a header whose first column counts its rows: the second would be taken for a current."""
    if dialect.header is not None or dialect.width < 3 or options.current_column or options.rate_hz is not None:
        return
    rows = _first_rows(dialect)[:, :2]
    if len(rows) > 3 and (np.diff(rows[:, 0]) == 1).all() and (np.diff(rows[:, 1]) > 0).all():
        problem = "there is no header, the first column counts the rows, and the second rises like a time"
        raise BadFileError(path, problem, remedy="name the columns with --time-column and --current-column")


_LEFT_OUT = (CellType.TEXT, CellType.UNIT, CellType.CLOCK, CellType.DATE, CellType.EMPTY)
_NO_NUMBERS = (CellType.TEXT, CellType.UNIT, CellType.TRUTH, CellType.DATE, CellType.EMPTY)


def _date_of(columns: ColumnRoles, dialect: Dialect) -> int | None:
    """Return the column of dates that belongs to a time of day; None where there is none."""
    form = dialect.columns[columns.time.index].form if columns.time is not None else None
    if form is None or form.has_date or form.name != "clock":
        return None
    return next((index for index, one in enumerate(dialect.columns) if one.kind is CellType.DATE), None)


def _unit_column(columns: ColumnRoles, dialect: Dialect) -> int | None:
    """Return the column beside the current that holds its unit row by row; None where there is none."""
    if columns.current.measure is not None:
        return None
    beside = [index for index, one in enumerate(dialect.columns) if one.kind is CellType.UNIT]
    return next((index for index in beside if abs(index - columns.current.index) == 1), None)


def _truth(cell: str | None) -> float:
    return TRUTHS.get((cell or "").strip().casefold(), math.nan)


def _quoted(cell: str) -> str:
    return '"' + cell.replace('"', '""') + '"'


def _is_plain(kind: CellKind, dialect: Dialect) -> bool:
    """Return whether a column's cells are numbers that the parser reads unaided."""
    numerals = kind.numerals
    return (
        kind.kind in (CellType.NUMBER, CellType.EMPTY)
        and not kind.with_unit
        and not numerals.group
        and numerals.decimal in (dialect.decimal, ".")
        and (numerals.decimal == dialect.decimal)
    )


def with_units_of_cells(dialect: Dialect) -> list[str] | None:
    """Return the header with what its columns' cells say of their units: cells with one in them are in SI units."""
    if dialect.header is None:
        if not any(one.with_unit for one in dialect.columns):
            return None
        titles = [f"column {index + 1}" for index in range(dialect.width)]
    else:
        titles = list(dialect.header)
    for index, one in enumerate(dialect.columns):
        split = split_unit(one.example) if one.with_unit else None
        if split is not None:
            base = {Quantity.CURRENT: "A", Quantity.VOLTAGE: "V", Quantity.TIME: "s"}.get(split[1].quantity)
            name = split_header(index, titles[index]).name
            titles[index] = f"{name} ({base})" if base else titles[index]
    return titles


def _readable(path: Path, columns: ColumnRoles, dialect: Dialect) -> tuple[ColumnRoles, list[str]]:
    """Leave out columns of words and further clock times: a channel holds numbers; words of two values are lines."""
    kinds = dialect.columns
    needed = (columns.current, columns.time, columns.voltage)
    for one in needed:
        if one is not None and kinds[one.index].kind in (CellType.TEXT, CellType.UNIT, CellType.TRUTH):
            raise BadFileError(path, f"column {one.name!r}: expected numbers, found {kinds[one.index].example!r}")
    truths = tuple(one for one in columns.aux if kinds[one.index].kind is CellType.TRUTH)
    dropped = [one for one in columns.aux if kinds[one.index].kind in _LEFT_OUT]
    aux = tuple(one for one in columns.aux if one not in truths and one not in dropped)
    notes = [f"column {one.name!r} left out: it holds {_words_of(kinds[one.index])}" for one in dropped]
    lines = (*columns.lines, *truths)[:MOST_LINES]
    if truths:
        notes.append("columns of two words taken as digital lines: " + ", ".join(one.name for one in truths))
    return replace(columns, aux=aux, lines=lines), notes


def _words_of(kind: CellKind) -> str:
    """Return what a column that is left out holds."""
    known = {CellType.CLOCK: "further times", CellType.DATE: "dates", CellType.EMPTY: "nothing", CellType.UNIT: "units"}
    return known.get(kind.kind, f"words, such as {kind.example!r}")


def _parts(dialect: Dialect) -> Iterator[tuple[float, pa.Buffer]]:
    """Yield the table's bytes in parts of whole lines, each with the share of the table read by then."""
    import pyarrow as pa

    length = dialect.last_byte - dialect.first_byte
    done, size = 0, _PART_BYTES
    with dialect.text.path.open("rb") as file:
        while done < length:
            file.seek(dialect.first_byte + done)
            data = file.read(min(size, length - done))
            # Up to the last line end; what follows it is read again with the next part.
            end = len(data) if done + len(data) >= length else data.rfind(b"\n") + 1
            if not data or (not end and len(data) < size):
                break
            if not end:
                size *= 2  # a line longer than a part
                continue
            done += end
            part = pa.py_buffer(data).slice(0, end)
            if dialect.delimiter == " " and dialect.width > 1:
                part = pa.py_buffer(_SPACES.sub(b" ", _EDGE_SPACES.sub(b"", data[:end])))
            if not data[: min(end, 4096)].isspace() or not data[:end].isspace():
                yield done / length, part


def _floats(column: pa.ChunkedArray) -> np.ndarray:
    if column.null_count == 0:
        return np.asarray(column.to_numpy())
    return np.asarray(column.fill_null(float("nan")).to_numpy())


def _pyarrow_delimiter(dialect: Dialect) -> str:
    if dialect.width == 1:
        return "\x1f"  # a single column needs none, and its decimal comma must not be taken for one
    return dialect.delimiter


def _first_rows(dialect: Dialect) -> np.ndarray:
    """Return the first rows as numbers, shape ``(rows, width)``, to tell digital columns from others."""
    rows = []
    with dialect.text.path.open("rb") as file:
        file.seek(dialect.first_byte)
        for raw in file:
            line = raw.decode(dialect.encoding, "replace").strip("\r\n")
            if is_row(line, dialect.delimiter, dialect.columns):
                row = fitted_row(cells_of(line, dialect.delimiter), dialect.width) or []
                numbers = [column.read(cell) for column, cell in zip(dialect.columns, row, strict=True)]
                rows.append([math.nan if number is None else number for number in numbers])
            if len(rows) >= _PEEK_ROWS:
                break
    return np.array(rows, dtype=np.float64).reshape(-1, dialect.width)
