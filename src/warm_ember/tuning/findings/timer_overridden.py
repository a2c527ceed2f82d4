"""Timer overridden: the network granted other timers than were asked for."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.placement import UNPLACED
from warm_ember.model.plan import Effect, LengthTo
from warm_ember.signal.stretch import total
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.waste import WasteContext
from warm_ember.tuning.timers.coded import TimerCode
from warm_ember.tuning.timers.power_saving import ACTIVE_TIME, PERIODIC_UPDATE
from warm_ember.tuning.timers.replies import decode_line, find_line
from warm_ember.units import duration_text

_ASKED = re.compile(r'(?:AT)?\+CPSMS\s*[=:]\s*1\s*,[^,]*,[^,]*,\s*"?([01]{8})?"?\s*,\s*"?([01]{8})?"?', re.IGNORECASE)
_CLOSE = 1e-6
_REMEDY = "Get the requested timers granted"


@dataclass(frozen=True)
class Timers:
    """Active time and periodic update; None where deactivated or not told."""

    active_s: float | None
    periodic_s: float | None


@dataclass(frozen=True)
class GrantedTimer:
    """What was granted, and what was asked for before it.

    Parameters
    ----------
    at_s
        When it was granted, in the capture.
    asked, granted
        The timers.
    """

    at_s: float
    asked: Timers
    granted: Timers

    @property
    def differ(self) -> bool:
        """Whether any timer was granted otherwise than asked for."""
        pairs = ((self.asked.active_s, self.granted.active_s), (self.asked.periodic_s, self.granted.periodic_s))
        return any(one is not None and other is not None and abs(one - other) > _CLOSE for one, other in pairs)


def asked_and_granted(waste: WasteContext) -> tuple[GrantedTimer, ...]:
    """Read what the log says was asked for and granted; nothing of a log that may lie in several ways."""
    if waste.alignment.is_unusable:
        return ()
    asked: Timers | None = None
    found = []
    for event in sorted(waste.recording.events, key=lambda one: one.time_s):
        if event.event != "log":
            continue
        request = _ASKED.search(event.name)
        if request is not None:
            asked = Timers(_seconds(ACTIVE_TIME, request[2]), _seconds(PERIODIC_UPDATE, request[1]))
            continue
        granted = _granted(event.name)
        if asked is not None and granted is not None:
            found.append(GrantedTimer(waste.alignment.to_capture(event.time_s), asked, granted))
    return tuple(found)


def timer_overridden(waste: WasteContext) -> list[Finding]:
    """Hold what the log says was granted against what it says was asked for.

    Notes
    -----
    An active time that is longer than asked for costs what flows above the floor between the two, after each grant.
    """
    current = waste.recording.current
    floor_a = waste.rest.floor_a if waste.rest is not None else waste.wakes.floor_a
    duration_s = current.samples * current.interval_s
    found: list[Finding] = []
    for one in asked_and_granted(waste):
        if not one.differ:
            continue
        asked, granted, at_s = one.asked, one.granted, one.at_s
        begin_s, end_s = (at_s + (value or 0.0) for value in (asked.active_s, granted.active_s))
        first, last = (int(min(max(edge, 0.0), duration_s) / current.interval_s) for edge in (begin_s, end_s))
        wasted_c = 0.0
        if last > first:
            sums = total(current, first, last)
            wasted_c = max(sums.total / max(sums.count, 1) - floor_a, 0.0) * (last - first) * current.interval_s
        until_s = min(max(end_s, at_s), duration_s)
        cost_a, words = wasted_c / duration_s, _words(asked, granted)
        effects = _effects(waste, begin_s, until_s, asked) if last > first else ()
        found.append(
            Finding(
                FindingKind.TIMER_OVERRIDDEN,
                max(at_s, 0.0),
                until_s,
                cost_a,
                confidence(FindingKind.TIMER_OVERRIDDEN),
                words,
                _REMEDY,
                effects,
            )
        )
    return found


def _effects(waste: WasteContext, from_s: float, to_s: float, asked: Timers) -> tuple[Effect, ...]:
    """Return that the state in which the modem stays on is left after the time that was asked for."""
    placement, interval_s = waste.placement, waste.recording.current.interval_s
    at = int(np.searchsorted(placement.edges, (from_s + to_s) / 2 / interval_s, side="right")) - 1
    number = int(placement.state[min(max(at, 0), len(placement.state) - 1)])
    if number == UNPLACED or asked.active_s is None:
        return ()
    return (LengthTo(placement.names[number], asked.active_s),)


def _seconds(timer: TimerCode, code: str | None) -> float | None:
    return timer.decode(code).seconds if code else None


def _granted(text: str) -> Timers | None:
    line = find_line(text)
    if not line.upper().startswith("+CEREG"):
        return None
    try:
        reply = decode_line(line)
    except BadArgumentError:
        return None
    if reply.active_s is None and reply.periodic_s is None:
        return None
    return Timers(reply.active_s, reply.periodic_s)


def _words(asked: Timers, granted: Timers) -> str:
    parts = []
    for name, one, other in (
        ("active time", asked.active_s, granted.active_s),
        ("periodic update", asked.periodic_s, granted.periodic_s),
    ):
        if one is not None and other is not None and abs(one - other) > _CLOSE:
            parts.append(f"{name}: {duration_text(one)} requested, {duration_text(other)} granted")
    remedy = "Ask the operator for other limits, or let the modem's release assistance end the active time"
    return f"{'; '.join(parts)}. {remedy}"
