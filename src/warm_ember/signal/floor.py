"""The floor of a current: what it comes back to between bursts, and how far its readings scatter there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.signal.medians import row_medians
from warm_ember.signal.series import Series

_READ_WHOLE, _WINDOWS, _WINDOW = 1 << 18, 512, 1024
_GROUP = 8
_LOWEST, _LOW = 0.005, 0.2
_NEAR, _ROUNDS = 5.0, 12
_OF_MEDIAN, _OF_NORMAL = 1.2533, 1.4826
_LEAST_RELATIVE, _LEAST_A = 1e-3, 1e-12
_DEEPEST = 1e-3
_OCTAVE, _FEW = 2.0, 6
_OF_STEP, _COARSE, _SELDOM, _ENOUGH = 0.5, 16, 1e-3, 64


@dataclass(frozen=True, slots=True)
class Floor:
    """The lowest level that a current comes back to.

    Parameters
    ----------
    level_a
        Its mean.
    noise_a
        By how much readings scatter around it, root mean square, what wanders slowly included; above 0.
    deepest_a
        How far below it readings reach, but for one in a thousand: as far above it they mean nothing.
    share
        Which share of what was looked at lies on it.
    """

    level_a: float
    noise_a: float
    deepest_a: float
    share: float


def find_floor(series: Series, first: int = 0, last: int | None = None) -> Floor | None:
    """Find the floor of a stretch of current.

    Parameters
    ----------
    series
        The current, A, NaN where it was not measured.
    first, last
        The stretch, samples; the end of the series when `last` is None.

    Returns
    -------
    Floor or None
        None where nothing was measured.

    Notes
    -----
    Medians of eight neighbours are looked at, in up to 512 windows spread over a long stretch. From the lowest half
    per cent of them the mean-shift procedure climbs to the mode that they lie beside. The noise is that of neighbouring
    readings, or of one held reading and the next, widened by how far the medians themselves scatter around the mode,
    and at least half a step of what an instrument can tell apart: most readings of a coarse one are the same.

    References
    ----------
    K. Fukunaga, L. Hostetler, "The estimation of the gradient of a density function, with applications in pattern
    recognition", *IEEE Transactions on Information Theory* 21, 1975, p. 32 (mean shift).
    """
    groups = _groups(series, first, series.samples if last is None else last)
    if not len(groups):
        return None
    medians = row_medians(groups)
    order = np.argsort(medians)
    level_a = float(medians[order[int(_LOWEST * (len(order) - 1))]])
    low = groups[order[: max(1, int(_LOW * len(order)))]]
    neighbours_a = _between_neighbours(low, medians[medians <= _OCTAVE * float(medians[order[len(order) // 20]])])
    around_a = _around(neighbours_a, level_a)
    near = np.zeros(len(medians), dtype=bool)
    for _ in range(_ROUNDS):
        near = np.abs(medians - level_a) <= around_a
        if not near.any():
            break
        shifted_a = float(np.median(medians[near]))
        spread_a = _OF_NORMAL * float(np.median(np.abs(medians[near] - shifted_a)))
        looked_at_a, around_a = around_a, max(_around(neighbours_a, shifted_a), _NEAR * spread_a)
        if shifted_a == level_a and around_a <= looked_at_a:
            break
        level_a = shifted_a
    if not near.any():
        near[order[0]] = True
    on_it = groups[near].reshape(-1)
    wandering_a = _OF_NORMAL * float(np.median(np.abs(medians[near] - level_a)))
    scatter_a = (neighbours_a**2 + wandering_a**2) ** 0.5
    noise_a = max(scatter_a, _OF_STEP * _step(on_it), _LEAST_RELATIVE * abs(level_a), _LEAST_A)
    deepest_a = level_a - float(np.quantile(on_it, _DEEPEST))
    return Floor(_trimmed(on_it, level_a, noise_a), noise_a, max(deepest_a, 0.0), float(near.mean()))


def _between_neighbours(low: Floats, plateaus: Floats) -> float:
    """Return by how much neighbouring readings scatter at the floor, root mean square.

    Where a logger writes on change, or a meter is read slowly, a reading stands in many samples: those beside each
    other are the same, and the scatter is that from one reading to the next, within a group or from one to another.

    Parameters
    ----------
    low
        The lowest groups of neighbours, A, shape ``(n, size)``.
    plateaus
        Medians that are no more than an octave above the lowest twentieth, A, in the order of time, shape ``(m,)``.
    """
    steps = np.abs(np.diff(low, axis=1))
    if not steps.size:
        return 0.0
    if np.median(steps) == 0:
        if (steps > 0).sum() >= len(low) and len(np.unique(low)) > _COARSE:
            steps = steps[steps > 0]
        elif len(np.unique(plateaus)) > _FEW:  # a coarse instrument flickers between fewer
            steps = np.abs(np.diff(plateaus))
            steps = steps[steps > 0]
    return _OF_NORMAL * float(np.median(steps)) / 2**0.5


def _around(neighbours_a: float, level_a: float) -> float:
    """Return within which distance medians of eight belong to a mode."""
    of_noise = _NEAR * _OF_MEDIAN * neighbours_a / _GROUP**0.5
    return float(max(of_noise, _NEAR * _LEAST_RELATIVE * abs(level_a), _LEAST_A))


def _step(readings: Floats) -> float:
    """Return by how much the readings of a coarse instrument differ at least; 0 where they are not so coarse."""
    known, counts = np.unique(readings, return_counts=True)
    # What is read but seldom is no reading of the floor, but of a burst that begins beside it.
    known = known[counts >= _SELDOM * len(readings)]
    if len(readings) < _ENOUGH or not 1 < len(known) <= _COARSE:
        return 0.0
    return float(np.median(np.diff(known)))


def _trimmed(values: Floats, level_a: float, noise_a: float) -> float:
    near = values[np.abs(values - level_a) <= _NEAR * noise_a]
    return float(near.mean()) if len(near) else level_a


def _groups(series: Series, first: int, last: int) -> Floats:
    """Return measured readings in rows of eight neighbours, or of fewer where there are no eight."""
    if last - first <= _READ_WHOLE:
        begins, length = [first], last - first
    else:
        begins, length = np.linspace(first, last - _WINDOW, _WINDOWS).astype(np.int64).tolist(), _WINDOW
    windows = [series.read(begin, begin + length).astype(np.float64) for begin in begins]
    measured = np.concatenate([window[~np.isnan(window)] for window in windows])
    size = min(_GROUP, max(len(measured), 1))
    return measured[: len(measured) // size * size].reshape(-1, size)
