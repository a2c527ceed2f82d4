"""What is inside a bracket: charge and time by current, its peaks, and how far apart they come."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.project import Bracket
from warm_ember.session.run_results import RunResults
from warm_ember.signal.crossings import find_peaks
from warm_ember.signal.current_bands import CurrentBands, current_bands
from warm_ember.signal.series import ShouldStop, never

_BINS = 60


@dataclass(frozen=True, eq=False)
class PeakIntervals:
    """How far apart peaks come.

    Parameters
    ----------
    middle_s
        The median.
    low_s, high_s
        What nine of ten lie between.
    shortest_s, longest_s
        Of all.
    edges_s, counts
        A histogram that is even over the logarithm, shapes ``(bins + 1,)`` and ``(bins,)``.
    """

    middle_s: float
    low_s: float
    high_s: float
    shortest_s: float
    longest_s: float
    edges_s: Floats
    counts: Indices


@dataclass(frozen=True, eq=False)
class BracketInside:
    """What is known of the inside of a bracket.

    Parameters
    ----------
    bracket
        The bracket.
    bands
        Its samples by current.
    densest
        The current band in which most of the charge flows: from and to, A, and its shares of charge and time; None
        where nothing flows.
    threshold_a, peaks
        What peaks are above, and how many there are.
    intervals
        How far apart they come; None of fewer than two.
    """

    bracket: Bracket
    bands: CurrentBands
    densest: tuple[float, float, float, float] | None
    threshold_a: float
    peaks: int
    intervals: PeakIntervals | None


def look_inside(
    results: RunResults, bracket: Bracket, threshold_a: float | None = None, should_stop: ShouldStop = never
) -> BracketInside:
    """Sort a bracket's samples by current and find its peaks.

    Parameters
    ----------
    results
        Of the run that the bracket is on.
    bracket
        The bracket.
    threshold_a
        What a peak is above; found when None.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    current = results.capture.current
    bands = current_bands(current, bracket.from_s, bracket.to_s, should_stop=should_stop)
    peaks = find_peaks(current, bracket.from_s, bracket.to_s, threshold_a=threshold_a, should_stop=should_stop)
    return BracketInside(
        bracket, bands, _densest(bands), peaks.threshold_a, len(peaks.times_s), peak_intervals(peaks.intervals_s)
    )


def _densest(bands: CurrentBands) -> tuple[float, float, float, float] | None:
    charge_c, time_s = float(bands.charge_c.sum()), float(bands.time_s.sum() + bands.below_s)
    if not len(bands.charge_c) or charge_c <= 0:
        return None
    top = int(np.argmax(bands.charge_c))
    low_a, high_a = (float(edge) for edge in bands.edges_a[top : top + 2])
    return low_a, high_a, float(bands.charge_c[top]) / charge_c, float(bands.time_s[top]) / time_s


def peak_intervals(intervals_s: Floats) -> PeakIntervals | None:
    """Sort the times between neighbouring peaks, shape ``(n,)``, each above 0; None where there are none."""
    if not len(intervals_s):
        return None
    shortest_s, longest_s = float(intervals_s.min()), float(intervals_s.max())
    ends = np.log10(shortest_s * 0.8), np.log10(longest_s * 1.25)
    counts, edges = np.histogram(np.log10(intervals_s), bins=_BINS, range=ends)
    low_s, middle_s, high_s = (float(one) for one in np.quantile(intervals_s, (0.05, 0.5, 0.95)))
    return PeakIntervals(middle_s, low_s, high_s, shortest_s, longest_s, 10.0**edges, counts.astype(np.int64))
