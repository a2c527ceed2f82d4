"""Which kind of timer is coded how. A new one is one module and one line here."""

from __future__ import annotations

from warm_ember.errors import BadArgumentError
from warm_ember.tuning.timers.coded import TimerCode
from warm_ember.tuning.timers.discontinuous import NARROW_CYCLE, NARROW_WINDOW, WIDE_CYCLE, WIDE_WINDOW
from warm_ember.tuning.timers.power_saving import ACTIVE_TIME, PERIODIC_UPDATE

KINDS: dict[str, TimerCode] = {
    "t3324": ACTIVE_TIME,
    "t3412": PERIODIC_UPDATE,
    "edrx-nb": NARROW_CYCLE,
    "edrx-wb": WIDE_CYCLE,
    "ptw-nb": NARROW_WINDOW,
    "ptw-wb": WIDE_WINDOW,
}


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
