"""Small captures with known states, for tests."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.signal.series import ArraySeries, Series

INTERVAL_S = 1e-3


class ArrayLines:
    """Digital lines in memory."""

    levels: tuple[int, ...] = ()

    def __init__(self, bits: np.ndarray, names: tuple[str, ...], interval_s: float = INTERVAL_S) -> None:
        self._bits, self.names, self.interval_s = bits, names, interval_s
        self.samples = len(bits)

    def read(self, first: int, last: int) -> np.ndarray:
        return self._bits[first:last]


@dataclass
class Made:
    """A recording in memory."""

    current: Series
    events: tuple[Event, ...] = ()
    lines: ArrayLines | None = None
    power: Series | None = None
    info: CaptureInfo = field(default_factory=lambda: CaptureInfo(INTERVAL_S))
    name: str = "made"


def stays(*parts: tuple[str, float, float], noise: float = 0.0, seed: int = 0) -> tuple[Made, dict[str, float]]:
    """Make a recording of ``(state, current_a, length_s)`` stays with a log; return it and each state's charge."""
    random = np.random.default_rng(seed)
    pieces, events, truth, now = [], [], {}, 0
    for state, current_a, length_s in parts:
        samples = round(length_s / INTERVAL_S)
        piece = (current_a * (1 + noise * random.standard_normal(samples))).astype(np.float32)
        pieces.append(piece)
        events.append(Event(now * INTERVAL_S, "state", state))
        truth[state] = truth.get(state, 0.0) + float(piece.sum(dtype=np.float64)) * INTERVAL_S
        now += samples
    return Made(ArraySeries(np.concatenate(pieces), INTERVAL_S), tuple(events)), truth
