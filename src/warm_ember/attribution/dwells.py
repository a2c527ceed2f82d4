"""How long the entries of a state last, over the decades of time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices

_BINS = 48


@dataclass(frozen=True, eq=False)
class DwellSpread:
    """Dwells counted on a logarithmic axis.

    Parameters
    ----------
    entries
        How many there are; all else is meaningless where there are none.
    counts
        Dwells in each bin, shape ``(n,)``.
    edges
        Decimal logarithms of the bins' ends in s, rising, shape ``(n + 1,)``.
    shortest_s, low_s, middle_s, high_s, longest_s
        The shortest, the tenth, fiftieth and ninetieth of a hundred, and the longest.
    """

    entries: int
    counts: Indices
    edges: Floats
    shortest_s: float = 0.0
    low_s: float = 0.0
    middle_s: float = 0.0
    high_s: float = 0.0
    longest_s: float = 0.0


def dwell_spread(dwell_s: Floats) -> DwellSpread:
    """Count dwells on a logarithmic axis that reaches a little past the shortest and the longest.

    Parameters
    ----------
    dwell_s
        In any order, shape ``(n,)``; those that are not above 0 are left out.
    """
    dwell_s = dwell_s[dwell_s > 0]
    if not len(dwell_s):
        return DwellSpread(0, np.zeros(_BINS, dtype=np.int64), np.linspace(0.0, 1.0, _BINS + 1))
    ends = np.log10(float(dwell_s.min()) * 0.8), np.log10(float(dwell_s.max()) * 1.25)
    counts, edges = np.histogram(np.log10(dwell_s), bins=_BINS, range=ends)
    return DwellSpread(len(dwell_s), counts, edges, *np.quantile(dwell_s, (0.0, 0.1, 0.5, 0.9, 1.0)).tolist())
