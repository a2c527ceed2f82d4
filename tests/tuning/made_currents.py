"""Made-up currents whose faults are known, with and without each fault."""

from __future__ import annotations

import numpy as np

from warm_ember.model.capture import CaptureInfo
from warm_ember.signal.series import ArraySeries

RATE_HZ = 10e3


class MadeRecording:
    """A capture in memory."""

    name = "made"
    power = None
    lines = None
    events = ()

    def __init__(self, values: np.ndarray, rate_hz: float = RATE_HZ, **info) -> None:
        self.current = ArraySeries(values.astype(np.float32), 1 / rate_hz)
        self.info = CaptureInfo(1 / rate_hz, **info)


def bursts(
    random: np.random.Generator,
    *,
    seconds: float = 20.0,
    rate_hz: float = RATE_HZ,
    sleep_a: float = 9e-6,
    noise_a: float = 0.3e-6,
    burst_a: float = 0.15,
    every_s: float = 1.7,
    lasts_s: float = 0.05,
    relative: float = 0.02,
) -> np.ndarray:
    """Return sleep with a burst each so often, the last one long over at the end."""
    time_s = np.arange(round(seconds * rate_hz)) / rate_hz
    phase = (time_s - 0.4) % every_s
    on = (phase < lasts_s) & (time_s > 0.4) & (time_s < seconds - every_s / 2)
    level = np.where(on, burst_a, sleep_a)
    level = np.where(on & (phase > 0.5 * lasts_s), 0.3 * burst_a, level)
    return level * (1 + relative * on * random.standard_normal(len(level))) + noise_a * random.standard_normal(
        len(level)
    )
