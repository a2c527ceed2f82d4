"""The target's console: its lines with their times, turned into events, and what is typed back."""

from __future__ import annotations

import itertools
import logging
import re
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.model.bench import LinePattern
from warm_ember.model.capture import Event

log = logging.getLogger(__name__)

_KEPT_LINES = 5000
_LONGEST_LINE = 4096
_WAIT_S = 0.05
_AGAIN_S = 0.5
_STAMP = re.compile(r"\[\s*(\d+(?:\.\d+)?)\]\s*")


@dataclass(frozen=True)
class ConsoleLine:
    """A line of the console.

    Parameters
    ----------
    received_s
        When its end came, by `time.monotonic`.
    text
        Without the target's own time.
    target_s
        The time that the target wrote before it in brackets; None without.
    sent
        Whether it was typed here.
    """

    received_s: float
    text: str
    target_s: float | None = None
    sent: bool = False


def line_of(text: str, received_s: float) -> ConsoleLine:
    """Return a line as it came, its time stamp taken off.

    Examples
    --------
    >>> line_of("[  12.5] st Deep sleep", 3.0)
    ConsoleLine(received_s=3.0, text='st Deep sleep', target_s=12.5, sent=False)
    """
    stamp = _STAMP.match(text)
    return ConsoleLine(received_s, text[stamp.end() :] if stamp else text, float(stamp[1]) if stamp else None)


class Patterns:
    """Patterns that turn lines into events, the first that matches counts.

    Raises
    ------
    BadArgumentError
        If one is no regular expression, or names a group that it has not.
    """

    def __init__(self, patterns: Iterable[LinePattern]) -> None:
        self._patterns = [(compile_pattern(pattern), pattern) for pattern in patterns]

    def event(self, line: ConsoleLine, time_s: float) -> Event:
        """Return what a line says; a plain `log` event when no pattern knows it."""
        for expression, pattern in self._patterns:
            match = expression.search(line.text)
            if match:
                return Event(time_s, pattern.event, match.expand(pattern.name).strip())
        return Event(time_s, "mark" if line.sent else "log", line.text)


def compile_pattern(pattern: LinePattern) -> re.Pattern[str]:
    """Check a pattern and return its expression.

    Raises
    ------
    BadArgumentError
        If it cannot be used; the message says why.
    """
    if pattern.event not in ("state", "wake", "sleep", "mark", "sync"):
        raise BadArgumentError(f"a line can be a state, wake, sleep, mark or sync, not {pattern.event!r}")
    try:
        expression = re.compile(pattern.pattern)
        re.sub(f"(?:{pattern.pattern})|\\A\\Z", pattern.name, "")
    except (re.error, IndexError) as error:
        raise BadArgumentError(f"“{pattern.pattern}” with “{pattern.name}” cannot be used: {error}") from None
    return expression


def events_from_lines(lines: Iterable[ConsoleLine], patterns: Patterns, start_s: float) -> tuple[Event, ...]:
    """Return the events of a recording.

    Parameters
    ----------
    lines
        In the order they came, from before the recording on.
    patterns
        What they mean.
    start_s
        When the recording's first sample was taken, by `time.monotonic`.

    Notes
    -----
    As soon as one line carries the target's time, all events are in the target's clock, and lines without a time
    get one from when they came. Of what came before the recording only the last state counts: it holds at its start.
    """
    lines = list(lines)
    offsets = sorted(line.target_s - line.received_s for line in lines if line.target_s is not None)
    offset_s = offsets[len(offsets) // 2] if offsets else -start_s
    found: list[Event] = []
    before: Event | None = None
    for line in lines:
        event = patterns.event(line, line.target_s if line.target_s is not None else line.received_s + offset_s)
        if line.received_s >= start_s:
            found.append(event)
        elif event.event == "state":
            before = event
    return tuple(([before] if before is not None else []) + found)


class Console:
    """An open console.

    Parameters
    ----------
    address
        A serial device such as ``/dev/ttyUSB0``, or ``socket://host:port``.
    baud
        Of a serial device; eight bits, no parity, one stop bit.
    on_line
        Called with each line, in the console's own thread.

    Attributes
    ----------
    lines
        The newest lines.
    count
        How many came in all.

    Raises
    ------
    InstrumentError
        If it cannot be opened.
    """

    def __init__(
        self, address: str, *, baud: int = 115200, on_line: Callable[[ConsoleLine], None] = lambda _line: None
    ) -> None:
        self.address, self._baud = address, baud
        self.on_line = on_line
        self.lines: deque[ConsoleLine] = deque(maxlen=_KEPT_LINES)
        self.count = 0
        self.came = threading.Condition()
        self._ended = threading.Event()
        self._port = self._open()
        self._thread = threading.Thread(target=self._listen, name="console", daemon=True)
        self._thread.start()

    def _open(self) -> object:
        import serial

        try:
            return serial.serial_for_url(self.address, baudrate=self._baud, timeout=_WAIT_S, write_timeout=1.0)
        except (serial.SerialException, OSError, ValueError) as error:
            raise InstrumentError(
                self.address,
                f"the console cannot be opened ({' '.join(str(error).split())[:120]})",
                remedy="check the device and that no other program holds it",
            ) from error

    def _listen(self) -> None:
        waiting = b""
        while not self._ended.is_set():
            try:
                data = self._port.read(4096)  # type: ignore[attr-defined]
            except (OSError, TypeError, AttributeError) as error:
                # pySerial raises whatever the device ran into while it was pulled out or closed.
                if self._ended.is_set() or not self._open_again(error):
                    return
                continue
            received_s = time.monotonic()
            *whole, waiting = (waiting + data).split(b"\n")
            if len(waiting) > _LONGEST_LINE:
                whole, waiting = [*whole, waiting], b""
            for line in whole:
                text = line.decode("utf-8", "replace").strip("\r\n\0")
                if text.strip():
                    self._take(line_of("".join(c if c.isprintable() else "·" for c in text), received_s))

    def _open_again(self, error: Exception) -> bool:
        """Wait until the console is there again; False when it was closed meanwhile."""
        log.info("the console %s was lost: %s", self.address, error)
        self._take(ConsoleLine(time.monotonic(), f"(console lost: {error})"))
        while not self._ended.wait(_AGAIN_S):
            try:
                self._port = self._open()
            except InstrumentError:
                continue
            self._take(ConsoleLine(time.monotonic(), "(console is back)"))
            return True
        return False

    def _take(self, line: ConsoleLine) -> None:
        with self.came:
            self.lines.append(line)
            self.count += 1
            self.came.notify_all()
        self.on_line(line)

    def lines_from(self, index: int) -> list[ConsoleLine]:
        """Return the lines from a number on, counted since the console was opened, as far as they are still kept."""
        with self.came:
            dropped = self.count - len(self.lines)
            return list(itertools.islice(self.lines, max(0, index - dropped), None))

    def send(self, text: str) -> None:
        """Send a line to the target.

        Raises
        ------
        InstrumentError
            If it does not take it.
        """
        try:
            self._port.write(text.encode("utf-8") + b"\r\n")  # type: ignore[attr-defined]
        except OSError as error:
            raise InstrumentError(self.address, f"“{text}” could not be sent ({error})") from error
        self._take(ConsoleLine(time.monotonic(), text, sent=True))

    def wait_for(self, pattern: str, since_s: float, timeout_s: float, should_stop: Callable[[], bool]) -> bool:
        """Wait until a line matches that came after a moment; False when none did in time."""
        expression = re.compile(pattern)
        until_s = time.monotonic() + timeout_s
        with self.came:
            while not any(
                expression.search(line.text) for line in self.lines if line.received_s >= since_s and not line.sent
            ):
                left_s = until_s - time.monotonic()
                if left_s <= 0 or should_stop():
                    return False
                self.came.wait(min(left_s, 0.1))
        return True

    def close(self) -> None:
        """Hang up."""
        self._ended.set()
        try:
            self._port.close()  # type: ignore[attr-defined]
        except OSError:
            log.debug("closing %s failed", self.address, exc_info=True)
        self._thread.join(2.0)
