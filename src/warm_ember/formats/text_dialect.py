"""How a delimited text file is written: delimiter, decimal sign, header, and what each column holds."""

from __future__ import annotations

import csv
import math
import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from functools import lru_cache, partial
from itertools import pairwise
from pathlib import Path

import numpy as np

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats.cells import MISSING, OVERRANGE, TRUTHS, Numerals, looks_like_number, numerals_of, split_unit
from warm_ember.formats.clock_text import ClockForm, form_of, is_clock, is_date
from warm_ember.formats.column_words import unit_of
from warm_ember.formats.plain_text import PlainText, plain_text
from warm_ember.model.arrays import Floats
from warm_ember.units import counted

_EXPONENT = re.compile(r"[+-]?[0-9]{1,3}")
_HEAD_BYTES = 1 << 16
_TAIL_BYTES = 1 << 16
_SAMPLE_ROWS = 100
_MOSTLY = 0.9
_LONGEST_LINE = 1 << 15
DELIMITERS = (";", "\t", ",", "|", " ")
DELIMITER_NAMES = {";": "semicolon", "\t": "tab", ",": "comma", "|": "bar", " ": "space"}
COMMENTS = ("#", "%", "//")


class CellType(StrEnum):
    """What the cells of a column are."""

    NUMBER = "number"
    CLOCK = "clock"
    DATE = "date"
    TRUTH = "truth"
    UNIT = "unit"
    TEXT = "text"
    EMPTY = "empty"


@dataclass(frozen=True)
class CellKind:
    """What the cells of a column are, and how they are written.

    Parameters
    ----------
    kind
        What they are.
    numerals
        How their numbers are written.
    with_unit
        Whether a unit stands in the cells.
    is_open
        Whether their numbers can be read in another way as well.
    example
        One of them.
    form
        How times or dates are written.
    """

    kind: CellType
    numerals: Numerals = field(default_factory=Numerals)
    with_unit: bool = False
    is_open: bool = False
    example: str = ""
    form: ClockForm | None = None

    def fits(self, cell: str) -> bool:
        """Return whether a cell is one of this column's."""
        text = cell.strip()
        if text.casefold() in MISSING or text.casefold() in OVERRANGE:
            return True
        if self.kind is CellType.NUMBER:
            return self.read(text) is not None
        if self.kind is CellType.CLOCK:
            return is_clock(text)
        if self.kind is CellType.DATE:
            return is_date(text)
        if self.kind is CellType.TRUTH:
            return text.casefold() in TRUTHS
        return True

    def read(self, cell: str) -> float | None:
        """Return a cell as a number; NaN when it is missing or out of range, None when it is something else."""
        text = cell.strip()
        if text.casefold() in OVERRANGE:
            return math.nan
        if self.with_unit and text.casefold() not in MISSING:
            split = split_unit(text)
            return None if split is None else _times(self.numerals.read(split[0]), split[1].scale)
        return self.numerals.read(text)


def _times(value: float | None, factor: float) -> float | None:
    return None if value is None else value * factor


@dataclass(frozen=True)
class Dialect:
    """How the table in a text file is written and where it lies.

    Parameters
    ----------
    text
        The file, or a copy that can be read in the same way as any.
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
        Most digits after the decimal sign in the first rows, by column.
    columns
        What each column's cells are.
    first_row
        Cells of the first row.
    notes
        What was assumed or dropped.
    """

    text: PlainText
    delimiter: str
    decimal: str
    width: int
    header: list[str] | None
    first_line: int
    first_byte: int
    last_byte: int
    decimals: tuple[int, ...]
    columns: tuple[CellKind, ...]
    first_row: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def encoding(self) -> str:
        """The text's encoding."""
        return self.text.encoding

    @property
    def clocks(self) -> tuple[int, ...]:
        """Columns of times as a clock shows them."""
        return tuple(index for index, one in enumerate(self.columns) if one.kind is CellType.CLOCK)


def cells_of(line: str, delimiter: str) -> list[str]:
    """Split a line, minding quotes and, for spaces, runs of them."""
    if delimiter == " ":
        return line.split()
    if '"' not in line and "\0" not in line:
        return [cell.strip() for cell in line.split(delimiter)] if line else []
    try:
        return [cell.strip() for cell in next(csv.reader([line], delimiter=delimiter), [])]
    except csv.Error:  # a cell longer than any number, or a quote that never ends
        return [line]


def find_dialect(
    path: Path, *, delimiter: str | None = None, decimal: str | None = None, month_first: bool | None = None
) -> Dialect:
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
        If it holds no table of numbers, or nothing tells how its numbers are written.
    """
    text = plain_text(path)
    raw_lines = _first_lines(text)
    lines = [raw.decode(text.encoding, "replace").strip("\r\n") for raw in raw_lines]
    _check_lengths(path, lines)
    table = _find_table(path, lines, delimiter, decimal)
    if _has_decimal_commas(lines, table):
        if table.width > 2:
            problem = "commas part the columns and stand in the numbers as well"
            raise BadFileError(path, problem, where=f"line {table.first + 1}", remedy="write one of them otherwise")
        table = _find_table(path, lines, " ", decimal)
    first_byte = text.first_byte + sum(len(raw) for raw in raw_lines[: table.first])
    header, header_notes = _find_header(path, lines[: table.first], table)
    columns = _columns(path, table, decimal, month_first)
    last_byte, dropped = _find_end(path, text, first_byte, table, columns)
    sign = next((one.numerals.decimal for one in columns if one.kind is CellType.NUMBER), ".")
    notes = [f"delimiter {DELIMITER_NAMES[table.delimiter]}, decimal {'point' if sign == '.' else 'comma'}"]
    notes += [*text.notes, *header_notes, *_written(columns, header)]
    if dropped:
        notes.append(f"{dropped} unreadable lines after the last row dropped")
    return Dialect(
        text,
        table.delimiter,
        sign,
        table.width,
        header,
        first_line=table.first + 1,
        first_byte=first_byte,
        last_byte=last_byte,
        decimals=_most_decimals(table, columns),
        columns=columns,
        first_row=tuple(table.rows[0]),
        notes=tuple(notes),
    )


def _first_lines(text: PlainText) -> list[bytes]:
    """Return the whole lines among the first 64 KiB, with their ends."""
    with text.path.open("rb") as file:
        file.seek(text.first_byte)
        head = file.read(min(_HEAD_BYTES, text.last_byte - text.first_byte))
    lines = head.splitlines(keepends=True)
    if text.first_byte + len(head) < text.last_byte and len(lines) > 1:
        lines.pop()  # cut off in the middle
    return lines


def _most_decimals(table: _Table, columns: tuple[CellKind, ...]) -> tuple[int, ...]:
    return tuple(max((_decimals(row[k], one) for row in table.rows), default=0) for k, one in enumerate(columns))


def numbers_of(path: Path, dialect: Dialect) -> Floats:
    """Read the whole of a small table, shape ``(rows, width)``.

    Raises
    ------
    BadFileError
        Naming the line that is not made of numbers.
    """
    text = dialect.text.path.read_bytes()[dialect.first_byte : dialect.last_byte].decode(dialect.encoding)
    table = []
    for number, line in enumerate(text.splitlines(), dialect.first_line):
        if not line.strip() or is_comment(line):
            continue
        cells = cells_of(line, dialect.delimiter)[: dialect.width]
        values = [column.read(cell) for column, cell in zip(dialect.columns, cells, strict=False)]
        if len(values) < dialect.width or any(value is None for value in values):
            problem = f"expected {dialect.width} numbers, found {line.strip()!r}"
            raise BadFileError(path, problem, where=f"line {number}")
        table.append(values)
    return np.array(table, dtype=np.float64)


def is_comment(line: str) -> bool:
    """Return whether a line is a comment, and not a row whose first cell is missing."""
    text = line.lstrip(' "')
    return text.startswith(COMMENTS) and not text.casefold().startswith("#n/a")


def _check_lengths(path: Path, lines: Sequence[str]) -> None:
    longest = max(range(len(lines)), key=lambda index: len(lines[index]))
    if len(lines[longest]) > _LONGEST_LINE:
        found = f"line {longest + 1}"
        raise BadFileError(path, f"a line of {len(lines[longest])} characters is longer than any row", where=found)


@dataclass(frozen=True)
class _Table:
    """Where the table begins, how its columns are parted, and some of its rows."""

    delimiter: str
    width: int
    first: int
    rows: list[list[str]]


def _find_table(path: Path, lines: list[str], wanted: str | None, decimal: str | None) -> _Table:
    best: tuple[tuple[float, int, int], str, int] | None = None
    tabbed = sum("\t" in line for line in lines) > len(lines) / 2
    for delimiter in (wanted,) if wanted else DELIMITERS:
        if delimiter == " " and tabbed and not wanted:
            continue
        split = _split(lines, delimiter)
        widths = Counter(len(cells) for cells in split if any(map(_is_value, cells)))
        for width, count in widths.most_common(3):
            mine = [cells for cells in split if len(cells) == width and any(map(_is_value, cells))]
            told = [cell for cells in mine for cell in cells if cell]
            numeric = sum(_is_value(cell) or cell.casefold() in TRUTHS for cell in told) / max(len(told), 1)
            # Commas are no delimiter where each of them is a decimal sign.
            clashes = delimiter == "," and decimal == "," and not any('"' in line for line in lines)
            # A single column is what any other delimiter makes of any table, and blanks part dates from times.
            worth = numeric * (0.5 if width == 1 else 0.9 if delimiter == " " else 1.0)
            score = (round(worth * min(count, _SAMPLE_ROWS), 1), width, count)
            if not clashes and (best is None or score > best[0]):
                best = (score, delimiter, width)
    if best is None:
        text = next((line for line in lines if line.strip()), "")
        raise BadFileError(path, f"expected a table of numbers, found {text[:60]!r}", where="line 1")
    _, delimiter, width = best
    rows = {index: row for index, cells in enumerate(_split(lines, delimiter)) if (row := fitted_row(cells, width))}
    body = [row for row in rows.values() if any(map(_is_value, row))]
    # What most rows of the body hold tells which lines before it belong to it.
    last = body[len(body) // 2 :]
    needed = [k for k in range(width) if sum(_is_value(row[k]) for row in last) >= _MOSTLY * len(last)]
    first = next(i for i, row in rows.items() if any(map(_is_value, row)) and all(_is_cell(row[k]) for k in needed))
    return _Table(delimiter, width, first, [row for index, row in rows.items() if index >= first][:_SAMPLE_ROWS])


def _has_decimal_commas(lines: list[str], table: _Table) -> bool:
    """Return whether a row has twice as many cells as the header because its numbers have commas in them."""
    above = [cells for cells in _split(lines[: table.first], table.delimiter) if cells]
    quoted = any('"' in line for line in lines[table.first : table.first + _SAMPLE_ROWS])
    return table.delimiter == "," and not quoted and bool(above) and 2 * len(above[-1]) == table.width


def _split(lines: list[str], delimiter: str) -> list[list[str]]:
    return [cells_of(line, delimiter) if line.strip() and not is_comment(line) else [] for line in lines]


def fitted_row(cells: list[str], width: int) -> list[str] | None:
    """Return a line's cells as a row: a delimiter too many at its end makes none; None where it is no row."""
    if len(cells) == width:
        return cells
    return cells[:width] if len(cells) == width + 1 and not cells[-1] else None


@lru_cache(maxsize=1 << 15)  # every delimiter is tried on the same lines
def _is_value(cell: str) -> bool:
    """Return whether a cell is a number or a time, and not missing."""
    return (looks_like_number(cell) and cell.strip().casefold() not in MISSING) or is_clock(cell) or is_date(cell)


def _is_cell(cell: str) -> bool:
    return looks_like_number(cell) or is_clock(cell) or is_date(cell)


def _columns(path: Path, table: _Table, decimal: str | None, month_first: bool | None) -> tuple[CellKind, ...]:
    """Find out what the cells of each column are; numbers are written in one way in all of them where they can be."""
    bare = [_bare([row[k] for row in table.rows]) for k in range(table.width)]
    signs = [(cells, *numerals_of(cells, decimal)) for cells in bare]
    known = Counter(way.decimal for cells, way, is_open in signs if way and not is_open and _tells(way, cells))
    sign = decimal or (known.most_common(1)[0][0] if known else None)
    form = partial(_form, path, month_first=month_first)
    return tuple(_cell_kind(path, [row[k] for row in table.rows], k, sign, decimal, form) for k in range(table.width))


def _tells(way: Numerals, cells: Sequence[str]) -> bool:
    """Return whether a decimal sign is seen, and not only one that is as good as another."""
    return any(way.decimal in cell for cell in cells) or bool(way.group)


def _bare(cells: Sequence[str]) -> list[str]:
    """Return the numbers of cells without their units; of times as a clock shows them nothing."""
    return [
        split[0] if (split := split_unit(cell)) else cell for cell in cells if not (is_clock(cell) or is_date(cell))
    ]


def _cell_kind(
    path: Path,
    cells: list[str],
    index: int,
    sign: str | None,
    decimal: str | None,
    form: Callable[..., ClockForm],
) -> CellKind:
    filled = [cell.strip() for cell in cells if cell.strip()]
    if filled and all(unit_of(cell) is not None and cell not in ("NA", "na") for cell in filled):
        return CellKind(CellType.UNIT, example=filled[0])
    some = [cell for cell in filled if cell.casefold() not in MISSING | OVERRANGE]
    example = next(iter(some), "")
    if not some:
        return CellKind(
            CellType.EMPTY if all(not cell.strip() for cell in cells) else CellType.NUMBER, Numerals(sign or ".")
        )
    if sum(map(is_clock, some)) > len(some) / 2:
        mine = [cell for cell in some if is_clock(cell)]
        return CellKind(CellType.CLOCK, example=mine[0], form=form(index, mine))
    if sum(map(is_date, some)) > len(some) / 2:
        mine = [cell for cell in some if is_date(cell)]
        return CellKind(CellType.DATE, example=mine[0], form=form(index, mine, dates=True))
    if all(cell.casefold() in TRUTHS for cell in some):
        return CellKind(CellType.TRUTH, example=example)
    units = [split_unit(cell) for cell in some]
    numbers = sum(looks_like_number(cell) for cell in some)
    if numbers > len(some) / 2:
        some = [cell for cell in some if looks_like_number(cell)]
        with_unit = sum(unit is not None for unit in units) > len(some) / 2
        way, is_open = numerals_of(_bare(some), decimal or sign)
        if way is None:
            way, is_open = numerals_of(_bare(some), decimal)
        if way is None:
            problem = f"column {index + 1}: cannot tell how numbers such as {some[0]!r} and {some[-1]!r} are written"
            raise BadFileError(path, problem, remedy="give the decimal sign with --decimal")
        return CellKind(CellType.NUMBER, way, with_unit, is_open and _is_open(way, sign, some), example)
    return CellKind(CellType.TEXT, example=example)


def _form(
    path: Path, index: int, cells: list[str], *, dates: bool = False, month_first: bool | None = None
) -> ClockForm:
    try:
        return form_of(cells, dates=dates, month_first=month_first)
    except BadArgumentError as error:
        raise BadFileError(
            path, f"column {index + 1}: {error}", remedy="say which with --dates day-first or month-first"
        ) from error


def _is_open(way: Numerals, sign: str | None, cells: Sequence[str]) -> bool:
    """Return whether another reading of a column's numbers is as likely: thousands, where no other column tells."""
    return sign is None or way.decimal != sign or not any(way.decimal in cell for cell in cells)


def _written(columns: Sequence[CellKind], header: list[str] | None) -> list[str]:
    """Return what is not as usual about how numbers are written."""
    notes = []
    for index, one in enumerate(columns):
        title = repr(header[index]) if header else str(index + 1)
        if one.kind is CellType.NUMBER and one.numerals.group:
            group = {",": "commas", ".": "points", "'": "apostrophes", " ": "blanks"}[one.numerals.group]
            notes.append(f"column {title}: thousands parted by {group}: {one.example!r} is {one.read(one.example):g}")
        elif one.kind is CellType.NUMBER and one.is_open:
            other, value = one.example.replace(one.numerals.decimal, ""), one.read(one.example)
            notes.append(f"column {title}: {one.example!r} read as {value:g}; if it is {other}, give --decimal")
    return notes


def _find_header(path: Path, before: list[str], table: _Table) -> tuple[list[str] | None, list[str]]:
    """Return the header cells from the lines before the table, a row of units merged in."""
    lines = [line.lstrip("#%/ \t") if is_comment(line) else line for line in before]
    alone = table.width == 1 and table.delimiter == " "
    rows = [[line.strip()] if alone else cells_of(line, table.delimiter) for line in lines]
    rows = [cells for cells in rows if any(cells)]
    trailing = all(not row[-1].strip() for row in table.rows)
    while rows and not (_may_be_header(rows[-1], table.width) or (trailing and len(rows[-1]) == table.width - 2)):
        if _has_names(rows[-1]):
            found = f"{len(rows[-1])} names, and the rows {counted(table.width, 'column')}"
            raise BadFileError(path, f"the header has {found}", remedy="correct it, or name --delimiter")
        rows.pop()
        if rows and not _may_be_header(rows[-1], table.width):
            return None, ["no header row"]
    if not rows:
        return None, [
            "no header row" if not any(before) else f"no header row; {counted(len(before), 'line')} before it left out"
        ]
    units = None
    if len(rows) > 1 and all(_is_unit(cell) for cell in rows[-1]) and _may_be_header(rows[-2], table.width):
        units = _fitted(rows.pop(), table)
    cells, notes = _fitted(rows[-1], table), []
    if len([cell for cell in rows[-1] if cell]) < table.width and not cells[0] and rows[-1][0]:
        notes.append("the first column has no name: taken as names of rows")
    if units is not None:
        cells = [f"{name} ({unit.strip('()[] ')})" if unit else name for name, unit in zip(cells, units, strict=True)]
    if len(rows) > 1:
        notes.append(f"{len(rows) - 1} line{'s' if len(rows) > 2 else ''} before the header left out")
    return cells, notes


def _may_be_header(cells: list[str], width: int) -> bool:
    return any(cells) and (len(cells) in (width, width - 1) or (len(cells) == width + 1 and not cells[-1]))


def _has_names(cells: list[str]) -> bool:
    """Return whether a line names columns: two or more of its cells are those of quantities with units or names."""
    from warm_ember.formats.column_words import Quantity, split_headers

    found = [one.measure.quantity if one.measure else None for one in split_headers(cells)]
    return len(cells) > 1 and sum(one in (Quantity.CURRENT, Quantity.TIME, Quantity.VOLTAGE) for one in found) > 1


def _fitted(cells: list[str], table: _Table) -> list[str]:
    """Return as many cells as there are columns: a last one that is empty falls away, a missing first one is added."""
    if len(cells) > table.width:
        return cells[: table.width]
    if not cells[-1] and any(row[-1].strip() for row in table.rows) and _counts([row[0] for row in table.rows]):
        return ["", *cells[:-1]]  # one delimiter too many stands in for the name that the numbers of rows have not
    has_trailing = all(not row[-1].strip() for row in table.rows)
    if len(cells) == table.width - 2 and has_trailing:
        return ["", *cells, ""]
    if len(cells) == table.width - 1:
        return [*cells, ""] if has_trailing else ["", *cells]
    return cells


def _counts(cells: Sequence[str]) -> bool:
    """Return whether some cells count up by one."""
    numbers = [int(cell) if cell.isdecimal() else None for cell in cells]
    return len(cells) > 1 and all(a is not None and b == a + 1 for a, b in pairwise(numbers))


def _is_unit(cell: str) -> bool:
    bare = cell.strip("()[] ")
    return bare in ("", "-") or unit_of(bare) is not None


def _decimals(cell: str, column: CellKind) -> int:
    if column.kind in (CellType.CLOCK, CellType.DATE):
        return len(re.split(r"[.,]", cell)[-1].rstrip("Z ").split("+")[0]) if re.search(r":\d\d[.,]\d", cell) else 0
    split = split_unit(cell) if column.with_unit else None
    mantissa, _, exponent = (split[0] if split else cell).lower().partition("e")
    digits = len(mantissa.partition(column.numerals.decimal)[2])
    return digits - int(exponent) if _EXPONENT.fullmatch(exponent) else digits


def _find_end(
    path: Path, text: PlainText, first_byte: int, table: _Table, columns: Sequence[CellKind]
) -> tuple[int, int]:
    """Return where the last row ends, and how many unreadable lines stand after it."""
    start = max(first_byte, text.last_byte - _TAIL_BYTES)
    with text.path.open("rb") as file:
        file.seek(start)
        tail = file.read(text.last_byte - start)
    raw_lines = tail.splitlines(keepends=True)
    end, dropped = text.last_byte, 0
    for raw in reversed(raw_lines[1:] if start > first_byte else raw_lines):
        line = raw.decode(text.encoding, "replace").strip("\r\n")
        if is_row(line, table.delimiter, columns):
            return end, dropped
        end -= len(raw)
        dropped += bool(line.strip()) and not is_comment(line)
    raise BadFileError(path, "expected rows of numbers up to the end, found none in the last 64 KiB")


def is_row(line: str, delimiter: str, columns: Sequence[CellKind]) -> bool:
    """Return whether a line is a row of a table, with a value in it."""
    row = None if is_comment(line) else fitted_row(cells_of(line, delimiter), len(columns))
    if row is None or not any(map(_is_value, row)):
        return False
    return all(column.fits(cell) for column, cell in zip(columns, row, strict=True))


def row_problem(line: str, dialect: Dialect, used: Sequence[int]) -> str | None:
    """Return why a line is no row; None when it is one."""
    found = cells_of(line, dialect.delimiter)
    cells = fitted_row(found, dialect.width)
    if cells is None:
        return f"expected {counted(dialect.width, 'column')}, found {len(found)}: {line[:60]!r}"
    for index in used:
        column, cell = dialect.columns[index], cells[index]
        if column.kind in (CellType.CLOCK, CellType.DATE) and not column.fits(cell):
            return f"column {index + 1}: expected a time like {column.example!r}, found {cell[:40]!r}"
        if column.kind is CellType.NUMBER:
            number = column.read(cell)
            if number is None or math.isinf(number):
                return f"column {index + 1}: expected a number, found {cell[:40]!r}"
    return None


def bad_row(path: Path, dialect: Dialect, used: Sequence[int]) -> BadFileError:
    """Find the first row that cannot be read, slowly but with its line number."""
    with dialect.text.path.open("rb") as file:
        file.seek(dialect.first_byte)
        number, position = dialect.first_line, dialect.first_byte
        for raw in file:
            if position >= dialect.last_byte:
                break
            position += len(raw)
            line = raw.decode(dialect.encoding, "replace").strip("\r\n")
            problem = row_problem(line, dialect, used) if line.strip() and not is_comment(line) else None
            if problem is not None:
                return BadFileError(path, problem, where=f"line {number}")
            number += 1
    return BadFileError(path, "the table cannot be read")
