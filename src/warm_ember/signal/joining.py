"""Two captures of the same work, at a fine and at a coarse range, as one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Samples
from warm_ember.signal.alignment import ClockFit, fit_clock
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import Series, ShouldStop, never
from warm_ember.signal.stretch import total

_BELOW_LIMIT = 0.98


@dataclass(frozen=True, slots=True)
class Ranges:
    """What each capture can be trusted with.

    Parameters
    ----------
    fine_limit_a
        From here on the fine capture is clipped.
    fine_bound_a, coarse_bound_a
        Below these the fine and the coarse capture do not tell a current from nothing.
    coarse_limit_a
        From here on the coarse capture is clipped; infinite when it is not.
    """

    fine_limit_a: float
    fine_bound_a: float
    coarse_bound_a: float
    coarse_limit_a: float = float("inf")


@dataclass(frozen=True, eq=False)
class JoinedSamples:
    """Joined samples with the bounds of those that neither capture resolves, shape ``(n,)`` each.

    Parameters
    ----------
    current
        NaN where neither capture can be trusted.
    at_least, at_most
        Bounds of those samples, 0 where the current is measured; NaN where there is none.
    """

    current: Samples
    at_least: Samples
    at_most: Samples


def lay_on(coarse: Series, fine: Series, threshold_a: float, *, should_stop: ShouldStop = never) -> ClockFit:
    """Find how the coarse capture's time maps to the fine one's, by the bursts that both saw.

    Parameters
    ----------
    coarse, fine
        The two currents.
    threshold_a
        Bursts reach this in both: the fine capture's limit.

    Raises
    ------
    BadArgumentError
        If the two do not show the same work.
    Cancelled
        If `should_stop` answered yes.
    """
    edges_s = []
    for series in (coarse, fine):
        levels = find_levels(series, should_stop=should_stop)
        high = np.append(levels.centres_a > 0.5 * threshold_a, False)[levels.level]
        changes = np.flatnonzero(np.diff(high.astype(np.int8))) + 1
        edges_s.append(levels.edges[changes].astype(np.float64) * series.interval_s)
    tolerance_s = max(3 * coarse.interval_s, 3 * fine.interval_s, 1e-3)
    found = fit_clock(edges_s[0], edges_s[1], tolerance_s=tolerance_s)
    if found is None:
        raise BadArgumentError("the two captures do not show the same bursts: they cannot be joined")
    return found


def join_samples(fine: Samples, coarse: Samples, ranges: Ranges) -> JoinedSamples:
    """Join samples that were laid on each other: bursts from the coarse capture, sleep from the fine one.

    Parameters
    ----------
    fine, coarse
        Both at the same times, NaN where missing, shape ``(n,)``.
    ranges
        What each can be trusted with.

    Notes
    -----
    A sample that is clipped or not resolved enters no mean; it becomes a bound.

    Examples
    --------
    >>> made = join_samples(np.float32([1e-5, 1e-3, 1e-3, 1e-8]), np.float32([1e-6, 0.1, 1e-5, 0]),
    ...                     Ranges(1e-3, 1e-7, 1e-4))
    >>> made.current.tolist()[:2], np.isnan(made.current[2:]).tolist(), made.at_least[2], made.at_most[3]
    ([9.999999747378752e-06, 0.10000000149011612], [True, True], np.float32(0.00098), np.float32(1e-07))
    """
    with np.errstate(invalid="ignore"):
        fine_clipped = fine >= _BELOW_LIMIT * ranges.fine_limit_a
        fine_lost = np.abs(fine) < ranges.fine_bound_a
        coarse_clipped = coarse >= _BELOW_LIMIT * ranges.coarse_limit_a
        coarse_lost = coarse < ranges.coarse_bound_a
    fine_good = ~np.isnan(fine) & ~fine_clipped & ~fine_lost
    coarse_good = ~np.isnan(coarse) & ~coarse_clipped & ~coarse_lost
    # Where the fine capture says "at its end", only the coarse one can tell, and the other way round.
    from_coarse = coarse_good & ~fine_good & ~fine_lost
    current = np.where(fine_good, fine, np.where(from_coarse, coarse, np.nan))
    known = fine_good | from_coarse
    at_least = np.where(coarse_clipped, _BELOW_LIMIT * ranges.coarse_limit_a, np.nan)
    at_least = np.where(fine_clipped & ~coarse_clipped, _BELOW_LIMIT * ranges.fine_limit_a, at_least)
    at_least = np.where(fine_lost | (np.isnan(fine) & coarse_lost), 0.0, at_least)
    at_most = np.where(fine_lost, ranges.fine_bound_a, np.where(coarse_lost, ranges.coarse_bound_a, np.nan))
    at_most = np.where(fine_clipped, np.nan, at_most)
    return JoinedSamples(
        current.astype(np.float32),
        np.where(known, 0.0, at_least).astype(np.float32),
        np.where(known, 0.0, at_most).astype(np.float32),
    )


def on_grid(coarse: Series, fit: ClockFit, first: int, last: int, interval_s: float) -> Samples:
    """Lay the coarse capture on the fine one's samples ``[first, last)``, each value holding.

    Parameters
    ----------
    coarse
        The capture at the coarser range, A.
    fit
        The map from its clock to the fine one's.
    first, last
        Samples of the fine capture.
    interval_s
        Its sample interval.

    Returns
    -------
    Samples
        A, NaN where the coarse capture does not reach or misses samples, shape ``(last - first,)``.
    """
    times_s = ((np.arange(first, last) + 0.5) * interval_s - fit.offset_s) / (1 + fit.drift)
    places = np.floor(times_s / coarse.interval_s).astype(np.int64)
    inside = (places >= 0) & (places < coarse.samples)
    values = np.full(last - first, np.nan, dtype=np.float32)
    if inside.any():
        begin, end = int(places[inside][0]), int(places[inside][-1]) + 1
        values[inside] = coarse.read(begin, end)[places[inside] - begin]
    return values


@dataclass(frozen=True, slots=True)
class MeanBounds:
    """Between which currents the mean of a stretch lies; None where there is no bound."""

    low_a: float | None
    high_a: float | None


def mean_bounds(current: Series, at_least: Series, at_most: Series, first: int, last: int) -> MeanBounds:
    """Bound the mean of the samples ``[first, last)`` of a joined capture."""
    measured, low, high = (total(series, first, last) for series in (current, at_least, at_most))
    samples = last - first
    return MeanBounds(
        (measured.total + low.total) / samples if low.count == samples and samples else None,
        (measured.total + high.total) / samples if high.count == samples and samples else None,
    )
