"""All kinds of findings. A new kind is one module and one line here."""

from __future__ import annotations

from warm_ember.attribution.recording import Recording
from warm_ember.model.finding import Finding
from warm_ember.signal.levels import find_levels
from warm_ember.signal.resolution import level_noise
from warm_ember.signal.series import ShouldStop, never
from warm_ember.tuning.findings.below_resolution import below_resolution
from warm_ember.tuning.findings.clipped import clipped
from warm_ember.tuning.findings.evidence import Evidence, Finder
from warm_ember.tuning.findings.hum import hum
from warm_ember.tuning.findings.range_glitch import range_glitch
from warm_ember.tuning.findings.truncated import truncated
from warm_ember.tuning.findings.undersampled import undersampled

FINDERS: tuple[Finder, ...] = (clipped, below_resolution, hum, undersampled, range_glitch, truncated)
LEAST_CONFIDENCE = 0.5


def find_all(recording: Recording, *, should_stop: ShouldStop = never) -> tuple[Finding, ...]:
    """Find all that is wrong with a capture, in the order of time; only what is more likely so than not.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    if recording.current.samples < 2:
        return ()
    levels = find_levels(recording.current, should_stop=should_stop)
    lowest = level_noise(recording.current, levels, 0) if len(levels.centres_a) else None
    evidence = Evidence(recording, levels, lowest, should_stop)
    found = [finding for finder in FINDERS for finding in finder(evidence)]
    listed = [finding for finding in found if finding.confidence >= LEAST_CONFIDENCE]
    return tuple(sorted(listed, key=lambda finding: (finding.from_s, finding.to_s)))
