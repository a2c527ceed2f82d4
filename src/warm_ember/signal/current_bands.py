"""How long a current stays in which band, and what charge flows there: a histogram on the log axis."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.signal.series import Series, ShouldStop, chunks, never

PER_DECADE = 8
_LOWEST_DECADE, _HIGHEST_DECADE = -12, 3


@dataclass(frozen=True, eq=False)
class CurrentBands:
    """Time and charge by current band.

    Parameters
    ----------
    edges_a
        Ends of the bands, eight a decade, shape ``(bands + 1,)``; empty when nothing was above zero.
    time_s, charge_c
        Per band, shape ``(bands,)``.
    below_s, below_c
        Time and charge of what lies at or below zero.
    """

    edges_a: Floats
    time_s: Floats
    charge_c: Floats
    below_s: float
    below_c: float


def current_bands(series: Series, from_s: float, to_s: float, *, should_stop: ShouldStop = never) -> CurrentBands:
    """Sort the samples of a stretch by current.

    Parameters
    ----------
    series
        The current, A.
    from_s, to_s
        The stretch; missing samples count nowhere.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Examples
    --------
    >>> from warm_ember.signal.series import ArraySeries
    >>> bands = current_bands(ArraySeries(np.float32([1.2e-3, 1.2e-3, 1.5, 0]), 0.5), 0, 2)
    >>> bands.time_s[[0, -1]].tolist(), float(bands.charge_c[-1]), bands.below_s
    ([1.0, 0.5], 0.75, 0.5)
    """
    first = min(max(round(from_s / series.interval_s), 0), series.samples)
    last = min(max(round(to_s / series.interval_s), first), series.samples)
    bands = (_HIGHEST_DECADE - _LOWEST_DECADE) * PER_DECADE
    counts, sums = np.zeros(bands + 1), np.zeros(bands + 1)
    for _, values in chunks(series, first, last, should_stop=should_stop):
        known = values[~np.isnan(values)]
        with np.errstate(divide="ignore", invalid="ignore"):
            places = np.floor((np.log10(known) - _LOWEST_DECADE) * PER_DECADE) + 1
        index = np.clip(np.where(known > 0, places, 0), 0, bands).astype(np.int64)
        counts += np.bincount(index, minlength=bands + 1)
        sums += np.bincount(index, weights=known, minlength=bands + 1)
    used = np.flatnonzero(counts[1:])
    low, high = (int(used[0]), int(used[-1]) + 1) if len(used) else (0, 0)
    edges = 10.0 ** (_LOWEST_DECADE + np.arange(low, high + 1) / PER_DECADE) if len(used) else np.empty(0)
    dt = series.interval_s
    return CurrentBands(
        edges, counts[1:][low:high] * dt, sums[1:][low:high] * dt, float(counts[0]) * dt, float(sums[0]) * dt
    )
