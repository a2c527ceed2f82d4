"""An instrument that is not ours and samples a world that others share, as time goes by and by a clock of its own."""

from __future__ import annotations

import time

import numpy as np

from bench.peer import Peer

WORLD_OHM = 2.0


class World:
    """A load that changes at moments that nobody knows, on a rail with a resistance before it."""

    def __init__(self, seed: int, low_a: float = 2e-3, high_a: float = 0.1) -> None:
        random = np.random.default_rng(seed)
        self.from_s = time.monotonic() - 1.0
        self.changes_s = self.from_s + np.cumsum(random.uniform(0.03, 0.4, 400))
        self.levels_a = np.where(np.arange(401) % 2, random.uniform(0.3 * high_a, high_a, 401), low_a)

    def current_a(self, moments_s: np.ndarray) -> np.ndarray:
        return self.levels_a[np.searchsorted(self.changes_s, moments_s, side="right")]

    def voltage_v(self, moments_s: np.ndarray) -> np.ndarray:
        return 3.0 - WORLD_OHM * self.current_a(moments_s)


class ClockedPeer(Peer):
    """A sweep of a channel of the world.

    Parameters
    ----------
    course
        What it measures at moments of the monotonic clock.
    number
        Its serial number.
    late_s
        How long after it was told it begins, without saying so.
    fast
        By which share its clock runs fast.
    noise
        Of a sample.
    """

    def __init__(self, course, number: int, *, late_s: float = 0.0, fast: float = 0.0, noise: float = 1e-5) -> None:
        self._course, self._number, self._late_s, self._fast, self._noise = course, number, late_s, fast, noise
        self._random = np.random.default_rng(number)
        self.is_on = False
        self.interval_s = 1e-3
        self.sent = 0
        self.error = b'+0,"No error"\n'
        super().__init__()

    def reply(self, message: str) -> bytes | None:
        word = message.upper()
        if word == "*IDN?":
            return f"Any Maker,Clocked,{self._number},1\n".encode()
        if word == "*OPC?":
            return b"1\n"
        if word == "SYSTEM:ERROR?":
            told, self.error = self.error, b'+0,"No error"\n'
            return told
        if word.startswith("OUTPUT"):
            self.is_on = word.endswith(("1", "ON"))
        if word.startswith("SENSE:SWEEP:TINT"):
            self.interval_s = float(word.split()[1])
        if word.startswith("INITIATE"):
            self.began_s, self.sent = time.monotonic() + self._late_s, 0
        if word.startswith("FETCH:ARRAY:CURR"):
            return self._block()
        if word.startswith("FETCH:ARRAY:VOLT"):
            self.error = b'-113,"Undefined header"\n'
        return None

    def _block(self) -> bytes:
        own_s = self.interval_s / (1 + self._fast)
        due = max(self.sent, int((time.monotonic() - self.began_s) / own_s))
        moments_s = self.began_s + (np.arange(self.sent, due) + 0.5) * own_s
        values = self._course(moments_s) + self._noise * self._random.standard_normal(due - self.sent)
        self.sent = due
        data = values.astype(">f4").tobytes()
        return f"#{len(str(len(data)))}{len(data)}".encode() + data + b"\n"


class ClockedVoltmeter(ClockedPeer):
    """The same, of a voltage."""

    def reply(self, message: str) -> bytes | None:
        word = message.upper()
        if word.startswith("FETCH:ARRAY:VOLT"):
            return self._volts
        answer = super().reply(message)
        if word.startswith("FETCH:ARRAY:CURR"):
            self._volts = answer
            count = (len(answer) - 3) // 4 * 4
            data = answer[-1 - count : -1]
            return f"#{len(str(count))}{count}".encode() + bytes(len(data)) + b"\n"
        return answer
