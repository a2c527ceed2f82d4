"""Parquet and Arrow tables."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from warm_ember.errors import BadFileError, Cancelled
from warm_ember.formats.columns import ColumnReader, ColumnRoles, find_columns, refuse_words, with_digital_lines
from warm_ember.formats.source import ImportOptions, as_floats
from warm_ember.signal.series import Progress, ShouldStop

_ROWS = 1 << 18
_PEEK_ROWS = 200
_UNIT_KEYS = (b"unit", b"units")


class _Table:
    """A Parquet file, an Arrow file or an Arrow stream, as batches of rows."""

    def __init__(self, path: Path) -> None:
        self.path = path
        import pyarrow as pa

        with self._reading():
            with path.open("rb") as file:
                self._magic = file.read(6)
            self.schema: pa.Schema
            self.rows: int | None = None
            if self._magic[:4] == b"PAR1":
                from pyarrow import parquet

                with parquet.ParquetFile(path) as file:
                    self.schema, self.rows = file.schema_arrow, file.metadata.num_rows
            else:
                with pa.memory_map(str(path)) as source, self._arrow(source) as reader:
                    self.schema = reader.schema

    def _arrow(self, source: Any) -> Any:
        import pyarrow as pa

        return pa.ipc.open_file(source) if self._magic == b"ARROW1" else pa.ipc.open_stream(source)

    def batches(self, names: list[str]) -> Iterator[Any]:
        import pyarrow as pa

        with self._reading():
            if self._magic[:4] == b"PAR1":
                from pyarrow import parquet

                with parquet.ParquetFile(self.path) as file:
                    yield from file.iter_batches(_ROWS, columns=names)
            else:
                with pa.memory_map(str(self.path)) as source, self._arrow(source) as reader:
                    parts = (
                        (reader.get_batch(k) for k in range(reader.num_record_batches))
                        if self._magic == b"ARROW1"
                        else reader
                    )
                    for part in parts:
                        for first in range(0, part.num_rows, _ROWS):
                            yield part.slice(first, _ROWS).select(names)

    def _reading(self) -> _Reading:
        return _Reading(self.path)


class _Reading:
    """Turn what the Arrow library raises on damaged files into a message."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        import pyarrow as pa

        if isinstance(error, pa.ArrowException | OSError | KeyError | IndexError | OverflowError) and not isinstance(
            error, BadFileError
        ):
            words = " ".join(str(error).split())[:160]
            raise BadFileError(self._path, f"expected a Parquet or Arrow table: {words}", where="byte 0") from error


class ArrowSource(ColumnReader):
    """A Parquet or Arrow table whose columns are named like those of a delimited text.

    Raises
    ------
    BadFileError
        If it is no such table, or a needed column is missing or holds no numbers.
    """

    def __init__(self, path: Path, options: ImportOptions) -> None:
        self._table = _Table(path)
        schema = self._table.schema
        self._names = list(schema.names)
        if len(set(self._names)) < len(self._names):
            raise BadFileError(path, "expected columns of different names")
        usable = [index for index, field in enumerate(schema) if _is_number(field.type)]
        header = [_header(schema.field(index)) for index in range(len(self._names))]
        if not usable:
            raise BadFileError(path, "expected columns of numbers, found none")
        words = frozenset(range(len(header))) - set(usable)
        columns = find_columns(path, header, len(header), options, words=words)
        refuse_words(path, columns, words)
        columns = replace(columns, aux=tuple(one for one in columns.aux if one.index not in words))
        self._stamps = {i: _stamp_unit_s(schema.field(i).type) for i in usable}
        self._time_index = columns.time.index if columns.time is not None else -1
        self._count_s = 1.0
        columns = with_digital_lines(columns, self._first_rows(columns))
        super().__init__(path, options, columns, stamp_step_s=0.0)
        self.length = self._table.rows
        self.titles = tuple(self._names)
        left_out = [name for index, name in enumerate(self._names) if index not in usable]
        if left_out:
            self._notes.append("columns without numbers left out: " + ", ".join(left_out))

    def _first_rows(self, columns: ColumnRoles) -> np.ndarray:
        found = next(self._table.batches([self._names[index] for index in columns.used]), None)
        rows = np.full((min(_PEEK_ROWS, found.num_rows if found is not None else 0), len(self._names)), np.nan)
        for place, index in enumerate(columns.used):
            if found is not None:
                rows[:, index] = self._numbers(found.column(place).slice(0, _PEEK_ROWS), index)
        return rows

    def _numbers(self, column: Any, index: int) -> np.ndarray:
        import pyarrow as pa

        unit_s = self._stamps.get(index, 0.0)
        if unit_s:
            column = column.cast(pa.int64())
        if self._is_counted(column, index):
            self._count_s = unit_s or 1.0
            return np.asarray(column.to_numpy(zero_copy_only=False)).astype(np.int64)
        if column.null_count:
            column = column.cast(pa.float64(), safe=False).fill_null(float("nan"))
        values = as_floats(np.asarray(column.to_numpy(zero_copy_only=False)))
        return values * unit_s if unit_s else values

    def _is_counted(self, column: Any, index: int) -> bool:
        """Return whether a column is times in whole counts, which a float would round."""
        import pyarrow as pa

        is_whole = pa.types.is_signed_integer(column.type) and not column.null_count
        return is_whole and self._time_index == index

    def row_place(self, row: int) -> str:
        """Name a row for an error message."""
        return f"row {row}"

    def batches(self, should_stop: ShouldStop, progress: Progress) -> Iterator[dict[int, np.ndarray]]:
        """Yield the used columns batch by batch, as `ColumnReader` says: by index, each of shape ``(rows,)``."""
        used, done = self.columns.used, 0
        for batch in self._table.batches([self._names[index] for index in used]):
            if should_stop():
                raise Cancelled("stopped")
            if not batch.num_rows:
                continue
            yield {index: self._numbers(batch.column(place), index) for place, index in enumerate(used)}
            done += batch.num_rows
            if self._table.rows:
                progress(done / self._table.rows)


def _is_number(kind: Any) -> bool:
    import pyarrow as pa

    some = (pa.types.is_integer, pa.types.is_floating, pa.types.is_boolean, pa.types.is_timestamp)
    return any(test(kind) for test in (*some, pa.types.is_duration, pa.types.is_decimal))


def _stamp_unit_s(kind: Any) -> float:
    """Return the length of one count of a time stamp, 0 for plain numbers."""
    import pyarrow as pa

    if pa.types.is_timestamp(kind) or pa.types.is_duration(kind):
        return {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}[kind.unit]
    return 0.0


def _header(field: Any) -> str:
    """Return a column's name with its unit, from its metadata or from its being a time stamp."""
    for key in _UNIT_KEYS:
        if field.metadata and key in field.metadata:
            return f"{field.name} ({field.metadata[key].decode('utf-8', 'replace')})"
    return f"{field.name} (s)" if _stamp_unit_s(field.type) else str(field.name)
