"""What a bench does wrong on purpose, so that what hears it can be tested."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum


class FaultMode(StrEnum):
    """A way to fail."""

    NONE = "none"
    SLOW = "slow"
    FRAGMENTED = "fragmented"
    DISCONNECT = "disconnect"
    ERRORS = "errors"
    REBOOT = "reboot"
    GARBAGE = "garbage"
    WRONG_LENGTH = "wrong-length"
    SILENT = "silent"
    DRIP = "drip"
    HUGE = "huge"
    LATE = "late"
    OVERRANGE = "overrange"
    LOST_LINES = "lost-lines"
    HALF_LINES = "half-lines"
    RESTART_CLOCK = "restart-clock"


@dataclass
class Fault:
    """A way to fail and when: after how many answers with samples; those that break off do it once.

    Parameters
    ----------
    mode
        The way.
    after
        How many blocks of samples pass before.
    delay_s
        How slow the slow one is, and how long a reboot takes.
    """

    mode: FaultMode = FaultMode.NONE
    after: int = 5
    delay_s: float = 0.05
    blocks: int = 0
    done: bool = False

    def is_due(self, mode: FaultMode) -> bool:
        """Return whether a fault that happens once happens now."""
        if self.mode is not mode or self.done or self.blocks <= self.after:
            return False
        self.done = True
        return True

    def pieces(self, answer: bytes) -> Iterator[bytes]:
        """Yield an answer as it goes onto the line."""
        if self.mode is FaultMode.SLOW:
            time.sleep(self.delay_s)
        if self.mode is FaultMode.DRIP and self.blocks > self.after:
            for first in range(len(answer)):
                yield answer[first : first + 1]
                time.sleep(_DRIP_S)
            return
        if self.mode is FaultMode.HUGE and self.blocks > self.after and answer.startswith(b"#"):
            yield b"#9268435456"
            answer = bytes(1 << 20)
        if self.mode is not FaultMode.FRAGMENTED:
            yield answer
            return
        first = 0
        for size in _FRAGMENTS:
            if first < len(answer):
                yield answer[first : first + size]
                time.sleep(1e-3)
                first += size
        yield answer[first:]


_DRIP_S = 1.0
_FRAGMENTS = (1, 1, 2, 3, 5, 8, 13, 1000)
