"""A peer that speaks VXI-11 over a socket: remote procedure calls (RFC 5531), numbers and bytes as in RFC 4506."""

from __future__ import annotations

import struct
from collections.abc import Callable

from bench.peer import Peer

CREATE_LINK, WRITE, READ, CLEAR, DESTROY_LINK = 10, 11, 12, 15, 23
IO_TIMEOUT, END, REQUEST_COUNT = 15, 4, 1


class Vxi11Peer(Peer):
    """Answer by a function from a message to its answer, both whole; for one client after the other.

    Parameters
    ----------
    answer_to
        Gives the answer to a message, None for none.
    at_once
        How many bytes a read brings at most.
    """

    def __init__(self, answer_to: Callable[[str], bytes | None], *, at_once: int = 1000) -> None:
        self._answer_to, self._at_once, self._waiting = answer_to, at_once, b""
        super().__init__()
        self.address = f"TCPIP::127.0.0.1,{self.address.split('::')[2]}::inst0::INSTR"

    def _talk(self, line):
        while (call := self._record(line)) is not None:
            number, _, _, _, _, procedure = struct.unpack(">6I", call[:24])
            place = 24
            for _ in range(2):  # who calls, and the proof of it
                (length,) = struct.unpack(">I", call[place + 4 : place + 8])
                place += 8 + length
            body = struct.pack(">6I", number, 1, 0, 0, 0, 0) + self._answer(procedure, call[place:])
            line.sendall(struct.pack(">I", 1 << 31 | len(body)) + body)

    def _record(self, line):
        found = b""
        while True:
            head = self._exactly(line, 4)
            if head is None:
                return None
            (word,) = struct.unpack(">I", head)
            found += self._exactly(line, word & 0x7FFFFFFF) or b""
            if word >> 31:
                return found

    def _exactly(self, line, count):
        data = b""
        while len(data) < count and not self._ended.is_set():
            try:
                piece = line.recv(count - len(data))
            except TimeoutError:
                continue
            except OSError:
                return None
            if not piece:
                return None
            data += piece
        return data if len(data) == count else None

    def _answer(self, procedure: int, arguments: bytes) -> bytes:
        if procedure == CREATE_LINK:
            return struct.pack(">iiII", 0, 7, 0, 1 << 20)
        if procedure == WRITE:
            (length,) = struct.unpack(">I", arguments[16:20])
            for message in arguments[20 : 20 + length].decode().splitlines():
                self._waiting += self._answer_to(message.strip()) or b""
            return struct.pack(">iI", 0, length)
        if procedure == READ:
            _, wanted, timeout_ms = struct.unpack(">iII", arguments[:12])
            if not self._waiting:
                self._ended.wait(timeout_ms / 1000)
                return struct.pack(">iiI", IO_TIMEOUT, 0, 0)
            piece = self._waiting[: min(wanted, self._at_once)]
            self._waiting = self._waiting[len(piece) :]
            reason = 0 if self._waiting else END
            reason |= REQUEST_COUNT if len(piece) == wanted else 0
            return struct.pack(">iiI", 0, reason, len(piece)) + piece + bytes(-len(piece) % 4)
        if procedure == CLEAR:
            self._waiting = b""
        return struct.pack(">i", 0)
