"""What the bench makes of the board, piece by piece: supply capacitor, wander, digital lines, readings."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.bench.simulated.firmware import LINES, PARTS, Post
from warm_ember.bench.simulated.kernel import Board, Grid, sample_means
from warm_ember.bench.simulated.played import PlayedBattery
from warm_ember.bench.simulated.ranges import Noise, Reader
from warm_ember.model.arrays import Bits, Floats, Samples

SUPPLY_OHM = 0.6
CAPACITOR_TIME_S = 0.25e-3
TICK_S = 1 / 512
_TICK_AWAKE_S = 118e-6
_TICK_PHASE_S = 0.37e-3
_VOLTAGE_NOISE_V = 0.4e-3
_HISTORY_S = 10e-3
_SENDING_A, _FIELD_V, _NO_FIELD_V = 0.06, 1.2, 0.02


@dataclass(frozen=True, eq=False)
class SampledBlock:
    """Samples in a row: what was read, and what truly flowed; each shape ``(n,)``."""

    current: Samples
    voltage: Samples
    lines: Bits
    flowing: Floats

    @property
    def field(self) -> Samples:
        """Output of a radio detector beside the target, V, shape ``(n,)``."""
        return np.where(self.flowing > _SENDING_A, _FIELD_V, _NO_FIELD_V).astype(np.float32)


class Sampler:
    """Sample a post from some moment on, with memory from piece to piece.

    Parameters
    ----------
    post
        The running target, run at least to the end of each piece; None while it has no power.
    start_s
        The post's time at the first sample.
    rate_hz
        Samples per second.
    supply_v, limit_a
        What the source is set to.
    noise
        Where all noise comes from; the target's own life takes nothing from it.
    fixed_range
        Index of a range to stay in, or None.
    battery
        What the source plays instead of a fixed voltage.
    """

    def __init__(
        self,
        post: Post | None,
        start_s: float,
        rate_hz: float,
        *,
        supply_v: float,
        limit_a: float,
        noise: Noise,
        fixed_range: int | None = None,
        battery: PlayedBattery | None = None,
    ) -> None:
        self._post, self._start_s, self._rate_hz = post, start_s, rate_hz
        self._supply_v, self._limit_a, self._noise = supply_v, limit_a, noise
        self._reader = Reader(noise, rate_hz, fixed_range)
        self._battery = battery
        self._taken = 0
        self._wander_state: Floats | None = None
        self._capacitor_state: Floats | None = None
        self._line_levels = dict.fromkeys(LINES, False)
        self._next_level = 0

    @property
    def taken(self) -> int:
        """Number of samples taken so far."""
        return self._taken

    @property
    def reached_s(self) -> float:
        """The post's time at the next sample."""
        return self._start_s + self._taken / self._rate_hz

    def skip(self, samples: int) -> None:
        """Let samples pass unmeasured."""
        grid = Grid(self.reached_s, 1.0 / self._rate_hz, samples)
        self._taken += samples
        if self._post is not None:
            self._post.board.forget_before(grid.end_s - _HISTORY_S)
            self._line_bits(self._post, grid)

    def take(self, samples: int, beside: Floats | None = None) -> SampledBlock:
        """Take the next samples.

        Parameters
        ----------
        samples
            How many.
        beside
            What hangs on the rail beside the target draws at each, A, shape ``(samples,)``.
        """
        grid = Grid(self.reached_s, 1.0 / self._rate_hz, samples)
        self._taken += samples
        drawn = np.zeros(samples) if self._post is None else self._drawn_by(self._post, grid)
        if beside is not None:
            drawn += beside
        flowing = self._smoothed(drawn)
        np.minimum(flowing, self._limit_a, out=flowing)
        volts = np.float32(_VOLTAGE_NOISE_V) * self._noise.take(samples)
        if self._battery is not None and self._supply_v > 0:
            volts += self._battery.volts(flowing, grid.interval_s).astype(np.float32)
        else:
            volts += (self._supply_v - SUPPLY_OHM * flowing).astype(np.float32)
        bits = np.zeros(samples, dtype=np.uint8)
        if self._post is not None:
            self._post.board.forget_before(grid.end_s - _HISTORY_S)
            bits = self._line_bits(self._post, grid)
        return SampledBlock(self._reader.read(flowing), volts, bits, flowing)

    def _drawn_by(self, post: Post, grid: Grid) -> Floats:
        drawn = sample_means(np.array(post.board.times_s), np.array(post.board.currents_a), grid)
        if post.firmware.tick:
            drawn += self._ticks(post.board, grid)
        drawn *= 1.0 + self._wander(drawn)
        return drawn

    def _ticks(self, board: Board, grid: Grid) -> Floats:
        """Return pulses of the running core, 512 a second while it is meant to sleep."""
        first, last = np.floor(grid.start_s / TICK_S) - 1, np.ceil(grid.end_s / TICK_S)
        starts = np.arange(max(first, 0), last) * TICK_S + _TICK_PHASE_S
        times, drawn = np.array(board.times_s), np.array(board.currents_a)
        resting_a = board.standing_a + PARTS["linnet"].modes_a["measuring"] + 50e-6
        at = np.clip(np.searchsorted(times, starts, side="right") - 1, 0, None)
        modem_idle = np.isclose(drawn[at], 9.2e-3 + resting_a, atol=0.1e-3)
        starts = starts[(drawn[at] < resting_a) | modem_idle]
        pulse_a = 3.1e-3
        edges_of_pulses = np.column_stack((starts, starts + _TICK_AWAKE_S)).ravel()
        levels = np.tile([pulse_a, 0.0], len(starts))
        return sample_means(np.append(-1.0, edges_of_pulses), np.append(0.0, levels), grid)

    def _wander(self, drawn: Floats) -> Floats:
        """Return slow wander of a running circuit's current, 1.5 % rms; sleep has next to none."""
        from scipy.signal import lfilter  # SciPy loads when first needed: it takes a while

        share = min(1.0, 1.0 / (self._rate_hz * 2e-3))
        noise = self._noise.take(len(drawn))
        state = np.zeros(1) if self._wander_state is None else self._wander_state
        wander, self._wander_state = lfilter([np.sqrt(2 * share)], [1.0, share - 1.0], noise, zi=state)
        wander *= np.where(drawn > 0.5e-3, 0.015, 0.002)
        return np.asarray(wander)

    def _smoothed(self, drawn: Floats) -> Floats:
        """Return what flows into the board's supply capacitor."""
        from scipy.signal import lfilter

        share = 1.0 - np.exp(-1.0 / (self._rate_hz * CAPACITOR_TIME_S))
        state = self._capacitor_state
        if state is None:
            state = drawn[:1] * (1 - share)
        flowing: Floats
        flowing, self._capacitor_state = lfilter([share], [1.0, share - 1.0], drawn, zi=state)
        return flowing

    def _line_bits(self, post: Post, grid: Grid) -> Bits:
        """Return the digital lines as bit fields; the log of levels before them is dropped."""
        levels, last_s = post.log.levels, grid.end_s - grid.interval_s
        bits = np.zeros(grid.samples, dtype=np.uint8)
        for bit, name in enumerate(LINES):
            changes = [(time_s, high) for time_s, line, high in levels if line == name and time_s <= last_s]
            values = [self._line_levels[name], *(high for _, high in changes)]
            cuts = grid.first_at(np.array([time_s for time_s, _ in changes]))
            for first, last, high in zip([0, *cuts], [*cuts, grid.samples], values, strict=True):
                if high:
                    bits[first:last] |= np.uint8(1 << bit)
            self._line_levels[name] = values[-1]
        post.log.levels = [level for level in levels if level[0] > last_s]
        return bits
