"""What the analysis thinks is wasted, or is wrong with the measurement."""

from __future__ import annotations

from enum import StrEnum

import msgspec

from warm_ember.model.plan import Effect

_CERTAIN, _VERY_LIKELY = 0.97, 0.9


class FindingKind(StrEnum):
    """What a finding is about."""

    TICK_RUNNING = "tick-running"
    SLEEP_NOT_ENTERED = "sleep-not-entered"
    FLOOR_ABOVE_EXPECTED = "floor-above-expected"
    PART_LEFT_ON = "part-left-on"
    AWAKE_TAIL = "awake-tail"
    WAKE_BURST = "wake-burst"
    TIMERS_UNALIGNED = "timers-unaligned"
    TOO_SHALLOW = "too-shallow"
    TOO_DEEP = "too-deep"
    TIMER_OVERRIDDEN = "timer-overridden"
    CLIPPED = "clipped"
    BELOW_RESOLUTION = "below-resolution"
    HUM = "hum"
    UNDERSAMPLED = "undersampled"
    RANGE_GLITCH = "range-glitch"
    TRUNCATED = "truncated"
    AMBIGUOUS_CLOCK = "ambiguous-clock"


def confidence_word(confidence: float) -> str:
    """Return how sure a finding is, in words.

    Examples
    --------
    >>> confidence_word(0.98), confidence_word(0.93), confidence_word(0.75)
    ('certain', 'very likely', 'likely')
    """
    return "certain" if confidence >= _CERTAIN else "very likely" if confidence >= _VERY_LIKELY else "likely"


class Finding(msgspec.Struct, frozen=True):
    """One finding.

    Parameters
    ----------
    kind
        What it is about.
    from_s, to_s
        Where the evidence lies in the capture.
    cost_a
        The average current that it costs; None for a fault of the measurement.
    confidence
        From 0 to 1.
    text
        The evidence in words, and what to do.
    remedy
        The change that would end it, as one would say it; empty where there is none to the device.
    effects
        What that change does to the run.
    """

    kind: FindingKind
    from_s: float
    to_s: float
    cost_a: float | None
    confidence: float
    text: str
    remedy: str = ""
    effects: tuple[Effect, ...] = ()
