"""Digital lines from a value change dump (IEEE 1364-2005, clause 18)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import numpy as np

from warm_ember.errors import BadFileError, Cancelled
from warm_ember.model.arrays import Bits, Floats
from warm_ember.signal.series import CHUNK_SAMPLES, ShouldStop, never
from warm_ember.units import counted

MOST_LINES = 32
_TIME_UNITS_S = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9, "ps": 1e-12, "fs": 1e-15}
_TIMESCALE = re.compile(r"(1|10|100)\s*(s|ms|us|ns|ps|fs)\Z")
_MOST_HEADER_BYTES = 16 << 20
_CHANGES_PER_PART = 1 << 16
_READ_AT_ONCE, _LONGEST_WORD = 1 << 16, 1 << 20
_END_OF_HEADER = re.compile(rb"\$enddefinitions\b[^$]*\$end(?=\s|\Z)")
_SHOWN = 20


@dataclass(frozen=True)
class _Variable:
    """A variable of the dump: where its lowest bit lies in the field, and how many bits it has."""

    bit: int
    size: int


@dataclass(frozen=True)
class _Declared:
    """A variable as the header declares it, with the number of its lowest bit."""

    code: str
    name: str
    path: str
    size: int
    low: int

    def is_called(self, wanted: Sequence[str]) -> bool:
        """Return whether one of some names is this variable's, in its scopes or without them."""
        return any(one in (self.name, self.path, re.sub(r"\[\d+\]\Z", "", self.name)) for one in wanted)


def _selected(name: str, size: int) -> tuple[str, int]:
    """Return a variable's name and the number of its lowest bit; a single bit of a vector keeps its own."""
    found = re.search(r"\[(\d+)(?::(\d+))?\]\Z", name)
    if found is None or size == 1:
        return name, 0
    return name[: found.start()], min(int(found[1]), int(found[2] or found[1]))


def _lines_in(data: bytes) -> int:
    """Return how many lines end in some bytes."""
    return data.count(b"\n") or data.count(b"\r")


@dataclass(frozen=True, eq=False)
class LineChanges:
    """Consecutive moments at which the lines changed.

    Parameters
    ----------
    times_s
        Rising or equal, shape ``(n,)``.
    values
        The bit field from that moment on, shape ``(n,)``.
    """

    times_s: Floats
    values: Bits


class VcdFile:
    """A value change dump opened for reading in a stream.

    Parameters
    ----------
    path
        The file.
    wanted
        Names of the variables to take; all that there is room for when empty.

    Attributes
    ----------
    names
        The lines, least significant bit first; the bits of a vector are ``name[0]``, ``name[1]`` ...
    notes
        What was left out or assumed.

    Raises
    ------
    BadFileError
        If the header is no header of a value change dump, or declares no line.
    """

    def __init__(self, path: Path, wanted: Sequence[str] = ()) -> None:
        self.path = path
        self._line = 0
        self._wanted = tuple(wanted)
        self.names: tuple[str, ...] = ()
        self.notes: list[str] = []
        self._unit_s = 0.0
        self._variables: dict[str, _Variable | None] = {}
        try:
            with path.open("rb") as file:
                header = self._header(file)
                self._declare(self._keywords(header))
                self._body_byte, self._body_line = len(header), _lines_in(header)
        except OSError as error:
            raise BadFileError(path, f"cannot be read: {error.strerror}") from error

    def _bad(self, problem: str, remedy: str = "") -> BadFileError:
        return BadFileError(self.path, problem, where=f"line {self._line + 1}", remedy=remedy)

    def _header(self, file: BinaryIO) -> bytes:
        """Return what stands up to the end of the definitions, wherever in a line that is."""
        head = b""
        while part := file.read(_READ_AT_ONCE):
            head += part
            found = _END_OF_HEADER.search(head)
            if found is not None:
                return head[: found.end()]
            if len(head) > _MOST_HEADER_BYTES:
                raise self._bad("expected $enddefinitions within the first 16 MiB")
        self._keywords(head)
        self._line = _lines_in(head)
        raise self._bad("the file ends before $enddefinitions")

    def _tokens(self, file: BinaryIO) -> Iterator[list[str]]:
        """Yield the words of the body, some at a time; ends of lines part them as blanks do."""
        left = b""
        while part := file.read(_READ_AT_ONCE):
            data = left + part
            cut = max(data.rfind(blank) for blank in (b" ", b"\n", b"\r", b"\t")) + 1
            if not cut and len(data) > _LONGEST_WORD:
                raise self._bad(f"a word longer than {_LONGEST_WORD} bytes")
            for line in data[:cut].splitlines(keepends=True):
                yield line.decode("latin-1").split()
                self._line += line.endswith((b"\n", b"\r"))
            left = data[cut:]
        if left:
            yield left.decode("latin-1").split()

    def _keywords(self, header: bytes) -> list[_Declared]:
        """Read the header's keywords, and return what they declare."""
        words: list[str] = []
        scopes: list[str] = []
        declared: list[_Declared] = []
        for found in re.finditer(rb"\S+", header):
            token = found[0].decode("latin-1")
            if not words and not token.startswith("$"):
                self._line = _lines_in(header[: found.start()])
                raise self._bad(f"expected a keyword such as $timescale or $var, found {token[:40]!r}")
            words.append(token)
            if token != "$end":
                continue
            keyword, arguments = words[0], words[1:-1]
            self._line = _lines_in(header[: found.start()]) if keyword in ("$timescale", "$var") else self._line
            words = []
            if keyword != "$enddefinitions":
                self._on_keyword(keyword, arguments, scopes, declared)
        return declared

    def _on_keyword(self, keyword: str, arguments: list[str], scopes: list[str], declared: list[_Declared]) -> None:
        if keyword == "$timescale":
            scale = _TIMESCALE.match("".join(arguments))
            if scale is None:
                raise self._bad(f"expected a $timescale such as 1 ns, found {' '.join(arguments)[:40]!r}")
            self._unit_s = int(scale[1]) * _TIME_UNITS_S[scale[2]]
        elif keyword == "$scope":
            scopes.append(arguments[-1] if arguments else "")
        elif keyword == "$upscope" and scopes:
            scopes.pop()
        elif keyword == "$var":
            if len(arguments) < 4 or not arguments[1].isdecimal() or not 1 <= int(arguments[1]) <= 1 << 16:
                raise self._bad("expected $var TYPE SIZE CODE NAME $end")
            kind, size, code = arguments[0], int(arguments[1]), arguments[2]
            name, low = _selected("".join(arguments[3:]).lstrip("\\"), size)
            if kind in ("real", "realtime", "string", "event"):
                self._variables[code] = None
                self.notes.append(f"{kind} {name!r} is no digital line and was left out")
            elif code not in self._variables and all(code != known.code for known in declared):
                path = ".".join([*scopes, name])
                shown = path if any(name == other.name for other in declared) else name
                declared.append(_Declared(code, shown, path, size, low))

    def _declare(self, declared: list[_Declared]) -> None:
        if not self._unit_s:
            raise self._bad("there is no $timescale before $enddefinitions")
        self._check_wanted(declared)
        names: list[str] = []
        for one in declared:
            if self._wanted and not one.is_called(self._wanted):
                self._variables[one.code] = None
                continue
            if len(names) + one.size > MOST_LINES:
                self._variables[one.code] = None
                self.notes.append(
                    f"{one.name!r} left out: a capture holds {counted(MOST_LINES, 'line')}; choose with --line"
                )
                continue
            self._variables[one.code] = _Variable(len(names), one.size)
            names += [one.name] if one.size == 1 else [f"{one.name}[{one.low + bit}]" for bit in range(one.size)]
        if not names:
            raise self._bad("the file declares no digital line")
        self.names = tuple(names)

    def _check_wanted(self, declared: list[_Declared]) -> None:
        for name in self._wanted:
            if not any(one.is_called((name,)) for one in declared):
                known = ", ".join(one.name for one in declared[:_SHOWN])
                raise BadFileError(self.path, f"--line {name!r} is no line; there are: {known}")

    def changes(self, should_stop: ShouldStop = never) -> Iterator[LineChanges]:
        """Yield all changes in order, in parts of bounded size; unknown and undriven bits read as low.

        Raises
        ------
        BadFileError
            If a line cannot be read, with its number, or if time runs back.
        Cancelled
            If `should_stop` answered yes.
        """
        times: list[float] = []
        values: list[int] = []
        field, now = 0, 0
        vector: str | None = None
        skipping = False
        self._line = self._body_line
        with self.path.open("rb") as file:
            file.seek(self._body_byte)
            for tokens in self._tokens(file):
                for token in tokens:
                    first = token[0]
                    if skipping:
                        skipping = token != "$end"
                    elif vector is not None:
                        field, vector = self._with_vector(field, vector, token), None
                    elif first in "01xXzZ" and len(token) > 1:
                        field = self._with_bit(field, first == "1", token[1:])
                    elif first == "#":
                        then = self._time(token, now)
                        if then != now or not times:
                            if not values or values[-1] != field:
                                times.append(now * self._unit_s)
                                values.append(field)
                            now = then
                    elif first in "bBrRsS":  # s: text, which is no line
                        vector = token
                    elif token in ("$comment", "$vcdclose"):
                        skipping = True
                    elif first != "$":
                        raise self._bad(f"expected a value change or #time, found {token[:40]!r}")
                if len(times) >= _CHANGES_PER_PART:
                    if should_stop():
                        raise Cancelled("stopped")
                    yield LineChanges(np.array(times), np.array(values, dtype=np.uint32))
                    times, values = [], values[-1:]
                    times = [now * self._unit_s] * len(values)
        times.append(now * self._unit_s)
        values.append(field)
        yield LineChanges(np.array(times), np.array(values, dtype=np.uint32))

    def _time(self, token: str, now: int) -> int:
        if not token[1:].isdecimal() or len(token) > 20:
            raise self._bad(f"expected a time such as #1200, found {token[:40]!r}")
        then = int(token[1:])
        if then < now:
            raise self._bad(f"expected times that rise, found #{then} after #{now}")
        return then

    def _with_bit(self, field: int, high: bool, code: str) -> int:
        variable = self._known(code)
        if variable is None:
            return field
        mask = 1 << variable.bit
        return field | mask if high else field & ~mask

    def _with_vector(self, field: int, vector: str, code: str) -> int:
        variable = self._known(code)
        if variable is None or vector[0] in "rRsS":
            return field
        digits = vector[1:].lower().replace("x", "0").replace("z", "0")
        if not digits or digits.strip("01"):
            raise self._bad(f"expected a binary vector, found {vector[:40]!r}")
        mask = ((1 << variable.size) - 1) << variable.bit
        return (field & ~mask) | ((int(digits[-variable.size :], 2) << variable.bit) & mask)

    def _known(self, code: str) -> _Variable | None:
        if code not in self._variables:
            raise self._bad(f"the code {code[:20]!r} was never declared by a $var")
        return self._variables[code]


def sampled(vcd: VcdFile, samples: int, interval_s: float, should_stop: ShouldStop = never) -> Iterator[Bits]:
    """Lay the lines on a capture's grid and yield them piece by piece.

    A change counts from the sample edge nearest to it, so combinations shorter than a sample vanish; before the first
    change all lines are low, after the last one they hold.

    Parameters
    ----------
    vcd
        The value changes.
    samples, interval_s
        The capture's grid.

    Yields
    ------
    Bits
        Bit fields, shape ``(n,)``; together `samples` of them.

    Raises
    ------
    BadFileError
        If the file cannot be read on.
    Cancelled
        If `should_stop` answered yes.
    """
    bits = np.uint8 if len(vcd.names) <= 8 else np.uint16 if len(vcd.names) <= 16 else np.uint32
    done, last = 0, np.uint32(0)
    for part in vcd.changes(should_stop):
        at = np.floor(np.minimum(part.times_s / interval_s, samples) + 0.5).astype(np.int64)
        end = min(int(at[-1]), samples)
        while done < end:
            stop = min(end, done + CHUNK_SAMPLES)
            index = np.searchsorted(at, np.arange(done, stop), side="right")
            yield np.concatenate(([last], part.values))[index].astype(bits)
            done = stop
        last = np.uint32(part.values[-1])
    while done < samples:
        stop = min(samples, done + CHUNK_SAMPLES)
        yield np.full(stop - done, last, dtype=bits)
        done = stop
