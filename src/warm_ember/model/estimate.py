"""An estimate with its error: a value, how far it may be off, and how well that is known.

An interval is as wide as Student's quantile for the freedom that its error was estimated with. Sums, differences and
multiples of independent estimates keep both.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

NINETY = 0.9
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
