"""How far the mean of readings may be off because of what lies between them and was not seen."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from warm_ember.model.arrays import Indices
from warm_ember.model.estimate import Estimate
from warm_ember.signal.series import Series, ShouldStop, chunks, never

_POWERS = 5


def sampling_estimates(
    series: Series,
    edges: Indices,
    group: Indices,
    groups: int,
    reading_interval_s: float,
    *,
    should_stop: ShouldStop = never,
) -> tuple[Estimate, ...]:
    """Estimate means from readings that are a sample of the current at moments of their own.

    Parameters
    ----------
    series
        The current, each reading held until the next, A.
    edges
        Of intervals, sample indices, rising, shape ``(intervals + 1,)``.
    group
        To which group each interval belongs, from 0, shape ``(intervals,)``; a negative one to none.
    groups
        How many there are.
    reading_interval_s
        From one reading to the next.

    Returns
    -------
    tuple of Estimate
        For each group its mean, the error of it as a mean of independent readings, the freedom of that error and its
        skew; NaN and an infinite error for a group without two readings.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    The variance of a mean of `n` readings is ``s² / n``, and the variance of ``s²`` is ``s⁴ (k - 1) / n`` with the
    kurtosis `k`: a few rare pulses among many readings leave as little freedom as there are pulses. That readings do
    not fall into step with what repeats is taken for granted, and cannot be seen in them.

    References
    ----------
    W. G. Cochran, *Sampling Techniques*, 3rd ed. 1977, sections 2.6 and 2.15.
    """
    shift_a = np.zeros(groups)
    for moments_of in (1, _POWERS - 1):  # the means first: powers about zero would cancel
        moments = np.zeros((_POWERS, groups))
        for first, values in chunks(series, int(edges[0]), int(edges[-1]), should_stop=should_stop):
            owner = group[np.searchsorted(edges, np.arange(first, first + len(values)), side="right") - 1]
            known = (owner >= 0) & ~np.isnan(values)
            mine, apart = owner[known], values[known].astype(np.float64) - shift_a[owner[known]]
            for power in range(moments_of + 1):
                moments[power] += np.bincount(mine, apart**power, minlength=groups)
        if moments_of == 1:
            shift_a = np.divide(moments[1], moments[0], out=np.zeros(groups), where=moments[0] > 0)
    readings = np.minimum(moments[0], moments[0] * series.interval_s / reading_interval_s)
    return tuple(
        _estimate(float(shift_a[one]), float(readings[one]), moments[:, one] / max(moments[0, one], 1.0))
        for one in range(groups)
    )


def _estimate(mean_a: float, readings: float, central: np.ndarray) -> Estimate:
    if readings < 2:
        return Estimate(mean_a if readings else math.nan, math.inf)
    _, _, variance, third, fourth = central.tolist()
    if not variance > 0:
        return Estimate(mean_a)
    kurtosis = fourth / variance**2
    freedom = max(2 * readings / max(kurtosis - 1, 1e-9), 1.0)
    return Estimate(mean_a, math.sqrt(variance / (readings - 1)), freedom, third / readings**2)


def no_better_than(estimate: Estimate, sampled: Estimate) -> Estimate:
    """Return an estimate whose error is at least that of the readings that it rests on."""
    if not estimate.error < sampled.error:
        return estimate
    return replace(sampled, value=estimate.value)
