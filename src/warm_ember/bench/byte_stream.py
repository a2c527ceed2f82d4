"""Bytes that come by themselves: from a serial device, a socket, a pipe or standard input, each with when it came."""

from __future__ import annotations

import contextlib
import errno
import logging
import os
import re
import select
import socket
import stat
import sys
import threading
import time
from collections import deque
from pathlib import Path
from typing import NamedTuple

from warm_ember.bench.link import SERIAL_REFUSED
from warm_ember.errors import InstrumentError

log = logging.getLogger(__name__)

STANDARD_INPUT = "-"
_SOCKET = re.compile(r"socket://(?P<host>\[[^\]]+\]|[^:/]+):(?P<port>\d{1,5})/?\Z", re.IGNORECASE)
_AT_ONCE = 1 << 16
_WAIT_MS = 20
_MOST_BYTES = 64 << 20
_OPEN_S = 5.0
_NOT_OPEN = "check the address, the cable, and that no other program holds it"


class Came(NamedTuple):
    """Some bytes, and the moment at which they came by this computer's monotonic clock."""

    moment_s: float
    data: bytes


def is_stream(address: str) -> bool:
    """Return whether an address is that of something that prints by itself, no VISA resource.

    Examples
    --------
    >>> [is_stream(one) for one in ("-", "socket://10.0.0.7:4000", "/dev/ttyACM0", "TCPIP::10.0.0.7::5025::SOCKET")]
    [True, True, True, False]
    """
    return address == STANDARD_INPUT or address.lower().startswith("socket://") or "/" in address.partition("::")[0]


class ByteStream:
    """An open stream; a thread of its own takes what comes, so that nothing waits in the system for too long.

    Parameters
    ----------
    address
        ``socket://host:port``, the path of a device or a pipe, or ``-`` for standard input.
    baud
        Of a serial device; eight bits, no parity, one stop bit.

    Attributes
    ----------
    lost_bytes
        How much there was no room for.
    begins_anywhere
        Whether what comes first may be the end of a line that began before.
    is_wanted_whole
        Whether its end is no fault: a pipe or standard input ends when what it holds is told.

    Raises
    ------
    InstrumentError
        If it cannot be opened.
    """

    def __init__(self, address: str, *, baud: int = 115200) -> None:
        self.address = address
        self.lost_bytes = 0
        self.begins_anywhere = self.is_wanted_whole = False
        self._waiting: deque[Came] = deque()
        self._waiting_bytes = 0
        self._lock = threading.Lock()
        self._closed = threading.Event()
        self._ended = threading.Event()
        self._port: object = None
        self._socket: socket.socket | None = None
        self._descriptor = self._open(baud)
        self._thread = threading.Thread(target=self._listen, name=f"lines of {address}", daemon=True)
        self._thread.start()

    def _open(self, baud: int) -> int:
        try:
            if self.address == STANDARD_INPUT:
                self.is_wanted_whole = True
                return sys.stdin.fileno()
            on_socket = _SOCKET.match(self.address)
            if on_socket is not None:
                self._socket = socket.create_connection(
                    (on_socket["host"].strip("[]"), int(on_socket["port"])), _OPEN_S
                )
                self._socket.settimeout(None)
                return self._socket.fileno()
            if self.address.lower().startswith("socket://"):
                raise ValueError("expected socket://host:port")
            kind = Path(self.address).stat().st_mode
            if stat.S_ISFIFO(kind):
                self.is_wanted_whole = True
                return os.open(self.address, os.O_RDONLY | os.O_NONBLOCK)
            if not stat.S_ISCHR(kind):
                raise ValueError("it is neither a device nor a pipe: import a file")
            return self._open_serial(baud)
        except (OSError, ValueError, OverflowError) as error:
            raise InstrumentError(
                self.address,
                f"it cannot be opened ({' '.join(str(error).split())[:120]})",
                remedy=SERIAL_REFUSED if "Permission denied" in str(error) else _NOT_OPEN,
                link_lost=True,
            ) from error

    def _open_serial(self, baud: int) -> int:
        import serial

        self.begins_anywhere = True
        port = serial.Serial(self.address, baudrate=baud, timeout=0, exclusive=True)
        self._port = port
        return int(port.fileno())

    def _listen(self) -> None:
        waiting = select.poll()
        waiting.register(self._descriptor, select.POLLIN)
        has_begun = not self.is_wanted_whole
        try:
            while not self._closed.is_set():
                if not waiting.poll(_WAIT_MS):
                    continue
                data = self._read()
                if data is None:
                    continue
                if data:
                    has_begun = True
                    self._keep(Came(time.monotonic(), data))
                elif has_begun or self.address == STANDARD_INPUT or self._closed.wait(_WAIT_MS / 1000):
                    return
        except OSError as error:
            if not self._closed.is_set():
                log.info("%s was lost: %s", self.address, error)
        finally:
            self._ended.set()

    def _read(self) -> bytes | None:
        """Return what came, nothing at the end, None where it only seemed so."""
        try:
            return os.read(self._descriptor, _AT_ONCE)
        except BlockingIOError:
            return None
        except OSError as error:
            if error.errno == errno.EIO:  # the other end of a pseudo-terminal was closed
                return b""
            raise

    def _keep(self, came: Came) -> None:
        with self._lock:
            if self._waiting_bytes + len(came.data) > _MOST_BYTES:
                self.lost_bytes += len(came.data)
                return
            self._waiting.append(came)
            self._waiting_bytes += len(came.data)

    def take(self) -> list[Came]:
        """Return what came since the last time, in order."""
        with self._lock:
            found, self._waiting, self._waiting_bytes = list(self._waiting), deque(), 0
        return found

    @property
    def has_ended(self) -> bool:
        """Whether nothing more will come, and all that came was taken."""
        return self._ended.is_set() and not self._waiting

    def send(self, text: str) -> None:
        """Send a line.

        Raises
        ------
        InstrumentError
            If it does not take it.
        """
        if self.is_wanted_whole:
            raise InstrumentError(self.address, f"“{text}” cannot be sent: it can only be read")
        try:
            os.write(self._descriptor, text.encode() + b"\n")
        except OSError as error:
            raise InstrumentError(self.address, f"“{text}” could not be sent ({error})", link_lost=True) from error

    def close(self) -> None:
        """Hang up."""
        self._closed.set()
        self._thread.join(2.0)
        with contextlib.suppress(OSError):
            if self._socket is not None:
                self._socket.close()
            elif self._port is not None:
                self._port.close()  # type: ignore[attr-defined]
            elif self.address != STANDARD_INPUT:
                os.close(self._descriptor)
