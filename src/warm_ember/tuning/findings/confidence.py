"""How sure findings are: the share of them that was right.

Measured by ``scripts/accuracy_confidence.py`` on simulated devices with faults of their own, with and without a log,
cut short, and with a log of another device; docs/accuracy.md has the counts. Of kinds that were right each time, one
more that would have been wrong is reckoned with.
"""

from __future__ import annotations

from warm_ember.model.finding import Kind

_SURE_AND_LIKELY = {
    Kind.AMBIGUOUS_CLOCK: (0.98, 0.98),
    Kind.AWAKE_TAIL: (0.97, 0.9),
    Kind.BELOW_RESOLUTION: (0.93, 0.75),
    Kind.CLIPPED: (0.98, 0.95),
    Kind.FLOOR_ABOVE_EXPECTED: (0.96, 0.85),
    Kind.HUM: (0.97, 0.95),
    Kind.PART_LEFT_ON: (0.88, 0.8),
    Kind.RANGE_GLITCH: (0.97, 0.95),
    Kind.SLEEP_NOT_ENTERED: (0.92, 0.85),
    Kind.TICK_RUNNING: (0.95, 0.85),
    Kind.TIMER_OVERRIDDEN: (0.95, 0.95),
    Kind.TIMERS_UNALIGNED: (0.95, 0.95),
    Kind.TOO_DEEP: (0.95, 0.88),
    Kind.TOO_SHALLOW: (0.95, 0.94),
    Kind.TRUNCATED: (0.95, 0.9),
    Kind.UNDERSAMPLED: (0.95, 0.85),
    Kind.WAKE_BURST: (0.95, 0.88),
}


def confidence(kind: Kind, *, is_sure: bool = True) -> float:
    """Return how sure a finding is.

    Parameters
    ----------
    kind
        What it is about.
    is_sure
        Whether the evidence is the usual one, or less.
    """
    return _SURE_AND_LIKELY[kind][0 if is_sure else 1]
