"""Undersampled: pulses shorter than the sampling shows."""

from __future__ import annotations

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.signal.pulses import pulse_widths
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.evidence import Evidence
from warm_ember.units import counted, duration_text, quantity_text

_LEAST_PULSES = 5
_LEAST_SHARE, _MOSTLY = 0.55, 0.75


def undersampled(evidence: Evidence) -> list[Finding]:
    """Find pulses of which most are shorter than the sampling shows."""
    if evidence.lowest is None:
        return []
    current = evidence.recording.current
    found = pulse_widths(current, evidence.lowest.noise_a, should_stop=evidence.should_stop)
    short = len(found.short)
    share = short / max(short + found.wide, 1)
    if short < _LEAST_PULSES or share < _LEAST_SHARE:
        return []
    interval_s = current.interval_s
    text = (
        f"{short} of {counted(short + found.wide, 'pulse')} rise and fall within about a sample of "
        f"{duration_text(interval_s)}, "
        f"{quantity_text(found.height_a, 'A')} high at the median: they are shorter than the sampling shows, so their "
        f"peaks and lengths are not known, and an instrument that does not average over the sample misses charge; "
        f"sample faster"
    )
    first, last = float(found.short[0]) * interval_s, float(found.short[-1] + 1) * interval_s
    return [
        Finding(
            FindingKind.UNDERSAMPLED,
            first,
            last,
            None,
            confidence(FindingKind.UNDERSAMPLED, is_sure=share > _MOSTLY),
            text,
        )
    ]
