"""One sweep of the simulated instrument: waits for its trigger, takes its samples, hands each out once."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from warm_ember.bench.simulated.attachments import drawn_beside
from warm_ember.bench.simulated.sampling import SampledBlock, Sampler
from warm_ember.bench.simulated.target import LEADS, Target
from warm_ember.model.arrays import Flags

CHANNELS = ("current", "voltage", "lines", "field")
NOT_A_NUMBER = np.float32(9.91e37)
"""What stands for a missing reading: SCPI-1999 volume 1, 7.2.1.5."""

_STEP = 1 << 18
_BUFFER = 1 << 23


@dataclass(frozen=True)
class SweepStart:
    """What starts a sweep: at once, a level of the current, or a digital line (its bit), and the slope."""

    source: str = "immediate"
    level_a: float = 0.0
    bit: int = 0
    rising: bool = True

    def found_in(self, piece: SampledBlock) -> int | None:
        """Return the first sample after a crossing; None when there is none."""
        high: Flags = piece.current >= self.level_a if self.source == "level" else (piece.lines >> self.bit & 1) > 0
        if not self.rising:
            high = ~high
        crossed = np.flatnonzero(~high[:-1] & high[1:])
        return int(crossed[0]) + 1 if len(crossed) else None


class Sweep:
    """Samples from the arming on.

    Parameters
    ----------
    target
        What is measured.
    make_sampler
        Makes a sampler of the target as it is powered now.
    rate_hz
        Samples per second.
    points
        How many samples it takes; infinite for no end.
    start
        The trigger.
    before
        How many samples before the trigger belong to it.

    Attributes
    ----------
    armed_s
        The target's time at the first sample that was looked at.
    is_triggered
        Whether what comes is kept.
    """

    def __init__(
        self,
        target: Target,
        make_sampler: Callable[[], Sampler],
        rate_hz: float,
        points: float,
        start: SweepStart,
        before: int = 0,
    ) -> None:
        self._target, self._make_sampler = target, make_sampler
        self._rate_hz, self._points, self._start, self._before = rate_hz, points, start, before
        self._sampler = make_sampler()
        self.armed_s = self._sampler.reached_s
        self._waiting: SampledBlock | None = None
        self.is_triggered = start.source == "immediate"
        self._made = 0
        self._unread: dict[str, list[np.ndarray]] = {name: [] for name in CHANNELS}
        self._unread_samples = dict.fromkeys(CHANNELS, 0)

    def follow_power(self) -> None:
        """Go on after the target was powered or not; what came before is kept."""
        self._sampler = self._make_sampler()

    def advance(self) -> None:
        """Take all samples up to now."""
        now_s = self._target.advance()
        while True:
            due = math.floor((now_s - self._sampler.reached_s) * self._rate_hz + 1e-6)
            samples = int(min(due, _STEP, self._points - self._made))
            if samples <= 0:
                return
            if max(self._unread_samples.values()) + samples > _BUFFER:
                self._lose(samples)
            else:
                self._take(samples)

    def _lose(self, samples: int) -> None:
        """Measure what nobody reads in time: its place is kept, its value is not."""
        self._sampler.skip(samples)
        if self.is_triggered:
            self._made += samples
            for name in CHANNELS:
                if self._unread[name] or self._unread_samples[name]:
                    self._unread[name].append(np.broadcast_to(NOT_A_NUMBER, samples))
                    self._unread_samples[name] += samples

    def _take(self, samples: int) -> None:
        times_s = self._sampler.reached_s + np.arange(samples) / self._rate_hz
        beside = drawn_beside(self._target.attached - {LEADS}, times_s, self._target.rail_v)
        piece = self._sampler.take(samples, beside)
        if self.is_triggered:
            self._keep(piece)
            return
        both = _joined(self._waiting, piece)
        found = self._start.found_in(both)
        if found is not None and found >= (len(self._waiting.current) if self._waiting else 0):
            self.is_triggered = True
            self._keep(_part(both, max(0, found - self._before), len(both.current)))
        else:
            self._waiting = _part(both, max(0, len(both.current) - self._before - 1), len(both.current))

    def _keep(self, piece: SampledBlock) -> None:
        piece = _part(piece, 0, int(min(len(piece.current), self._points - self._made)))
        self._made += len(piece.current)
        for name in CHANNELS:
            self._unread[name].append(getattr(piece, name).astype(np.float32))
            self._unread_samples[name] += len(piece.current)

    def fetch(self, channel: str, at_most: int) -> np.ndarray:
        """Return the samples of a channel that were not fetched yet, float32, shape ``(at most at_most,)``."""
        self.advance()
        values = np.concatenate([np.zeros(0, dtype=np.float32), *self._unread[channel]])
        self._unread[channel] = [values[at_most:]]
        self._unread_samples[channel] = len(self._unread[channel][0])
        return values[:at_most]

    def skip_unwanted(self, wanted: set[str]) -> None:
        """Drop what nobody fetches."""
        for name in CHANNELS:
            if name not in wanted:
                self._unread[name], self._unread_samples[name] = [], 0


def _part(piece: SampledBlock, first: int, last: int) -> SampledBlock:
    return SampledBlock(
        piece.current[first:last], piece.voltage[first:last], piece.lines[first:last], piece.flowing[first:last]
    )


def _joined(one: SampledBlock | None, other: SampledBlock) -> SampledBlock:
    if one is None:
        return other
    names = ("current", "voltage", "lines", "flowing")
    return SampledBlock(*(np.concatenate((getattr(one, name), getattr(other, name))) for name in names))
