"""A channel with its band limited: zero-phase, and what flowed in all stays what it was."""

from __future__ import annotations

import math

import numpy as np

from warm_ember.errors import BadArgumentError, Cancelled
from warm_ember.model.arrays import Blocks, Floats, Samples
from warm_ember.signal.bands import runs_of
from warm_ember.signal.pyramid import PyramidBuilder
from warm_ember.signal.series import CHUNK_SAMPLES, Progress, Series, ShouldStop, ignore_progress, never
from warm_ember.signal.stretch import total
from warm_ember.units import duration_text

_WIDTHS_PER_SIGMA = 2 * math.sqrt(2 * math.log(2))
_REACH = 4.0
_LEAST_SAMPLES = 2
_MOST_SHARE = 0.25


class BandLimited:
    """A series as it is when nothing shorter than some time is told.

    Each sample is a mean of those around it, weighted by a bell curve as wide at half its height as the shortest time.
    A pulse of that length still shows three quarters of its height, one of a tenth of it a tenth.

    Parameters
    ----------
    series
        The channel.
    shortest_s
        The width.
    should_stop, progress
        For the one pass that makes its summary.

    Attributes
    ----------
    highest_measured, highest
        The highest sample of the channel, and what is left of it.

    Raises
    ------
    BadArgumentError
        If the time is shorter than two samples, or longer than a quarter of the capture.
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    A Gaussian has no phase and no overshoot, so that no edge moves and no current below zero is made up. Where the
    capture begins and ends, and beside samples that are missing, the course is mirrored: the weights with which one
    sample goes into all others then sum to one as well, so that the charge between two gaps is kept.

    References
    ----------
    .. [1] A. V. Oppenheim, R. W. Schafer, *Discrete-Time Signal Processing*, 3rd ed., Pearson, 2010, section 8.7:
       convolution of long signals piece by piece.
    """

    def __init__(
        self,
        series: Series,
        shortest_s: float,
        *,
        should_stop: ShouldStop = never,
        progress: Progress = ignore_progress,
    ) -> None:
        check_shortest(series, shortest_s)
        self.samples, self.interval_s, self.shortest_s = series.samples, series.interval_s, shortest_s
        self._series = series
        sigma = shortest_s / series.interval_s / _WIDTHS_PER_SIGMA
        self._reach = max(1, math.ceil(_REACH * sigma))
        weights = np.exp(-0.5 * (np.arange(-self._reach, self._reach + 1) / sigma) ** 2)
        self._weights: Floats = weights / weights.sum()
        builder = PyramidBuilder()
        for first in range(0, self.samples, CHUNK_SAMPLES):
            if should_stop():
                raise Cancelled("stopped")
            builder.append(self.read(first, min(first + CHUNK_SAMPLES, self.samples)))
            progress(min(1.0, (first + CHUNK_SAMPLES) / self.samples))
        self._pyramid = builder.finish()
        self.highest_measured, self.highest = (total(one, 0, self.samples).high for one in (series, self))

    @property
    def levels(self) -> tuple[int, ...]:
        """Block sizes of the pyramid in samples."""
        return self._pyramid.sizes

    def blocks(self, level: int, first: int, last: int) -> Blocks:
        """Return the summary blocks ``[first, last)`` of one level, shape ``(last - first,)``."""
        return self._pyramid.levels[level][first:last]

    def read(self, first: int, last: int) -> Samples:
        """Return the samples ``[first, last)``, NaN where the channel misses them, shape ``(last - first,)``."""
        begin, end = max(0, first - self._reach), min(self.samples, last + self._reach)
        values = self._series.read(begin, end).astype(np.float64)
        found = np.full(end - begin, np.nan, dtype=np.float32)
        for start, stop in runs_of(~np.isnan(values)).tolist():
            if stop > first - begin and start < last - begin:
                found[start:stop] = self._averaged(values[start:stop])
        return found[first - begin : last - begin]

    def _averaged(self, values: Floats) -> Floats:
        from scipy.signal import oaconvolve  # SciPy loads when first needed: it takes a while

        averaged: Floats = oaconvolve(np.pad(values, self._reach, mode="symmetric"), self._weights, mode="valid")
        return averaged


def check_shortest(series: Series, shortest_s: float) -> None:
    """Check how far a channel's band can be limited.

    Raises
    ------
    BadArgumentError
        If the time is shorter than two samples, or longer than a quarter of the capture.
    """
    least_s, most_s = _LEAST_SAMPLES * series.interval_s, _MOST_SHARE * series.samples * series.interval_s
    if not least_s * (1 - 1e-9) <= shortest_s <= most_s:
        raise BadArgumentError(
            f"the shortest time must be from {duration_text(least_s)}, two samples, to {duration_text(most_s)}, a "
            f"quarter of the capture; found {shortest_s:g} s"
        )
