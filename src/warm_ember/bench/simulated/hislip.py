"""The bench over HiSLIP: IVI-6.1, revision 1.0, in the synchronised mode, one message at a time."""

from __future__ import annotations

import itertools
import socket
import struct
from collections.abc import Callable
from enum import IntEnum
from typing import NamedTuple

_HEADER = struct.Struct("!2sBBIQ")
_MARK, _VENDOR, _VERSION = b"HS", 0x5745, 0x0100
_LARGEST = 1 << 20
_IN_ORDER = 1
_NO_ERROR_YET = 0


class Message(IntEnum):
    """What a message is: IVI-6.1, table 4."""

    INITIALIZE = 0
    INITIALIZE_RESPONSE = 1
    FATAL_ERROR = 2
    ASYNC_LOCK = 4
    ASYNC_LOCK_RESPONSE = 5
    DATA = 6
    DATA_END = 7
    DEVICE_CLEAR_COMPLETE = 8
    DEVICE_CLEAR_ACKNOWLEDGE = 9
    ASYNC_REMOTE_CONTROL = 10
    ASYNC_REMOTE_RESPONSE = 11
    TRIGGER = 12
    ASYNC_MAXIMUM_SIZE = 15
    ASYNC_MAXIMUM_SIZE_RESPONSE = 16
    ASYNC_INITIALIZE = 17
    ASYNC_INITIALIZE_RESPONSE = 18
    ASYNC_DEVICE_CLEAR = 19
    ASYNC_STATUS_QUERY = 21
    ASYNC_STATUS_RESPONSE = 22
    ASYNC_DEVICE_CLEAR_ACKNOWLEDGE = 23


class _Came(NamedTuple):
    kind: int
    control: int
    parameter: int
    payload: bytes


class HislipLine:
    """One connection of a client: the first that it opens carries messages, the second what is said beside them.

    Parameters
    ----------
    connection
        The socket.
    answer
        Carries a message out and returns its answer, None for none.
    numbers
        Gives each session its number.
    """

    def __init__(
        self, connection: socket.socket, answer: Callable[[str], bytes | None], numbers: itertools.count[int]
    ) -> None:
        self._connection, self._answer, self._numbers = connection, answer, numbers
        self._said = bytearray()

    def serve(self) -> None:
        """Answer until the client hangs up.

        Raises
        ------
        OSError
            If the connection breaks.
        """
        while True:
            came = self._receive()
            if came is None or not self._handle(came):
                return

    def _receive(self) -> _Came | None:
        head = self._exactly(_HEADER.size)
        if head is None:
            return None
        mark, kind, control, parameter, length = _HEADER.unpack(head)
        payload = self._exactly(length) if mark == _MARK and length <= _LARGEST else None
        return None if payload is None else _Came(kind, control, parameter, payload)

    def _exactly(self, count: int) -> bytes | None:
        data = bytearray()
        while len(data) < count:
            piece = self._connection.recv(count - len(data))
            if not piece:
                return None
            data += piece
        return bytes(data)

    def _send(self, kind: Message, control: int = 0, parameter: int = 0, payload: bytes = b"") -> None:
        self._connection.sendall(_HEADER.pack(_MARK, kind, control, parameter, len(payload)) + payload)

    def _handle(self, came: _Came) -> bool:
        """Do what a message asks for; False for one that nobody knows."""
        if came.kind in (Message.DATA, Message.DATA_END):
            self._said += came.payload
            if came.kind == Message.DATA_END:
                message, self._said = self._said.decode("latin-1").strip(), bytearray()
                self._reply(self._answer(message), came.parameter)
        elif came.kind == Message.INITIALIZE:
            self._send(Message.INITIALIZE_RESPONSE, 0, _VERSION << 16 | next(self._numbers) & 0xFFFF)
        elif came.kind == Message.ASYNC_INITIALIZE:
            self._send(Message.ASYNC_INITIALIZE_RESPONSE, 0, _VENDOR)
        elif came.kind == Message.ASYNC_MAXIMUM_SIZE:
            self._send(Message.ASYNC_MAXIMUM_SIZE_RESPONSE, payload=struct.pack("!Q", _LARGEST))
        elif came.kind == Message.ASYNC_LOCK:
            self._send(Message.ASYNC_LOCK_RESPONSE, _IN_ORDER)
        elif came.kind == Message.ASYNC_REMOTE_CONTROL:
            self._send(Message.ASYNC_REMOTE_RESPONSE)
        elif came.kind == Message.ASYNC_DEVICE_CLEAR:
            self._send(Message.ASYNC_DEVICE_CLEAR_ACKNOWLEDGE)
        elif came.kind == Message.DEVICE_CLEAR_COMPLETE:
            self._said = bytearray()
            self._send(Message.DEVICE_CLEAR_ACKNOWLEDGE)
        elif came.kind == Message.ASYNC_STATUS_QUERY:
            self._send(Message.ASYNC_STATUS_RESPONSE, _NO_ERROR_YET)
        elif came.kind != Message.TRIGGER:
            self._send(Message.FATAL_ERROR, 0, 0, b"a message that this instrument does not know")
            return False
        return True

    def _reply(self, answer: bytes | None, number: int) -> None:
        if answer is None:
            return
        most = _LARGEST - _HEADER.size
        for first in range(0, len(answer), most):
            piece = answer[first : first + most]
            self._send(Message.DATA_END if first + most >= len(answer) else Message.DATA, 0, number, piece)
