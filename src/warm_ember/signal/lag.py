"""By how much one channel is behind another that shows the same changes."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from warm_ember.model.arrays import Floats, Samples

_MOST_BINS = 1 << 16
_LEAST_ALIKE = 0.5
_NEXT_BEST = 0.7
_BESIDE = 3
_COARSER = (1, 4, 16)
_NORMAL = 1.4826
"""Standard deviation of a normal scatter by its median absolute deviation."""
_OUT_OF_NOISE = 6.0


class Lag(NamedTuple):
    """By how much one channel is behind another, and in steps of what that was looked for, s."""

    lag_s: float
    step_s: float


def find_lag(one: Samples, other: Samples, interval_s: float, most_s: float) -> Lag | None:
    """Find by how much later one channel shows what another shows, by the changes that both have.

    Parameters
    ----------
    one, other
        Both as they were sampled at the same times, as far as is known, NaN where missing, shape ``(n,)``. Signs and
        sizes of their changes do not matter: a current that rises and a voltage that sinks under it are alike.
    interval_s
        Length of a sample.
    most_s
        How far apart they may be at most.

    Returns
    -------
    Lag or None
        Positive where `other` comes later, to a fraction of its step: a sample, or so many that the changes stand out
        of the noise. None where nothing changes, the changes are not alike, or several lags explain them.

    References
    ----------
    .. [1] C. H. Knapp, G. C. Carter, "The generalized correlation method for estimation of time delay", IEEE
       Transactions on Acoustics, Speech, and Signal Processing 24, 1976.

    Examples
    --------
    >>> current = np.repeat(np.float32([1, 1, 9, 2, 7, 7, 3, 1]), 20)
    >>> round(find_lag(current, 3 - 0.1 * np.roll(current, 3), 1e-3, 0.02).lag_s, 4)
    0.003
    """
    finest = -(-len(one) // _MOST_BINS)
    for coarser in _COARSER:  # the finest bins in which the changes stand out of the noise
        found = _lag_in_bins(one, other, finest * coarser, interval_s, most_s)
        if found is not None:
            return found
    return None


def _lag_in_bins(one: Samples, other: Samples, size: int, interval_s: float, most_s: float) -> Lag | None:
    from scipy.signal import correlate  # SciPy loads when first needed: it takes a while

    changes = [_changes(values, size) for values in (one, other)]
    energy = math.sqrt(math.prod(float(np.square(each).sum()) for each in changes))
    if not energy > 0:
        return None
    alike = np.abs(correlate(changes[1], changes[0], method="fft")) / energy
    zero = len(changes[0]) - 1
    reach = min(zero, math.ceil(most_s / (size * interval_s)))
    alike = alike[zero - reach : zero + reach + 1]
    best = int(np.argmax(alike))
    others = np.concatenate((alike[: max(0, best - _BESIDE)], alike[best + _BESIDE + 1 :]))
    if alike[best] < _LEAST_ALIKE or (len(others) and others.max() > _NEXT_BEST * alike[best]):
        return None
    step_s = size * interval_s
    return Lag((best + _summit(alike, best) - reach) * step_s, step_s)


def _changes(values: Samples, size: int) -> Floats:
    """Return how a channel changes from each bin of samples to the next, 0 where that is noise or not known."""
    whole = len(values) // size
    bins = values[: whole * size].reshape(whole, size).mean(axis=1, dtype=np.float64)
    changes = np.nan_to_num(np.diff(bins))
    if not len(changes):
        return np.zeros(1)
    noise = _NORMAL * float(np.median(np.abs(changes)))
    return np.where(np.abs(changes) > _OUT_OF_NOISE * noise, changes, 0.0)


def _summit(heights: Floats, at: int) -> float:
    """Return how far beside the highest of some heights the summit of a parabola through its neighbours lies."""
    if not 0 < at < len(heights) - 1:
        return 0.0
    before, here, after = heights[at - 1 : at + 2].tolist()
    bend = before - 2 * here + after
    return 0.5 * (before - after) / bend if bend else 0.0
