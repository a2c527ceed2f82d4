"""The ranges of the simulated instrument, and what each makes of a current."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Samples

_HOLD_S = 3e-3
_HEADROOM = 1.05


@dataclass(frozen=True)
class Range:
    """One range of the instrument: full scale, noise (rms at 10 kS/s), zero offset and step, all A; its shunt, Ω."""

    full_a: float
    noise_a: float
    offset_a: float
    step_a: float
    shunt_ohm: float


RANGES = (
    Range(100e-6, 0.25e-6, 0.02e-6, 0.01e-6, 10.0),
    Range(10e-3, 5e-6, 0.6e-6, 0.5e-6, 0.4),
    Range(1.0, 110e-6, 20e-6, 20e-6, 0.02),
)


_TABLE = 1 << 20


class Noise:
    """White noise of unit power, cut from a table at places by chance: fresh for whoever looks, and cheap.

    Parameters
    ----------
    random
        Where the chance comes from.
    """

    def __init__(self, random: np.random.Generator) -> None:
        self._random = random
        self._table = random.standard_normal(_TABLE, dtype=np.float32)

    def take(self, samples: int) -> Samples:
        """Return the next samples, shape ``(samples,)``."""
        if samples > _TABLE // 2:
            return self._random.standard_normal(samples, dtype=np.float32)
        first = int(self._random.integers(_TABLE - samples))
        return self._table[first : first + samples]


class Reader:
    """Read a current piece by piece with ranges that change by themselves: up at once, down after a hold time.

    Parameters
    ----------
    noise
        Where the noise comes from.
    rate_hz
        Samples per second.
    fixed
        Index of the range to stay in, whatever comes; it clips above its full scale. None to change ranges.
    """

    def __init__(self, noise: Noise, rate_hz: float, fixed: int | None = None) -> None:
        self._noise, self._rate_hz, self._fixed = noise, rate_hz, fixed
        self._hold = max(1, round(_HOLD_S * rate_hz))
        self._recent = np.zeros(0, dtype=np.int8)
        self._last_flowing = 0.0
        self._last_used: int | None = None

    def read(self, flowing: Floats) -> Samples:
        """Read the next samples, shape ``(n,)``."""
        if not len(flowing):
            return np.zeros(0, dtype=np.float32)
        used = self._ranges_used(flowing)
        noise, offset, step = (
            np.array([getattr(r, name) for r in RANGES], dtype=np.float32)[used]
            for name in ("noise_a", "offset_a", "step_a")
        )
        read: Samples = noise * (self._noise.take(len(flowing)) * np.float32(np.sqrt(self._rate_hz / 10e3)))
        read += offset
        read += flowing.astype(np.float32)
        self._add_glitches(read, flowing, used)
        if self._fixed is not None:
            np.minimum(read, np.float32(_HEADROOM * RANGES[self._fixed].full_a), out=read)
        read /= step
        np.rint(read, out=read)
        read *= step
        return read

    def _ranges_used(self, flowing: Floats) -> np.ndarray:
        if self._fixed is not None:
            return np.full(len(flowing), self._fixed, dtype=np.int8)
        from scipy.ndimage import maximum_filter1d  # SciPy loads when first needed: it takes a while

        steps = (flowing > one.full_a / _HEADROOM for one in RANGES[:-1])
        needed = np.concatenate((self._recent, sum(step.view(np.int8) for step in steps)))
        used = maximum_filter1d(needed, self._hold, origin=(self._hold - 1) // 2, mode="nearest")
        before = len(self._recent)
        self._recent = needed[max(0, len(needed) - self._hold) :]
        return np.asarray(used[before:])

    def _add_glitches(self, read: Samples, flowing: Floats, used: np.ndarray) -> None:
        """Leave a trace of each change of range: a hundredth of the step that made it."""
        if self._last_used is None:
            self._last_used, self._last_flowing = int(used[0]), float(flowing[0])
        changed = np.flatnonzero(used[1:] != used[:-1]) + 1
        read[changed] += 0.01 * (flowing[changed] - flowing[changed - 1])
        if used[0] != self._last_used:
            read[0] += 0.01 * (flowing[0] - self._last_flowing)
        self._last_used, self._last_flowing = int(used[-1]), float(flowing[-1])
