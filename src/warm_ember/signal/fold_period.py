"""The period of a current that repeats, and stretches of whole cycles."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.signal.envelope import envelope
from warm_ember.signal.series import Series

_BINS = 1 << 15
_LEAST_STRENGTH = 0.35
_LEAST_LAG = 4


@dataclass(frozen=True, slots=True)
class FoldPeriod:
    """A period with its strength, the correlation of the current with itself one period later, from 0 to 1."""

    period_s: float
    strength: float


def find_period(series: Series, from_s: float, to_s: float) -> FoldPeriod | None:
    """Find the period of a stretch by autocorrelation.

    Parameters
    ----------
    series
        The current, A.
    from_s, to_s
        The stretch; it must hold at least two cycles.

    Returns
    -------
    Period or None
        None when nothing repeats.

    Notes
    -----
    On up to 32768 means on an inverse-hyperbolic-sine scale, so that a burst of radio does not hide the rhythm of
    sleep. The period is the first peak that is nearly as high as the highest one, refined on its multiples.

    References
    ----------
    G. E. P. Box, G. M. Jenkins, *Time Series Analysis*, 1970, chapter 2 (the estimated autocorrelation).
    """
    bins = envelope(series, from_s, to_s, _BINS)
    if len(bins.mean) < 3 * _LEAST_LAG:
        return None
    bin_s = float(bins.edges_s[1] - bins.edges_s[0])
    inside = slice(0, len(bins.mean) - 1)  # the last bin may be shorter than the others
    correlation = _autocorrelation(bins.mean[inside])
    if correlation is None:
        return None
    lag = _first_peak(correlation)
    if lag is None:
        return None
    refined = _refined(correlation, lag)
    return FoldPeriod(refined * bin_s, float(min(1.0, correlation[lag])))


def _autocorrelation(values: Floats) -> Floats | None:
    known = values[~np.isnan(values)]
    if len(known) < 3 * _LEAST_LAG:
        return None
    scale = max(float(np.quantile(np.abs(known), 0.1)), 1e-10)
    scaled = np.arcsinh(np.where(np.isnan(values), np.median(known), values) / scale)
    centred = scaled - scaled.mean()
    variance = float(np.mean(centred**2))
    if variance <= 1e-12:
        return None
    length = 1 << math.ceil(math.log2(2 * len(centred)))
    spectrum = np.fft.rfft(centred, length)
    sums = np.fft.irfft(np.abs(spectrum) ** 2, length)[: len(centred) * 2 // 3]
    return np.asarray(sums / (np.arange(len(centred), len(centred) - len(sums), -1) * variance))


def _first_peak(correlation: Floats) -> int | None:
    # The correlation falls from 1 at lag 0; only what rises again after its first low is a repetition.
    low = int(np.argmax(correlation < max(0.5 * _LEAST_STRENGTH, float(correlation.min()) + 0.05)))
    if low < 1:
        return None
    rest = correlation[low:]
    highest = float(rest.max())
    if highest < _LEAST_STRENGTH:
        return None
    candidates = np.flatnonzero(rest >= 0.85 * highest)
    group_end = int(np.argmax(np.diff(candidates, append=candidates[-1] + 2) > 1))
    group = candidates[: group_end + 1]
    lag = low + int(group[np.argmax(rest[group])])
    return lag if lag >= _LEAST_LAG else None


def _refined(correlation: Floats, lag: int) -> float:
    """Follow the peak to its multiples, each of which places the period more finely."""
    period, multiple = _vertex(correlation, lag), 1
    while True:
        following = multiple * 2 if multiple < 8 else multiple + 4
        expected = round(following * period)
        reach = max(2, round(0.05 * period))
        if expected + reach + 1 >= len(correlation):
            return period
        near = correlation[expected - reach : expected + reach + 1]
        peak = expected - reach + int(np.argmax(near))
        if correlation[peak] < 0.5 * correlation[lag]:
            return period
        period, multiple = _vertex(correlation, peak) / following, following


def _vertex(correlation: Floats, peak: int) -> float:
    """Place a peak between the samples by the parabola through it and its neighbours."""
    if not 0 < peak < len(correlation) - 1:
        return float(peak)
    left, here, right = correlation[peak - 1 : peak + 2].tolist()
    bend = left - 2 * here + right
    return peak + (0.5 * (left - right) / bend if bend < 0 else 0.0)


def whole_cycles(from_s: float, to_s: float, period_s: float, duration_s: float) -> tuple[float, float] | None:
    """Extend a stretch to whole cycles; where the capture ends before, take as many as fit.

    Returns
    -------
    (from_s, to_s) or None
        None when not one cycle fits into the capture.

    Examples
    --------
    >>> whole_cycles(1.0, 3.3, 1.0, 10.0), whole_cycles(8.5, 9.7, 1.0, 10.0), whole_cycles(0.0, 1.0, 20.0, 10.0)
    ((1.0, 4.0), (8.0, 10.0), None)
    """
    cycles = max(1, math.ceil((to_s - from_s) / period_s - 0.02))
    cycles = min(cycles, int(duration_s / period_s + 1e-9))
    if cycles < 1:
        return None
    length_s = cycles * period_s
    start_s = min(from_s, duration_s - length_s)
    return start_s, start_s + length_s
