"""Estimates that know their error: means over entries, cycles and blocks, few or many, alike or not.

One way for all: a mean is a ratio of two sums over observations (charge over time, charge over wakes), and its error
comes from what the observations leave over of that ratio.
"""

from __future__ import annotations

import math

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.model.estimate import NOTHING_KNOWN, Estimate

_RUNS = 32
_LIKENESS_FROM, _LIKENESS_FULL = 3, 20
_MOST_ALIKE = 0.95
_ONE_IN_TEN = 1.2815515655446004
_LEAST_FREEDOM = 1.0


def mean(values: Floats) -> Estimate:
    """Return the mean of observations.

    Parameters
    ----------
    values
        In the order in which they came, as neighbours may be alike, finite, shape ``(n,)``.

    Returns
    -------
    Estimate
        With the error that few, uneven and alike observations have; see `ratio`.
    """
    return ratio(values, np.ones(len(values)))


def ratio(amounts: Floats, lengths: Floats) -> Estimate:
    """Return ``sum(amounts) / sum(lengths)`` of observations in the order in which they came.

    Parameters
    ----------
    amounts, lengths
        What each observation adds to the two sums, such as charge and time of each entry, shape ``(n,)``. Those
        without a length, or that were not measured, are left out.

    Returns
    -------
    Estimate
        The value is NaN without observations, and the error infinite with fewer than two.

    Notes
    -----
    The error is that of a ratio estimator, from the residuals ``amount - ratio * length``, each corrected for its own
    part in the ratio, so that few observations of very different lengths do not look alike; it is scaled to be right
    where lengths tell nothing of the rates. Freedom lies between that of this very estimate of variance, which long
    and short observations share unequally where their rates scatter alike, and the one of equal observations, where
    their amounts do: their geometric mean with the latter counted twice holds what it promises for either. Of 64 and
    more, neighbours are first joined into 32 runs, so that what they have in common stays within a run; what the runs
    still have in common widens the error, as in a series whose neighbours are correlated with the lag-1 coefficient
    that is seen, if it is more than one series in ten of unlike neighbours shows. Among a handful that coefficient
    cannot be told from chance at all: it counts fully from the equal of twenty observations on, and not with three.

    References
    ----------
    W. G. Cochran, *Sampling Techniques*, 3rd ed. 1977, chapter 6 (ratio estimators); R. M. Bell, D. F. McCaffrey,
    "Bias reduction in standard errors for linear regression with multi-stage samples", *Survey Methodology* 28, 2002
    (correction and freedom); L. W. Schruben, B. W. Schmeiser, "Batch size effects in the analysis of simulation
    output", *Operations Research* 30, 1982 (runs).
    """
    amounts, lengths = np.asarray(amounts, dtype=np.float64), np.asarray(lengths, dtype=np.float64)
    counts = (lengths > 0) & np.isfinite(amounts)
    if not counts.all():
        amounts, lengths = amounts[counts], lengths[counts]
    if not len(amounts):
        return NOTHING_KNOWN
    value = float(amounts.sum() / lengths.sum())
    if len(amounts) == 1:
        return Estimate(value, math.inf)
    if len(amounts) >= 2 * _RUNS:
        starts = np.linspace(0, len(amounts), _RUNS, endpoint=False).astype(np.int64)
        amounts, lengths = np.add.reduceat(amounts, starts), np.add.reduceat(lengths, starts)
    part = lengths / lengths.sum()
    apart = amounts / lengths - value
    weight = part**2 / np.maximum(1 - part, 1e-12)
    # Each residual holds a part of all others: the quadratic form that the estimate of the variance is.
    centred = np.eye(len(part)) - part
    form = centred.T @ (weight[:, np.newaxis] * centred)
    expected = float(np.trace(form))
    variance = float((weight * apart**2).sum()) * float((part**2).sum()) / expected
    freedom = math.cbrt(expected**2 / float((form**2).sum()) * (len(part) - 1) ** 2)
    residuals = part * apart
    widened = _likeness(residuals, 1 / float((part**2).sum()))
    error, squares = math.sqrt(variance * widened), float((residuals**2).sum())
    skew = float((residuals**3).sum()) / squares**1.5 * error**3 if squares else 0.0
    return Estimate(value, error, max(freedom / widened, _LEAST_FREEDOM), skew)


def _likeness(residuals: Floats, equal_to: float) -> float:
    """Return by what the variance of a mean grows because neighbours are alike; 1 where they are not.

    Parameters
    ----------
    residuals
        In their order.
    equal_to
        How many observations of one length they are worth.
    """
    squares, many = float((residuals**2).sum()), len(residuals)
    if not squares or many <= _LIKENESS_FROM:
        return 1.0
    seen = float((residuals[1:] * residuals[:-1]).sum()) / squares
    # The mean was taken from the same observations, which makes them look less alike than they are.
    alike = (seen * many + 1) / (many - 1 if many < 9 else many - 3)
    if alike * math.sqrt(many) < _ONE_IN_TEN:
        return 1.0
    sure = min(max((equal_to - _LIKENESS_FROM) / (_LIKENESS_FULL - _LIKENESS_FROM), 0.0), 1.0)
    alike = min(max(alike, 0.0), _MOST_ALIKE) * sure
    return (1 + alike) / (1 - alike)
