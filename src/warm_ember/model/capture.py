"""What a capture is apart from its samples."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from typing import Any

import msgspec
import numpy as np

from warm_ember.errors import ParseError

AT_LEAST, AT_MOST = "at least", "at most"
"""Auxiliary channels of a joined capture: bounds of the samples that no instrument resolved."""


SHORTEST_S, LONGEST_S = 1e-12, 1e9
"""Between these lies every interval from one sample to the next that anybody means."""


class Event(msgspec.Struct, frozen=True):
    """One entry of the target's log, in the target's own clock.

    Parameters
    ----------
    time_s
        Time in the target's clock.
    event
        ``state``, ``wake``, ``sleep``, ``mark``, ``sync`` or ``log``.
    name
        What the event names: a state, a wake source, a sleep mode, a line, a text.
    value
        A further value as text; empty when there is none.
    """

    time_s: float
    event: str
    name: str = ""
    value: str = ""


class CaptureInfo(msgspec.Struct, frozen=True):
    """A capture's identity and conditions, as the file's attributes hold them.

    Parameters
    ----------
    sample_interval_s
        Length of one sample.
    start_utc
        Start as ISO 8601 text; empty when not known.
    first_time_s
        The source file's first time; capture time itself starts at 0.
    supply_v
        Supply voltage for energies when there is no voltage channel.
    resolution_a
        Smallest current that the instrument tells from zero; None when not known.
    corrections
        What was subtracted or scaled, and why, one sentence each.
    target, board, options
        Which device it was, and what the firmware was built with.
    indicators
        Whether its indicators were ``"on"`` or ``"off"``; empty when not known.
    attached
        What hung on the rail beside the target.
    checked
        What was looked at before: links unplugged, zero set.
    recipe
        The recipe that it was recorded with, as JSON text.
    reading_interval_s, aperture_s
        Of an instrument that is asked for each reading: how long it is from one to the next, and how long it looks for
        one; None where it samples all the time, or that is not known.
    """

    sample_interval_s: float
    start_utc: str = ""
    first_time_s: float = 0.0
    supply_v: float | None = None
    instrument: str = ""
    range: str = ""
    firmware: str = ""
    temperature_c: float | None = None
    note: str = ""
    resolution_a: float | None = None
    corrections: tuple[str, ...] = ()
    target: str = ""
    board: str = ""
    options: str = ""
    indicators: str = ""
    attached: tuple[str, ...] = ()
    checked: tuple[str, ...] = ()
    recipe: str = ""
    reading_interval_s: float | None = None
    aperture_s: float | None = None


def info_from(attributes: Mapping[str, Any]) -> CaptureInfo:
    """Return the capture's identity from the attributes of its file; unknown ones are left alone.

    Raises
    ------
    ParseError
        If one is not as expected.
    """
    known = {}
    for name in CaptureInfo.__struct_fields__:
        if name in attributes:
            value = attributes[name]
            known[name] = value.tolist() if isinstance(value, np.ndarray | np.generic) else value
    info: CaptureInfo = msgspec.convert(known, CaptureInfo, strict=False)
    if not SHORTEST_S <= info.sample_interval_s <= LONGEST_S:
        raise ParseError(
            f"sample_interval_s must be above 0, {SHORTEST_S:g} to {LONGEST_S:g}, found {info.sample_interval_s}"
        )
    return info


def events_from(table: Iterable[Mapping[str, Any]]) -> tuple[Event, ...]:
    """Return the target's log from the rows of its table.

    Raises
    ------
    ParseError
        If a time is no number.
    """
    events = tuple(
        Event(float(row["time_s"]), text_of(row["event"]), text_of(row["name"]), text_of(row["value"])) for row in table
    )
    for number, event in enumerate(events):
        if not math.isfinite(event.time_s):
            raise ParseError(f"row {number}: expected a time in seconds, found {event.time_s}")
    return events


def text_of(value: Any) -> str:
    """Return text that a file may hold as bytes."""
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
