"""Arm trace streams of the instrumentation and watchpoint units, for the periodic program-counter samples in them.

The packets are those of the Armv7-M Architecture Reference Manual (DDI 0403E), appendix D4, which Armv8-M keeps; the
stream is the bare protocol, as it comes out of the trace pin.
"""

from __future__ import annotations

from array import array
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

import numpy as np

from warm_ember.errors import BadFileError, Cancelled
from warm_ember.model.arrays import Addresses, Floats
from warm_ember.model.program import ASLEEP
from warm_ember.signal.series import ShouldStop, never
from warm_ember.units import counted, quantity_text

_CHUNK_BYTES = 1 << 20
_LONGEST_PACKET = 8
_OVERFLOW = 0x70
_END_OF_SYNC = 0x80
_PROGRAM_COUNTER = 2
_GLOBAL_TIMES = (0x94, 0xB4)
_CONTINUES = 0x80


class SampleTimes(NamedTuple):
    """When samples were taken, s of the capture, shape ``(samples,)``, and what that rests on, in words."""

    times_s: Floats
    rests_on: str


@dataclass(frozen=True, eq=False)
class ItmStream:
    """The program-counter samples of a stream.

    Parameters
    ----------
    ticks
        When each was taken, in ticks of the trace clock from the stream's start, shape ``(samples,)``; None when the
        stream carries no time stamps.
    addresses
        Where the core was, `ASLEEP` when it slept, shape ``(samples,)``.
    notes
        What was left out, a sentence each.
    """

    ticks: Floats | None
    addresses: Addresses
    notes: tuple[str, ...]

    def times_s(self, duration_s: float, clock_hz: float | None) -> SampleTimes:
        """Return when each sample was taken in capture time.

        Parameters
        ----------
        duration_s
            Length of the capture.
        clock_hz
            Ticks per second; None takes the stream to last as long as the capture.
        """
        if self.ticks is None:
            count = len(self.addresses)
            words = "the trace stream has no time stamps: its samples are spread evenly over the capture"
            return SampleTimes((np.arange(count) + 0.5) * duration_s / count, words)
        if clock_hz is not None:
            return SampleTimes(self.ticks / clock_hz, f"trace clock of {quantity_text(clock_hz, 'Hz')} as given")
        found_hz = float(self.ticks[-1]) / duration_s if self.ticks[-1] > 0 else 1.0
        words = f"trace clock taken as {quantity_text(found_hz, 'Hz')}, so that the stream lasts as long as the capture"
        return SampleTimes(self.ticks / found_hz, words)


def read_itm(path: Path, should_stop: ShouldStop = never) -> ItmStream:
    """Read a stream; what is cut off at its end or damaged within is left out and noted.

    Raises
    ------
    BadFileError
        If the file cannot be read or holds no sample of the program counter.
    Cancelled
        If `should_stop` answered yes.
    """
    decoder = _Decoder()
    try:
        with path.open("rb") as file:
            left = b""
            while chunk := file.read(_CHUNK_BYTES):
                if should_stop():
                    raise Cancelled("stopped")
                left = decoder.feed(left + chunk, is_last=False)
            left = decoder.feed(left, is_last=True)
    except OSError as error:
        raise BadFileError(path, f"cannot be read ({error.strerror or error})") from error
    if not decoder.addresses:
        problem = "expected an Arm trace stream with periodic program-counter samples, found none"
        raise BadFileError(path, problem, remedy="switch the samples on in the watchpoint unit's control register")
    return ItmStream(decoder.ticks(), np.array(decoder.addresses, dtype=np.uint64), decoder.notes(len(left)))


@dataclass
class _Decoder:
    """Take packets one after the other; a packet that is not whole yet is handed back."""

    addresses: array[int] = field(default_factory=lambda: array("Q"))
    offset: int = 0
    _stamps: array[float] = field(default_factory=lambda: array("d"))
    _stamped: array[int] = field(default_factory=lambda: array("q"))
    _now: int = 0
    _overflows: int = 0
    _damaged: int = 0
    _first_damage: int = 0
    _lost: bool = False

    def feed(self, data: bytes, *, is_last: bool) -> bytes:
        """Decode all whole packets and return the rest."""
        at, size = 0, len(data)
        while at < size:
            if not is_last and size - at < _LONGEST_PACKET:
                break
            if self._lost:
                at = self._find_sync(data, at)
                continue
            header = data[at]
            if header & 0b11:
                length = 1 + (0, 1, 2, 4)[header & 0b11]
                if at + length > size:
                    break
                if header & 0b100 and header >> 3 == _PROGRAM_COUNTER:
                    self._sample(data[at + 1 : at + length])
            elif header == 0:
                length = self._sync_length(data, at)
            elif header == _OVERFLOW:
                self._overflows += 1
                length = 1
            elif header & 0x0F == 0:
                length = self._local_time(data, at)
            elif header & 0x0B == 0x08 or header in _GLOBAL_TIMES:
                length = _continued(data, at) if header & _CONTINUES else 1
            else:
                length = 1
                self._damage(at)
            if length == 0:
                break
            at += length
        self.offset += at
        return data[at:]

    def _sample(self, payload: bytes) -> None:
        if len(payload) == 4:
            self.addresses.append(int.from_bytes(payload, "little") & ~1)
        elif len(payload) == 1:  # 0: the core sleeps; 0xFF: sampling is not allowed where it is (Armv8-M)
            self.addresses.append(ASLEEP if payload[0] == 0 else 0)

    def _local_time(self, data: bytes, at: int) -> int:
        header = data[at]
        if not header & _CONTINUES:
            self._advance(header >> 4)
            return 1
        length = _continued(data, at)
        if length:
            delta = 0
            for index in range(1, length):
                delta |= (data[at + index] & 0x7F) << 7 * (index - 1)
            self._advance(delta)
        return length

    def _advance(self, delta: int) -> None:
        """Stamp the samples since the last time stamp: it follows what it belongs to (D4.2.4)."""
        self._now += delta
        self._stamps.append(self._now)
        self._stamped.append(len(self.addresses))

    def _sync_length(self, data: bytes, at: int) -> int:
        end = at
        while end < len(data) and data[end] == 0:
            end += 1
        if end == len(data):
            return 0
        if end - at >= 5 and data[end] == _END_OF_SYNC:
            return end - at + 1
        self._damage(at)
        return end - at

    def _damage(self, at: int) -> None:
        """Remember a byte that begins no packet; what follows cannot be believed until the next synchronisation."""
        if not self._damaged:
            self._first_damage = self.offset + at
        self._damaged += 1
        self._lost = True

    def _find_sync(self, data: bytes, at: int) -> int:
        found = data.find(b"\0\0\0\0\0\x80", at)
        if found < 0:
            return max(at + 1, len(data) - 5)
        self._lost = False
        return found + 6

    def ticks(self) -> Floats | None:
        """Return when each sample was taken; those that share a time stamp lie evenly before it.

        Returns
        -------
        Floats or None
            Ticks of the trace clock, shape ``(samples,)``; None without time stamps.
        """
        if not len(self._stamps):
            return None
        stamps = np.concatenate(([0.0], np.array(self._stamps)))
        count = np.concatenate(([0], np.array(self._stamped)))
        kept = np.concatenate(([True], np.diff(count) > 0))
        kept[-1] = True
        return np.interp(np.arange(1, len(self.addresses) + 1), count[kept], stamps[kept])

    def notes(self, left: int) -> tuple[str, ...]:
        """Return what was left out."""
        found = []
        if left:
            found.append(f"the trace stream is cut off: its last {left} bytes are no whole packet")
        if self._overflows:
            found.append(f"the trace stream overflowed {counted(self._overflows, 'time')}: samples are missing there")
        if self._damaged:
            found.append(
                f"the trace stream is damaged in {self._damaged} places, the first at byte {self._first_damage}: "
                "left out up to the next synchronisation packet"
            )
        return tuple(found)


def _continued(data: bytes, at: int) -> int:
    """Return the length of a packet whose payload bytes say whether another follows; 0 when its end is not there."""
    end = at + 1
    while end < len(data) and data[end] & _CONTINUES:
        end += 1
    return end + 1 - at if end < len(data) else 0
