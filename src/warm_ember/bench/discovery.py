"""Finding instruments: ask at every likely address who is there."""

from __future__ import annotations

import logging
import time
from collections.abc import Iterable
from dataclasses import dataclass

from warm_ember.bench.byte_stream import STANDARD_INPUT, ByteStream, is_stream
from warm_ember.bench.link import Link
from warm_ember.errors import InstrumentError
from warm_ember.signal.series import Progress, ShouldStop, ignore_progress, never

log = logging.getLogger(__name__)

LOCAL = "TCPIP::127.0.0.1::5025::SOCKET"
"""The simulated bench, at the port that IANA lists as scpi-raw."""

_TIMEOUT_S = 0.6
_POLL_S, _TELLING, _SHOWN = 0.01, 2, 40


@dataclass(frozen=True)
class DiscoveredInstrument:
    """An instrument that answered, and where."""

    resource: str
    identity: str


def find_instruments(
    known: Iterable[str] = (),
    *,
    timeout_s: float = _TIMEOUT_S,
    should_stop: ShouldStop = never,
    progress: Progress = ignore_progress,
) -> tuple[DiscoveredInstrument, ...]:
    """Ask ``*IDN?`` at the known addresses, at this computer's own port and on all serial lines.

    Of a serial line on which nobody answers, and of what prints by itself, the first line that comes tells what is
    there.

    Parameters
    ----------
    known
        Addresses that were used before.
    timeout_s
        How long each may take to answer.
    should_stop, progress
        Polled and told between addresses.
    """
    addresses = [address for address in dict.fromkeys((*known, LOCAL, *_serial_lines())) if address]
    found: list[DiscoveredInstrument] = []
    for number, address in enumerate(addresses):
        if should_stop():
            break
        here = None if is_stream(address) else _asked(address, timeout_s)
        device = address.removeprefix("ASRL").removesuffix("::INSTR")
        if here is None and is_stream(device) and device != STANDARD_INPUT:
            here = _heard(device, timeout_s)
        if here is not None and here.resource not in [one.resource for one in found]:
            found.append(here)
        progress((number + 1) / len(addresses))
    return tuple(found)


def _asked(address: str, timeout_s: float) -> DiscoveredInstrument | None:
    """Return who answers at an address."""
    try:
        link = Link(address, timeout_s=timeout_s)
    except InstrumentError as error:
        log.info("nobody at %s: %s", address, error)
        return None
    try:
        return DiscoveredInstrument(address, link.query("*IDN?"))
    except InstrumentError as error:
        log.info("no answer at %s: %s", address, error)
        return None
    finally:
        link.close()


def _heard(address: str, timeout_s: float) -> DiscoveredInstrument | None:
    """Return what prints lines at an address without being asked."""
    try:
        stream = ByteStream(address)
    except InstrumentError as error:
        log.info("nothing at %s: %s", address, error)
        return None
    try:
        until_s, data = time.monotonic() + timeout_s, b""
        # The first line may be the end of another, so the second tells.
        while data.count(b"\n") < _TELLING and time.monotonic() < until_s and not stream.has_ended:
            data += b"".join(came.data for came in stream.take())
            time.sleep(_POLL_S)
    finally:
        stream.close()
    lines = [line.strip() for line in data.decode("utf-8", "replace").split("\n")[:-1]]
    if not lines or not lines[-1]:
        return None
    shown = "".join(c if c.isprintable() else "·" for c in lines[-1])
    return DiscoveredInstrument(address, f"something that prints “{shown[:_SHOWN]}”")


def _serial_lines() -> tuple[str, ...]:
    from serial.tools import list_ports

    return tuple(f"ASRL{port.device}::INSTR" for port in list_ports.comports())
