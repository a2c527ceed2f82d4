"""Tables as many writers write them: one current, in any of the usual styles, with one or two things odd at a time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

UNITS = {
    "A": 1.0, "mA": 1e-3, "uA": 1e-6, "µA": 1e-6, "nA": 1e-9, "MA": 1e-3, "amps": 1.0, "milliamps": 1e-3,
    "microamperes": 1e-6, "Ampere": 1.0, "UA": 1e-6,
}  # fmt: skip
TIMES = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "seconds": 1.0, "sec": 1.0, "S": 1.0, "MS": 1e-3, "min": 60.0}
CURRENTS = (
    "Current",
    "I",
    "current",
    "Strom",
    "CH1 Current",
    "Iout",
    "i_load",
    "Avg Current",
    "Measured current",
    "idd",
)
TIME_NAMES = ("Time", "t", "time", "Timestamp", "Elapsed", "Zeit", "x", "ts", "elapsed time", "seconds")
FORMS = ("{n} ({u})", "{n} [{u}]", "{n}/{u}", "{n} / {u}", "{n}_{u}", "{n} in {u}", "{n}: {u}", "{n} {u}", "{n}({u})")
ODD = (
    "limit", "setpoint", "extremes", "voltages", "power", "charge", "index", "row names", "text", "truth", "sparse",
    "comment inside", "preamble", "units row", "unit column", "unit in cells", "autorange", "group", "trailing",
    "trailing header", "missing", "overrange", "utf-16", "latin-1", "mark", "crlf", "cr", "zeros", "clock",
    "date and time", "half days", "epoch ms", "epoch ns", "zone", "minutes", "days", "basic", "other unit",
    "strange unit", "no unit", "two currents", "only a limit", "quoted", "garbage end", "bad row",
    "blank lines", "whole seconds",
)  # fmt: skip


@dataclass
class Table:
    """A file, and what is in it.

    Parameters
    ----------
    content
        The file.
    current_a
        The samples, NaN where one is missing.
    interval_s
        Between them.
    odd
        What is odd about it.
    is_open
        Whether nothing in it tells what it means, so that it may be refused or a reading told.
    """

    content: bytes
    current_a: np.ndarray
    interval_s: float
    odd: tuple[str, ...]
    is_open: bool = False


OF_UNIT = frozenset(
    ("units row", "unit column", "unit in cells", "autorange", "group", "other unit", "strange unit", "no unit",
     "only a limit")
)  # fmt: skip
OF_TIME = frozenset(
    ("clock", "date and time", "half days", "epoch ms", "epoch ns", "zone", "minutes", "days", "basic", "whole seconds",
     "units row")
)  # fmt: skip
OF_ENCODING = frozenset(("utf-16", "latin-1", "mark"))
OF_END = frozenset(("crlf", "cr"))
OF_CHOICE = frozenset(("two currents", "other unit", "only a limit"))
OF_ROWS = frozenset(("row names", "index"))
"""Of each of these one table has one at most."""


def may_meet(odd: tuple[str, ...]) -> bool:
    """Answer whether two oddities can be in one table."""
    return not any(len(kind & set(odd)) > 1 for kind in (OF_UNIT, OF_TIME, OF_ENCODING, OF_END, OF_ROWS, OF_CHOICE))


@dataclass
class _Column:
    title: str
    cells: list[str]
    unit_below: str = ""


@dataclass
class _Draft:
    """A table on its way: what is in it, its columns, and how it is written."""

    random: np.random.Generator
    current_a: np.ndarray
    times_s: np.ndarray
    unit: str
    name: str
    delimiter: str
    decimal: str
    time: _Column
    current: _Column
    columns: list[_Column] = field(default_factory=list)
    before: list[str] = field(default_factory=list)
    has_units_row: bool = False
    keeps_order: bool = False
    encoding: str = "utf-8"
    end: str = "\n"
    tail: str = ""
    zeros: int = 0
    is_open: bool = False
    inside: str | None = None
    rows_end: str = ""
    header_end: str = ""
    row_names: bool = False

    def number(self, value: float, digits: int = 12) -> str:
        """Write a number."""
        return f"{value:.{digits}f}".rstrip("0").rstrip(".").replace(".", self.decimal) or "0"

    def one_of(self, *choices: str) -> str:
        """Return one of some words."""
        return str(self.random.choice(choices))

    def add(self, title: str, cells: list[str], at: int | None = None) -> None:
        """Add a column."""
        self.columns.insert(len(self.columns) if at is None else at, _Column(title, cells))

    def noise(self) -> list[str]:
        """Return numbers that mean nothing."""
        return [self.number(float(value), 4) for value in self.random.uniform(0, 9, len(self.current_a))]

    def written(self) -> bytes:
        """Write it."""
        part = self.delimiter
        lines = [*self.before, part.join(one.title for one in self.columns) + self.header_end]
        if self.has_units_row:
            lines.append(part.join(one.unit_below for one in self.columns))
        for number, row in enumerate(zip(*(one.cells for one in self.columns), strict=True)):
            lines.append((f"{number}{part}" if self.row_names else "") + part.join(row) + self.rows_end)
            if self.inside is not None and number == 11:
                lines.append(self.inside)
        text = self.end.join(lines) + self.end + self.tail
        return text.encode(self.encoding, "replace") + b"\0" * self.zeros


def make(random: np.random.Generator, odd: tuple[str, ...]) -> Table:
    """Write one table.

    Parameters
    ----------
    random
        Where its style and its values come from.
    odd
        What is odd about it, of `ODD`.
    """
    rows = 60 if "whole seconds" in odd else int(random.integers(25, 60))
    interval_s = float(random.choice([0.01, 0.1, 0.25] if OF_TIME & set(odd) else [0.001, 0.01, 0.1, 0.25, 1.0]))
    interval_s = 0.1 if "whole seconds" in odd else interval_s
    current_a = np.round(random.uniform(0.5, 9.5, rows) * 10.0 ** random.integers(-5, -1), 9)
    decimal = str(random.choice([".", ","]))
    draft = _Draft(
        random, current_a, np.arange(rows) * interval_s, str(random.choice(list(UNITS))), str(random.choice(CURRENTS)),
        str(random.choice([";", "\t"] if decimal == "," else [",", ";", "\t", "|"])), decimal, _Column("", []),
        _Column("", []),
    )  # fmt: skip
    time_unit = str(random.choice([one for one in TIMES if one != "min" or interval_s >= 0.25]))
    time_name = str(random.choice(TIME_NAMES))
    time_unit = "s" if time_name == "seconds" else time_unit
    draft.time.title = time_name if time_name == "seconds" else _titled(random, time_name, time_unit)
    draft.time.cells = [draft.number(value / TIMES[time_unit]) for value in draft.times_s.tolist()]
    draft.current.title = _titled(random, draft.name, draft.unit)
    draft.current.cells = [draft.number(value / UNITS[draft.unit]) for value in current_a.tolist()]
    draft.columns = [draft.time, draft.current]
    for one in sorted(odd, key=ODD.index):
        _ODDITIES[one](draft)
    if random.random() < 0.3 and not draft.keeps_order:
        draft.columns = [draft.columns[k] for k in random.permutation(len(draft.columns)).tolist()]
    return Table(draft.written(), current_a, interval_s, odd, draft.is_open)


def _titled(random: np.random.Generator, name: str, unit: str) -> str:
    forms = FORMS if len(unit) > 1 else FORMS[:6]
    return str(random.choice(forms)).format(n=name, u=unit)


def _limit(draft: _Draft) -> None:
    titles = ("Current limit (A)", "I_limit (A)", "OCP (A)", "Current Range (A)", "Compliance (A)")
    draft.add(draft.one_of(*titles), [draft.number(1.5)] * len(draft.current_a), 1)


def _setpoint(draft: _Draft) -> None:
    titles = ("Set Current (A)", "I set (A)", "Target current (mA)")
    draft.add(draft.one_of(*titles), [draft.number(2.0)] * len(draft.current_a), 1)


def _extremes(draft: _Draft) -> None:
    for word in ("Max", "Min", "Peak"):
        draft.add(f"{word} {draft.name} ({draft.unit})", draft.noise())


def _voltages(draft: _Draft) -> None:
    draft.add("Voltage (V)", [draft.number(3.3)] * len(draft.current_a))
    draft.add("Voltage limit (V)", [draft.number(5.0)] * len(draft.current_a), 1)


def _power(draft: _Draft) -> None:
    draft.add("Power (mW)", draft.noise())


def _charge(draft: _Draft) -> None:
    draft.add("Charge (mAh)", draft.noise(), 1)


def _index(draft: _Draft) -> None:
    draft.add(draft.one_of("", "index", "No.", "Sample", "No", "id"), [str(k) for k in range(len(draft.current_a))], 0)


def _row_names(draft: _Draft) -> None:
    draft.row_names = True


def _text(draft: _Draft) -> None:
    draft.add("Note", [draft.one_of("", "ok", "see log", "n/a") for _ in draft.current_a])


def _truth(draft: _Draft) -> None:
    draft.add("TX", [draft.one_of("true", "false") for _ in draft.current_a])


def _sparse(draft: _Draft) -> None:
    draft.add("Temp (°C)", [draft.number(21.5) if k % 7 == 0 else "" for k in range(len(draft.current_a))])


def _comment_inside(draft: _Draft) -> None:
    draft.inside = "# the lid was opened"


def _preamble(draft: _Draft) -> None:
    extra = draft.delimiter * int(draft.random.integers(0, 3))
    part = draft.delimiter
    draft.before = [f"Model{part}K7{extra}", f"Start{part}2026-03-02 10:00{extra}", ""]


def _units_row(draft: _Draft) -> None:
    draft.time.title, draft.time.unit_below = "time", draft.one_of("s", "seconds", "(s)")
    draft.time.cells = [draft.number(value) for value in draft.times_s.tolist()]
    draft.current.title, draft.current.unit_below = draft.name, draft.unit
    draft.has_units_row = True


def _unit_column(draft: _Draft) -> None:
    draft.current.title = draft.one_of("Current", "I", "Measured current")
    draft.add("Unit", [draft.unit] * len(draft.current_a), draft.columns.index(draft.current) + 1)
    draft.keeps_order = True


def _unit_in_cells(draft: _Draft) -> None:
    blank = draft.one_of("", " ")
    draft.current.title = "Current"
    draft.current.cells = [f"{cell}{blank}{draft.unit}" for cell in draft.current.cells]


def _autorange(draft: _Draft) -> None:
    units = [draft.one_of("mA", "uA", "A") for _ in draft.current_a]
    draft.current.title = "Reading of current"
    pairs = zip(draft.current_a.tolist(), units, strict=True)
    draft.current.cells = [f"{draft.number(value / UNITS[unit])} {unit}" for value, unit in pairs]


def _group(draft: _Draft) -> None:
    group = draft.one_of("," if draft.decimal == "." else ".", "'", " ")
    group = "'" if group == draft.delimiter else group
    draft.current_a[:] = np.round(draft.current_a * 1e9) * 1e-9 + 0.5e-9
    draft.current.title = "Current (nA)"
    whole = (f"{int(value * 1e9 + 0.1):,d}".replace(",", group) for value in draft.current_a.tolist())
    draft.current.cells = [f"{one}{draft.decimal}5" for one in whole]


def _trailing(draft: _Draft) -> None:
    draft.rows_end = draft.delimiter


def _trailing_header(draft: _Draft) -> None:
    draft.header_end = draft.delimiter


def _missing(draft: _Draft) -> None:
    word = draft.one_of("", "NaN", "NA", "null", "#N/A", "-")
    for row in draft.random.choice(len(draft.current_a), 3, replace=False).tolist():
        draft.current.cells[row] = word
        draft.current_a[row] = np.nan


def _overrange(draft: _Draft) -> None:
    for row in draft.random.choice(len(draft.current_a), 2, replace=False).tolist():
        draft.current.cells[row] = draft.one_of("OL", "OVLD", "Overload")
        draft.current_a[row] = np.nan


def _utf_16(draft: _Draft) -> None:
    draft.encoding = "utf-16"


def _latin_1(draft: _Draft) -> None:
    draft.encoding = "latin-1"


def _mark(draft: _Draft) -> None:
    draft.encoding = "utf-8-sig"


def _crlf(draft: _Draft) -> None:
    draft.end = "\r\n"


def _cr(draft: _Draft) -> None:
    draft.end = "\r"


def _zeros(draft: _Draft) -> None:
    draft.zeros = 0 if draft.encoding == "utf-16" else int(draft.random.integers(1, 9000))


def _clocked(draft: _Draft, write: Callable[[float], str], first_s: float | None = None) -> None:
    first_s = float(draft.random.integers(0, 20_000)) if first_s is None else first_s
    draft.time.title = "Time"
    draft.time.cells = [write(round(first_s + value, 3)) for value in draft.times_s.tolist()]


def _hms(value: float) -> str:
    return f"{int(value // 3600):02d}:{int(value // 60) % 60:02d}:{value % 60:06.3f}"


def _clock(draft: _Draft) -> None:
    _clocked(draft, lambda value: f"2026-03-02 {_hms(value)}")


def _date_and_time(draft: _Draft) -> None:
    _clocked(draft, _hms)
    draft.add("Date", ["2026-03-02"] * len(draft.times_s), 0)


def _half_days(draft: _Draft) -> None:
    def write(value: float) -> str:
        hours = int(value // 3600)
        return f"3/22/2026 {(hours - 1) % 12 + 1}:{_hms(value)[3:]} {'PM' if hours % 24 >= 12 else 'AM'}"

    _clocked(draft, write, 43_195.0)


def _epoch_ms(draft: _Draft) -> None:
    draft.time.title = "timestamp"
    draft.time.cells = [str(1_772_445_600_000 + round(value * 1000)) for value in draft.times_s.tolist()]


def _epoch_ns(draft: _Draft) -> None:
    draft.time.title = "timestamp"
    draft.time.cells = [str(1_772_445_600_000_000_000 + round(value * 1e9)) for value in draft.times_s.tolist()]


def _zone(draft: _Draft) -> None:
    half = float(draft.times_s[len(draft.times_s) // 2])

    def write(value: float) -> str:
        ahead = 2 if value < 7200 + half else 1
        return f"2026-10-25T{_hms(value + 3600 * ahead)}+{ahead:02d}:00"

    _clocked(draft, write, 7200.0)


def _minutes(draft: _Draft) -> None:
    _clocked(draft, lambda value: f"{int(value // 60) % 60:02d}:{value % 60:06.3f}", 3595.0)


def _days(draft: _Draft) -> None:
    _clocked(draft, lambda value: f"0 days {_hms(value)}")


def _basic(draft: _Draft) -> None:
    _clocked(draft, lambda value: f"20260302T{_hms(value).replace(':', '')}Z")


def _whole_seconds(draft: _Draft) -> None:
    _clocked(draft, lambda value: f"2026-03-02 10:00:{int(value + 1e-9):02d}", 0.0)


def _other_unit(draft: _Draft) -> None:
    draft.current.title = draft.one_of("Current (mAh)", "Current (mW)", "Current [V]", "I (kOhm)")
    draft.is_open = True


def _strange_unit(draft: _Draft) -> None:
    draft.current.title = draft.one_of("Current (xyz)", "Current [fooA]", "I (units)")
    draft.is_open = True


def _no_unit(draft: _Draft) -> None:
    draft.current.title = "Current"
    draft.is_open = True


def _two_currents(draft: _Draft) -> None:
    draft.add(f"Other current ({draft.unit})", draft.noise(), 1)
    draft.is_open = True


def _only_a_limit(draft: _Draft) -> None:
    draft.current.title = f"Current limit ({draft.unit})"
    draft.is_open = True


def _quoted(draft: _Draft) -> None:
    for one in draft.columns:
        one.title, one.cells = f'"{one.title}"', [f'"{cell}"' for cell in one.cells]


def _garbage_end(draft: _Draft) -> None:
    draft.tail = "--- end of log ---" + draft.end


def _bad_row(draft: _Draft) -> None:
    draft.current.cells[15] = "oops"
    draft.is_open = True


def _blank_lines(draft: _Draft) -> None:
    draft.inside = ""


_ODDITIES = {one: globals()["_" + one.replace(" ", "_").replace("-", "_")] for one in ODD}
