"""How likely each life is: a smooth density of lives that were drawn at random."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from warm_ember.model.arrays import Floats

_POINTS = 120
_KERNEL = np.exp(-0.5 * (np.arange(-12, 13) / 4.0) ** 2)


@dataclass(frozen=True, eq=False)
class LifeDensity:
    """A density of lives.

    Parameters
    ----------
    life_s
        Where it is known, rising and evenly spaced, shape ``(n,)``; empty where there is none.
    per_s
        The density there, per second, shape ``(n,)``; its integral is 1.
    """

    life_s: Floats = field(default_factory=lambda: np.empty(0))
    per_s: Floats = field(default_factory=lambda: np.empty(0))


def density_of(draws_s: Floats) -> LifeDensity:
    """Return the density of lives: a histogram whose bins are joined by a narrow Gaussian kernel.

    It reaches a standard deviation past the shortest and the longest draw, so that the kernel loses nothing.

    Parameters
    ----------
    draws_s
        Lives, rising, shape ``(draws,)``. Where they are all the same, or one is infinite, there is no density.
    """
    if not len(draws_s) or not np.isfinite(draws_s).all() or draws_s[-1] <= draws_s[0]:
        return LifeDensity()
    spread_s = float(draws_s.std())
    life_s = np.linspace(draws_s[0] - spread_s, draws_s[-1] + spread_s, _POINTS)
    step_s = life_s[1] - life_s[0]
    counts, _ = np.histogram(draws_s, bins=np.append(life_s, life_s[-1] + step_s))
    per_s = np.convolve(counts / len(draws_s), _KERNEL / _KERNEL.sum(), mode="same") / step_s
    return LifeDensity(life_s, per_s)
