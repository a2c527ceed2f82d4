"""All kinds of findings. A new kind is one module and one line here."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from warm_ember.attribution.recording import Recording
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.signal.hum import Hum
from warm_ember.signal.levels import Levels, find_levels
from warm_ember.signal.resolution import level_noise
from warm_ember.signal.series import ShouldStop, never
from warm_ember.signal.stretch import total
from warm_ember.tuning.findings.ambiguous_clock import ambiguous_clock
from warm_ember.tuning.findings.below_resolution import below_resolution
from warm_ember.tuning.findings.clipped import clipped
from warm_ember.tuning.findings.evidence import Evidence, Finder
from warm_ember.tuning.findings.hum import hum
from warm_ember.tuning.findings.range_glitch import range_glitch
from warm_ember.tuning.findings.truncated import truncated
from warm_ember.tuning.findings.undersampled import undersampled
from warm_ember.units import duration_text, quantity_text

FINDERS: dict[FindingKind, Finder] = {
    FindingKind.CLIPPED: clipped,
    FindingKind.BELOW_RESOLUTION: below_resolution,
    FindingKind.HUM: hum,
    FindingKind.UNDERSAMPLED: undersampled,
    FindingKind.RANGE_GLITCH: range_glitch,
    FindingKind.TRUNCATED: truncated,
    FindingKind.AMBIGUOUS_CLOCK: ambiguous_clock,
}
STANDS_ALONE = frozenset({FindingKind.CLIPPED, FindingKind.RANGE_GLITCH})
"""Kinds of which what is found stays whatever else is: no waste explains them away."""
LEAST_CONFIDENCE = 0.5
_SLOWEST_FOR_HUM_S = 1 / 125


@dataclass(frozen=True, slots=True)
class Fact:
    """One thing that was looked at, and what was seen."""

    what: str
    words: str


@dataclass(frozen=True, eq=False)
class QualityReport:
    """What was found in a capture, and what was looked at on the way."""

    findings: tuple[Finding, ...]
    facts: tuple[Fact, ...]


def check(
    recording: Recording,
    levels: Callable[[], Levels] | None = None,
    *,
    hum: Callable[[], Hum | None] | None = None,
    should_stop: ShouldStop = never,
) -> QualityReport:
    """Find all that is wrong with a capture, in the order of time; only what is more likely so than not.

    Parameters
    ----------
    recording
        The capture.
    levels
        Gives the levels of its current; found here when None.
    hum
        Gives the mains in it; looked for here when None.
    should_stop
        Polled on long passes.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    if recording.current.samples < 2:
        return QualityReport((), ())
    evidence = _evidence(recording, levels, hum, should_stop)
    found = _listed(evidence, FINDERS)
    return QualityReport(found, _facts(evidence, {finding.kind for finding in found}))


def find_alone(
    recording: Recording,
    kinds: Iterable[FindingKind],
    levels: Callable[[], Levels] | None = None,
    *,
    should_stop: ShouldStop = never,
) -> tuple[Finding, ...]:
    """Find only faults of some kinds, among those of `STANDS_ALONE`; see `check`.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    if recording.current.samples < 2:
        return ()
    return _listed(_evidence(recording, levels, None, should_stop), STANDS_ALONE & frozenset(kinds))


def _evidence(
    recording: Recording,
    levels: Callable[[], Levels] | None,
    hum: Callable[[], Hum | None] | None,
    should_stop: ShouldStop,
) -> Evidence:
    found = levels() if levels is not None else find_levels(recording.current, should_stop=should_stop)
    lowest = level_noise(recording.current, found, 0) if len(found.centres_a) else None
    return Evidence(recording, found, lowest, should_stop, hum)


def _listed(evidence: Evidence, kinds: Iterable[FindingKind]) -> tuple[Finding, ...]:
    """Return what is more likely so than not, in the order of time."""
    found = [finding for kind in kinds for finding in FINDERS[kind](evidence)]
    likely = [finding for finding in found if finding.confidence >= LEAST_CONFIDENCE]
    return tuple(sorted(likely, key=lambda finding: (finding.from_s, finding.to_s)))


def find_all(recording: Recording, *, should_stop: ShouldStop = never) -> tuple[Finding, ...]:
    """Return only what `check` found."""
    return check(recording, should_stop=should_stop).findings


def _facts(evidence: Evidence, found: set[FindingKind]) -> tuple[Fact, ...]:
    """Return what was seen where nothing was found."""
    current, lowest = evidence.recording.current, evidence.lowest
    highest = quantity_text(total(current, 0, current.samples).high, "A")
    facts = [(FindingKind.CLIPPED, "range", f"the highest reading, {highest}, is not a flat top: no clipping")]
    if lowest is not None:
        level, noise = quantity_text(lowest.level_a, "A"), quantity_text(lowest.noise_a, "A")
        step = f", step {quantity_text(lowest.step_a, 'A')}" if lowest.step_a else ""
        facts.append(
            (
                FindingKind.BELOW_RESOLUTION,
                "resolution",
                f"the lowest level, {level}, is above its noise of {noise}{step}",
            )
        )
    facts += [
        (FindingKind.HUM, "hum", "no line of 50 or 60 Hz stands out in the quietest stretches"),
        (
            FindingKind.UNDERSAMPLED,
            "sampling",
            f"pulses are longer than the sample of {duration_text(current.interval_s)}",
        ),
        (FindingKind.RANGE_GLITCH, "range changes", "no spikes at level changes"),
        (FindingKind.TRUNCATED, "end", "the capture ends at rest, or at the end of a full activity"),
    ]
    if current.interval_s > _SLOWEST_FOR_HUM_S:
        facts[-4] = (FindingKind.HUM, "hum", "sample rate too low to detect mains hum")
    return tuple(Fact(what, words) for kind, what, words in facts if kind not in found)
