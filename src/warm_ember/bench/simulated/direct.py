"""A capture straight from the simulation, without a bench between, and the truth behind it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.bench.simulated.firmware import Firmware, Post
from warm_ember.bench.simulated.ranges import Noise
from warm_ember.bench.simulated.sampling import Sampler
from warm_ember.model.arrays import Bits, Floats, Samples
from warm_ember.model.capture import CaptureInfo, Event

SUPPLY_V = 3.0
_LIMIT_A = 1.0


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
    true_events
        The same log in true time.
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
    true_events: tuple[Event, ...]
    true_current: Floats
    truth: dict[str, TrueState]
    clock_offset_s: float
    clock_drift: float


def simulate(
    firmware: Firmware, *, seed: int = 1, duration_s: float = 300.0, rate_hz: float = 10e3, start_s: float = 0.0
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
    start_s
        How long the post has had power when the capture begins.
    """
    end_s = start_s + duration_s
    post = Post(firmware, seed, report_at_s=0.2 * duration_s, quiet_from_s=end_s - 4.0)
    post.run(end_s)
    events = list(post.log.events)
    noise = Noise(noise_of(firmware, seed))
    drift, offset_s = clock_of(firmware, seed)
    sampler = Sampler(post, start_s, rate_hz, supply_v=SUPPLY_V, limit_a=_LIMIT_A, noise=noise)
    piece = sampler.take(round(duration_s * rate_hz))
    edges = np.arange(len(piece.flowing) + 1) / rate_hz
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
        current=piece.current,
        voltage=piece.voltage,
        lines=piece.lines,
        events=_in_target_clock(events, offset_s, drift),
        true_events=tuple(events),
        true_current=piece.flowing,
        truth=_truth(events, piece.flowing, edges, start_s),
        clock_offset_s=offset_s - start_s,
        clock_drift=drift,
    )


def noise_of(firmware: Firmware, seed: int) -> np.random.Generator:
    """Return where the noise of a recording comes from, apart from the target's own chances."""
    return np.random.default_rng([seed, firmware.number, 1])


def clock_of(firmware: Firmware, seed: int) -> tuple[float, float]:
    """Return how far the target's clock runs off, and when it started, s."""
    random = np.random.default_rng([seed, firmware.number, 2])
    return random.uniform(20e-6, 60e-6), random.uniform(0.2, 1.5)


def _in_target_clock(events: list[Event], offset_s: float, drift: float) -> tuple[Event, ...]:
    """Stamp events with the target's 32 kHz clock, which started at another moment and runs off."""
    return tuple(
        Event(target_time_s(event.time_s, offset_s, drift), event.event, event.name, event.value) for event in events
    )


def target_time_s(true_s: float, offset_s: float, drift: float) -> float:
    """Return what the target's 32 kHz clock shows at a moment."""
    return float(np.round((true_s - offset_s) / (1 + drift) * 32768) / 32768)


def _truth(events: list[Event], flowing: Floats, edges: Floats, start_s: float) -> dict[str, TrueState]:
    charge = np.concatenate(([0.0], np.cumsum(flowing * np.diff(edges))))
    entered = [event for event in events if event.event == "state"]
    starts = np.clip(np.array([event.time_s for event in entered]) - start_s, 0.0, None)
    ends = np.append(starts[1:], edges[-1])
    charges = np.interp(ends, edges, charge) - np.interp(starts, edges, charge)
    truth: dict[str, TrueState] = {}
    for index, event in enumerate(entered):
        if ends[index] <= 0.0:
            continue
        before = truth.get(event.name, TrueState(0.0, 0.0, 0))
        new = index == 0 or ends[index - 1] <= 0.0 or entered[index - 1].name != event.name
        truth[event.name] = TrueState(
            before.charge_c + float(charges[index]),
            before.dwell_s + float(ends[index] - starts[index]),
            before.entries + new,
        )
    return truth
