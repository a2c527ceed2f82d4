"""Wake burst: a source fires many times where one would do."""

from __future__ import annotations

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.plan import ReduceAverage
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.waste import LONGEST_TICK_S, WasteContext
from warm_ember.units import counted, duration_text, quantity_text

_LONGEST_GAP_S, _SHORTEST_GAP_S, _TRIED = 1.5, 1e-3, 25
_LONGEST_S = 4.0
_LEAST_WAKES, _LEAST_EXTRA, _BY_CHANCE, _BEYOND = 6, 5, 8.0, 4.0
_TYPICAL, _APART, _MATTERS = 2.5, 4.0, 0.02


def wake_burst(waste: WasteContext) -> list[Finding]:
    """Find sources whose wakes come in bunches, far closer than chance would have them.

    Notes
    -----
    All wakes of a bunch but one are counted as waste. With bunches at some rate, chance puts a second wake within a
    gap with the rate times the gap as its probability; many times that is no chance. What goes on for seconds is no
    bunch but a timer that was off for a while.
    """
    if waste.wakes.wakes.by_cpu is not None:
        return []
    ledger, found = waste.wakes, []
    for row in ledger.sources:
        mine = np.flatnonzero(ledger.wakes.by(row.source))
        if any(period.period_s <= LONGEST_TICK_S and len(period.members) > 0.8 * len(mine) for period in row.periods):
            continue
        starts_s = ledger.wakes.first[mine].astype(np.float64) * ledger.interval_s
        ends_s = ledger.wakes.last[mine].astype(np.float64) * ledger.interval_s
        gap_s = _gap(starts_s, ends_s, waste.duration_s)
        if gap_s is None:
            continue
        later = np.append(False, starts_s[1:] - ends_s[:-1] <= gap_s)
        cost_a = float(ledger.cost_c[mine][later].sum()) / waste.duration_s
        if cost_a < _MATTERS * waste.usual_a:
            continue
        bunches = int((~later).sum())
        sizes = np.bincount(np.cumsum(~later) - 1)
        typical = int(np.median(sizes[sizes > 1]))
        text = (
            f"{row.source}: {counted(len(mine), 'wake')} in {counted(bunches, 'burst')}, mostly of {typical}, "
            f"less than {duration_text(gap_s)} apart; one wake per burst would do, and each costs "
            f"{quantity_text(float(ledger.cost_c[mine].mean()), 'C')}. Debounce it, or mask it until it is served"
        )
        at = np.flatnonzero(later)
        from_s, to_s = float(starts_s[at[0] - 1]), float(ends_s[at[-1]])
        kind, remedy = FindingKind.WAKE_BURST, f"Let {row.source} wake once a burst"
        sure = confidence(kind, is_sure=bunches > 2)
        found.append(Finding(kind, from_s, to_s, cost_a, sure, text, remedy, (ReduceAverage(cost_a),)))
    return found


def _gap(starts_s: Floats, ends_s: Floats, duration_s: float) -> float | None:
    """Return the gap within which wakes are one bunch; None where they come one by one."""
    if len(starts_s) < _LEAST_WAKES:
        return None
    gaps_s = starts_s[1:] - ends_s[:-1]
    best: tuple[float, float] | None = None
    for gap_s in np.geomspace(_SHORTEST_GAP_S, _LONGEST_GAP_S, _TRIED).tolist():
        extra = int((gaps_s <= gap_s).sum())
        bunches = len(starts_s) - extra
        chance = bunches * min(bunches / duration_s * gap_s, 1.0)
        rest = gaps_s[gaps_s > gap_s]
        sizes = np.bincount(np.cumsum(np.append(True, gaps_s > gap_s)) - 1)
        bunched = sizes[sizes > 1]
        # Between the bunches there must be time: an even row of wakes is a timer.
        is_apart = not len(rest) or float(np.median(rest)) > _APART * gap_s
        if len(rest) == 0 and duration_s < _APART * float(ends_s[-1] - starts_s[0]):
            is_apart = False
        # Wakes that come at random are close now and then, too.
        at_random = len(starts_s) * min(len(starts_s) / duration_s * gap_s, 1.0)
        if extra < max(_LEAST_EXTRA, _BY_CHANCE * chance, at_random + _BEYOND * at_random**0.5) or not is_apart:
            continue
        opens = np.flatnonzero(np.append(True, gaps_s > gap_s))
        closes = np.append(opens[1:], len(starts_s)) - 1
        if float(np.max(ends_s[closes] - starts_s[opens])) > _LONGEST_S:
            continue
        if float(bunched.mean()) < _TYPICAL or bunched.sum() < 0.3 * len(starts_s):
            continue
        gain = extra - _BY_CHANCE * chance
        if best is None or gain > best[0] + 0.5:
            best = (gain, gap_s)
    return best[1] if best is not None else None
