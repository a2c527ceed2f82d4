"""The grammar of SCPI as an instrument hears it: headers in short or long form, and the error queue.

SCPI-1999 volume 1, 6.2 (mnemonics: the upper-case letters are the short form, and a number 1 may stand behind them),
6.2.4 (headers after a semicolon go on from the one before), 7 (units and their multipliers) and 21.8 (the error queue);
IEEE 488.2, 8.7.9 (definite-length blocks) and 11 (the standard status registers).
"""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

Handler = Callable[[list[str]], "bytes | str | None"]

NO_ERROR = '0,"No error"'
UNDEFINED_HEADER = (-113, "Undefined header")
TOO_MANY_PARAMETERS = (-108, "Parameter not allowed")
MISSING_PARAMETER = (-109, "Missing parameter")
BAD_SUFFIX = (-131, "Invalid suffix")
ILLEGAL_VALUE = (-224, "Illegal parameter value")
OUT_OF_RANGE = (-222, "Data out of range")
SETTINGS_CONFLICT = (-221, "Settings conflict")
SYSTEM_ERROR = (-310, "System error")
QUEUE_OVERFLOW = (-350, "Queue overflow")
_MOST_ERRORS = 20
_OPERATION_COMPLETE, _POWER_ON = 1, 128
_EVENT_OF_CLASS = {1: 32, 2: 16, 3: 8, 4: 4}
_ERRORS_WAITING, _EVENT_SUMMARY, _MASTER_SUMMARY = 4, 32, 64
_VERSION = "1999.0"
_MULTIPLIERS = {"": 1.0, "K": 1e3, "M": 1e-3, "U": 1e-6, "N": 1e-9, "P": 1e-12}
_NUMBER = re.compile(r"([+-]?(?:\d+\.?\d*|\.\d+)(?:E[+-]?\d+)?)\s*([A-Z]*)", re.IGNORECASE)


class CommandError(Exception):
    """What goes to the error queue."""

    def __init__(self, error: tuple[int, str]) -> None:
        super().__init__(error[1])
        self.error = error


def header_pattern(header: str) -> re.Pattern[str]:
    """Return what matches a header in its short and long forms.

    Examples
    --------
    >>> pattern = header_pattern("SENSe:CURRent[:DC]:RANGe")
    >>> [bool(pattern.fullmatch(text)) for text in ("SENS1:CURR:RANG", ":sense:curr:dc:range", "SENSE:CURREN:RANG")]
    [True, True, False]
    """
    parts = []
    for optional, word in re.findall(r"(\[)?:?([*A-Za-z]+)\]?", header):
        short = "".join(c for c in word if not c.islower())
        digit = "" if word.startswith("*") else "1?"
        name = f"(?:{re.escape(short)}|{re.escape(word.upper())}){digit}"
        parts.append(f"(?::?{name})?" if optional else f":?{name}")
    return re.compile("".join(parts), re.IGNORECASE)


def block(data: bytes) -> bytes:
    """Return data as a definite-length block.

    Examples
    --------
    >>> block(b"abcd")
    b'#14abcd'
    """
    length = str(len(data))
    return f"#{len(length)}{length}".encode() + data


@dataclass(frozen=True)
class _Command:
    pattern: re.Pattern[str]
    is_query: bool
    most: int
    handler: Handler


class Interpreter:
    """Commands by header, the queue of errors, and the standard status registers."""

    def __init__(self) -> None:
        self._commands: list[_Command] = []
        self.errors: deque[tuple[int, str]] = deque()
        self._events, self._events_counted, self._service_asked = _POWER_ON, 0, 0
        self.on("*CLS", lambda _arguments: self._clear(), most=0)
        self.on("*ESR?", lambda _arguments: self._read_events())
        self.on("*ESE", lambda arguments: self._mask("_events_counted", arguments))
        self.on("*ESE?", lambda _arguments: str(self._events_counted))
        self.on("*SRE", lambda arguments: self._mask("_service_asked", arguments))
        self.on("*SRE?", lambda _arguments: str(self._service_asked & ~_MASTER_SUMMARY))
        self.on("*STB?", lambda _arguments: str(self._status()))
        self.on("*OPC", lambda _arguments: self._note(_OPERATION_COMPLETE), most=0)
        self.on("*OPC?", lambda _arguments: "1")
        self.on("*WAI", lambda _arguments: None, most=0)
        self.on("*TST?", lambda _arguments: "0")
        self.on("SYSTem:VERSion?", lambda _arguments: _VERSION)
        self.on("SYSTem:ERRor[:NEXT]?", lambda _arguments: self._next_error())
        self.on("SYSTem:ERRor:COUNt?", lambda _arguments: str(len(self.errors)))

    def on(self, header: str, handler: Handler, *, most: int | None = None) -> None:
        """Handle a header; with a question mark at its end it is a query.

        Parameters
        ----------
        header
            In its long form, short letters in capitals.
        handler
            What it does.
        most
            Parameters that it takes; by default one, and none of a query.
        """
        is_query = header.endswith("?")
        most = (0 if is_query else 1) if most is None else most
        self._commands.append(_Command(header_pattern(header.rstrip("?")), is_query, most, handler))

    def fail(self, error: tuple[int, str]) -> None:
        """Put an error into the queue; of those that find no room the last entry tells."""
        self._note(_EVENT_OF_CLASS.get(-error[0] // 100, 0))
        if len(self.errors) < _MOST_ERRORS:
            self.errors.append(error)
        else:
            self.errors[-1] = QUEUE_OVERFLOW

    def _clear(self) -> None:
        self.errors.clear()
        self._events = 0

    def _note(self, event: int) -> None:
        self._events |= event

    def _read_events(self) -> str:
        found, self._events = self._events, 0
        return str(found)

    def _mask(self, name: str, arguments: list[str]) -> None:
        value = number(arguments)
        if not 0 <= round(value) <= 255:
            raise CommandError(OUT_OF_RANGE)
        setattr(self, name, round(value))

    def _status(self) -> int:
        status = _ERRORS_WAITING if self.errors else 0
        status |= _EVENT_SUMMARY if self._events & self._events_counted else 0
        return status | (_MASTER_SUMMARY if status & self._service_asked else 0)

    def _next_error(self) -> str:
        if not self.errors:
            return NO_ERROR
        code, text = self.errors.popleft()
        return f'{code},"{text}"'

    def run(self, message: str) -> bytes | None:
        """Carry out a message and return the answer with its line end; None when there is none."""
        answers, path = [], ""
        for unit in message.split(";"):
            header = unit.strip().partition(" ")[0]
            answer = self._unit(unit.strip(), path)
            if answer is not None:
                answers.append(answer)
            if header and not header.startswith("*"):
                whole = header if header.startswith(":") or not path or ":" in header else path + header
                path = whole.rpartition(":")[0] + ":" if ":" in whole.lstrip(":") else ""
        return b";".join(answers) + b"\n" if answers else None

    def _unit(self, unit: str, path: str) -> bytes | None:
        if not unit:
            return None
        header, _, rest = unit.partition(" ")
        arguments = [argument.strip() for argument in rest.split(",")] if rest.strip() else []
        # After a semicolon a header goes on from the one before; from the root it does where it is none of that branch.
        tried = [path + header, header] if path and header[:1] not in (":", "*") else [header]
        for text in tried:
            for command in self._commands:
                if command.is_query == text.endswith("?") and command.pattern.fullmatch(text.rstrip("?")):
                    return self._handle(command, arguments)
        self.fail(UNDEFINED_HEADER)
        return None

    def _handle(self, command: _Command, arguments: list[str]) -> bytes | None:
        try:
            if len(arguments) > command.most:
                raise CommandError(TOO_MANY_PARAMETERS)
            answer = command.handler(arguments)
        except CommandError as error:
            self.fail(error.error)
            return None
        return answer.encode() if isinstance(answer, str) else answer


def number(arguments: list[str], unit: str = "") -> float:
    """Return the one numeric argument.

    Parameters
    ----------
    arguments
        What was given.
    unit
        The unit that may stand behind the number, with a multiplier: ``100 MA`` is 0.1 A.

    Raises
    ------
    CommandError
        If there is none, or it is no number, or in another unit.
    """
    if not arguments:
        raise CommandError(MISSING_PARAMETER)
    found = _NUMBER.fullmatch(arguments[0].strip())
    if found is None:
        raise CommandError(ILLEGAL_VALUE)
    suffix = found[2].upper()
    if not suffix:
        return float(found[1])
    multiplier = _MULTIPLIERS.get(suffix.removesuffix(unit)) if unit and suffix.endswith(unit) else None
    if multiplier is None:
        raise CommandError(BAD_SUFFIX)
    return float(found[1]) * multiplier


def is_on(arguments: list[str]) -> bool:
    """Return a boolean argument: ``ON``, ``OFF``, ``1``, ``0``."""
    if not arguments:
        raise CommandError(MISSING_PARAMETER)
    word = arguments[0].upper()
    if word not in ("ON", "OFF", "1", "0"):
        raise CommandError(ILLEGAL_VALUE)
    return word in ("ON", "1")
