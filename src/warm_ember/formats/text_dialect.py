"""How a delimited text file is written: encoding, delimiter, decimal sign, header, where the table lies."""

from __future__ import annotations

import csv
import math
import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.formats.clock_text import is_clock
from warm_ember.formats.columns import TIME_UNITS_S, VOLTAGE_UNITS_V
from warm_ember.formats.source import CURRENT_UNITS_A
from warm_ember.model.arrays import Floats

_EXPONENT = re.compile(r"[+-]?[0-9]{1,3}")
_HEAD_BYTES = 1 << 16
_TAIL_BYTES = 1 << 16
_ENOUGH_ROWS = 100
_FIRST_LINES = 300
DELIMITERS = (";", "\t", ",", "|", " ")
DELIMITER_NAMES = {";": "semicolon", "\t": "tab", ",": "comma", "|": "bar", " ": "space"}
_MISSING = ("", "nan")


@dataclass(frozen=True)
class Dialect:
    """How the table in a text file is written and where it lies.

    Parameters
    ----------
    encoding
        ``"utf-8"`` or ``"latin-1"``.
    delimiter
        One character; for a single column it is not used.
    decimal
        ``"."`` or ``","``.
    width
        Number of columns.
    header
        Cells of the header row, with a row of units below it merged in; None without one.
    first_line
        Number of the first data row, counted from 1.
    first_byte, last_byte
        Where the data rows start and end.
    decimals
        Most digits after the decimal sign in the first column that has any, by column.
    clocks
        Columns of times as a clock shows them.
    first_row
        Cells of the first row.
    notes
        What was assumed or dropped.
    """

    encoding: str
    delimiter: str
    decimal: str
    width: int
    header: list[str] | None
    first_line: int
    first_byte: int
    last_byte: int
    decimals: tuple[int, ...]
    clocks: tuple[int, ...] = ()
    first_row: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


def cells_of(line: str, delimiter: str) -> list[str]:
    """Split a line, minding quotes and, for spaces, runs of them."""
    if delimiter == " ":
        return line.split()
    try:
        return [cell.strip() for cell in next(csv.reader([line], delimiter=delimiter), [])]
    except csv.Error:  # a cell longer than any number, or a quote that never ends
        return [line]


def number_of(cell: str, decimal: str) -> float | None:
    """Read a cell as a number; NaN when it is missing, None when it is something else."""
    text = cell.strip()
    if text.lower() in _MISSING:
        return math.nan
    if decimal == "," and "." in text:
        return None
    try:
        return float(text.replace(decimal, ".")) if "_" not in text else None
    except ValueError:
        return None


def is_row(line: str, delimiter: str, decimal: str, width: int) -> bool:
    """Answer whether a line is a row of so many numbers, clock times or empty cells, at least one of them a number."""
    cells = cells_of(line, delimiter)
    if len(cells) != width:
        return False
    return all(is_value(cell, decimal) for cell in cells) and any(
        cell.strip() and number_of(cell, decimal) is not None for cell in cells
    )


def is_value(cell: str, decimal: str) -> bool:
    """Answer whether a cell is a number, empty, or a time as a clock shows it."""
    return number_of(cell, decimal) is not None or is_clock(cell)


def find_dialect(path: Path, *, delimiter: str | None = None, decimal: str | None = None) -> Dialect:
    """Find out how a text file is written from its first and last 64 KiB.

    Parameters
    ----------
    path
        The file.
    delimiter, decimal
        Taken as given; found out when None.

    Raises
    ------
    BadFileError
        If it holds no table of numbers.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(_HEAD_BYTES)
    if not head.strip():
        raise BadFileError(path, "the file is empty")
    if b"\0" in head:
        raise BadFileError(
            path,
            "expected text, found binary data",
            where=f"byte {head.index(0)}",
            remedy="name its --format",
        )
    start = 3 if head.startswith(b"\xef\xbb\xbf") else 0
    encoding = _encoding(head[start:])
    raw_lines = head[start:].splitlines(keepends=True)
    if len(head) < size and len(raw_lines) > 1:
        raw_lines.pop()  # cut off in the middle
    lines = [raw.decode(encoding, "replace").strip("\r\n") for raw in raw_lines]
    found = _find_table(lines[:_FIRST_LINES], delimiter, decimal) or _find_table(lines, delimiter, decimal)
    if found is None:
        text = next((line for line in lines if line.strip()), "")
        raise BadFileError(path, f"expected a table of numbers, found {text[:60]!r}", where="line 1")
    delimiter, decimal, width, first = found
    header, header_notes = _find_header(lines[:first], delimiter, width)
    first_byte = start + sum(len(raw) for raw in raw_lines[:first])
    last_byte, dropped = _find_end(path, first_byte, size, encoding, delimiter, decimal, width)
    notes = [f"delimiter {DELIMITER_NAMES[delimiter]}, decimal {'point' if decimal == '.' else 'comma'}"]
    notes += header_notes
    if dropped:
        notes.append(f"{dropped} unreadable lines after the last row dropped")
    sample_rows = [cells_of(line, delimiter) for line in lines[first : first + _ENOUGH_ROWS]]
    decimals = tuple(
        max((_decimals(row[column], decimal) for row in sample_rows if len(row) == width), default=0)
        for column in range(width)
    )
    first_row = tuple(sample_rows[0])
    clocks = tuple(k for k, cell in enumerate(first_row) if number_of(cell, decimal) is None)
    return Dialect(
        encoding,
        delimiter,
        decimal,
        width,
        header,
        first + 1,
        first_byte,
        last_byte,
        decimals,
        clocks,
        first_row,
        tuple(notes),
    )


def numbers_of(path: Path, dialect: Dialect) -> Floats:
    """Read the whole of a small table, shape ``(rows, width)``.

    Raises
    ------
    BadFileError
        Naming the line that is not made of numbers.
    """
    text = path.read_bytes()[dialect.first_byte : dialect.last_byte].decode(dialect.encoding)
    table = []
    for number, line in enumerate(text.splitlines(), dialect.first_line):
        if not line.strip():
            continue
        values = [number_of(cell, dialect.decimal) for cell in cells_of(line, dialect.delimiter)[: dialect.width]]
        if len(values) < dialect.width or any(value is None for value in values):
            problem = f"expected {dialect.width} numbers, found {line.strip()!r}"
            raise BadFileError(path, problem, where=f"line {number}")
        table.append(values)
    return np.array(table, dtype=np.float64)


def _encoding(head: bytes) -> str:
    try:
        head.decode("utf-8")
    except UnicodeDecodeError as error:
        # A character cut in two by the end of what was read is no sign of another encoding.
        if error.start < len(head) - 4:
            return "latin-1"
    return "utf-8"


def _decimals(cell: str, decimal: str) -> int:
    if is_clock(cell):
        return len(re.split(r"[.,]", cell)[-1].rstrip("Z ").split("+")[0]) if re.search(r":\d\d[.,]\d", cell) else 0
    mantissa, _, exponent = cell.lower().partition("e")
    digits = len(mantissa.partition(decimal)[2])
    return digits - int(exponent) if _EXPONENT.fullmatch(exponent) else digits


def _find_table(lines: list[str], wanted: str | None, wanted_decimal: str | None) -> tuple[str, str, int, int] | None:
    """Return delimiter, decimal sign, width and index of the first row of the longest table of numbers, or None."""
    best: tuple[int, int, tuple[str, str, int, int]] | None = None
    for delimiter in (wanted,) if wanted else DELIMITERS:
        for decimal in (wanted_decimal,) if wanted_decimal else (".", ","):
            # Both may be commas only where quotes tell them apart.
            if delimiter == decimal and not any('"' in line for line in lines):
                continue
            found = _longest_run(lines, delimiter, decimal)
            if found is None:
                continue
            rows, width, first = found
            # More rows are better, then more columns; of equals the earlier delimiter is meant.
            score = (rows, width)
            if best is None or score > best[:2]:
                best = (rows, width, (delimiter, decimal, width, first))
    return None if best is None else best[2]


def _longest_run(lines: list[str], delimiter: str, decimal: str) -> tuple[int, int, int] | None:
    """Return rows, width and start of the longest run of rows of equal width."""
    best: tuple[int, int] | None = None
    rows, width = 0, 0
    starts: dict[int, int] = {}
    for index, line in enumerate(lines):
        cells = cells_of(line, delimiter)
        if not any(cells):
            continue
        found = len(cells) if is_row(line, delimiter, decimal, len(cells)) else 0
        starts.setdefault(found, index)
        rows, width = (rows + 1 if found == width else 1), found
        if found and (best is None or rows > best[0]):
            best = (rows, width)
        if found and rows >= _ENOUGH_ROWS:
            break
    # A row before the longest run belongs to the table too: what breaks the run is then an error, not a preface.
    return None if best is None else (*best, starts[best[1]])


def _find_header(before: list[str], delimiter: str, width: int) -> tuple[list[str] | None, list[str]]:
    """Return the header cells from the lines before the table, a row of units merged in."""
    rows = [line.lstrip("#%/ \t") if line.lstrip()[:1] in "#%/" else line for line in before if line.strip()]
    if not rows:
        return None, ["no header row"]
    cells = cells_of(rows[-1], delimiter)
    if len(cells) != width or all(not cell for cell in cells):
        return None, [f"no header row; {len(rows)} lines before the table left out"]
    above = cells_of(rows[-2], delimiter) if len(rows) > 1 else []
    if len(above) == width and all(_is_unit(cell) for cell in cells) and not all(_is_unit(c) for c in above):
        cells = [f"{name} ({unit.strip('()[] ')})" if unit else name for name, unit in zip(above, cells, strict=True)]
        rows.pop()
    skipped = len(rows) - 1
    return cells, [f"{skipped} lines before the header left out"] if skipped else []


def _is_unit(cell: str) -> bool:
    bare = cell.strip("()[] ")
    return bare == "" or bare in CURRENT_UNITS_A or bare in VOLTAGE_UNITS_V or bare in TIME_UNITS_S


def _find_end(
    path: Path, first_byte: int, size: int, encoding: str, delimiter: str, decimal: str, width: int
) -> tuple[int, int]:
    """Return where the last row ends, and how many unreadable lines stand after it."""
    start = max(first_byte, size - _TAIL_BYTES)
    with path.open("rb") as file:
        file.seek(start)
        tail = file.read()
    raw_lines = tail.splitlines(keepends=True)
    end, dropped = size, 0
    for raw in reversed(raw_lines[1:] if start > first_byte else raw_lines):
        line = raw.decode(encoding, "replace").strip("\r\n")
        if is_row(line, delimiter, decimal, width):
            return end, dropped
        end -= len(raw)
        dropped += bool(line.strip())
    raise BadFileError(path, "expected rows of numbers up to the end, found none in the last 64 KiB")


def bad_row(path: Path, dialect: Dialect, used: tuple[int, ...]) -> BadFileError:
    """Find the first row that cannot be read, slowly but with its line number."""
    with path.open("rb") as file:
        file.seek(dialect.first_byte)
        number, position = dialect.first_line, dialect.first_byte
        for raw in file:
            if position >= dialect.last_byte:
                break
            position += len(raw)
            line = raw.decode(dialect.encoding, "replace").strip("\r\n")
            problem = _row_problem(line, dialect, used) if line.strip() else None
            if problem is not None:
                return BadFileError(path, problem, where=f"line {number}")
            number += 1
    return BadFileError(path, "the table cannot be read")


def _row_problem(line: str, dialect: Dialect, used: tuple[int, ...]) -> str | None:
    cells = cells_of(line, dialect.delimiter)
    if len(cells) != dialect.width:
        return f"expected {dialect.width} columns, found {len(cells)}: {line[:60]!r}"
    for column in used:
        if column in dialect.clocks:
            if not is_clock(cells[column]):
                like = dialect.first_row[column]
                return f"column {column + 1}: expected a time like {like!r}, found {cells[column][:40]!r}"
            continue
        number = number_of(cells[column], dialect.decimal)
        if number is None or math.isinf(number):
            return f"column {column + 1}: expected a number, found {cells[column][:40]!r}"
    return None
