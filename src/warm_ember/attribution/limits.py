"""What an instrument could not tell in a capture: currents too small for it, and currents beyond its range."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from warm_ember.attribution.recording import Recording
from warm_ember.model.arrays import Flags, Indices
from warm_ember.model.figure import Bound, Figure, Grade
from warm_ember.signal.clipping import find_clipping
from warm_ember.signal.hum import Hum
from warm_ember.signal.levels import Levels
from warm_ember.signal.resolution import LevelNoise, level_noise, smallest_reading
from warm_ember.signal.series import ShouldStop, never

_OFFSET_TIMES = 3.0


@dataclass(frozen=True, eq=False)
class MeasurementLimits:
    """Between what a reading is a measurement.

    Parameters
    ----------
    least_a
        Below this a mean cannot be told from nothing.
    why
        What makes it so: noise, step, offset or the stated resolution.
    most_a
        At this readings stand because the range ends; None where none do.
    clipped
        First and last-plus-one sample of each stretch of them, rising, shape ``(n, 2)``.
    """

    least_a: float = 0.0
    why: str = ""
    most_a: float | None = None
    clipped: Indices = field(default_factory=lambda: np.zeros((0, 2), dtype=np.int64))

    def read(self, mean_a: float | None, *, is_clipped: bool) -> Figure:
        """Return the mean of a reading as a figure: a bound where it was clipped, or is below what is resolved."""
        if mean_a is None:
            return Figure(None)
        if is_clipped:
            return Figure(mean_a, mean_a, None, Grade.BOUNDED, bound=Bound.AT_LEAST)
        if mean_a < self.least_a:
            return Figure(mean_a, None, self.least_a, Grade.BOUNDED, bound=Bound.BELOW)
        return Figure(mean_a)

    def clips(self, edges: Indices) -> Flags:
        """Return which intervals between edges hold readings at the end of the range.

        Parameters
        ----------
        edges
            Sample indices, rising, shape ``(n + 1,)``.

        Returns
        -------
        Flags
            Shape ``(n,)``.
        """
        if not len(self.clipped):
            return np.zeros(len(edges) - 1, dtype=bool)
        ends = np.searchsorted(self.clipped[:, 0], edges[1:], side="left")
        return np.asarray((ends > 0) & (self.clipped[np.maximum(ends - 1, 0), 1] > edges[:-1]))


NO_LIMITS = MeasurementLimits()


def find_limits(
    recording: Recording, levels: Callable[[], Levels], *, hum: Hum | None = None, should_stop: ShouldStop = never
) -> MeasurementLimits:
    """Find what an instrument could not tell.

    Parameters
    ----------
    recording
        The capture.
    levels
        Gives the levels of its current.
    hum
        The mains in it, which hides no level: its mean over whole periods holds.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    clipped, found = clipped_limits(recording, should_stop=should_stop), levels()
    noise = level_noise(recording.current, found, 0) if len(found.centres_a) else None
    if noise is None or hum is not None:
        return clipped  # hum makes any single reading differ, and the mean over its periods none
    least_a, why = resolved_from(recording, found, noise)
    return replace(clipped, least_a=least_a, why=why)


def clipped_limits(recording: Recording, *, should_stop: ShouldStop = never) -> MeasurementLimits:
    """Find where the range of an instrument was exceeded.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    found, stated_a = find_clipping(recording.current, should_stop=should_stop), recording.info.resolution_a or 0.0
    limits = MeasurementLimits(stated_a, "stated resolution" if stated_a else "")
    return limits if found is None else replace(limits, most_a=found.limit_a, clipped=found.stretches)


class ResolutionLimit(NamedTuple):
    """Below which current a level cannot be told from nothing, A, and what limits it."""

    least_a: float
    why: str


def resolved_from(recording: Recording, levels: Levels, noise: LevelNoise) -> ResolutionLimit:
    """Return below which current a level cannot be told from nothing, and what limits it.

    Notes
    -----
    An offset that takes a level below zero is as large at least; by how much larger it is the level does not tell, so
    three times as much is allowed for.
    """
    limits = [(noise.noise_a, "noise"), (noise.step_a, "step")]
    known = recording.info.resolution_a
    if known:
        limits.append((known, "stated resolution"))
    if noise.level_a < 0:
        limits.append((-_OFFSET_TIMES * noise.level_a, "offset"))
    if noise.level_a == 0 and noise.step_a == 0:
        limits.append((smallest_reading(recording.current, levels.edges[1:]), "step"))
    least_a, why = max(limits)
    return ResolutionLimit(float(least_a), why)
