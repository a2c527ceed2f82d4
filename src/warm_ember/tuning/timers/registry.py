"""Which kind of timer is coded how. A new one is one module and one line here."""

from __future__ import annotations

from warm_ember.errors import BadArgumentError
from warm_ember.tuning.timers.coded import EXACT, TimerCode
from warm_ember.tuning.timers.discontinuous import NARROW_CYCLE, NARROW_WINDOW, WIDE_CYCLE, WIDE_WINDOW
from warm_ember.tuning.timers.intervals import ALLOWED, ROUNDED, STANDARDS, TimerInterval
from warm_ember.tuning.timers.power_saving import ACTIVE_TIME, PERIODIC_UPDATE
from warm_ember.units import duration_text

ANY = "any"
"""A period that no standard limits."""

KINDS: dict[str, TimerCode] = {
    "t3324": ACTIVE_TIME,
    "t3412": PERIODIC_UPDATE,
    "edrx-nb": NARROW_CYCLE,
    "edrx-wb": WIDE_CYCLE,
    "ptw-nb": NARROW_WINDOW,
    "ptw-wb": WIDE_WINDOW,
}


def interval_at(kind: str, wanted_s: float, skipped: int = 0) -> TimerInterval:
    """Return an interval of a kind near a wanted one: of a standard, of a coded timer, or ``any``.

    Raises
    ------
    BadArgumentError
        If there is no such kind, or the timer cannot hold it.
    """
    if kind in STANDARDS:
        return STANDARDS[kind].at(wanted_s, skipped)
    if kind == ANY:
        if not wanted_s > 0:
            raise BadArgumentError(f"expected a time above 0, found {wanted_s:g} s")
        each_s = wanted_s * (1 + skipped)
        return TimerInterval(wanted_s, ALLOWED, each_s, each_s / 2, each_s, "")
    timer = timer_of(kind)
    coded = timer.encode(f"{wanted_s!r} s")
    seconds = coded.seconds or wanted_s
    times_s = sorted(one for one in timer.codes.values() if one is not None)
    limits = f"{duration_text(times_s[0])} to {duration_text(times_s[-1])}, as coded"
    state = ALLOWED if coded.state == EXACT else ROUNDED
    return TimerInterval(seconds, state, seconds, seconds / 2, seconds, limits)


def timer_of(kind: str) -> TimerCode:
    """Return how a kind of timer is coded.

    Raises
    ------
    BadArgumentError
        If there is no such kind.
    """
    if kind not in KINDS:
        raise BadArgumentError(f"there is no timer {kind!r}; there are: {', '.join(KINDS)} and at")
    return KINDS[kind]
