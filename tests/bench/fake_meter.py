"""A meter that is not ours: it answers one reading at a time over a socket, of a current that the test chose."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable


class FakeMeter:
    """Answer one client after the other until closed.

    Parameters
    ----------
    answer
        What it answers to the reading with that number, from 0 on; None for nothing.
    identity
        Its answer to ``*IDN?``.
    knows_errors
        Whether it answers ``SYSTem:ERRor?``.
    """

    def __init__(
        self,
        answer: Callable[[int], str | None],
        *,
        identity: str = "Any Maker,Meter 3,0,1",
        knows_errors: bool = True,
    ) -> None:
        self._answer_to, self._identity, self._knows_errors = answer, identity, knows_errors
        self.heard: list[str] = []
        self._error = 0
        self.moments_s: list[tuple[float, float]] = []
        """When each reading was asked for, and answered."""
        self._listener = socket.create_server(("127.0.0.1", 0))
        self._listener.settimeout(0.05)
        self.address = f"TCPIP::127.0.0.1::{self._listener.getsockname()[1]}::SOCKET"
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
                answer = self._reply(message.decode().strip())
                if answer is not None:
                    line.sendall(answer.encode() + b"\n")

    def _reply(self, message: str) -> str | None:
        self.heard.append(message)
        word = message.upper()
        if word == "*IDN?":
            return self._identity
        if word == "*OPC?":
            return "1"
        if word.startswith(("SYST:ERR", "SYSTEM:ERR")):
            code, self._error = self._error, 0
            return f'{code:+d},"{"Undefined header" if code else "No error"}"' if self._knows_errors else None
        if word.startswith("SENS"):
            self._error = -113
        if word == "READ?":
            asked_s = time.monotonic()
            answer = self._answer_to(len(self.moments_s))
            self.moments_s.append((asked_s, time.monotonic()))
            return answer
        return None
