"""What wakes add over the time of a capture, by source."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.model.arrays import Floats

_STEPS_S = (0.1, 0.5, 1, 5, 10, 30, 60, 300, 900, 1800, 3600, 6 * 3600, 24 * 3600)
_MOST = 60
GAPS_A_DECADE, FIRST_DECADE, _LAST_DECADE = 10, -7, 9
GAP_EDGES = np.linspace(FIRST_DECADE, _LAST_DECADE, (_LAST_DECADE - FIRST_DECADE) * GAPS_A_DECADE + 1)
"""Decimal logarithms of the times between wakes, s."""


@dataclass(frozen=True, eq=False)
class WakeProfile:
    """Steps of time and what happened in each.

    Parameters
    ----------
    step_s
        Length of a step.
    added_a, count
        What each source adds to the average of a step, its wakes' charge spread evenly over them, and how often it
        woke the device, counted where wakes begin; shape ``(sources, steps)``.
    gaps
        How many times between two wakes of each source fall into each step of `gap_edges`, shape ``(steps,)``.
    gap_edges
        Decimal logarithms of the ends of the steps of time between wakes, s, shape ``(steps + 1,)``.
    """

    step_s: float
    added_a: Floats
    count: Floats
    gaps: dict[str, Floats]
    gap_edges: Floats = field(default_factory=lambda: GAP_EDGES)


def wake_profile(ledger: WakeLedger) -> WakeProfile:
    """Cut a capture into at most 60 steps of a round length; by the hour from a few hours on."""
    step_s = next((s for s in _STEPS_S if ledger.duration_s / s <= _MOST), ledger.duration_s / _MOST)
    steps = max(int(np.ceil(ledger.duration_s / step_s - 1e-9)), 1)
    sources = [row.source for row in ledger.sources]
    ends_s = np.minimum(np.arange(steps + 1) * step_s, ledger.duration_s)
    added_a, count = np.zeros((len(sources), steps)), np.zeros((len(sources), steps))
    for row, source in enumerate(sources):
        mine = ledger.wakes.by(source)
        ends = np.column_stack((ledger.wakes.first[mine], ledger.wakes.last[mine])).ravel() * ledger.interval_s
        reached_c = np.cumsum(ledger.cost_c[mine])
        until_c = np.column_stack((np.append(0.0, reached_c[:-1]), reached_c)).ravel()
        added_a[row] = np.diff(np.interp(ends_s, ends, until_c)) / np.diff(ends_s)
        count[row] = np.histogram(ends[::2], bins=ends_s)[0]
    times_s = ledger.wakes.first.astype(np.float64) * ledger.interval_s
    gaps = {
        name: np.histogram(np.log10(np.maximum(np.diff(times_s[ledger.wakes.by(name)]), 1e-7)), bins=GAP_EDGES)[0]
        for name in sources
    }
    return WakeProfile(step_s, added_a, count, {name: found.astype(np.float64) for name, found in gaps.items()})
