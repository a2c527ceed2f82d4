"""What the bench makes of the board: supply capacitor, instrument ranges and noise, and the log's own clock."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.bench.simulated.firmware import LINES, Firmware, Post
from warm_ember.bench.simulated.kernel import sample_means
from warm_ember.model.arrays import Bits, Floats, Samples
from warm_ember.model.capture import CaptureInfo, Event

SUPPLY_V = 3.0
SUPPLY_OHM = 0.6
CAPACITOR_TIME_S = 0.25e-3
TICK_S = 1e-3
_TICK_AWAKE_S = 60e-6
_HOLD_S = 3e-3


@dataclass(frozen=True)
class Range:
    """One range of the instrument: full scale, noise (rms), zero offset and step, all A."""

    full_a: float
    noise_a: float
    offset_a: float
    step_a: float


RANGES = (
    Range(100e-6, 0.25e-6, 0.02e-6, 0.01e-6),
    Range(10e-3, 5e-6, 0.6e-6, 0.5e-6),
    Range(1.0, 110e-6, 20e-6, 20e-6),
)


@dataclass(frozen=True)
class TrueState:
    """What a state really took."""

    charge_c: float
    dwell_s: float
    entries: int


@dataclass(frozen=True, eq=False)
class SimulatedCapture:
    """A capture with the truth behind it.

    Parameters
    ----------
    info
        Its identity.
    current, voltage, lines
        What the instrument recorded, shape ``(n,)``.
    events
        The target's log in its own drifting clock.
    true_current
        What flowed, without the instrument's errors, shape ``(n,)``.
    truth
        By state.
    clock_offset_s, clock_drift
        ``capture = offset + (1 + drift) * target``.
    """

    info: CaptureInfo
    current: Samples
    voltage: Samples
    lines: Bits
    events: tuple[Event, ...]
    true_current: Floats
    truth: dict[str, TrueState]
    clock_offset_s: float
    clock_drift: float


def simulate(
    firmware: Firmware, *, seed: int = 1, duration_s: float = 300.0, rate_hz: float = 10e3
) -> SimulatedCapture:
    """Record the post with one firmware around one report.

    Parameters
    ----------
    firmware
        One of `warm_ember.bench.simulated.firmware.FIRMWARE`.
    seed
        Same seed, same capture.
    duration_s, rate_hz
        Length and samples per second.
    """
    from scipy.signal import lfilter  # SciPy loads when first needed: it takes a while

    post = Post(firmware, seed, duration_s)
    post.run()
    samples = round(duration_s * rate_hz)
    edges = np.arange(samples + 1) / rate_hz
    drawn = sample_means(np.array(post.board.times_s), np.array(post.board.currents_a), edges)
    if firmware.tick:
        drawn = drawn + _ticks(post, edges)
    drawn *= 1.0 + _ripple(drawn, post.random, rate_hz)
    share = 1.0 - np.exp(-1.0 / (rate_hz * CAPACITOR_TIME_S))
    flowing: Floats = lfilter([share], [1.0, share - 1.0], drawn, zi=[drawn[0] * (1 - share)])[0]
    drift, offset_s = post.random.uniform(20e-6, 60e-6), post.random.uniform(0.2, 1.5)
    volts = SUPPLY_V - SUPPLY_OHM * flowing + 0.4e-3 * post.random.standard_normal(samples)
    return SimulatedCapture(
        info=CaptureInfo(
            sample_interval_s=1.0 / rate_hz,
            start_utc="2026-06-14T05:59:00Z",
            supply_v=SUPPLY_V,
            instrument="simulated bench",
            range="automatic, 100 µA to 1 A",
            firmware=firmware.name,
            temperature_c=21.0,
            note=f"trail counter post, {firmware.title}",
            resolution_a=0.1e-6,
        ),
        current=measure(flowing, post.random, rate_hz),
        voltage=volts.astype(np.float32),
        lines=_line_bits(post, edges),
        events=_in_target_clock(post.log.events, offset_s, drift),
        true_current=flowing,
        truth=_truth(post, flowing, edges),
        clock_offset_s=offset_s,
        clock_drift=drift,
    )


def measure(flowing: Floats, random: np.random.Generator, rate_hz: float) -> Samples:
    """Read a current with an instrument that changes ranges: up at once, down after a hold time."""
    from scipy.ndimage import maximum_filter1d

    limits = np.array([r.full_a for r in RANGES[:-1]])
    needed = np.searchsorted(limits, flowing * 1.05).astype(np.int8)
    hold = max(1, round(_HOLD_S * rate_hz))
    used = maximum_filter1d(needed, hold, origin=(hold - 1) // 2, mode="nearest")
    noise, offset, step = (
        np.array([getattr(r, name) for r in RANGES])[used] for name in ("noise_a", "offset_a", "step_a")
    )
    noise = noise * np.sqrt(rate_hz / 10e3)
    read = flowing + offset + noise * random.standard_normal(len(flowing))
    changed = np.flatnonzero(np.diff(used)) + 1
    read[changed] += 0.01 * (flowing[changed] - flowing[changed - 1])
    return np.asarray(np.rint(read / step) * step, dtype=np.float32)


def _ticks(post: Post, edges: Floats) -> Floats:
    """Pulses of the running core, each millisecond while it is meant to sleep."""
    starts = np.arange(0.0, post.duration_s, TICK_S) + 0.37e-3
    times, drawn = np.array(post.board.times_s), np.array(post.board.currents_a)
    resting_a = post.board.standing_a + 50e-6
    last = np.searchsorted(times, starts, side="right") - 1
    modem_idle = np.isclose(drawn[last], 9.2e-3 + resting_a, atol=0.1e-3)
    starts = starts[(drawn[last] < resting_a) | modem_idle]
    pulse_a = 3.1e-3
    edges_of_pulses = np.column_stack((starts, starts + _TICK_AWAKE_S)).ravel()
    levels = np.tile([pulse_a, 0.0], len(starts))
    return sample_means(np.append(0.0, edges_of_pulses), np.append(0.0, levels), edges)


def _ripple(drawn: Floats, random: np.random.Generator, rate_hz: float) -> Floats:
    """Slow wander of a running circuit's current, 1.5 % rms; sleep has next to none."""
    from scipy.signal import lfilter

    share = 1.0 / (rate_hz * 2e-3)
    wander = lfilter([np.sqrt(2 * share)], [1.0, share - 1.0], random.standard_normal(len(drawn)))
    ripple: Floats = np.where(drawn > 0.5e-3, 0.015, 0.002) * wander
    return ripple


def _line_bits(post: Post, edges: Floats) -> Bits:
    bits = np.zeros(len(edges) - 1, dtype=np.uint8)
    for bit, name in enumerate(LINES):
        changes = [(time_s, high) for time_s, line, high in post.log.levels if line == name]
        if changes:
            times, highs = (np.array(column) for column in zip(*changes, strict=True))
            last = np.searchsorted(times, edges[:-1], side="right")
            bits |= np.append(False, highs)[last].astype(np.uint8) << np.uint8(bit)
    return bits


def _in_target_clock(events: list[Event], offset_s: float, drift: float) -> tuple[Event, ...]:
    """Stamp events with the target's 32 kHz clock, which started at another moment and runs off."""
    stamped = []
    for event in events:
        time_s = np.round((event.time_s - offset_s) / (1 + drift) * 32768) / 32768
        stamped.append(Event(float(time_s), event.event, event.name, event.value))
    return tuple(stamped)


def _truth(post: Post, flowing: Floats, edges: Floats) -> dict[str, TrueState]:
    charge = np.concatenate(([0.0], np.cumsum(flowing * np.diff(edges))))
    entered = [event for event in post.log.events if event.event == "state"]
    starts = np.array([event.time_s for event in entered])
    ends = np.append(starts[1:], post.duration_s)
    charges = np.interp(ends, edges, charge) - np.interp(starts, edges, charge)
    truth: dict[str, TrueState] = {}
    for index, event in enumerate(entered):
        before = truth.get(event.name, TrueState(0.0, 0.0, 0))
        new = index == 0 or entered[index - 1].name != event.name
        truth[event.name] = TrueState(
            before.charge_c + float(charges[index]),
            before.dwell_s + float(ends[index] - starts[index]),
            before.entries + new,
        )
    return truth
