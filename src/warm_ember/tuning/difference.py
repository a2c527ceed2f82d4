"""Two runs compared: what each state adds to the average, and whether the difference is larger than the noise."""

from __future__ import annotations

import math
from dataclasses import dataclass

from warm_ember.attribution.budget import Segment
from warm_ember.attribution.ledger import Ledger

_LEAST_NOISE = 0.005


@dataclass(frozen=True)
class Difference:
    """One state in two runs.

    Parameters
    ----------
    before_a, after_a
        What it adds to the average current in each.
    noise_a
        Half width of the 90 % interval of the difference.
    """

    name: str
    before_a: float
    after_a: float
    noise_a: float

    @property
    def change_a(self) -> float:
        """After less before."""
        return self.after_a - self.before_a

    @property
    def is_real(self) -> bool:
        """Whether the change is larger than the noise of both."""
        return abs(self.change_a) > self.noise_a


def differences(
    before: tuple[tuple[Segment, ...], Ledger], after: tuple[tuple[Segment, ...], Ledger]
) -> tuple[Difference, ...]:
    """Compare two runs state by state, the largest change first.

    Parameters
    ----------
    before, after
        Each run's budget by state and its ledger, whose intervals give the noise.
    """
    parts = [{segment.name: segment.added_a for segment in segments} for segments, _ in (before, after)]
    names = list(dict.fromkeys([*parts[0], *parts[1]]))
    found = []
    for name in names:
        values = [part.get(name, 0.0) for part in parts]
        noises = [_noise(value, ledger, name) for value, (_, ledger) in zip(values, (before, after), strict=True)]
        found.append(Difference(name, values[0], values[1], math.hypot(*noises)))
    return tuple(sorted(found, key=lambda d: -abs(d.change_a)))


def _noise(value_a: float, ledger: Ledger, name: str) -> float:
    """Return the half width of the 90 % interval of what a state adds, at least half a percent of it."""
    row = ledger.row(name)
    if row is None or not row.mean.value or row.mean.low is None or row.mean.high is None:
        return abs(value_a) * _LEAST_NOISE
    relative = (row.mean.high - row.mean.low) / 2 / abs(row.mean.value)
    return abs(value_a) * max(relative, _LEAST_NOISE)
