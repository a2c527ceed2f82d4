"""The grammar of SCPI as an instrument hears it: headers in short or long form, and the error queue.

SCPI-1999 volume 1, 6.2 (mnemonics: the upper-case letters are the short form), IEEE 488.2, 8.7.9 (definite-length
blocks).
"""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Callable

Handler = Callable[[list[str]], "bytes | str | None"]

NO_ERROR = '0,"No error"'
UNDEFINED_HEADER = (-113, "Undefined header")
MISSING_PARAMETER = (-109, "Missing parameter")
ILLEGAL_VALUE = (-224, "Illegal parameter value")
OUT_OF_RANGE = (-222, "Data out of range")
SETTINGS_CONFLICT = (-221, "Settings conflict")
SYSTEM_ERROR = (-310, "System error")


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
    >>> [bool(pattern.fullmatch(text)) for text in ("SENS:CURR:RANG", ":sense:curr:dc:range", "SENSE:CURREN:RANG")]
    [True, True, False]
    """
    parts = []
    for optional, word in re.findall(r"(\[)?:?([*A-Za-z]+)\]?", header):
        short = "".join(c for c in word if not c.islower())
        name = f"(?:{re.escape(short)}|{re.escape(word.upper())})"
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


class Interpreter:
    """Commands by header, and the queue of errors."""

    def __init__(self) -> None:
        self._handlers: list[tuple[re.Pattern[str], bool, Handler]] = []
        self.errors: deque[tuple[int, str]] = deque(maxlen=20)
        self.on("*CLS", lambda _arguments: self.errors.clear())
        self.on("SYSTem:ERRor[:NEXT]?", lambda _arguments: self._next_error())

    def on(self, header: str, handler: Handler) -> None:
        """Handle a header; with a question mark at its end it is a query."""
        self._handlers.append((header_pattern(header.rstrip("?")), header.endswith("?"), handler))

    def _next_error(self) -> str:
        if not self.errors:
            return NO_ERROR
        number, text = self.errors.popleft()
        return f'{number},"{text}"'

    def run(self, message: str) -> bytes | None:
        """Carry out a message and return the answer with its line end; None when there is none."""
        answers = [answer for unit in message.split(";") if (answer := self._unit(unit.strip())) is not None]
        return b";".join(answers) + b"\n" if answers else None

    def _unit(self, unit: str) -> bytes | None:
        if not unit:
            return None
        header, _, rest = unit.partition(" ")
        arguments = [argument.strip() for argument in rest.split(",")] if rest.strip() else []
        for pattern, is_query, handler in self._handlers:
            if is_query == header.endswith("?") and pattern.fullmatch(header.rstrip("?")):
                return self._handle(handler, arguments)
        self.errors.append(UNDEFINED_HEADER)
        return None

    def _handle(self, handler: Handler, arguments: list[str]) -> bytes | None:
        try:
            answer = handler(arguments)
        except CommandError as error:
            self.errors.append(error.error)
            return None
        return answer.encode() if isinstance(answer, str) else answer


def number(arguments: list[str]) -> float:
    """Return the one numeric argument.

    Raises
    ------
    CommandError
        If there is none, or it is no number.
    """
    if not arguments:
        raise CommandError(MISSING_PARAMETER)
    try:
        return float(arguments[0])
    except ValueError:
        raise CommandError(ILLEGAL_VALUE) from None


def is_on(arguments: list[str]) -> bool:
    """Return a boolean argument: ``ON``, ``OFF``, ``1``, ``0``."""
    if not arguments:
        raise CommandError(MISSING_PARAMETER)
    word = arguments[0].upper()
    if word not in ("ON", "OFF", "1", "0"):
        raise CommandError(ILLEGAL_VALUE)
    return word in ("ON", "1")
