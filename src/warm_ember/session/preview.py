"""What an import would make of a file, from its beginning alone."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import islice
from pathlib import Path

import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.formats.column_words import HeaderColumn, split_headers
from warm_ember.formats.columns import ColumnReader
from warm_ember.formats.plain_text import PlainText, plain_text
from warm_ember.formats.reading import keep, named_for, reading_of
from warm_ember.formats.registry import open_source
from warm_ember.formats.source import DATE_ORDERS, ImportOptions, Source, SourceBlock
from warm_ember.formats.text import TextSource
from warm_ember.formats.text_dialect import DELIMITER_NAMES, cells_of
from warm_ember.model.arrays import Samples
from warm_ember.signal.envelope import PixelColumns, envelope, per_column
from warm_ember.signal.series import ArraySeries, ShouldStop, ignore_progress, never

__all__ = [
    "DATE_ORDERS",
    "DELIMITER_NAMES",
    "ImportOptions",
    "Preview",
    "ShownColumn",
    "first_lines",
    "keep",
    "named_for",
    "preview",
    "reading_of",
]

_SHOWN_ROWS = 12
_MOST_SAMPLES = 1 << 20
_RAW_LINES, _MOST_OF_LINE = 6, 400
_SHOWN_CELLS = 3


@dataclass(frozen=True)
class ShownColumn:
    """One column of a file, what it was taken for, and why.

    Parameters
    ----------
    title
        Its header.
    role
        ``"time"``, ``"current"``, ``"voltage"``, ``"line"``, ``"channel"`` or ``"left out"``.
    unit
        Its unit; empty where none is said.
    values
        Its first cells.
    why
        What made it that.
    """

    title: str
    role: str
    unit: str
    values: str
    why: str


@dataclass(frozen=True, eq=False)
class Preview:
    """The beginning of a file as it would be read.

    Parameters
    ----------
    columns
        Titles of the file's columns; empty for a file of bare numbers.
    current, time, voltage
        Numbers of the columns that were taken, from 1; 0 for none.
    delimiter, decimal
        Of a delimited text; empty for others.
    interval_s
        Sample interval so far.
    beginning
        The first samples, A, at most about a million.
    mean_a
        Their mean; None when none was measured.
    whole
        Whether that is all of the file.
    missing
        How many of them are missing.
    header, rows
        The first samples as a table of text.
    raw_lines
        The first lines of a delimited text as they stand there.
    notes
        What was assumed.
    shown
        Each column with its role, its unit, its first values, and why; empty for a file of bare numbers.
    """

    columns: tuple[str, ...]
    current: int
    time: int
    voltage: int
    delimiter: str
    decimal: str
    interval_s: float
    beginning: ArraySeries
    mean_a: float | None
    whole: bool
    missing: int
    header: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    raw_lines: tuple[str, ...]
    notes: tuple[str, ...]
    shown: tuple[ShownColumn, ...] = ()

    @property
    def length_s(self) -> float:
        """Length of the beginning."""
        return self.beginning.samples * self.interval_s

    def current_by_column(self, columns: int) -> PixelColumns:
        """Return the beginning by pixel column."""
        return per_column(envelope(self.beginning, 0.0, self.length_s, columns), 0.0, self.length_s, columns)


def preview(path: Path, options: ImportOptions, *, should_stop: ShouldStop = never) -> Preview:
    """Read the beginning of a file as an import with these options would.

    Raises
    ------
    BadFileError
        If it cannot be read so.
    Cancelled
        If `should_stop` answered yes.
    """
    source = open_source(path, options)
    pieces: list[SourceBlock] = []
    samples, whole = 0, True
    for piece in source.pieces(should_stop, ignore_progress):
        pieces.append(piece)
        samples += len(piece.current)
        if samples >= _MOST_SAMPLES:
            whole = False
            break
    current = np.concatenate([piece.current for piece in pieces])[:_MOST_SAMPLES]
    header, rows = _table(source, pieces, source.interval_s)
    titles, taken = _columns(source)
    text = source.dialect if isinstance(source, TextSource) else None
    return Preview(
        columns=titles,
        current=taken[0],
        time=taken[1],
        voltage=taken[2],
        delimiter=text.delimiter if text is not None else "",
        decimal=text.decimal if text is not None else "",
        interval_s=source.interval_s,
        beginning=ArraySeries(current, source.interval_s),
        mean_a=float(np.nanmean(current, dtype=np.float64)) if not np.isnan(current).all() else None,
        whole=whole,
        missing=int(np.isnan(current).sum()),
        header=header,
        rows=rows,
        raw_lines=_first_lines_of(text.text) if text is not None else (),
        notes=source.notes,
        shown=_shown(source, titles, options) if isinstance(source, ColumnReader) else (),
    )


def _shown(source: ColumnReader, titles: tuple[str, ...], options: ImportOptions) -> tuple[ShownColumn, ...]:
    """Say of each column what it was taken for, and why."""
    columns = source.columns
    roles = {one.index: "line" for one in columns.lines} | {one.index: "channel" for one in columns.aux}
    asked = {"time": options.time_column, "current": options.current_column, "voltage": options.voltage_column}
    for role, one in (("time", columns.time), ("current", columns.current), ("voltage", columns.voltage)):
        if one is not None:
            roles[one.index] = role
    cells = _first_cells(source) if isinstance(source, TextSource) else []
    found = []
    for column in split_headers(titles):
        role = roles.get(column.index, "left out")
        values = ", ".join(row[column.index] for row in cells if column.index < len(row))
        why = "chosen" if asked.get(role) else _why(column, role, source.notes)
        found.append(ShownColumn(column.text or f"column {column.index + 1}", role, column.unit, values, why))
    return tuple(found)


def _why(column: HeaderColumn, role: str, notes: tuple[str, ...]) -> str:
    told = next((note for note in notes if note.startswith(f"column {column.name!r} left out: ")), "")
    if role == "left out":
        return told.partition(": ")[2] or "it is not needed"
    if role == "line":
        return "two values"
    if role == "channel":
        return "a limit, a set-point or an extreme" if not column.is_measured else "further numbers"
    return "by its unit" if column.measure is not None else "by its name"


def _first_cells(source: TextSource) -> list[list[str]]:
    """Return the cells of the first rows as they stand in the file."""
    dialect = source.dialect
    with dialect.text.path.open("rb") as file:
        file.seek(dialect.first_byte)
        lines = [raw.decode(dialect.encoding, "replace").strip("\r\n") for raw in islice(file, _SHOWN_CELLS)]
    return [cells_of(line, dialect.delimiter) for line in lines]


def _columns(source: Source) -> tuple[tuple[str, ...], tuple[int, int, int]]:
    if not isinstance(source, ColumnReader):
        return (), (0, 0, 0)
    columns = source.columns
    taken = tuple(
        column.index + 1 if column is not None else 0 for column in (columns.current, columns.time, columns.voltage)
    )
    return source.titles, (taken[0], taken[1], taken[2])


def _table(
    source: Source, pieces: list[SourceBlock], interval_s: float
) -> tuple[tuple[str, ...], tuple[tuple[str, ...], ...]]:
    first = pieces[0]
    channels: list[tuple[str, Samples]] = [("current, A", first.current)]
    if first.voltage is not None:
        channels.append(("voltage, V", first.voltage))
    for bit, name in enumerate(source.line_names):
        if first.lines is not None:
            channels.append((name, (first.lines >> bit & 1).astype(np.float32)))
    for name, values in first.aux.items():
        unit = source.aux_units.get(name, "")
        channels.append((f"{name}, {unit}" if unit else name, values))
    header = ("time, s", *(title for title, _ in channels))
    count = min(_SHOWN_ROWS, len(first.current))
    rows = tuple(
        (f"{k * interval_s:.9g}", *("missing" if np.isnan(v[k]) else f"{v[k]:.6g}" for _, v in channels))
        for k in range(count)
    )
    return header, rows


def first_lines(path: Path) -> tuple[str, ...]:
    """Return the first lines of a file as they stand there; none where it holds no text, or cannot be read."""
    try:
        return _first_lines_of(plain_text(path))
    except (BadFileError, OSError):
        return ()


def _first_lines_of(text: PlainText) -> tuple[str, ...]:
    with text.path.open("rb") as file:
        file.seek(text.first_byte)
        lines = [line[:_MOST_OF_LINE] for line in islice(file, _RAW_LINES)]
    return tuple(line.decode(text.encoding, "replace").rstrip("\r\n") for line in lines)
