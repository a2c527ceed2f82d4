"""The plan of wakes, proven or refuted link by link: source, domain, oscillator, pin, interrupt, wiring, re-arming."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from warm_ember.model.wake_plan import ModePower, Pull, RestLevel, WakeOn, WakePath, WakePlan
from warm_ember.units import DAY_S, counted, duration_text


@dataclass(frozen=True)
class PathVerdict:
    """Whether a source can wake the device from a mode.

    Parameters
    ----------
    source, mode
        Which.
    works
        Whether every link holds.
    at_once
        Whether it wakes as soon as the device sleeps.
    words
        The broken link, or within what time the device answers.
    reacts_s
        Worst reaction time; None where it cannot wake, or where no latency is known.
    """

    source: str
    mode: str
    works: bool
    at_once: bool
    words: str
    reacts_s: float | None


@dataclass(frozen=True)
class PlanCheck:
    """A plan, proven or refuted.

    Parameters
    ----------
    verdicts
        Of each source in each mode.
    conflicts
        What is wrong with it, a sentence each.
    notes
        What should be known of it, a sentence each.
    window_a
        What the window for reprogramming adds to the average current.
    """

    verdicts: tuple[PathVerdict, ...]
    conflicts: tuple[str, ...]
    notes: tuple[str, ...]
    window_a: float

    def of(self, source: str, mode: str) -> PathVerdict | None:
        """Return the verdict on a source in a mode."""
        return next((one for one in self.verdicts if (one.source, one.mode) == (source, mode)), None)


def check_plan(plan: WakePlan, latency_s: Mapping[str, float]) -> PlanCheck:
    """Follow each source's way to the core through each mode.

    Parameters
    ----------
    plan
        The plan.
    latency_s
        Of the modes whose latency is known.
    """
    verdicts = tuple(_follow(path, mode, latency_s.get(mode.mode)) for mode in plan.modes for path in plan.paths)
    conflicts = [*_of_modes(plan, verdicts), *_of_pins(plan)]
    notes = [
        f"A wake by {path.source} is a reset{f': it loses {path.loses}' if path.loses else ''}."
        for path in plan.paths
        if path.is_reset
    ]
    return PlanCheck(
        verdicts, tuple(conflicts), tuple(notes), plan.window_s * plan.window_a * plan.boots_per_day / DAY_S
    )


def _follow(path: WakePath, mode: ModePower, latency_s: float | None) -> PathVerdict:
    broken, at_once = _broken(path, mode), _wakes_at_once(path)
    reacts_s = None
    if broken:
        words = broken
    elif at_once:
        words = f"wakes at once: {path.pin} rests {_level(path)}, which it wakes on"
    elif latency_s is None:
        words = "wakes it"
    else:
        reacts_s = latency_s + path.reacts_s
        words = f"within {duration_text(reacts_s)}"
    return PathVerdict(path.source, mode.mode, not broken and not at_once, not broken and at_once, words, reacts_s)


def _broken(path: WakePath, mode: ModePower) -> str:
    """Return the first link that does not hold; empty when all do."""
    if path.domain and path.domain not in mode.domains:
        return f"{path.domain} is off"
    if path.oscillator and path.oscillator not in mode.oscillators:
        return f"{path.oscillator} stands still"
    if path.pin and _level(path) is None:
        return f"{path.pin} floats"
    if not path.enabled:
        return "its interrupt is masked"
    if not path.wired:
        return "it is not wired"
    return "" if path.rearmed else "wakes once: it is not armed again"


def _level(path: WakePath) -> str | None:
    """Return the level of a path's pin at rest; None when it floats."""
    if path.rest is not RestLevel.NOBODY:
        return path.rest.value
    return {Pull.UP: "high", Pull.DOWN: "low"}.get(path.pull)


def _wakes_at_once(path: WakePath) -> bool:
    return bool(path.pin) and path.trigger in (WakeOn.HIGH, WakeOn.LOW) and _level(path) == path.trigger.value


def _of_modes(plan: WakePlan, verdicts: tuple[PathVerdict, ...]) -> list[str]:
    """Return what is wrong with modes, and with sources that wake from none."""
    found = []
    for mode in plan.modes:
        mine = [one for one in verdicts if one.mode == mode.mode]
        if not any(one.works or one.at_once for one in mine):
            found.append(f"Nothing can wake the device from {mode.mode}.")
        found += [f"From {mode.mode} {one.source} {one.words}." for one in mine if one.at_once]
    for path in plan.paths:
        mine = [one for one in verdicts if one.source == path.source]
        if mine and not any(one.works or one.at_once for one in mine):
            found.append(f"{path.source} cannot wake the device from any mode: {mine[0].words}.")
    attaches = any(mode.probe_attaches for mode in plan.modes) or plan.window_s > 0
    if plan.modes and not attaches:
        found.append("No way is left to reprogram: a probe attaches in no mode, and there is no window after a boot.")
    return found


def _of_pins(plan: WakePlan) -> list[str]:
    """Return what is wrong with pins."""
    found = [
        f"{path.pin} of {path.source} floats: it is not driven, and no pull-up or pull-down holds it."
        for path in plan.paths
        if path.pin and _level(path) is None
    ]
    for path in plan.paths:
        against = (path.rest, path.pull) in ((RestLevel.LOW, Pull.UP), (RestLevel.HIGH, Pull.DOWN))
        if path.pin and against:
            found.append(
                f"The pull {path.pull} of {path.pin} works against what drives it {path.rest}: it leaks in sleep."
            )
        turned = {WakeOn.RISING: "high", WakeOn.FALLING: "low"}.get(path.trigger)
        if path.pin and turned is not None and turned == _level(path):
            found.append(
                f"{path.source} wakes the device only at the end of its pulse: {path.pin} rests {turned}, and the "
                f"{path.trigger} edge is used."
            )
    if plan.together and not plan.can_join:
        pins = " and ".join(plan.together)
        found.append(f"{pins} shall wake it together, but the chip wakes on any one of its pins.")
    return found


def refusals(events: Mapping[str, int]) -> str:
    """Return how often sleep was refused and by what; empty when it never was.

    Examples
    --------
    >>> refusals({"radio": 3, "flash": 1})
    'Sleep was refused 4 times: 3 by radio, 1 by flash.'
    """
    if not events:
        return ""
    ordered = sorted(events.items(), key=lambda one: -one[1])
    return (
        f"Sleep was refused {counted(sum(events.values()), 'time')}: "
        + ", ".join(f"{n} by {who}" for who, n in ordered)
        + "."
    )
