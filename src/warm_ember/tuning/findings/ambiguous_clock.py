"""Ambiguous clock: the log cannot be laid on the capture, or only in several ways."""

from __future__ import annotations

from warm_ember.attribution.clock import TIMED_EVENTS, align, misfit_words
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.evidence import Evidence
from warm_ember.units import duration_text


def ambiguous_clock(evidence: Evidence) -> list[Finding]:
    """Find a log whose clock cannot be told from the current or a line."""
    recording = evidence.recording
    if not any(event.event in TIMED_EVENTS for event in recording.events):
        return []
    found = align(recording, lambda: evidence.levels)
    if found.rival_s is not None:
        text = (
            f"the log fits the capture as well when it is shifted by {duration_text(abs(found.rival_s))}: it is too "
            "regular to tell which is right; record a sync pulse on a line, or enter the offset"
        )
    elif found.is_unusable:
        text = f"{misfit_words(found)}; record a sync pulse on a line, enter the offset, or give this capture's own log"
    else:
        return []
    length_s = recording.current.samples * recording.current.interval_s
    return [Finding(FindingKind.AMBIGUOUS_CLOCK, 0.0, length_s, None, confidence(FindingKind.AMBIGUOUS_CLOCK), text)]
