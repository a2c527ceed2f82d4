"""Timers unaligned: timers wake the device apart that could share their wakes."""

from __future__ import annotations

import numpy as np

from warm_ember.attribution.wake_alignment import fewest_moments
from warm_ember.attribution.wakes import UNKNOWN
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.plan import ReduceAverage
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.waste import LONGEST_TICK_S, WasteContext
from warm_ember.units import count_text, counted, duration_text

_WITHIN = 0.5
_MATTERS, _SPARED = 0.03, 0.2
_SAME = 5e-3


def timers_unaligned(waste: WasteContext) -> list[Finding]:
    """Let each timer come later by up to half the shortest period, or start together, and see what is spared.

    Notes
    -----
    A wake that comes along with another saves what waking costs at least: what the wakes of the cheapest timer take.
    """
    ledger = waste.wakes
    if ledger.wakes.by_cpu is not None:
        return []
    timers = [
        (row.source, period.period_s, np.flatnonzero(ledger.wakes.by(row.source))[period.members])
        for row in ledger.sources
        for period in row.periods
        # Periods among wakes that nothing names may be parts of one another.
        if period.period_s > LONGEST_TICK_S and row.source != UNKNOWN
    ]
    if len(timers) < 2:
        return []
    shortest_s = min(period_s for _, period_s, _ in timers)
    members = np.concatenate([mine for _, _, mine in timers])
    order = np.argsort(ledger.wakes.first[members], kind="stable")
    first = ledger.wakes.first[members][order]
    late = np.full(len(first), int(_WITHIN * shortest_s / ledger.interval_s))
    # Timers whose periods are multiples of the shortest need no slack: started together they stay together.
    together = sum(len(mine) for _, period_s, mine in timers if _is_multiple(period_s / shortest_s))
    together -= max(len(mine) for _, period_s, mine in timers if period_s == shortest_s)
    spared = max(len(first) - fewest_moments(first, late), together)
    cheapest_c = min(float(ledger.cost_c[mine].mean()) for _, _, mine in timers)
    cost_a = spared * max(cheapest_c, 0.0) / waste.duration_s
    if spared < _SPARED * len(first) or cost_a < _MATTERS * waste.usual_a:
        return []
    names = ", ".join(f"{source} every {duration_text(period_s)}" for source, period_s, _ in timers[:4])
    text = (
        f"{names}: {count_text(spared)} of their {counted(len(first), 'wake')} could be merged with another. Start the "
        f"timers together, or let each expire up to {duration_text(_WITHIN * shortest_s)} later"
    )
    from_s, to_s = (float(edge) * ledger.interval_s for edge in (first[0], first[-1]))
    kind, remedy = FindingKind.TIMERS_UNALIGNED, "Let the timers wake together"
    return [Finding(kind, from_s, to_s, cost_a, confidence(kind), text, remedy, (ReduceAverage(cost_a),))]


def _is_multiple(ratio: float) -> bool:
    return abs(ratio - round(ratio)) < _SAME * ratio
