"""Planning a capture: what to set so that what is looked for can be seen, and what cannot be seen all the same."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import msgspec
import numpy as np

from warm_ember.bench.description import InstrumentDescription
from warm_ember.errors import BadArgumentError
from warm_ember.store.capture_file import line_type
from warm_ember.units import counted, duration_text, percent_text, quantity_text

_SAMPLES_PER_EVENT = 10
_CYCLES = 3
_SUMMARY_SHARE = 1.06
_SMEARED = 1 / 3
_AVERAGED_S = 0.1
_NINETY, _WELL_KNOWN = 1.645, 0.05


class Expectation(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the engineer expects of the target and knows of the set-up.

    Parameters
    ----------
    shortest_s
        The shortest event that must be seen.
    cycle_s
        After which all repeats.
    floor_a, peak_a
        The lowest level and the highest peak.
    supply_v, least_v
        At the source, and what the target needs at its pins.
    shunt_ohm
        In series; None takes the instrument's.
    gain, full_v, step_v
        Of an amplifier behind the shunt, and the full scale and step of what reads it; without a shunt they do
        not count.
    capacitance_f
        On the board, behind the shunt.
    """

    shortest_s: float = 1e-3
    cycle_s: float = 1.0
    floor_a: float = 10e-6
    peak_a: float = 0.2
    supply_v: float = 3.0
    least_v: float = 2.7
    shunt_ohm: float | None = None
    gain: float = 1.0
    full_v: float = 5.0
    step_v: float = 1e-4
    capacitance_f: float = 10e-6


@dataclass(frozen=True)
class PlannedCapture:
    """What follows from an expectation.

    Parameters
    ----------
    interval_s, duration_s
        To set.
    range_a
        To set; None lets the instrument change ranges.
    range_words
        The range in words.
    samples, size_bytes
        Of the capture.
    burden_v
        Lost in the shunt at the peak, when it lasts.
    droop_v
        Lost at the board's capacitors during the shortest event, while the shunt refills them.
    time_constant_s
        Of shunt and capacitors: what is shorter is smeared, its charge is not.
    resolved_a
        The lowest level that is told from zero without setting a zero.
    unseen
        What cannot be seen with these settings, one sentence each.
    """

    interval_s: float
    duration_s: float
    range_a: float | None
    range_words: str
    samples: int
    size_bytes: int
    burden_v: float
    droop_v: float
    time_constant_s: float
    resolved_a: float | None
    unseen: tuple[str, ...]


@dataclass(frozen=True)
class _Reading:
    """How current is read: range to set, full scale, step or offset, shunt."""

    range_a: float | None
    words: str
    full_a: float | None
    resolved_a: float | None
    shunt_ohm: float


def plan_capture(wanted: Expectation, known: InstrumentDescription | None = None) -> PlannedCapture:
    """Choose interval, length and range.

    Parameters
    ----------
    wanted
        What is expected.
    known
        The instrument; None plans for one of which nothing is known.

    Raises
    ------
    BadArgumentError
        If an expectation is impossible.

    Examples
    --------
    >>> plan = plan_capture(Expectation(shortest_s=1e-3, cycle_s=2.0, peak_a=0.1, shunt_ohm=1.0))
    >>> plan.interval_s, plan.duration_s, round(plan.burden_v, 3)
    (0.0001, 6.0, 0.1)
    """
    _check(wanted)
    interval_s = nice_below(wanted.shortest_s / _SAMPLES_PER_EVENT)
    if known is not None and known.interval_s is not None:
        interval_s = min(max(interval_s, known.interval_s[0]), known.interval_s[1])
    if known is not None and known.mode != "sweep" and known.max_rate_hz is not None:
        interval_s = max(interval_s, 1 / known.max_rate_hz)
    duration_s = _CYCLES * wanted.cycle_s
    reading = _reading(wanted, known)
    samples = max(1, round(duration_s / interval_s))
    drop_v = wanted.peak_a * reading.shunt_ohm
    constant_s = reading.shunt_ohm * wanted.capacitance_f
    charged = 1 - math.exp(-wanted.shortest_s / constant_s) if constant_s else 1.0
    planned = PlannedCapture(
        interval_s=interval_s,
        duration_s=duration_s,
        range_a=reading.range_a,
        range_words=reading.words,
        samples=samples,
        size_bytes=round(samples * bytes_per_sample(known) * _SUMMARY_SHARE),
        burden_v=drop_v,
        droop_v=drop_v * charged,
        time_constant_s=constant_s,
        resolved_a=reading.resolved_a,
        unseen=(),
    )
    looks_always = known is None or known.mode == "sweep"
    seen = _unseen(wanted, planned, reading, looks_always=looks_always)
    return replace(planned, unseen=(*seen, *_between(wanted, planned, known)))


def bytes_per_sample(known: InstrumentDescription | None) -> int:
    """Return how much of a recording one sample takes; an instrument that nobody knows measures a voltage too."""
    if known is None:
        return 8
    lines = np.dtype(line_type(len(known.line_names))).itemsize if "lines" in known.sense else 0
    return 4 * (1 + ("voltage" in known.sense) + len(known.further)) + lines


def _check(wanted: Expectation) -> None:
    for name in ("shortest_s", "cycle_s", "floor_a", "peak_a", "supply_v", "gain", "full_v"):
        value = getattr(wanted, name)
        if not 0 < value < math.inf:
            raise BadArgumentError(f"{name.rsplit('_', 1)[0]} must be above 0, found {value:g}")
    if wanted.shunt_ohm is not None and not 0 <= wanted.shunt_ohm < math.inf:
        raise BadArgumentError(f"the shunt must be 0 Ω or above, found {wanted.shunt_ohm:g}")
    if not 0 <= wanted.capacitance_f < math.inf:
        raise BadArgumentError(f"the capacitance must be 0 F or above, found {wanted.capacitance_f:g}")
    if wanted.floor_a > wanted.peak_a:
        raise BadArgumentError("the floor is above the peak")
    if wanted.shortest_s > wanted.cycle_s:
        raise BadArgumentError("the shortest event is longer than the cycle")


def _reading(wanted: Expectation, known: InstrumentDescription | None) -> _Reading:
    if wanted.shunt_ohm:
        scale = wanted.gain * wanted.shunt_ohm
        full_a, step_a = wanted.full_v / scale, wanted.step_v / scale
        return _Reading(None, f"shunt, up to {quantity_text(full_a, 'A')}", full_a, step_a, wanted.shunt_ohm)
    burden = (known.burden_ohm if known is not None else None) or 0.0
    if known is None or not known.ranges:
        return _Reading(None, "as the instrument chooses", None, None, burden)
    fitting = [one for one in known.ranges if one.full_a >= wanted.peak_a]
    if fitting:
        one = fitting[0]
        if max(one.offset_a, one.step_a) <= wanted.floor_a / 3:
            resolved_a = max(one.offset_a, one.step_a)
            return _Reading(one.full_a, str(quantity_text(one.full_a, "A")), one.full_a, resolved_a, burden)
    lowest, top = known.ranges[0], known.ranges[-1]
    words = f"automatic, {quantity_text(lowest.full_a, 'A')} to {quantity_text(top.full_a, 'A')}"
    return _Reading(None, words, top.full_a, max(lowest.offset_a, lowest.step_a), burden)


def _unseen(wanted: Expectation, planned: PlannedCapture, reading: _Reading, *, looks_always: bool) -> tuple[str, ...]:
    found = []
    peak, floor = quantity_text(wanted.peak_a, "A"), quantity_text(wanted.floor_a, "A")
    if reading.full_a is not None and wanted.peak_a > reading.full_a:
        found.append(f"The {peak} peak is clipped: {quantity_text(reading.full_a, 'A')} is the most that is read.")
    if reading.resolved_a is not None and wanted.floor_a < 3 * reading.resolved_a:
        least = quantity_text(reading.resolved_a, "A")
        found.append(
            f"A floor of {floor} cannot be told from zero: {least} is the smallest resolvable current. Record a zero, "
            f"and average."
        )
    inside = wanted.shortest_s / planned.interval_s
    if inside < _SAMPLES_PER_EVENT * 0.99 and looks_always:
        found.append(f"An event of {duration_text(wanted.shortest_s)} lasts only {inside:.1f} sample intervals.")
    left_v = wanted.supply_v - planned.burden_v
    if left_v < wanted.least_v:
        found.append(
            f"At the peak {quantity_text(left_v, 'V')} are left of {quantity_text(wanted.supply_v, 'V')}: "
            f"the target, which needs {quantity_text(wanted.least_v, 'V')}, may reset. Take a smaller shunt."
        )
    if planned.time_constant_s > _SMEARED * wanted.shortest_s:
        constant = duration_text(planned.time_constant_s)
        found.append(
            f"Shunt and capacitors smear all that is shorter than {constant}: its charge is right, its peak not."
        )
    if reading.range_a is None and reading.full_a is not None and not wanted.shunt_ohm:
        found.append(
            "Right after a burst the range is still the upper one: the first milliseconds of sleep are coarse."
        )
    return tuple(found)


def _between(wanted: Expectation, planned: PlannedCapture, known: InstrumentDescription | None) -> tuple[str, ...]:
    """Return what is not seen between readings, or between sweeps."""
    if known is None:
        return ()
    if known.mode == "sweep":
        sweeps = math.ceil(planned.samples / known.max_points) if known.max_points else 1
        if sweeps < 2:
            return ()
        most, pauses = counted(known.max_points or 0, "sample"), counted(sweeps - 1, "time")
        return (f"It takes at most {most} at once: between two sweeps it looks away, {pauses} here.",)
    every, aperture_s = duration_text(planned.interval_s), known.aperture_s or 0.0
    caught = min((aperture_s + wanted.shortest_s) / planned.interval_s, 1.0)
    how = f", each over {duration_text(aperture_s)}" if aperture_s else ", of which it is not known how long each looks"
    if caught >= 1:
        return ()
    events = planned.duration_s / wanted.cycle_s
    error = _NINETY / math.sqrt(events * caught)
    needed_s = wanted.cycle_s * (_NINETY / _WELL_KNOWN) ** 2 / caught
    known_to = f"known to ±{percent_text(error)} after {duration_text(planned.duration_s)}"
    said = (
        f"A reading comes every {every}{how}: of the events of {duration_text(wanted.shortest_s)} it sees "
        f"{percent_text(caught)}, and what falls into step with the readings always or never. What the events take is "
        f"{known_to}, to ±{percent_text(_WELL_KNOWN)} after {duration_text(needed_s)}."
    )
    return (said,)


def nice_below(value: float) -> float:
    """Return the largest of 1, 2, 5 times a power of ten that is not above a value.

    Examples
    --------
    >>> nice_below(0.0037), nice_below(1e-4), nice_below(9.9)
    (0.002, 0.0001, 5.0)
    """
    exponent = math.floor(math.log10(value) + 1e-9)
    step = max(one for one in (1, 2, 5) if one <= value / 10.0**exponent * (1 + 1e-9))
    return float(f"{step}e{exponent}")
