"""Range glitches: readings that break out while the instrument changes its range."""

from __future__ import annotations

import numpy as np

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.signal.pulses import edge_breakouts
from warm_ember.signal.stretch import total
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.evidence import Evidence, places
from warm_ember.units import count_text, counted, percent_text, quantity_text

_LEAST_EDGES = 5
_LEAST_SHARE = 0.2
_LEAST_CHARGE = 0.001


def range_glitch(evidence: Evidence) -> list[Finding]:
    """Find breakouts at changes of the level that matter to the charge."""
    current = evidence.recording.current
    found = edge_breakouts(current, evidence.levels.edges[1:-1], should_stop=evidence.should_stop)
    count = len(found.edges)
    charge_c = total(current, 0, current.samples).total * current.interval_s
    part = abs(found.charge_c) / abs(charge_c) if charge_c else 0.0
    if count < _LEAST_EDGES or count < _LEAST_SHARE * found.looked_at or part < _LEAST_CHARGE:
        return []
    text = (
        f"spikes of one or two readings at {count_text(count)} of {counted(found.looked_at, 'level change')}, "
        f"{quantity_text(found.charge_c, 'C')} in all ({percent_text(part)} of the charge): the instrument changes its "
        f"range, or an inrush current is too fast for it; compare with a fixed range"
    )
    stretches = np.column_stack((found.edges - 1, found.edges + 2))
    return [
        Finding(
            FindingKind.RANGE_GLITCH,
            first * current.interval_s,
            last * current.interval_s,
            None,
            confidence(FindingKind.RANGE_GLITCH),
            text,
        )
        for first, last in places(stretches, current.samples)
    ]
