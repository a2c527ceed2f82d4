"""An instrument that is not ours: the least that SCPI asks for, with samples that the test chose."""

from __future__ import annotations

import numpy as np

from bench.peer import Peer


class FakeInstrument(Peer):
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
        self.errors: list[str] = []
        self.refuse = ""
        self.is_on = False
        self.has_lengths = True
        self.number_format = ">f4"
        """Of its samples; empty for text."""
        self.identity = "Any Maker,Model 1,0,1"
        super().__init__()

    def reply(self, message: str) -> bytes | None:
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
