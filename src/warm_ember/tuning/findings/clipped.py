"""Clipped: the instrument's range was exceeded."""

from __future__ import annotations

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.signal.clipping import find_clipping
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.evidence import Evidence, places
from warm_ember.units import counted, quantity_text

_MANY = 10


def clipped(evidence: Evidence) -> list[Finding]:
    """Find readings cut off at the top of the range."""
    current = evidence.recording.current
    found = find_clipping(current, should_stop=evidence.should_stop)
    if found is None:
        return []
    sure = confidence(FindingKind.CLIPPED, is_sure=found.samples >= _MANY and found.seen_at_high_current)
    limit = quantity_text(found.limit_a, "A")
    findings = []
    for first, last in places(found.stretches, current.samples):
        inside = (found.stretches[:, 0] >= first) & (found.stretches[:, 1] <= last)
        count = int((found.stretches[inside, 1] - found.stretches[inside, 0]).sum())
        findings.append(
            Finding(
                FindingKind.CLIPPED,
                first * current.interval_s,
                last * current.interval_s,
                None,
                sure,
                f"{counted(count, 'reading')} at {limit}, where neighbours elsewhere differ: the range was "
                f"exceeded, and "
                f"charge and peak here are lower bounds; measure again with a higher range",
            )
        )
    return findings
