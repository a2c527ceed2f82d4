"""Finding instruments: ask at every likely address who is there."""

from __future__ import annotations

import logging
from collections.abc import Iterable
from dataclasses import dataclass

from warm_ember.bench.link import Link
from warm_ember.errors import InstrumentError
from warm_ember.signal.series import Progress, ShouldStop, ignore_progress, never

log = logging.getLogger(__name__)

LOCAL = "TCPIP::127.0.0.1::5025::SOCKET"
"""The simulated bench, at the port that IANA lists as scpi-raw."""

_TIMEOUT_S = 0.6


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
    found = []
    for number, address in enumerate(addresses):
        if should_stop():
            break
        try:
            link = Link(address, timeout_s=timeout_s)
        except InstrumentError as error:
            log.info("nobody at %s: %s", address, error)
        else:
            try:
                found.append(DiscoveredInstrument(address, link.query("*IDN?")))
            except InstrumentError as error:
                log.info("no answer at %s: %s", address, error)
            finally:
                link.close()
        progress((number + 1) / len(addresses))
    return tuple(found)


def _serial_lines() -> tuple[str, ...]:
    from serial.tools import list_ports

    return tuple(f"ASRL{port.device}::INSTR" for port in list_ports.comports())
