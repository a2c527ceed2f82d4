"""Delimited text: CSV, TSV, semicolons and decimal commas, read in a stream."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.formats.ahead import one_ahead
from warm_ember.formats.clock_text import MidnightRoller, clock_seconds, start_utc_of
from warm_ember.formats.columns import ColumnReader, Columns, find_columns, with_digital_lines
from warm_ember.formats.source import ImportOptions
from warm_ember.formats.text_dialect import Dialect, bad_row, cells_of, find_dialect, is_value, number_of
from warm_ember.signal.series import Progress, ShouldStop

if TYPE_CHECKING:
    import pyarrow as pa

_PART_BYTES = 8 << 20
_PARSE_BYTES = 1 << 20
_SPACES = re.compile(rb" +")
_EDGE_SPACES = re.compile(rb"(?m)^ +| +(?=\r?$)")
_PEEK_ROWS = 200


class TextSource(ColumnReader):
    """The table in a text file.

    Raises
    ------
    BadFileError
        If there is no table, a needed column is missing, or a row between rows cannot be read.
    """

    def __init__(self, path: Path, options: ImportOptions) -> None:
        self.dialect = find_dialect(path, delimiter=options.delimiter, decimal=options.decimal)
        columns = find_columns(path, self.dialect.header, self.dialect.width, options)
        columns = with_digital_lines(columns, _first_rows(path, self.dialect))
        time, step = columns.time, 0.0
        clocked = time is not None and time.index in self.dialect.clocks
        if time is not None:
            columns = replace(columns, time_scale=1.0) if clocked else columns
            step = columns.time_scale * 10.0 ** -self.dialect.decimals[time.index]
        super().__init__(path, options, _without_clocks(columns, self.dialect), stamp_step_s=step)
        self._notes = [*self.dialect.notes, *self._notes]
        names = self.dialect.header or [f"column {index + 1}" for index in range(self.dialect.width)]
        self.titles = tuple(name.strip() or f"column {index + 1}" for index, name in enumerate(names))
        if time is not None and clocked:
            first = self.dialect.first_row[time.index]
            self.start_utc = start_utc_of(first)
            self._notes = [note for note in self._notes if not note.startswith("unit of time")]
            self._notes.append(f"time read as a clock: {first}")

    def row_place(self, row: int) -> str:
        """Name a row for an error message; exact where no blank lines stand between rows."""
        return f"line {self.dialect.first_line + row}"

    def batches(self, should_stop: ShouldStop, progress: Progress) -> Iterator[dict[int, np.ndarray]]:
        """Yield the used columns block by block."""
        import pyarrow as pa  # half a second to import
        from pyarrow import csv

        dialect, used = self.dialect, self.columns.used
        names = [f"c{index}" for index in range(dialect.width)]
        options = {
            "read_options": csv.ReadOptions(column_names=names, block_size=_PARSE_BYTES),
            "parse_options": csv.ParseOptions(delimiter=_pyarrow_delimiter(dialect)),
            "convert_options": csv.ConvertOptions(
                include_columns=[names[index] for index in used],
                column_types={names[index]: pa.string() if index in dialect.clocks else pa.float64() for index in used},
                null_values=["", "NaN", "nan", "NAN"],
                decimal_point=dialect.decimal,
            ),
        }

        def tables() -> Iterator[tuple[float, pa.Table]]:
            for share, part in _parts(self._path, dialect):
                try:
                    yield share, csv.read_csv(pa.BufferReader(part), **options)
                except pa.ArrowInvalid as error:
                    raise bad_row(self._path, dialect, used) from error

        roller = MidnightRoller()
        for share, table in one_ahead(tables()):
            if should_stop():
                raise Cancelled("stopped")
            yield {index: self._numbers(table.column(names[index]), index, roller) for index in used}
            progress(share)

    def _numbers(self, column: pa.ChunkedArray, index: int, roller: MidnightRoller) -> np.ndarray:
        if index not in self.dialect.clocks:
            return _floats(column)
        seconds = clock_seconds(column)
        if np.isnan(seconds).any():
            raise bad_row(self._path, self.dialect, self.columns.used)
        return roller.unrolled(seconds)


def _without_clocks(columns: Columns, dialect: Dialect) -> Columns:
    """Leave out further columns of clock times: a channel holds numbers."""
    return replace(columns, aux=tuple(column for column in columns.aux if column.index not in dialect.clocks))


def _parts(path: Path, dialect: Dialect) -> Iterator[tuple[float, pa.Buffer]]:
    """Yield the table's bytes in parts of whole lines, each with the share of the table read by then."""
    import pyarrow as pa

    length = dialect.last_byte - dialect.first_byte
    done, size = 0, _PART_BYTES
    with path.open("rb") as file:
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


def _first_rows(path: Path, dialect: Dialect) -> np.ndarray:
    """Return the first rows as numbers, shape ``(rows, width)``, to tell digital columns from others."""
    rows = []
    with path.open("rb") as file:
        file.seek(dialect.first_byte)
        for raw in file:
            cells = cells_of(raw.decode(dialect.encoding, "replace").strip("\r\n"), dialect.delimiter)
            if len(cells) == dialect.width and all(is_value(cell, dialect.decimal) for cell in cells):
                numbers = (number_of(cell, dialect.decimal) for cell in cells)
                rows.append([math.nan if number is None else number for number in numbers])
            if len(rows) >= _PEEK_ROWS:
                break
    return np.array(rows, dtype=np.float64).reshape(-1, dialect.width)
