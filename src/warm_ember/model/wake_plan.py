"""What has to stay on for a source to wake the device, as the project says it."""

from __future__ import annotations

from enum import StrEnum

import msgspec


class WakeOn(StrEnum):
    """What a pin wakes on."""

    RISING = "rising"
    FALLING = "falling"
    CHANGE = "change"
    HIGH = "high"
    LOW = "low"


class RestLevel(StrEnum):
    """What drives a pin while nothing happens."""

    HIGH = "high"
    LOW = "low"
    NOBODY = "nobody"


class Pull(StrEnum):
    """The pull resistor of a pin in sleep."""

    NONE = "none"
    UP = "up"
    DOWN = "down"


class WakePath(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The way of one source to the core.

    Parameters
    ----------
    source
        Its name.
    domain, oscillator
        What must be powered and what must run; empty for nothing.
    pin, trigger, rest, pull
        The pin that it comes in by, what that wakes on, what drives it at rest, and its pull; no pin when empty.
    enabled, wired, rearmed
        Whether the interrupt is let through, the line is connected, and the firmware arms it again after a wake.
    is_reset, loses
        Whether the wake is a reset, and what that loses.
    reacts_s
        Its own reaction time, such as a filter's or a timer's period.
    """

    source: str
    domain: str = ""
    oscillator: str = ""
    pin: str = ""
    trigger: WakeOn = WakeOn.RISING
    rest: RestLevel = RestLevel.LOW
    pull: Pull = Pull.NONE
    enabled: bool = True
    wired: bool = True
    rearmed: bool = True
    is_reset: bool = False
    loses: str = ""
    reacts_s: float = 0.0


class ModePower(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What stays powered and what runs in a sleep mode, and whether a debug probe can attach."""

    mode: str
    domains: tuple[str, ...] = ()
    oscillators: tuple[str, ...] = ()
    probe_attaches: bool = False


class WakePlan(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How the device is to be woken.

    Parameters
    ----------
    paths, modes
        The sources' ways, and what the modes leave on.
    together
        Pins of which all have to be active at once to wake the device; empty for none.
    can_join
        Whether the chip can wake on several pins together; any of several it always can.
    window_s, window_a, boots_per_day
        How long after a boot a debug probe can attach, what the device draws then, and how often it boots.
    """

    paths: tuple[WakePath, ...] = ()
    modes: tuple[ModePower, ...] = ()
    together: tuple[str, ...] = ()
    can_join: bool = False
    window_s: float = 0.0
    window_a: float = 0.0
    boots_per_day: float = 0.0
