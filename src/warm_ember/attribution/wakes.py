"""Wakes: from each edge after sleep to the sleep after it, with what caused it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import IntEnum
from typing import Any, NamedTuple

import numpy as np

from warm_ember.attribution.cpu_wakes import CpuSpans, cpu_spans, cpus_of
from warm_ember.attribution.kinds import Kinds, find_kinds
from warm_ember.attribution.recording import Recording
from warm_ember.attribution.sleep_agreement import default_threshold_a
from warm_ember.attribution.unlogged import add_unlogged_wakes, charges
from warm_ember.attribution.wake_causes import by_lines, by_periods
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.capture import Event
from warm_ember.model.kinds import UNSORTED
from warm_ember.model.placement import Alignment, Placement
from warm_ember.model.wakes import WakeSource
from warm_ember.signal.bands import band_stays
from warm_ember.signal.levels import Levels
from warm_ember.signal.series import Series, ShouldStop, never
from warm_ember.signal.timer_periods import find_periods

UNKNOWN = "unknown"
_LOST = ""
_TELLS = ("state", "wake", "sleep")
_HYSTERESIS = 0.2
_ALIKE, _LOOKED_AT = 1.5, 200


class Cause(IntEnum):
    """What the cause of a wake is known from."""

    NOTHING = 0
    LOG = 1
    LINE = 2
    PERIOD = 3
    KIND = 4


@dataclass(frozen=True, eq=False)
class Wakes:
    """Wakes on the capture's time axis, in order; one begins where the one before it ends, or later.

    Parameters
    ----------
    names
        The sources.
    number
        What woke the device, as an index into the names, shape ``(wakes,)``.
    first, last
        Sample indices of the wake and of the sleep after it, shape ``(wakes,)``.
    cause
        What the source is known from, as `Cause`, shape ``(wakes,)``.
    cut
        Stretches awake that the capture cuts off at its ends: they are neither wakes nor sleep.
    by_cpu
        Where a kernel trace tells them: wakes may overlap then, each of one CPU. None for a device that wakes as one.
    states
        Where they were told by the current alone, the stretches between wakes that are no sleep, but states with a
        floor of their own; None for others.
    """

    names: tuple[str, ...]
    number: Indices
    first: Indices
    last: Indices
    cause: Indices
    cut: tuple[tuple[int, int], ...] = ()
    by_cpu: CpuSpans | None = None
    states: tuple[tuple[int, int], ...] | None = None

    @classmethod
    def of(
        cls,
        sources: Sequence[str],
        first: Indices,
        last: Indices,
        cut: tuple[tuple[int, int], ...] = (),
        cause: Indices | None = None,
    ) -> Wakes:
        """Make wakes of the name of each one's source.

        Parameters
        ----------
        sources
            Of `n` wakes.
        first, last
            First and last-plus-one samples, rising, shapes ``(n,)``.
        cut
            Wakes that the capture's ends cut off, and that are in no count.
        cause
            What tells of each, shape ``(n,)``; the log where it is not given and the source is known.
        """
        names = tuple(dict.fromkeys(sources))
        at = {name: index for index, name in enumerate(names)}
        number = np.array([at[source] for source in sources], dtype=np.int64)
        known = np.array(
            [Cause.NOTHING if source in (UNKNOWN, _LOST) else Cause.LOG for source in names], dtype=np.int64
        )
        return cls(names, number, first, last, known[number] if cause is None else cause, cut)

    @property
    def source(self) -> tuple[str, ...]:
        """The name of each wake's source."""
        return tuple(self.names[one] for one in self.number.tolist())

    @property
    def count(self) -> int:
        """How many there are."""
        return len(self.first)

    @property
    def cpus(self) -> tuple[int, ...]:
        """The CPUs that are told apart."""
        return tuple(np.unique(self.by_cpu.cpu).tolist()) if self.by_cpu is not None else ()

    def of_cpu(self, cpu: int) -> Wakes:
        """Return the wakes of one CPU, as the trace names them."""
        if self.by_cpu is None:
            return self
        spans, mine = self.by_cpu.only(cpu), self.by_cpu.cpu == cpu
        used, number = np.unique(self.number[mine], return_inverse=True)
        names = tuple(self.names[index] for index in used.tolist())
        return Wakes(names, number.astype(np.int64), spans.first, spans.last, self.cause[mine], self.cut, spans)

    def by(self, source: str) -> Flags:
        """Return which wakes are by a source, shape ``(wakes,)``."""
        if source not in self.names:
            return np.zeros(self.count, dtype=bool)
        return np.asarray(self.number == self.names.index(source))


def no_wakes() -> Wakes:
    """Return no wakes."""
    nothing = np.zeros(0, dtype=np.int64)
    return Wakes.of((), nothing, nothing)


def wakes_of_kinds(kinds: Kinds) -> Wakes:
    """Return the wakes that were sorted into kinds, each kind a source."""
    labels = {kind.number: kind.label for kind in kinds.kinds}
    whole = ~kinds.cut
    sources = [labels.get(number, UNSORTED) for number in kinds.kind[whole].tolist()]
    cut = tuple(zip(kinds.first[~whole].tolist(), kinds.last[~whole].tolist(), strict=True))
    cause = np.array([Cause.NOTHING if source == UNSORTED else Cause.KIND for source in sources], dtype=np.int64)
    states = tuple((stay.first, stay.last) for stay in kinds.stays)
    return replace(Wakes.of(sources, kinds.first[whole], kinds.last[whole], cut, cause), states=states)


def _of_no_cause(count: int) -> dict[str, Any]:
    """Return what says of wakes that nobody knows what caused them."""
    nothing = np.zeros(count, dtype=np.int64)
    return {"names": (UNKNOWN,) if count else (), "number": nothing, "cause": nothing + int(Cause.NOTHING)}


def find_wakes(
    recording: Recording,
    placement: Placement,
    levels: Callable[[], Levels] | None = None,
    kinds: Callable[[], Kinds] | None = None,
    *,
    should_stop: ShouldStop = never,
) -> Wakes:
    """Find the wakes that the log tells of and those that the current shows beside them, or, without a log, alone.

    Parameters
    ----------
    recording
        The capture.
    placement
        Its states: the clock that lays the log on the capture, and, where the log does not say when the device goes
        back to sleep, the state before the wake, whose return ends it.
    levels
        Returns the levels of the current, for what a log leaves out; None leaves the current alone.
    kinds
        Returns the wakes that the current alone tells, where no log tells any; they are found when it is None. They
        are the sources only where there is neither a log nor a line that could tell of causes.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Returns
    -------
    Wakes
        A wake that the capture cuts off at its end is left out: it would look cheaper than it was.

    Notes
    -----
    A wake that the log misses has the source of the line that had an edge just before it, else the source with whose
    period it fits and whose wakes take as much, where there is such a one.
    """
    current, alignment = recording.current, placement.alignment or Alignment()
    # A log that lies on the capture in several ways, or in none, tells nothing of when.
    events = () if alignment.is_unusable else recording.events
    by_cpu = cpus_of(events)
    if by_cpu:
        spans = cpu_spans(by_cpu, alignment.to_capture, current.interval_s, current.samples, UNKNOWN)
        return replace(Wakes.of(spans.source, spans.first, spans.last), by_cpu=spans)
    wakes, sleeps = (_told(current, alignment, events, kind) for kind in ("wake", "sleep"))

    def find_stays() -> Indices:
        threshold_a = default_threshold_a(levels()) if levels is not None else None
        if threshold_a is None:
            return np.zeros((0, 2), dtype=np.int64)
        return band_stays(current, threshold_a, np.inf, hysteresis=_HYSTERESIS, should_stop=should_stop)

    if not len(wakes.at):
        found = wakes_of_kinds(kinds() if kinds is not None else find_kinds(current, should_stop=should_stop))
        if recording.lines is not None or any(event.event in _TELLS for event in recording.events):
            found = replace(found, **_of_no_cause(found.count))
    elif len(sleeps.at):
        found = _from_log(current, wakes, sleeps, find_stays, should_stop)
    else:
        found = _until_back(placement, wakes, current.samples)
    return _caused(recording, found, should_stop)


class _Told(NamedTuple):
    """What the log tells of one kind of event: samples and times in capture time, rising, and names."""

    at: Indices
    times_s: Floats
    names: list[str]


def _told(current: Series, alignment: Alignment, events: Sequence[Event], kind: str) -> _Told:
    told = [(alignment.to_capture(e.time_s), e.name) for e in events if e.event == kind]
    told = sorted((time_s, name) for time_s, name in told if 0 <= time_s < current.samples * current.interval_s)
    times_s = np.array([time_s for time_s, _ in told])
    at = np.minimum(np.rint(times_s / current.interval_s).astype(np.int64), current.samples - 1)
    return _Told(at, times_s, [name or UNKNOWN for _, name in told])


def _from_log(
    current: Series, wakes: _Told, sleeps: _Told, find_stays: Callable[[], Indices], should_stop: ShouldStop
) -> Wakes:
    """Take the wakes that end when the log tells of sleep, and those whose lines it lost."""
    # A wake that is shorter than a sample still is one.
    before = np.searchsorted(wakes.times_s, sleeps.times_s, side="right") - 1
    asleep = np.where(before >= 0, np.maximum(sleeps.at, wakes.at[np.maximum(before, 0)] + 1), sleeps.at)
    spotted = add_unlogged_wakes(current, wakes.at, wakes.names, asleep, find_stays, _LOST, should_stop=should_stop)
    kept = spotted.last <= current.samples
    cut = [(0, int(asleep[0]))] if 0 < asleep[0] < spotted.first[0] else []
    cut += [(int(one), current.samples) for one in spotted.first[~kept]]
    names = [name for name, one in zip(spotted.sources, kept.tolist(), strict=True) if one]
    return Wakes.of(names, spotted.first[kept], spotted.last[kept], tuple(cut))


def _until_back(placement: Placement, wakes: _Told, samples: int) -> Wakes:
    """Take the wakes of a log that does not tell of sleep: each ends when the state before it comes back."""
    starts = wakes.at
    ends = np.array([_back(placement, int(start)) or samples + 1 for start in starts], dtype=np.int64)
    later = np.append(starts, samples + 1)[np.searchsorted(starts, starts, side="right")]
    ends = np.minimum(later, ends)
    kept = (ends > starts) & (ends <= samples)
    cut = [(int(starts[-1]), samples)] if ends[-1] > samples else []
    names = [name for name, one in zip(wakes.names, kept.tolist(), strict=True) if one]
    return Wakes.of(names, starts[kept], ends[kept], tuple(cut))


def _caused(recording: Recording, wakes: Wakes, should_stop: ShouldStop) -> Wakes:
    """Give wakes of no known cause the source that a line tells, and those that the log lost the one of their period.

    A wake that the log tells of without a name is by something that even the firmware does not know.
    """
    open_at = np.flatnonzero(wakes.by(UNKNOWN) | wakes.by(_LOST))
    if not len(open_at):
        return wakes
    sources, cause = list(wakes.source), wakes.cause.copy()
    if recording.lines is not None:
        told = by_lines(recording.lines, wakes.first, wakes.last, open_at)
        for at, name in zip(open_at.tolist(), told, strict=True):
            if name:
                sources[at], cause[at] = name, Cause.LINE
    lost_at = np.array([at for at in open_at.tolist() if sources[at] == _LOST], dtype=np.int64)
    if len(lost_at):
        fits = by_periods(recording.current.interval_s, wakes.first, np.array(sources), lost_at, UNKNOWN)
        usual = _usual_charges(recording, wakes, set(fits) - {""}, should_stop)
        charges_c, _ = charges(recording.current, wakes.first[lost_at], wakes.last[lost_at], should_stop)
        for at, name, charge_c in zip(lost_at.tolist(), fits, charges_c.tolist(), strict=True):
            is_alike = bool(name) and usual[name][0] / _ALIKE <= charge_c <= usual[name][1] * _ALIKE
            sources[at], cause[at] = (name, Cause.PERIOD) if is_alike else (UNKNOWN, Cause.NOTHING)
    return replace(Wakes.of(sources, wakes.first, wakes.last, wakes.cut, cause), states=wakes.states)


def _usual_charges(
    recording: Recording, wakes: Wakes, names: set[str], should_stop: ShouldStop
) -> dict[str, tuple[float, float]]:
    """Return between what the charges of most wakes by some sources lie."""
    found = {}
    for name in names:
        mine = np.flatnonzero(wakes.by(name))[:_LOOKED_AT]
        first, last = wakes.first[mine], np.minimum(wakes.last[mine], recording.current.samples)
        charges_c, _ = charges(recording.current, first, last, should_stop)
        low_c, high_c = np.nanquantile(charges_c, (0.05, 0.95))
        found[name] = (float(low_c), float(high_c))
    return found


def arranged(wakes: Wakes, sources: tuple[WakeSource, ...], placement: Placement, interval_s: float) -> Wakes:
    """Name, join and part sources as the project says; what it does not speak of stays as it is.

    Parameters
    ----------
    wakes, placement
        The wakes and the states of a capture.
    sources
        The project's; a part of a source goes before all of it.
    interval_s
        Sample interval.
    """
    if not any(source.takes != (source.name,) or not source.is_all for source in sources):
        return wakes
    names = list(wakes.names)
    number, is_open = wakes.number.copy(), np.ones(wakes.count, dtype=bool)
    for source in sorted(sources, key=lambda one: one.is_all):
        mine = is_open & np.isin(wakes.number, [wakes.names.index(name) for name in source.takes if name in names])
        if source.ran:
            mine &= _ran(wakes, placement, source.ran)
        if source.period_s:
            mine &= _with_period(wakes, mine, source.period_s, interval_s)
        if source.name not in names:
            names.append(source.name)
        number[mine], is_open[mine] = names.index(source.name), False
    used = np.unique(number)
    return replace(wakes, names=tuple(names[one] for one in used), number=np.searchsorted(used, number))


def _ran(wakes: Wakes, placement: Placement, state: str) -> Flags:
    """Return in which wakes a state ran."""
    if state not in placement.names:
        return np.zeros(wakes.count, dtype=bool)
    mine = placement.state == placement.names.index(state)
    until = np.concatenate(([0], np.cumsum(mine)))
    # The log's word and the change it announces are rounded to a sample each.
    begin = np.searchsorted(placement.edges, wakes.first + 1, side="right") - 1
    end = np.searchsorted(placement.edges, wakes.last - 1, side="left")
    return np.asarray(until[np.maximum(end, begin + 1)] > until[begin])


def _with_period(wakes: Wakes, mine: Flags, period_s: float, interval_s: float) -> Flags:
    """Return which of some wakes come with a period."""
    at = np.flatnonzero(mine)
    chosen = np.zeros(wakes.count, dtype=bool)
    times_s = wakes.first[at].astype(np.float64) * interval_s
    for period in find_periods(times_s):
        if abs(period.period_s / period_s - 1) < 0.02:
            chosen[at[period.members]] = True
    return chosen


def _back(placement: Placement, start: int) -> int | None:
    """Return where the state that was left at a sample begins again."""
    edges = placement.edges
    # The event and the change it announces are rounded to a sample each, so the state may end just after it.
    before = max(int(np.searchsorted(edges, start - 1, side="right")) - 1, 0)
    again = np.flatnonzero(placement.state[before + 1 :] == placement.state[before])
    return int(edges[before + 1 + again[0]]) if len(again) else None
