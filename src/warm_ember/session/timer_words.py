"""What the public standards say of timers: ways to write a time, limits, and what a period would take, in words."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.tuning.timers.coded import EXACT
from warm_ember.tuning.timers.intervals import ALLOWED, STANDARDS
from warm_ember.tuning.timers.period_model import PeriodModel
from warm_ember.tuning.timers.registry import ANY, KINDS, interval_at, timer_of
from warm_ember.units import count_text, duration_text, quantity_text

CODED_TIMERS = tuple(KINDS)
PERIOD_STANDARDS = (ANY, *STANDARDS, *KINDS)


@dataclass(frozen=True)
class TimerLimits:
    """What a standard allows of one timer: its ends and step, s (None where any is allowed), and where it says so."""

    timer: str
    shortest_s: float
    longest_s: float
    step_s: float | None
    times: int | None
    clause: str


@dataclass(frozen=True)
class TriedPeriod:
    """What another period would mean, in words, and how far apart the wakes would be."""

    words: str
    wakes_every_s: float


def timer_limits() -> tuple[TimerLimits, ...]:
    """Return the limits of every timer."""
    found = [
        TimerLimits(name, one.low_s, one.high_s, one.step_s or None, None, one.clause.split(":")[0])
        for name, one in STANDARDS.items()
    ]
    for name, timer in KINDS.items():
        times_s = sorted({value for value in timer.codes.values() if value})
        clause = "3GPP TS 24.008, 10.5.5.32" if "-" in name else "3GPP TS 24.008, 10.5.7"
        others = next(iter(timer.read_as.values()), "")
        clause += f"; other codes read as {others}" if others and "-" in name else ""
        found.append(TimerLimits(name, times_s[0], times_s[-1], None, len(times_s), clause))
    return tuple(found)


def ways_to_write(kind: str, time: str) -> tuple[str, ...]:
    """Return all codes of a time, or of the nearest one, and the next shorter and longer times.

    Raises
    ------
    BadArgumentError
        If the time cannot be read, or the timer cannot hold it.
    """
    timer = timer_of(kind)
    value = timer.encode(time)
    if value.seconds is None:
        return (f"{value.octet}: deactivated",)
    how = "exact" if value.state == EXACT else f"not exact, the nearest is {duration_text(value.seconds)}"
    lines = [f"{time.strip()}: {how}"]
    lines += [f"    {code}{'  finest step' if code == value.octet else ''}" for code in timer.ways(value.seconds)]
    others = sorted({one for one in timer.codes.values() if one is not None and one != value.seconds})
    shorter = [one for one in others if one < value.seconds][-1:]
    longer = [one for one in others if one > value.seconds][:1]
    for words, near in (("next shorter", shorter), ("next longer", longer)):
        lines += [f"{words}: {duration_text(one)}, {timer.ways(one)[0]}" for one in near]
    return tuple(lines)


def try_period(model: PeriodModel, standard: str, asked_s: float, skipped: int) -> TriedPeriod:
    """Return what another period would take and how soon the device would answer.

    Parameters
    ----------
    model
        What has the period.
    standard
        One of `PERIOD_STANDARDS`.
    asked_s
        The period that is tried.
    skipped
        How many events are skipped before one is attended to.

    Raises
    ------
    BadArgumentError
        If the standard does not allow it.
    """
    found = interval_at(standard, asked_s, skipped)
    now, then = (quantity_text(model.mean_a(one), "A") for one in (model.period_s, found.wakes_each_s))
    where = f"in {model.name}" if model.in_state else "of the capture"
    what = f"Pulses in {model.name}" if model.in_state else model.name
    used = "" if found.state == ALLOWED else f" {found.state.capitalize()}: {duration_text(found.seconds)} is used."
    limits = f" The standard allows {found.limits}." if found.limits else ""
    words = (
        f"{what}: every {duration_text(model.period_s)}, {quantity_text(model.charge_c, 'C')} each "
        f"({count_text(model.times)} measured). With {duration_text(found.wakes_each_s)} the average {where} goes from "
        f"{now} to {then}. Response time: {duration_text(found.worst_s)} worst case, "
        f"{duration_text(found.reacts_s)} on average.{used}{limits}"
    )
    return TriedPeriod(words, found.wakes_each_s)
