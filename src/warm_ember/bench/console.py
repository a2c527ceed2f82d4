"""The target's console: its lines with their times, and what is typed back."""

from __future__ import annotations

import contextlib
import itertools
import logging
import threading
import time
from collections import deque
from collections.abc import Callable
from typing import NamedTuple

from warm_ember.bench.console_line import ConsoleLine, line_of
from warm_ember.bench.patterns import compile_expression
from warm_ember.errors import InstrumentError

log = logging.getLogger(__name__)

_KEPT_LINES = 5000
_LONGEST_LINE = 4096
_WAIT_S = 0.05
_AGAIN_S = 0.5
_FED_LINES = 500_000


class ConsoleFeed:
    """All lines from a moment on, for one reader, who may come late; what it cannot hold is counted.

    Attributes
    ----------
    lost
        How many lines there was no room for.
    """

    def __init__(self, most: int = _FED_LINES) -> None:
        self._most = most
        self._waiting: deque[ConsoleLine] = deque()
        self._lock = threading.Lock()
        self.lost = 0

    def put(self, line: ConsoleLine) -> None:
        """Take a line in."""
        with self._lock:
            if len(self._waiting) < self._most:
                self._waiting.append(line)
            else:
                self.lost += 1

    def take(self) -> list[ConsoleLine]:
        """Return the lines that came since the last time."""
        with self._lock:
            waiting, self._waiting = self._waiting, deque()
        return list(waiting)


class HeardLines(NamedTuple):
    """Lines as far as they are still kept, and from which line on to ask the next time."""

    lines: list[ConsoleLine]
    next_index: int


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
        self._feeds: list[ConsoleFeed] = []
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
        self._hang_up()
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
            for feed in self._feeds:
                feed.put(line)
            self.came.notify_all()
        self.on_line(line)

    def lines_from(self, index: int) -> HeardLines:
        """Return lines as far as they are still kept, and where to go on.

        Parameters
        ----------
        index
            From which line on, counted since the console was opened.
        """
        with self.came:
            dropped = self.count - len(self.lines)
            return HeardLines(list(itertools.islice(self.lines, max(0, index - dropped), None)), self.count)

    def feed(self) -> ConsoleFeed:
        """Begin a feed of all lines, which starts with those that are still kept; end it with `end_feed`."""
        feed = ConsoleFeed()
        with self.came:
            for line in self.lines:
                feed.put(line)
            self._feeds.append(feed)
        return feed

    def end_feed(self, feed: ConsoleFeed) -> None:
        """Let nothing more come into a feed."""
        with self.came:
            self._feeds = [one for one in self._feeds if one is not feed]

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
        expression = compile_expression(pattern)
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
        self._hang_up()
        self._thread.join(2.0)
        self._hang_up()  # where it was opened again meanwhile

    def _hang_up(self) -> None:
        link = getattr(self._port, "_socket", None)
        with contextlib.suppress(OSError):
            self._port.close()  # type: ignore[attr-defined]
        if link is not None:
            link.close()  # pySerial leaves it open where the other end is gone
