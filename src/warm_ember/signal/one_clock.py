"""Lines that carry two clocks, or one, laid onto one."""

from __future__ import annotations

import statistics
from collections.abc import Iterable

from warm_ember.model.capture import Event
from warm_ember.model.heard import Heard

JUST_BEFORE_S = 0.25
"""By how much a line may seem to come before a recording that had begun already."""


def events_of(heard: Iterable[Heard]) -> tuple[Event, ...]:
    """Return what was heard as the events of a recording.

    Parameters
    ----------
    heard
        In any order, from before the recording on.

    Returns
    -------
    tuple of Event
        In the order they were received. As soon as one line carries the target's time all are in the target's clock,
        and a line without one gets it from when it came, by the median difference of the two clocks; without any all
        are in the recording's. Of what came long before the recording only the last state counts: it holds at its
        start. What came just before is kept: a recording begins a little before anybody can know that it has.

    Examples
    --------
    >>> heard = (Heard(0.5, "state", "Count", 1000.0), Heard(3.5, "mark", "here"), Heard(5.5, "state", "Sleep", 1005.0))
    >>> [event.time_s for event in events_of(heard)]
    [1000.0, 1003.0, 1005.0]
    """
    lines = sorted(heard, key=lambda line: line.received_s)
    offsets = [line.target_s - line.received_s for line in lines if line.target_s is not None]
    offset_s = statistics.median_low(offsets) if offsets else 0.0
    found: list[Event] = []
    before: Event | None = None
    for line in lines:
        time_s = line.target_s if line.target_s is not None else line.received_s + offset_s
        event = Event(time_s, line.event, line.name)
        if line.received_s >= -JUST_BEFORE_S:
            found.append(event)
        elif event.event == "state":
            before = event
    return tuple(([before] if before is not None else []) + found)
