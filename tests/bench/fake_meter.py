"""A meter that is not ours: it answers one reading at a time over a socket, of a current that the test chose."""

from __future__ import annotations

import time
from collections.abc import Callable

from bench.peer import Peer


class FakeMeter(Peer):
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
        self._error = 0
        self.moments_s: list[tuple[float, float]] = []
        """When each reading was asked for, and answered."""
        super().__init__()

    def reply(self, message: str) -> bytes | None:
        answer = self._reply(message)
        return None if answer is None else answer.encode() + b"\n"

    def _reply(self, message: str) -> str | None:
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
