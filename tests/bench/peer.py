"""A peer that is not ours: it listens on a socket and answers line by line, one client after the other."""

from __future__ import annotations

import socket
import threading


class Peer:
    """Answer until closed; what is answered is up to `reply`."""

    def __init__(self) -> None:
        self.heard: list[str] = []
        self._listener = socket.create_server(("127.0.0.1", 0))
        self._listener.settimeout(0.05)
        self.address = f"TCPIP::127.0.0.1::{self._listener.getsockname()[1]}::SOCKET"
        self.has_left = threading.Event()
        """Set when a client has closed its link and all that it sent was heard."""
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._serve)
        self._thread.start()

    def reply(self, message: str) -> bytes | None:
        """Return the answer to a message with its line end; None for none."""
        raise NotImplementedError

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
                text = message.decode().strip()
                self.heard.append(text)
                answer = self.reply(text)
                if answer is not None:
                    line.sendall(answer)
