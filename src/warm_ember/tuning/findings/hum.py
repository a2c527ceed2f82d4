"""Hum: the mains, or a second ground, in the reading."""

from __future__ import annotations

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.evidence import Evidence
from warm_ember.units import quantity_text

_CLEARLY = 300.0


def hum(evidence: Evidence) -> list[Finding]:
    """Find lines of the mains in the quiet parts."""
    found = evidence.hum
    if found is None:
        return []
    sure = confidence(FindingKind.HUM, is_sure=found.harmonics > 1 or found.ratio > _CLEARLY)
    swing, level = quantity_text(found.amplitude_a, "A"), quantity_text(found.level_a, "A")
    text = (
        f"{found.mains_hz:g} Hz and {found.harmonics - 1} of its multiples swing by {swing} on a level of {level}: "
        f"mains hum or a second ground; the mean over whole mains periods holds, single readings and peaks do not. "
        f"Run the target and the log from one ground, and keep leads short"
    )
    if found.harmonics == 1:
        text = text.replace(" and 0 of its multiples swing", " swings")
    return [Finding(FindingKind.HUM, found.from_s, found.to_s, None, sure, text)]
