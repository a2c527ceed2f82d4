"""Below resolution: a level that lies within the instrument's noise, offset or step."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from warm_ember.attribution.limits import resolved_from
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.signal.levels import Levels
from warm_ember.signal.resolution import LevelNoise, level_noise
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.evidence import Evidence
from warm_ember.units import quantity_text

_LEAST_SHARE = 0.001
_SWING = 2.0
_CLEARLY, _NEARLY = 0.5, 1.125


def below_resolution(evidence: Evidence) -> list[Finding]:
    """Judge the levels from the lowest upward until one is resolved."""
    findings: list[Finding] = []
    for level in range(len(evidence.levels.centres_a)):
        noise = _without_hum(evidence, level_noise(evidence.recording.current, evidence.levels, level))
        finding = _judge(evidence, level, noise) if noise is not None else None
        if finding is None:
            break
        findings.append(finding)
    return findings


def _without_hum(evidence: Evidence, noise: LevelNoise | None) -> LevelNoise | None:
    """Return how the readings of a level lie about the one that hum swings around, where it is a part of its swing.

    The mean over whole periods of the mains holds, so that hum, which is told by itself, hides no level.
    """
    hum = evidence.hum
    if noise is None or hum is None or abs(noise.level_a - hum.level_a) > _SWING * hum.amplitude_a:
        return noise
    return replace(noise, level_a=hum.level_a)


def _judge(evidence: Evidence, level: int, noise: LevelNoise) -> Finding | None:
    limit_a, why = resolved_from(evidence.recording, evidence.levels, noise)
    if not noise.level_a < limit_a and noise.level_a > 0:
        return None
    from_s, to_s, share = _where(evidence, evidence.levels, level)
    if share < _LEAST_SHARE:
        return None
    ratio = float(max(noise.level_a, 0.0) / limit_a) if limit_a > 0 else 0.0
    if ratio > _NEARLY:
        return None
    reads = quantity_text(noise.level_a, "A")
    bound = f"below {quantity_text(limit_a, 'A')}" if limit_a > 0 else "not resolved"
    text = (
        f"a level reads {reads}, within the instrument's {why}: it is {bound}, not a measurement; "
        f"use a finer range, a larger shunt, or fold many cycles"
    )
    return Finding(
        FindingKind.BELOW_RESOLUTION,
        from_s,
        to_s,
        None,
        confidence(FindingKind.BELOW_RESOLUTION, is_sure=ratio < _CLEARLY),
        text,
    )


def _where(evidence: Evidence, levels: Levels, level: int) -> tuple[float, float, float]:
    """Return from when to when the level occurs, and its share of the time."""
    at = np.flatnonzero(levels.level == level)
    interval_s = evidence.recording.current.interval_s
    lengths = np.diff(levels.edges)
    share = float(lengths[at].sum() / max(lengths.sum(), 1))
    return float(levels.edges[at[0]]) * interval_s, float(levels.edges[at[-1] + 1]) * interval_s, share
