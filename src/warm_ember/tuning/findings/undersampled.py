"""Undersampled: pulses shorter than the sampling shows."""

from __future__ import annotations

from warm_ember.model.finding import Finding, Kind
from warm_ember.signal.pulses import pulse_widths
from warm_ember.tuning.findings.evidence import Evidence
from warm_ember.units import duration_text, quantity_text

_LEAST_PULSES = 5
_LEAST_SHARE = 0.5


def undersampled(evidence: Evidence) -> list[Finding]:
    """Find pulses of which most last one sample."""
    if evidence.lowest is None:
        return []
    current = evidence.recording.current
    found = pulse_widths(current, evidence.lowest.noise_a, should_stop=evidence.should_stop)
    single = len(found.single)
    share = single / max(single + found.wide, 1)
    if single < _LEAST_PULSES or share < _LEAST_SHARE:
        return []
    interval_s = current.interval_s
    text = (
        f"{single} of {single + found.wide} pulses last one sample of {duration_text(interval_s)}, "
        f"{quantity_text(found.height_a, 'A')} high at the median: they are shorter than the sampling shows, so their "
        f"peaks and lengths are not known, and an instrument that does not average over the sample misses charge; "
        f"sample faster"
    )
    first, last = float(found.single[0]) * interval_s, float(found.single[-1] + 1) * interval_s
    return [Finding(Kind.UNDERSAMPLED, first, last, None, round(min(0.95, 0.5 + 0.45 * (2 * share - 1)), 3), text)]
