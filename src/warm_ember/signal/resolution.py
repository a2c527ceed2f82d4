"""What an instrument can tell from nothing: its noise and its step at a level."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.levels import Levels
from warm_ember.signal.reading_steps import are_apart
from warm_ember.signal.series import Series

_WINDOWS, _FEW = 64, 16
_WINDOW_SAMPLES = 1024
_MOST_VALUES = 0.1


@dataclass(frozen=True, slots=True)
class LevelNoise:
    """How the readings of one level lie.

    Parameters
    ----------
    level_a
        Their mean.
    noise_a
        Their spread from one reading to the next, root mean square.
    step_a
        The smallest step between readings; 0 when they are not seen to come in steps.
    samples
        How many readings this rests on.
    """

    level_a: float
    noise_a: float
    step_a: float
    samples: int


def level_noise(series: Series, levels: Levels, level: int) -> LevelNoise | None:
    """Look at the readings of a level in up to 64 windows spread over it.

    Parameters
    ----------
    series
        The current, A.
    levels
        From `warm_ember.signal.levels.find_levels`.
    level
        Which of them, 0 for the lowest.

    Returns
    -------
    LevelNoise or None
        None when no interval of the level is longer than a few samples.
    """
    windows = [window for window in _windows(series, levels, level) if len(window) >= 3]
    if not windows:
        return None
    values = np.concatenate(windows)
    steps = np.concatenate([np.diff(window) for window in windows])
    # A pulse inside the level is no noise: quartiles do not see it.
    low, high = np.quantile(steps, (0.16, 0.84))
    spread = float(high - low) / 2
    return LevelNoise(
        float(np.median(values) if spread else values.mean()), spread / np.sqrt(2), _step(values), len(values)
    )


def tells_within(series: Series, first: int, last: int) -> float:
    """Return about what an instrument tells apart in a stretch, from a few places in it; for a first look only.

    Parameters
    ----------
    series
        The current, A.
    first, last
        The stretch's samples.

    Returns
    -------
    float
        The larger of the readings' noise and of their step, A; 0 where neither shows.
    """
    begins = np.unique(np.linspace(first, max(last - _WINDOW_SAMPLES, first), _FEW).astype(np.int64))
    windows = [series.read(begin, min(begin + _WINDOW_SAMPLES, last)).astype(np.float64) for begin in begins.tolist()]
    windows = [window[~np.isnan(window)] for window in windows]
    steps = np.concatenate([np.diff(window) for window in windows])
    if not len(steps):
        return 0.0
    low, high = np.quantile(steps, (0.16, 0.84))
    return max(float(high - low) / 2 / float(np.sqrt(2)), _step(np.concatenate(windows)))


def _windows(series: Series, levels: Levels, level: int) -> list[Floats]:
    intervals = np.flatnonzero(levels.level == level)
    starts, ends = levels.edges[:-1][intervals], levels.edges[1:][intervals]
    longest = np.argsort(starts - ends, kind="stable")[:_WINDOWS]
    found = []
    for start, end in zip(starts[longest].tolist(), ends[longest].tolist(), strict=True):
        # The middle of the interval: at its ends the supply still settles.
        middle, half = (start + end) // 2, min(_WINDOW_SAMPLES, end - start) // 2
        values = series.read(middle - half, middle + half + 1 if half == 0 else middle + half).astype(np.float64)
        found.append(values[~np.isnan(values)])
    return found


def _step(values: Floats) -> float:
    """Return the step that readings come in, 0 when they take too many values to tell."""
    distinct = np.unique(values)
    if len(distinct) < 2 or len(distinct) > max(4, _MOST_VALUES * len(values)):
        return 0.0
    gaps = np.diff(distinct)
    real = gaps[are_apart(distinct)]
    return float(real.min()) if len(real) else 0.0


def smallest_reading(series: Series, edges: Indices) -> float:
    """Return the smallest size of a current other than 0 that stands in some samples around edges.

    Parameters
    ----------
    series
        The current, A.
    edges
        Samples around which is looked, the first ones only, shape ``(n,)``.

    Returns
    -------
    float
        A; 0 where nothing but zeros and missing samples stands there, and without edges.
    """
    smallest = 0.0
    for edge in edges[:_WINDOWS].tolist():
        values = np.abs(series.read(max(0, edge - 8), min(series.samples, edge + 8)))
        with np.errstate(invalid="ignore"):
            some = values[values > 0]
        if len(some):
            smallest = min(smallest or np.inf, float(some.min()))
    return smallest
