"""A process beside the program that switches an output off when the program ends without doing so itself.

It waits for a word on its standard input. When that ends without one, the program was killed or has crashed: it opens
the instrument anew and switches the output off. It has a session of its own, so that what ends the program from a
terminal does not end it too.
"""

from __future__ import annotations

import contextlib
import logging
import re
import signal
import socket
import subprocess
import sys
import time

log = logging.getLogger(__name__)

_DONE = b"done\n"
_TRY_FOR_S = 10.0
_AGAIN_S = 0.1
_TIMEOUT_S = 1.0
_ASK = "*IDN?"
"""Answered only when what was sent before has been taken."""
_SOCKET = re.compile(r"TCPIP\d*::(?P<host>[^:]+)::(?P<port>\d+)::SOCKET", re.IGNORECASE)


class Keeper:
    """Watch over an output from now until `release`.

    Parameters
    ----------
    resource
        The instrument's address.
    messages
        What switches its output off, in that order.
    """

    def __init__(self, resource: str, messages: tuple[str, ...]) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        try:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "warm_ember.bench.keeper", resource, *filter(None, messages)],
                stdin=subprocess.PIPE,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                start_new_session=True,
            )
        except OSError:
            log.warning("nobody watches over the output of %s", resource, exc_info=True)

    def release(self) -> None:
        """Say that nothing needs to be switched off any more; after that there is nothing left to do."""
        if self._process is None:
            return
        process, self._process = self._process, None
        with contextlib.suppress(OSError):
            process.communicate(_DONE)


def switch_off(resource: str, messages: list[str]) -> bool:
    """Switch an output off over a link of its own; answer whether the instrument took it."""
    until_s = time.monotonic() + _TRY_FOR_S
    on_socket = _SOCKET.fullmatch(resource)
    while time.monotonic() < until_s:
        try:
            if on_socket:
                _tell(on_socket["host"], int(on_socket["port"]), messages)
            else:
                _tell_by_visa(resource, messages)
        except OSError:  # an instrument's fault is one too
            time.sleep(_AGAIN_S)
        else:
            return True
    return False


def _tell(host: str, port: int, messages: list[str]) -> None:
    """Send messages over a socket; what is loaded for other kinds of links would take most of the time."""
    with socket.create_connection((host, port), _TIMEOUT_S) as line:
        line.sendall("".join(f"{message}\n" for message in (*messages, _ASK)).encode())
        if not line.recv(1):
            raise ConnectionError("it hung up")


def _tell_by_visa(resource: str, messages: list[str]) -> None:
    from warm_ember.bench.link import Link

    link = Link(resource, timeout_s=_TIMEOUT_S)
    try:
        for message in messages:
            link.write(message)
        link.query(_ASK)
    finally:
        link.close()


def main(arguments: list[str]) -> int:
    """Wait for the word, and do without it what must be done."""
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
    resource, *messages = arguments
    if sys.stdin.buffer.read() == _DONE:
        return 0
    return 0 if switch_off(resource, messages) else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
