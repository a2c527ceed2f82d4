"""An instrument that is not ours: the least that SCPI asks for, with samples that the test chose."""

from __future__ import annotations

import socket
import threading

import numpy as np


class FakeInstrument:
    """Answer one client after the other until closed.

    Parameters
    ----------
    current
        What it measures, float32.
    voltage
        None for a make that does not know the query.
    pieces
        How many samples each fetch answers, in turn; what is left comes at last.
    """

    def __init__(self, current: np.ndarray, voltage: np.ndarray | None = None, pieces: tuple[int, ...] = (7, 0, 100)):
        self.samples = {"CURR": current, "VOLT": voltage}
        self.pieces = pieces
        self.heard: list[str] = []
        self.errors: list[str] = []
        self.refuse = ""
        self.is_on = False
        self.has_lengths = True
        self.number_format = ">f4"
        """Of its samples; empty for text."""
        self.identity = "Any Maker,Model 1,0,1"
        self._listener = socket.create_server(("127.0.0.1", 0))
        self._listener.settimeout(0.05)
        self.address = f"TCPIP::127.0.0.1::{self._listener.getsockname()[1]}::SOCKET"
        self.has_left = threading.Event()
        """Set when a client has closed its link and all that it sent was heard."""
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._serve)
        self._thread.start()

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self._ended.set()
        self._thread.join()
        self._listener.close()

    def _serve(self):
        while not self._ended.is_set():
            try:
                line, _ = self._listener.accept()
            except TimeoutError:
                continue
            line.settimeout(0.05)
            self._talk(line)
            line.close()
            self.has_left.set()

    def _talk(self, line):
        waiting = b""
        while not self._ended.is_set():
            try:
                data = line.recv(4096)
            except TimeoutError:
                continue
            except OSError:
                return
            if not data:
                return
            *messages, waiting = (waiting + data).split(b"\n")
            for message in messages:
                answer = self._answer(message.decode().strip())
                if answer is not None:
                    line.sendall(answer)

    def _answer(self, message: str) -> bytes | None:
        self.heard.append(message)
        word = message.upper()
        if self.refuse and word.startswith(self.refuse):
            self.errors.append('-222,"Data out of range"')
            return None
        if word == "*IDN?":
            return self.identity.encode() + b"\n"
        if word == "*OPC?":
            return b"1\n"
        if word == "SYSTEM:ERROR?":
            return (self.errors.pop(0) if self.errors else '+0,"No error"').encode() + b"\n"
        if word.startswith("OUTPUT"):
            self.is_on = word.endswith(("1", "ON"))
        if word.startswith("INITIATE"):
            self.at = {"CURR": 0, "VOLT": 0}
            self.turn = dict.fromkeys(self.at, 0)
        if word.startswith("FETCH:ARRAY:"):
            return self._fetch(word.split(":")[2][:4])
        return None

    def _fetch(self, channel: str) -> bytes | None:
        values = self.samples[channel]
        if values is None:
            self.errors.append('-113,"Undefined header"')
            return None
        turn = self.turn[channel]
        count = self.pieces[turn] if turn < len(self.pieces) else len(values)
        self.turn[channel] += 1
        chosen = values[self.at[channel] : self.at[channel] + count]
        self.at[channel] += count
        if not self.number_format:
            return ", ".join(f"{value:+.8E}" for value in chosen.tolist()).encode() + b"\r\n"
        data = chosen.astype(self.number_format).tobytes()
        if self.has_lengths is False:  # a block of indefinite length, IEEE 488.2, 8.7.10
            return b"#0" + data + b"\n"
        digits = str(len(data))
        return f"#{len(digits)}{digits}".encode() + data + b"\n"
