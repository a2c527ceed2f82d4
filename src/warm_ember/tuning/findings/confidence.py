"""How sure findings are: the share of them that was right.

Measured by ``scripts/accuracy_confidence.py`` on simulated devices with faults of their own, with and without a log,
cut short, and with a log of another device; docs/accuracy.md has the counts. Of kinds that were right each time, one
more that would have been wrong is reckoned with.
"""

from __future__ import annotations

from warm_ember.model.finding import FindingKind

_SURE_AND_LIKELY = {
    FindingKind.AMBIGUOUS_CLOCK: (0.98, 0.98),
    FindingKind.AWAKE_TAIL: (0.97, 0.9),
    FindingKind.BELOW_RESOLUTION: (0.93, 0.75),
    FindingKind.CLIPPED: (0.98, 0.95),
    FindingKind.FLOOR_ABOVE_EXPECTED: (0.96, 0.85),
    FindingKind.HUM: (0.97, 0.95),
    FindingKind.PART_LEFT_ON: (0.88, 0.8),
    FindingKind.RANGE_GLITCH: (0.97, 0.95),
    FindingKind.SLEEP_NOT_ENTERED: (0.92, 0.85),
    FindingKind.TICK_RUNNING: (0.95, 0.85),
    FindingKind.TIMER_OVERRIDDEN: (0.95, 0.95),
    FindingKind.TIMERS_UNALIGNED: (0.95, 0.95),
    FindingKind.TOO_DEEP: (0.95, 0.88),
    FindingKind.TOO_SHALLOW: (0.95, 0.94),
    FindingKind.TRUNCATED: (0.95, 0.9),
    FindingKind.UNDERSAMPLED: (0.95, 0.85),
    FindingKind.WAKE_BURST: (0.95, 0.88),
}


def confidence(kind: FindingKind, *, is_sure: bool = True) -> float:
    """Return how sure a finding is.

    Parameters
    ----------
    kind
        What it is about.
    is_sure
        Whether the evidence is the usual one, or less.
    """
    return _SURE_AND_LIKELY[kind][0 if is_sure else 1]
