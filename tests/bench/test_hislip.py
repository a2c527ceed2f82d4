"""The same instrument over HiSLIP: sweeps come whole, and what breaks off is told."""

from __future__ import annotations

import contextlib
import itertools
import json
import socket
import struct
import threading
from pathlib import Path

import numpy as np
import pytest

from bench.benches import AskedClock, Serve
from warm_ember.bench.opening import open_instrument
from warm_ember.bench.simulated.hislip import HislipLine, Message
from warm_ember.errors import InstrumentError
from warm_ember.model.bench import BenchSettings
from warm_ember.session.session import Session

HEAD = struct.Struct("!2sBBIQ")


def address(port: int) -> str:
    return f"TCPIP::127.0.0.1::hislip0,{port}::INSTR"


def test_a_recording_over_hislip_has_each_sample_once(serve: Serve, tmp_path: Path, command) -> None:
    server = serve("r4", clock=AskedClock(0.05))
    source = address(server.open_hislip())
    code, out, error = command(
        *("record", tmp_path / "p", "--from", source, "--duration", 0.5, "--interval", 1e-4),
        *("--voltage", 3, "--limit", 1, "--name", "h", "--json"),
    )
    assert (code, error) == (0, "")
    assert (json.loads(out)["samples"], json.loads(out)["missing"]) == (5000, 0)
    assert not server.instrument.is_on
    with Session.open(tmp_path / "p") as session:
        assert not np.isnan(session.capture("h").current.read(0, 5000)).any()


def test_a_link_that_breaks_is_told(serve: Serve) -> None:
    server = serve("r4")
    instrument = open_instrument(address(server.open_hislip()), timeout_s=2.0)
    instrument.set_sweep(BenchSettings(interval_s=1e-4), None)
    instrument.start()
    for connection in server._hislip:
        connection.shutdown(socket.SHUT_RDWR)
    with pytest.raises(InstrumentError) as caught:
        instrument.fetch()
    assert caught.value.link_lost
    instrument.close()


def talk(*sent: bytes) -> bytes:
    """Return what a line of the simulated bench answers, message by message."""
    ours, theirs = socket.socketpair()

    def heard(text: str) -> bytes | None:
        return f"heard {text}\n".encode() if "?" in text else None

    def serve() -> None:
        with theirs:
            HislipLine(
                theirs, lambda text: f"heard {text}\n".encode() if "?" in text else None, itertools.count(7)
            ).serve()

    thread = threading.Thread(target=serve)
    thread.start()
    with ours:
        for one in sent:
            ours.sendall(one)
        ours.shutdown(socket.SHUT_WR)
        answer = bytearray()
        with contextlib.suppress(ConnectionResetError):  # it hung up on what it had not read
            while piece := ours.recv(4096):
                answer += piece
    thread.join()
    return bytes(answer)


def message(kind: int, payload: bytes = b"", parameter: int = 0, mark: bytes = b"HS") -> bytes:
    return HEAD.pack(mark, kind, 0, parameter, len(payload)) + payload


def test_messages_are_answered_as_the_standard_says() -> None:
    assert talk(message(Message.INITIALIZE, b"hislip0", 0x0100_0000)) == message(1, parameter=0x0100 << 16 | 7)
    assert talk(message(Message.DATA, b"*ID"), message(Message.DATA_END, b"N?\n", 0xFFFF_FF00)) == message(
        Message.DATA_END, b"heard *IDN?\n", 0xFFFF_FF00
    )
    assert talk(message(Message.DATA_END, b"*CLS\n")) == b""
    size = talk(message(Message.ASYNC_MAXIMUM_SIZE, struct.pack("!Q", 1 << 30)))
    assert struct.unpack("!Q", size[HEAD.size :])[0] == 1 << 20
    assert talk(message(200))[2] == Message.FATAL_ERROR
    assert talk(message(Message.DATA_END, b"*IDN?\n", mark=b"XX")) == b""
    assert talk(b"HS") == b""
