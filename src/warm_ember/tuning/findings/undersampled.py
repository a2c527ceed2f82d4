"""Undersampled: pulses shorter than the sampling shows."""

from __future__ import annotations

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.signal.pulses import pulse_widths
from warm_ember.signal.resolution import LevelNoise
from warm_ember.signal.stretch import total
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.evidence import Evidence
from warm_ember.units import counted, duration_text, percent_text, quantity_text

_LEAST_PULSES = 5
_LEAST_SHARE, _MOSTLY = 0.55, 0.75
_SEEN, _STEADY, _IN_NOISE, _SLOW_S = 0.5, 1.2, 10.0, 2e-3


def undersampled(evidence: Evidence) -> list[Finding]:
    """Find pulses of which most are shorter than the sampling shows."""
    if evidence.lowest is None:
        return []
    current = evidence.recording.current
    between = _between_readings(evidence, evidence.lowest)
    if between is not None:
        return [between]
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


def _between_readings(evidence: Evidence, lowest: LevelNoise) -> Finding | None:
    """Return what a meter leaves unseen that does not look all the time; None where it does, or nothing changes."""
    current, info = evidence.recording.current, evidence.recording.info
    apart_s, aperture_s = info.reading_interval_s, info.aperture_s
    if apart_s is None or apart_s < _SLOW_S or (aperture_s is not None and aperture_s >= _SEEN * apart_s):
        return None
    highest_a = total(current, 0, current.samples).high
    if not highest_a > max(_STEADY * lowest.level_a, lowest.level_a + _IN_NOISE * lowest.noise_a):
        return None
    each = "how long it looks for one is not known"
    unseen_s = apart_s
    if aperture_s is not None:
        each = f"it looks for {duration_text(aperture_s)} each time, {percent_text(aperture_s / apart_s)} of the time"
        unseen_s = apart_s - aperture_s
    text = (
        f"the meter gives a reading every {duration_text(apart_s)}, and {each}: pulses shorter than "
        f"{duration_text(unseen_s)} between readings are not seen, and what falls into step with the readings is seen "
        f"too often or never; the mean and its interval take the readings for a fair sample, record with an instrument "
        f"that samples all the time"
    )
    kind = FindingKind.UNDERSAMPLED
    return Finding(kind, 0.0, evidence.duration_s, None, confidence(kind, is_sure=True), text)
