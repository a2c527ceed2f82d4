"""What a scope beside the simulated target saves: two inputs around a trigger, eight bits each, as a table."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from warm_ember.bench.simulated.direct import SUPPLY_V, noise_of
from warm_ember.bench.simulated.firmware import Firmware, Post
from warm_ember.bench.simulated.ranges import Noise
from warm_ember.bench.simulated.sampling import Sampler
from warm_ember.model.arrays import Floats, Samples

SHUNT_OHM = 0.5
GAIN = 10.0
RATE_HZ = 20e3
LENGTH_S = 10.0
_LIMIT_A = 1.0
_BEFORE = 0.1
_REPORT_AT_S = 20.0
_STEPS = 256
_AMPLIFIER_FULL_V, _RAIL_FULL_V = 1.28, 5.12
_NOISE_STEPS = 0.5


@dataclass(frozen=True, eq=False)
class ScopeRecord:
    """What a scope saves of the post's report, with the truth behind it.

    Parameters
    ----------
    times_s
        From the trigger, the first ones before it, shape ``(n,)``.
    amplifier_v
        Input CH1: what an amplifier of `GAIN` makes of the voltage across a shunt of `SHUNT_OHM`, shape ``(n,)``.
    rail_v
        Input CH2: the target's rail, shape ``(n,)``.
    true_current
        What flowed, A, shape ``(n,)``.
    """

    times_s: Floats
    amplifier_v: Floats
    rail_v: Floats
    true_current: Floats

    def lines(self) -> Iterator[str]:
        """Yield the table: what was set, the inputs' names, their units, then a row for each sample."""
        yield f"Points,{len(self.times_s)}"
        yield f"Interval,{1.0 / RATE_HZ:.6E},s"
        yield f"Trigger,{round(_BEFORE * 100)} % before"
        yield f"Full scale,CH1,{_AMPLIFIER_FULL_V:g},V"
        yield f"Full scale,CH2,{_RAIL_FULL_V:g},V"
        yield ""
        yield "Time,CH1,CH2"
        yield "s,V,V"
        for row in np.column_stack((self.times_s, self.amplifier_v, self.rail_v)).tolist():
            yield "{:.6E},{:.4f},{:.3f}".format(*row)


def scope_record(firmware: Firmware, *, seed: int = 1) -> ScopeRecord:
    """Record the post's first report with a scope across a shunt in its supply.

    Parameters
    ----------
    firmware
        One of `warm_ember.bench.simulated.firmware.FIRMWARE`.
    seed
        Same seed, same record.
    """
    start_s = _REPORT_AT_S - _BEFORE * LENGTH_S
    post = Post(firmware, seed, report_at_s=_REPORT_AT_S)
    post.run(start_s + LENGTH_S)
    noise = Noise(noise_of(firmware, seed))
    sampler = Sampler(post, start_s, RATE_HZ, supply_v=SUPPLY_V, limit_a=_LIMIT_A, noise=noise)
    points = round(LENGTH_S * RATE_HZ)
    block = sampler.take(points)
    return ScopeRecord(
        times_s=np.arange(points) / RATE_HZ - _BEFORE * LENGTH_S,
        amplifier_v=_in_steps(block.flowing * SHUNT_OHM * GAIN, _AMPLIFIER_FULL_V, noise.take(points)),
        rail_v=_in_steps(block.voltage.astype(np.float64), _RAIL_FULL_V, noise.take(points)),
        true_current=block.flowing,
    )


def _in_steps(volts: Floats, full_v: float, noise: Samples) -> Floats:
    """Return what a converter of eight bits makes of a voltage and its own noise, shape ``(n,)``."""
    step_v = full_v / _STEPS
    steps: Floats = np.clip(np.rint(volts / step_v + _NOISE_STEPS * noise) + 0.0, 0, _STEPS - 1)
    return steps * step_v
