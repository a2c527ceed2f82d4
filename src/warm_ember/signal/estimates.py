"""Estimates that know their error: means over entries, cycles and blocks, few or many, alike or not.

One way for all: a mean is a ratio of two sums over observations (charge over time, charge over wakes), its error comes
from what the observations leave over of that ratio, and an interval is as wide as Student's quantile for the freedom
that this error has. Sums, differences and multiples of independent estimates keep both.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats

NINETY = 0.9
_RUNS = 32
_LIKENESS_FROM, _LIKENESS_FULL = 3, 20
_MOST_ALIKE = 0.95
_LEAST_FREEDOM = 1.0
_BENDS_TO = 2.5


@dataclass(frozen=True)
class Estimate:
    """A value with what is known of its error.

    Parameters
    ----------
    value
        The value.
    error
        Its standard error; infinite where nothing is known of the spread.
    freedom
        Degrees of freedom that the error was estimated with; infinite where it is known.
    skew
        Third moment of the error: above 0 where a few large observations make the value, and more of them may be due.
    """

    value: float
    error: float = 0.0
    freedom: float = math.inf
    skew: float = 0.0

    @property
    def is_known(self) -> bool:
        """Whether anything is known of the error."""
        return math.isfinite(self.error)

    def interval(self, level: float = NINETY) -> tuple[float, float] | None:
        """Return the two-sided interval of a level; None where the error is not known.

        Notes
        -----
        By Student's distribution, reaching further to the side to which the error is skewed; it is not shortened on
        the other side, since the skew of a few observations is hardly known.

        References
        ----------
        N. J. Johnson, "Modified t tests and confidence intervals for asymmetrical populations", *Journal of the
        American Statistical Association* 73, 1978.
        """
        if not self.is_known:
            return None
        if not self.error:
            return self.value, self.value
        reach = quantile((1 + level) / 2, self.freedom)
        bent = self.skew / self.error / self.error / self.error * (1 + 2 * min(reach, _BENDS_TO) ** 2) / 6
        return self.value - self.error * (reach + max(-bent, 0.0)), self.value + self.error * (reach + max(bent, 0.0))

    def times(self, factor: float) -> Estimate:
        """Return a multiple."""
        if not factor:
            return Estimate(0.0)
        return Estimate(self.value * factor, self.error * abs(factor), self.freedom, self.skew * factor**3)

    def plus(self, other: Estimate) -> Estimate:
        """Return the sum with an independent estimate."""
        return total((self, other))

    def less(self, other: Estimate) -> Estimate:
        """Return the difference to an independent estimate."""
        return total((self, other.times(-1.0)))


NOTHING_KNOWN = Estimate(math.nan, math.inf)


def quantile(share: float, freedom: float) -> float:
    """Return the quantile of Student's distribution, of the normal one for infinite freedom."""
    from scipy.special import ndtri, stdtrit

    return float(ndtri(share) if math.isinf(freedom) else stdtrit(freedom, share))


def total(parts: Iterable[Estimate]) -> Estimate:
    """Return the sum of independent estimates.

    References
    ----------
    F. E. Satterthwaite, "An approximate distribution of estimates of variance components", *Biometrics Bulletin* 2,
    1946, for the freedom of a sum of variances.
    """
    parts = tuple(parts)
    value, variance = math.fsum(part.value for part in parts), math.fsum(part.error**2 for part in parts)
    if not 0 < variance < math.inf:
        return Estimate(value, math.sqrt(variance))
    spent = math.fsum(part.error**4 / part.freedom for part in parts)
    skew = math.fsum(part.skew for part in parts)
    return Estimate(value, math.sqrt(variance), variance**2 / spent if spent else math.inf, skew)


def quotient(above: Estimate, below: Estimate, level: float = NINETY) -> tuple[float, float]:
    """Return the interval of a quotient of two independent estimates.

    Returns
    -------
    tuple of float
        Infinite where the interval has no end, as when the divisor may be 0 or nothing is known of a spread.

    References
    ----------
    E. C. Fieller, "Some problems in interval estimation", *Journal of the Royal Statistical Society* B 16, 1954.
    """
    change = above.less(below.times(above.value / below.value)) if below.value else NOTHING_KNOWN
    if not change.is_known:
        return -math.inf, math.inf
    reach = quantile((1 + level) / 2, change.freedom)
    a, b, c = (one - reach**2 * two for one, two in (
        (below.value**2, below.error**2), (above.value * below.value, 0.0), (above.value**2, above.error**2)
    ))  # fmt: skip
    if a <= 0:
        return -math.inf, math.inf
    half, value = math.sqrt(max(b**2 - a * c, 0.0)), above.value / below.value
    return min((b - half) / a, value), max((b + half) / a, value)


def mean(values: Floats) -> Estimate:
    """Return the mean of observations, in the order in which they came."""
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
    where lengths tell nothing of the rates. Freedom is that of this very estimate of variance, which long and short
    observations share unequally. Of 64 and more, neighbours are first joined into 32 runs, so that what they have
    in common stays within a run; what the runs still have in common widens the error, as in a series whose
    neighbours are correlated with the lag-1 coefficient that is seen. Among a handful that coefficient cannot be told
    from chance: it counts fully from the equal of twenty observations on, and not at all with three.

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
    weight = (part / np.maximum(1 - part, 1e-12)) ** 2
    # Each residual holds a part of all others: the quadratic form that the estimate of the variance is.
    centred = np.eye(len(part)) - part
    form = centred.T @ (weight[:, np.newaxis] * centred)
    expected = float(np.trace(form))
    variance = float((weight * apart**2).sum()) * float((part**2).sum()) / expected
    freedom = expected**2 / float((form**2).sum())
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
    sure = min(max((equal_to - _LIKENESS_FROM) / (_LIKENESS_FULL - _LIKENESS_FROM), 0.0), 1.0)
    alike = min(max(alike, 0.0), _MOST_ALIKE) * sure
    return (1 + alike) / (1 - alike)
