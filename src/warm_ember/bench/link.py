"""The line to an instrument: messages and blocks, and every way in which it can break as one kind of error."""

from __future__ import annotations

import contextlib
import logging
import re
import socket
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from warm_ember.errors import InstrumentError
from warm_ember.model.arrays import Samples
from warm_ember.signal.series import ShouldStop, never

log = logging.getLogger(__name__)

SERIAL_REFUSED = 'the system does not let you open it: on Debian adduser "$USER" dialout, and log in again'
NOBODY_THERE = "check the address, the cable, and that it is switched on"

_LONGEST_ANSWER = 4096
_LONGEST_BLOCK = 1 << 26
_SLOWEST_PER_S = 500.0
_TRY_S = 0.1
_STOP_WITHIN_S = 0.5
_RECEIVED_AT_ONCE = 1 << 19
_USB_MAKER = re.compile(r"USB\d*::(0x[0-9A-Fa-f]{1,4}|\d{1,5})::")


def _samples(data: bytes, kind: str) -> Samples:
    with np.errstate(over="ignore"):  # what stands for a missing reading may lie beyond what a float32 holds
        return np.frombuffer(data, dtype=kind).astype(np.float32)


def usual_resource(text: str) -> str:
    """Return a VISA resource string with its keywords in capitals; what names a device or a host stays as it is.

    Examples
    --------
    >>> usual_resource("tcpip0::bench.local::5025::socket"), usual_resource("asrl/dev/ttyUSB0::instr")
    ('TCPIP0::bench.local::5025::SOCKET', 'ASRL/dev/ttyUSB0::INSTR')
    """
    first, *middle = text.strip().split("::")
    for keyword in ("TCPIP", "ASRL", "USB", "GPIB", "PRLGX"):
        if first.upper().startswith(keyword):
            first = keyword + first[len(keyword) :]
    if middle and middle[-1].upper() in ("SOCKET", "INSTR", "RAW"):
        middle[-1] = middle[-1].upper()
    return "::".join((first, *middle))


class Link:
    """An open line to an instrument.

    Parameters
    ----------
    resource
        VISA resource string, such as ``TCPIP::192.168.0.7::5025::SOCKET`` or ``ASRL/dev/ttyUSB0::INSTR``.
    timeout_s
        How long it may say nothing, and how long an answer may take; one that is long has more time, but must come
        with 500 bytes a second at least.

    Attributes
    ----------
    should_stop
        Polled while an answer comes: it is not waited for much longer then.
    is_in_step
        Whether all answers that were asked for have come whole: else the next one may be part of an earlier one.

    Raises
    ------
    InstrumentError
        If nobody is there.
    """

    def __init__(self, resource: str, *, timeout_s: float = 5.0, should_stop: ShouldStop = never) -> None:
        resource = usual_resource(resource)
        self.resource, self._timeout_s = resource, timeout_s
        self.should_stop = should_stop
        self.is_in_step = True
        self._lock = threading.RLock()
        self._socket: object = None
        self._port: Any = None
        import pyvisa  # a third of a second to import, and only needed here

        # Over HiSLIP, VXI-11 and USB the back-end raises whatever it ran into.
        self._errors: tuple[type[Exception], ...] = (
            pyvisa.errors.Error, OSError, ValueError, RuntimeError, EOFError, AssertionError, AttributeError,
        )  # fmt: skip
        # These bring whole messages, of which the back-end loses what came when its time is up: it has all of it.
        brings_messages = resource.endswith("::INSTR") and not resource.startswith("ASRL")
        try_s = timeout_s if brings_messages else min(_TRY_S, timeout_s)
        try:
            # Opening a resource that has no session fails with whatever the back-end ran into.
            manager = pyvisa.ResourceManager("@py")
            self._line: Any = manager.open_resource(
                resource,
                open_timeout=round(timeout_s * 1000),
                timeout=round(try_s * 1000),
                write_termination="\n",
                read_termination="\n",
            )
        except Exception as error:
            log.info("opening %s failed", resource, exc_info=True)
            raise InstrumentError(
                resource,
                f"no instrument answers there ({_words(error)})",
                remedy=_remedy(resource, error),
                link_lost=True,
            ) from error
        self._take_hold_of(manager.visalib)
        self._keep_partial_reads(pyvisa.constants.ResourceAttribute.suppress_end_enabled)
        if not hasattr(self._line, "read_bytes"):
            self.close()
            raise InstrumentError(resource, "expected a resource that takes messages", remedy="see docs/formats.md")

    def _take_hold_of(self, library: Any) -> None:
        """Take the port or socket behind the line, for what the back-end has no setting for."""
        if self.resource.upper().startswith("ASRL"):
            # The back-end reads byte by byte and throws away what it has when its time is up; the port itself keeps it.
            self._port = library.sessions[self._line.session].interface
            self._port.write_timeout = self._timeout_s
        with contextlib.suppress(AttributeError, KeyError):
            # The back-end takes 4 KiB at a time, and between two the thread waits for the interpreter: at
            # 12 MB/s beside a window that draws it falls behind. Larger takes until it offers a setting for this.
            session = library.sessions[self._line.session]
            session.max_recv_size = _RECEIVED_AT_ONCE
            self._socket = session.interface
            # A command and the question after it are two small writes: the second need not wait for an echo.
            session.interface.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def _keep_partial_reads(self, suppress_end: Any) -> None:
        """Let a read that times out return what it has: by default the back-end throws it away."""
        with contextlib.suppress(*self._errors):
            self._line.set_visa_attribute(suppress_end, False)

    def write(self, message: str) -> None:
        """Send a message.

        Raises
        ------
        InstrumentError
            If the link is lost.
        """
        with self._lock:
            try:
                self._line.write(message)
            except self._errors as error:
                raise self._lost(f"the link broke while “{message}” was sent ({_words(error)})") from error

    def query(self, message: str, *, within_s: float | None = None) -> str:
        """Send a query and return its answer.

        Parameters
        ----------
        message
            The query.
        within_s
            How long the whole answer may take; the link's time-out when None.

        Raises
        ------
        InstrumentError
            If the link is lost, or what comes is no text.
        """
        with self._lock:
            self.is_in_step = False
            self.write(message)
            answer = _Answer(message, self._timeout_s if within_s is None else within_s)
            data = self._read_line(answer)
            self.is_in_step = True
        text = data.decode("latin-1").strip()
        if not text.isprintable():
            raise InstrumentError(self.resource, f"expected text after “{message}”, found {_shown(data)}")
        return text

    def query_numbers(self, message: str) -> Samples:
        """Send a query and return its answer, numbers as text with commas between (IEEE 488.2, 8.7.2 to 8.7.4).

        Returns
        -------
        Samples
            Shape ``(n,)``; an empty line has none.

        Raises
        ------
        InstrumentError
            If the link is lost, or what comes are no such numbers.
        """
        with self._lock:
            self.is_in_step = False
            self.write(message)
            data = self._read_long_line(_Answer(message, self._timeout_s))
            self.is_in_step = True
        text = data.decode("latin-1").strip()
        if not text:
            return np.empty(0, dtype=np.float32)
        try:
            with np.errstate(over="ignore"):
                return np.array(text.split(","), dtype=np.float64).astype(np.float32)
        except ValueError:
            raise InstrumentError(
                self.resource, f"expected numbers with commas between after “{message}”, found {_shown(data)}"
            ) from None

    def query_block(self, message: str, *, kind: str = ">f4") -> Samples:
        """Send a query and return its answer, a definite-length block of numbers (IEEE 488.2, 8.7.9).

        Parameters
        ----------
        message
            The query.
        kind
            Of each number, as the instrument was told: ``>f4``, ``<f4``, ``>f8`` or ``<f8``.

        Returns
        -------
        Samples
            Shape ``(n,)``; an empty block has none.

        Raises
        ------
        InstrumentError
            If the link is lost, or what comes is no such block.
        """
        with self._lock:
            self.is_in_step = False
            self.write(message)
            answer = _Answer(message, self._timeout_s)
            head = self._read(2, answer)
            if head == b"#0":
                data = self._read_to_silence(answer)
                self.is_in_step = True
                return _samples(self._whole(data, kind), kind)
            if head[:1] != b"#" or not b"1" <= head[1:] <= b"9":
                raise InstrumentError(self.resource, f"expected a block of samples, found {_shown(head)}")
            digits = self._read(int(head[1:]), answer)
            if not digits.isdigit():
                raise InstrumentError(self.resource, f"expected the length of a block, found {_shown(digits)}")
            if int(digits) > _LONGEST_BLOCK:
                raise InstrumentError(
                    self.resource, f"a block of {int(digits)} bytes is longer than the {_LONGEST_BLOCK} that are taken"
                )
            data = self._read(int(digits), answer)
            end = self._read(1, answer)
            if end == b"\r":
                end = self._read(1, answer)
            self.is_in_step = end == b"\n"
        if end != b"\n" or len(data) % int(kind[-1]):
            raise InstrumentError(
                self.resource, f"a block said to be {len(data)} bytes long is of another length: {_shown(end)} follows"
            )
        return _samples(data, kind)

    def _whole(self, data: bytes, kind: str) -> bytes:
        if len(data) % int(kind[-1]):
            raise InstrumentError(
                self.resource, f"a block without a length holds {len(data)} bytes, no numbers of {kind[-1]} bytes"
            )
        return data

    def _read_to_silence(self, answer: _Answer) -> bytes:
        """Read a block of indefinite length: up to the line end after which nothing comes (IEEE 488.2, 8.7.10)."""
        data = bytearray()
        while True:
            piece = self._some(_RECEIVED_AT_ONCE)
            data += piece
            answer.came += len(piece)
            if len(data) > _LONGEST_BLOCK:
                raise InstrumentError(self.resource, f"a block without a length is longer than {_LONGEST_BLOCK} bytes")
            if not piece and data.endswith(b"\n"):
                break
            if not piece and self._is_hung_up():
                raise self._lost(f"the other side hung up instead of answering “{answer.message}”")
            if not piece:
                self._check_patience(answer, time.monotonic())
        return bytes(data[:-1])

    def _read(self, count: int, answer: _Answer) -> bytes:
        """Read exactly so many bytes."""
        return self._gathered(answer, lambda data: count - len(data))

    def _read_long_line(self, answer: _Answer) -> bytes:
        """Read up to a line end, in large pieces: nothing else was asked for that could follow it."""

        def wanted(data: bytearray) -> int:
            if len(data) > _LONGEST_BLOCK:
                raise InstrumentError(self.resource, f"expected a line after “{answer.message}”, found no end of it")
            return 0 if data.endswith(b"\n") else _RECEIVED_AT_ONCE

        return self._gathered(answer, wanted)

    def _gathered(self, answer: _Answer, wanted: Callable[[bytearray], int]) -> bytes:
        """Read until no more is wanted of an answer, and no longer than it may be silent."""
        data = bytearray()
        silent_from = time.monotonic()
        self._line.read_termination = None
        while (count := wanted(data)) > 0:
            piece = self._some(count)
            now_s = time.monotonic()
            if piece:
                silent_from = now_s
                data += piece
                answer.came += len(piece)
            elif self._is_hung_up():
                raise self._lost(f"the other side hung up instead of answering “{answer.message}”")
            elif now_s - silent_from > answer.within_s:
                raise self._lost(f"no answer to “{answer.message}” within {answer.within_s:g} s")
            if wanted(data) > 0:
                self._check_patience(answer, now_s)
        return bytes(data)

    def _check_patience(self, answer: _Answer, now_s: float) -> None:
        if now_s - answer.asked_s > answer.within_s + answer.came / _SLOWEST_PER_S:
            raise self._lost(
                f"only {answer.came} bytes of the answer to “{answer.message}” came in {now_s - answer.asked_s:.3g} s"
            )
        if not self.should_stop():
            answer.stop_s = now_s
        elif now_s - answer.stop_s > _STOP_WITHIN_S:
            raise InstrumentError(self.resource, f"stopped while it answered “{answer.message}”")

    def _read_line(self, answer: _Answer) -> bytes:
        data = bytearray()
        while not data.endswith(b"\n"):
            data += self._read(1, answer)
            if len(data) > _LONGEST_ANSWER:
                raise InstrumentError(self.resource, f"expected a line after “{answer.message}”, found no end of it")
        return bytes(data)

    def _some(self, count: int) -> bytes:
        """Read what there is, at most so many bytes; nothing after a moment of silence."""
        from pyvisa import constants, errors

        line = self._line
        try:
            if self._port is not None:
                return bytes(self._port.read(max(1, min(count, self._port.in_waiting))))
            with line.ignore_warning(
                constants.StatusCode.success_device_not_present, constants.StatusCode.success_max_count_read
            ):
                data, _status = line.visalib.read(line.session, count)
            return bytes(data)
        except errors.VisaIOError as error:
            if error.error_code == constants.StatusCode.error_timeout:
                return b""
            raise self._lost(f"the link broke ({_words(error)})") from error
        except self._errors as error:
            raise self._lost(f"the link broke ({_words(error)})") from error

    def _is_hung_up(self) -> bool:
        """Return whether the other side closed a socket: the back-end only says that nothing came in time."""
        if not isinstance(self._socket, socket.socket):
            return False
        try:
            return self._socket.recv(1, socket.MSG_PEEK | socket.MSG_DONTWAIT) == b""
        except BlockingIOError:
            return False
        except OSError:
            return True

    def _lost(self, problem: str) -> InstrumentError:
        remedy = "check the cable and that it is still switched on"
        return InstrumentError(self.resource, problem, remedy=remedy, link_lost=True)

    def close(self) -> None:
        """Hang up; what goes wrong with that does not matter any more."""
        try:
            self._line.close()
        except self._errors:
            log.debug("closing %s failed", self.resource, exc_info=True)


@dataclass
class _Answer:
    """An answer that is being waited for: to what, how long, and how much of it came since it was asked for."""

    message: str
    within_s: float
    came: int = 0
    asked_s: float = field(default_factory=time.monotonic)
    stop_s: float = field(default_factory=time.monotonic)


def _remedy(resource: str, error: Exception) -> str:
    """Return what can be done about a resource that does not open."""
    words = str(error).lower()
    is_refused = isinstance(error, PermissionError) or "access denied" in words or "permission denied" in words
    if resource.startswith("USB") and is_refused:
        maker = _USB_MAKER.match(resource)
        of_maker = f', ATTR{{idVendor}}=="{int(maker[1], 0):04x}"' if maker is not None else ""
        return (
            f'the system lets only its administrator speak to it: write SUBSYSTEM=="usb"{of_maker}, MODE="0666" '
            f"into /etc/udev/rules.d/60-instruments.rules and plug it in again"
        )
    if resource.startswith("USB") and ("backend" in words or "pyusb" in words):
        return "the system's library for USB is missing: on Debian apt-get install libusb-1.0-0"
    if resource.startswith("ASRL") and is_refused:
        return SERIAL_REFUSED
    return NOBODY_THERE


def _words(error: Exception) -> str:
    return " ".join(str(error).split())[:160] or type(error).__name__


def _shown(data: bytes) -> str:
    return repr(data[:24])[1:] + (" …" if len(data) > 24 else "")
