"""The bench on a socket: SCPI on one port, the target's console on another, each line ended by a line feed."""

from __future__ import annotations

import contextlib
import itertools
import logging
import os
import select
import socket
import threading
import time
import tty
from collections import deque
from collections.abc import Callable
from typing import Self

from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.bench.simulated.hislip import HislipLine
from warm_ember.bench.simulated.instrument import SimulatedInstrument
from warm_ember.bench.simulated.meter import PrintingBoard
from warm_ember.bench.simulated.scpi import SYSTEM_ERROR

log = logging.getLogger(__name__)

_TICK_S = 0.02
_BUFFERED_S = 3.0
_LONGEST_LINE = 1 << 16


class Line:
    """A two-way line: a socket, or the far end of a serial one."""

    def __init__(self, descriptor: int, close: object) -> None:
        self.descriptor, self._close = descriptor, close

    def read(self) -> bytes:
        """Return what came, waiting a little; empty at the end of the line.

        Raises
        ------
        TimeoutError
            If nothing came.
        """
        waiting = select.poll()  # takes a descriptor of any number, where `select` stops at 1023
        waiting.register(self.descriptor, select.POLLIN)
        if not waiting.poll(1000 * _TICK_S):
            raise TimeoutError
        return os.read(self.descriptor, 1 << 16)

    def write(self, data: bytes) -> None:
        """Send everything."""
        view = memoryview(data)
        while view:
            view = view[os.write(self.descriptor, view) :]

    def close(self) -> None:
        """Hang up."""
        self._close()  # type: ignore[operator]


class BenchServer:
    """Serve one instrument with its target until `close`.

    Parameters
    ----------
    instrument
        What speaks.
    port, console_port
        Where; 0 for any free one.
    host
        The address to listen at; by default this computer alone can reach it.
    fault
        What it does wrong on purpose.

    Attributes
    ----------
    port, console_port
        Where it listens.
    serial_path, lines_path
        The devices of the serial lines after `open_serial` and `print_lines`.
    """

    def __init__(
        self,
        instrument: SimulatedInstrument,
        *,
        port: int = 0,
        console_port: int = 0,
        host: str = "127.0.0.1",
        fault: Fault | None = None,
    ) -> None:
        # They take a second to load: better now than in the middle of the first sweep.
        import scipy.ndimage
        import scipy.signal  # noqa: F401

        self.instrument, self.fault, self._host = instrument, fault or Fault(), host
        self.serial_path = self.lines_path = ""
        self._lock = threading.Lock()
        self._ended = threading.Event()
        self._listeners: list[socket.socket] = []
        self._consoles: list[Line] = []
        self._hislip: list[socket.socket] = []
        self._said: deque[tuple[float, bytes]] = deque(maxlen=100)
        self._threads: list[threading.Thread] = []
        instrument.target.on_line = self._say
        self.port = self._listen(port, self._serve_scpi)
        self.console_port = self._listen(console_port, self._serve_console)
        self._start(self._keep_time)

    def open_serial(self) -> str:
        """Speak SCPI on a serial line too and return its device."""
        ours, theirs = os.openpty()
        tty.setraw(theirs)
        tty.setraw(ours)
        self.serial_path = os.ttyname(theirs)
        line = Line(ours, lambda: None)
        self._start(lambda: self._serve_scpi(line))
        return self.serial_path

    def open_hislip(self, port: int = 0) -> int:
        """Speak SCPI over HiSLIP too, and return the port."""
        numbers = itertools.count(1)

        def serve(connection: socket.socket) -> None:
            self._hislip.append(connection)
            with connection, contextlib.suppress(OSError):
                HislipLine(connection, self._carry_out, numbers).serve()

        return self._accept(port, serve)

    def _carry_out(self, message: str) -> bytes | None:
        with self._lock:
            return self.instrument.run(message)

    def print_lines(self, rate_hz: float, port: int = 0) -> int:
        """Print what a sense board on the rail reads, from a serial line and at a port, and return that port."""
        ours, theirs = os.openpty()
        tty.setraw(theirs)
        tty.setraw(ours)
        os.set_blocking(ours, False)  # what nobody reads is lost, as on any serial line
        self.lines_path = os.ttyname(theirs)
        readers = [Line(ours, lambda: None)]
        lines_port = self._listen(port, readers.append)
        with self._lock:
            board = PrintingBoard(self.instrument, rate_hz, self.fault)

        def go_on() -> None:
            while not self._ended.wait(_TICK_S):
                with self._lock:
                    due = list(board.lines())
                for line in tuple(readers):
                    try:
                        line.write(b"".join(due))
                    except BlockingIOError:
                        continue
                    except OSError:
                        readers.remove(line)
                        line.close()
            for line in readers:
                line.close()

        self._start(go_on)
        return lines_port

    def close(self) -> None:
        """Hang up and end."""
        self._ended.set()
        for listener in self._listeners:
            listener.close()
        for connection in self._hislip:
            with contextlib.suppress(OSError):
                connection.shutdown(socket.SHUT_RDWR)
        for thread in self._threads:
            thread.join(2.0)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def wait(self) -> None:
        """Wait until somebody else calls `close`."""
        self._ended.wait()

    def _start(self, work: object) -> None:
        thread = threading.Thread(target=work, daemon=True)  # type: ignore[arg-type]
        self._threads.append(thread)
        thread.start()

    def _listen(self, port: int, serve: Callable[[Line], None]) -> int:
        return self._accept(port, lambda connection: serve(Line(connection.fileno(), connection.close)))

    def _accept(self, port: int, serve: Callable[[socket.socket], None]) -> int:
        """Serve each who connects in a thread of its own, and return the port."""
        listener = socket.create_server((self._host, port))
        listener.settimeout(_TICK_S)
        self._listeners.append(listener)

        def accept() -> None:
            while not self._ended.is_set():
                try:
                    connection, _ = listener.accept()
                except TimeoutError:
                    continue
                except OSError:
                    return
                connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                connection.settimeout(None)
                self._start(lambda connection=connection: serve(connection))

        self._start(accept)
        return int(listener.getsockname()[1])

    def _keep_time(self) -> None:
        """Let the target live while nobody asks, so that its console speaks in time."""
        while not self._ended.wait(_TICK_S):
            with self._lock:
                self.instrument.advance()

    def _messages(self, line: Line) -> object:
        """Yield whole lines until the end."""
        waiting = b""
        while not self._ended.is_set():
            try:
                data = line.read()
            except TimeoutError:
                continue
            except OSError:
                return
            if not data or len(waiting) > _LONGEST_LINE:
                return
            *whole, waiting = (waiting + data).split(b"\n")
            for message in whole:
                yield message.decode("latin-1").strip()

    def _serve_scpi(self, line: Line) -> None:
        with contextlib.suppress(OSError):
            for message in self._messages(line):  # type: ignore[attr-defined]
                if not self._answer(line, message):
                    break
        line.close()

    def _answer(self, line: Line, message: str) -> bool:
        """Carry out a message and answer; False when the line is to be hung up."""
        fault = self.fault
        with self._lock:
            answer = self.instrument.run(message)
        if answer is None:
            return True
        if answer.startswith(b"#"):
            fault.blocks += 1
        if fault.is_due(FaultMode.DISCONNECT):
            line.write(answer[: len(answer) // 2])
            return False
        if fault.is_due(FaultMode.REBOOT):
            with self._lock:
                self.instrument.restart()
            time.sleep(fault.delay_s)
            return False
        if fault.is_due(FaultMode.ERRORS):
            with self._lock:
                self.instrument.interpreter.fail(SYSTEM_ERROR)
                self.instrument.run("ABORt")
        elif fault.is_due(FaultMode.GARBAGE):
            answer = b"%&/()=?`\x00\xff" * 3 + b"\n"
        elif fault.is_due(FaultMode.WRONG_LENGTH):
            answer = b"#48003" + answer[6:]
        elif fault.is_due(FaultMode.SILENT):
            return True
        for piece in fault.pieces(answer):
            line.write(piece)
        return True

    def _serve_console(self, line: Line) -> None:
        with self._lock:
            # As a serial adapter does: what was said just before somebody listened is in its buffer.
            since_s = time.monotonic() - _BUFFERED_S
            for said_s, text in self._said:
                if said_s >= since_s:
                    line.write(text)
            self._consoles.append(line)
        for message in self._messages(line):  # type: ignore[attr-defined]
            with self._lock:
                self.instrument.target.command(message)
        with self._lock:
            self._consoles.remove(line)
        line.close()

    def _say(self, text: str) -> None:
        """Send a line of the target's log to all who listen; called with the lock held."""
        data = text.encode() + b"\r\n"
        self._said.append((time.monotonic(), data))
        for line in self._consoles:
            with contextlib.suppress(OSError):
                line.write(data)
