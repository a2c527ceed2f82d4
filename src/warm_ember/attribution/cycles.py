"""Where the cycles of a capture begin: at wakes, states, line edges, thresholds, or by a period."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.clock import line_rises_s
from warm_ember.attribution.recording import Recording
from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.fold import AlignBy, FoldPlan
from warm_ember.model.placement import Placement
from warm_ember.signal.crossings import crossings, default_threshold
from warm_ember.signal.fold import Fold, fold, without_odd
from warm_ember.signal.fold_period import find_period, whole_cycles
from warm_ember.signal.series import ShouldStop, never
from warm_ember.signal.stretch import total
from warm_ember.units import counted

_LONGEST_S = 120.0
_MOST_CYCLES = 1_000_000
_REGULAR = 0.1
_AROUND = 6.0
_LEAST_ENTRIES, _LOOKED_AT = 5, 20
_BEFORE = 0.1


def wake_times_s(recording: Recording, placement: Placement, source: str = "") -> Floats:
    """Return when the target woke by its log, of one source when it is named.

    Returns
    -------
    Floats
        In capture time, s, in the order of the log, shape ``(n,)``; empty without a log. What lies outside the
        capture is left out.
    """
    alignment = placement.alignment
    times = [
        alignment.to_capture(event.time_s) if alignment is not None else event.time_s
        for event in recording.events
        if event.event == "wake" and source in ("", event.name)
    ]
    duration_s = recording.current.samples * recording.current.interval_s
    return np.array([time for time in times if 0 <= time < duration_s], dtype=np.float64)


def wake_sources(recording: Recording) -> tuple[str, ...]:
    """Return the wake sources of the log, in order of first appearance."""
    return tuple(dict.fromkeys(event.name for event in recording.events if event.event == "wake" and event.name))


def cycle_starts(
    recording: Recording, placement: Placement, plan: FoldPlan, *, should_stop: ShouldStop = never
) -> Indices:
    """Find where cycles begin.

    Parameters
    ----------
    recording, placement
        The capture and its states.
    plan
        What the cycles are aligned on.

    Returns
    -------
    Indices
        Sample indices, rising, at least one, shape ``(n,)``.

    Raises
    ------
    BadArgumentError
        If there is nothing of the kind in the capture.
    Cancelled
        If `should_stop` answered yes.
    """
    current = recording.current
    if plan.by is AlignBy.WAKE:
        starts = np.rint(wake_times_s(recording, placement, plan.what) / current.interval_s).astype(np.int64)
    elif plan.by is AlignBy.STATE:
        starts = placement.edges[:-1][placement.of(plan.what)]
        starts = starts[starts > 0]  # a state that holds from the start was not entered
    elif plan.by is AlignBy.LINE:
        starts = _line_starts(recording, plan)
    elif plan.by is AlignBy.THRESHOLD:
        duration_s = current.samples * current.interval_s
        threshold_a = plan.threshold_a
        if threshold_a is None:
            threshold_a = default_threshold(current, 0.0, duration_s)
        starts = crossings(current, threshold_a, rising=plan.rising, should_stop=should_stop)
    else:
        starts = _periodic_starts(recording, plan)
    if not len(starts):
        what = f" {plan.what!r}" if plan.what else ""
        raise BadArgumentError(f"there is no {plan.by.value}{what} in this capture to align cycles on")
    if len(starts) > _MOST_CYCLES:
        raise BadArgumentError(f"{counted(len(starts), 'cycle')} are more than {_MOST_CYCLES}: use a higher threshold")
    return np.asarray(starts, dtype=np.int64)


def _line_starts(recording: Recording, plan: FoldPlan) -> Indices:
    if recording.lines is None or plan.what not in recording.lines.names:
        raise BadArgumentError(f"there is no line {plan.what!r} in this capture")
    times = line_rises_s(recording.lines, plan.what, rising=plan.rising)
    return np.rint(times / recording.current.interval_s).astype(np.int64)


def _periodic_starts(recording: Recording, plan: FoldPlan) -> Indices:
    current = recording.current
    duration_s = current.samples * current.interval_s
    period_s = plan.period_s
    if period_s is None:
        found = find_period(current, 0.0, duration_s)
        if found is None:
            raise BadArgumentError("nothing in this capture repeats with a steady period: give the period")
        period_s = found.period_s
    if not period_s >= 2 * current.interval_s:
        raise BadArgumentError(f"a period of {period_s:g} s is shorter than two samples")
    if duration_s / period_s > _MOST_CYCLES:
        raise BadArgumentError(f"a period of {period_s:g} s gives more than {counted(_MOST_CYCLES, 'cycle')}")
    # The first cycle leaves room for what is shown before the alignment.
    starts_s = plan.before_s + np.arange(int(duration_s / period_s)) * period_s
    return np.asarray(np.rint(starts_s / current.interval_s), dtype=np.int64)


def cycle_length_s(starts: Indices, plan: FoldPlan, recording: Recording, placement: Placement) -> float:
    """Return the length of a cycle.

    The plan's, else for a state its median dwell and a third more, else the median time between starts; at most two
    minutes.

    Parameters
    ----------
    starts
        Where cycles begin, sample indices, rising, at least one, shape ``(n,)``.
    plan, recording, placement
        What they are aligned on, in what.
    """
    if plan.length_s is not None:
        return plan.length_s
    current = recording.current
    if plan.by is AlignBy.STATE:
        dwells = np.diff(placement.edges)[placement.of(plan.what)]
        length_s = plan.before_s + 4 / 3 * float(np.median(dwells)) * current.interval_s
    elif len(starts) > 1:
        length_s = float(np.median(np.diff(starts))) * current.interval_s
    else:
        length_s = (current.samples - int(starts[0])) * current.interval_s
    return max(min(length_s, _LONGEST_S), current.interval_s)


def fold_cycles(recording: Recording, placement: Placement, plan: FoldPlan, *, should_stop: ShouldStop = never) -> Fold:
    """Fold a capture as a plan says.

    Raises
    ------
    BadArgumentError
        If there are no cycles, or none lies within the capture.
    Cancelled
        If `should_stop` answered yes.
    """
    starts = cycle_starts(recording, placement, plan, should_stop=should_stop)
    length_s = cycle_length_s(starts, plan, recording, placement)
    folded = fold(recording.current, starts, before_s=plan.before_s, length_s=length_s, should_stop=should_stop)
    if not plan.leaves_out_odd:
        return folded
    return without_odd(recording.current, folded, before_s=plan.before_s, length_s=length_s, should_stop=should_stop)


def default_plan(recording: Recording, placement: Placement) -> FoldPlan:
    """Return what a fold shows first: the state that takes most charge each time, else wakes, else a threshold.

    Only states that were entered at least five times are repeating activities.
    """
    best: tuple[float, FoldPlan] | None = None
    for name in placement.names:
        entries = np.flatnonzero(placement.of(name))
        entries = entries[entries > 0]
        if len(entries) < _LEAST_ENTRIES:
            continue
        some = entries[:_LOOKED_AT]
        ends = placement.edges[some + 1]
        charge = sum(
            total(recording.current, int(a), int(b)).total for a, b in zip(placement.edges[some], ends, strict=True)
        )
        dwell_s = float(np.median(np.diff(placement.edges)[entries])) * recording.current.interval_s
        if best is None or charge / len(some) > best[0]:
            before_s = float(f"{_BEFORE * dwell_s:.1g}")
            best = (charge / len(some), FoldPlan(recording.name, AlignBy.STATE, name, before_s=before_s))
    if best is not None:
        return best[1]
    sources = wake_sources(recording)
    if sources:
        most = max(sources, key=lambda source: len(wake_times_s(recording, placement, source)))
        return FoldPlan(recording.name, AlignBy.WAKE, most)
    return FoldPlan(recording.name, AlignBy.THRESHOLD)


@dataclass(frozen=True, slots=True)
class WholeCycles:
    """A stretch of whole cycles, and what they were found by."""

    from_s: float
    to_s: float
    cycles: int
    found_by: str


def extend_to_whole_cycles(
    recording: Recording, placement: Placement, from_s: float, to_s: float
) -> WholeCycles | None:
    """Extend a stretch to whole cycles.

    Parameters
    ----------
    recording, placement
        The capture with its states.
    from_s, to_s
        The stretch.

    Returns
    -------
    WholeCycles or None
        From one regular wake, or entry of a state, to another; else by the period that autocorrelation finds in and
        around the stretch; None when nothing repeats.
    """
    duration_s = recording.current.samples * recording.current.interval_s
    trains = {f"wakes by {source}": wake_times_s(recording, placement, source) for source in wake_sources(recording)}
    entries: Floats = placement.edges[:-1].astype(np.float64) * recording.current.interval_s
    trains |= {f"entries of {name}": entries[placement.of(name)] for name in placement.names}
    fits = [fit for what, times in trains.items() if (fit := _by_train(times, from_s, to_s, what)) is not None]
    if fits:
        return min(fits, key=lambda fit: (fit.to_s - fit.from_s, -fit.cycles))
    reach = _AROUND * (to_s - from_s)
    found = find_period(recording.current, max(0.0, from_s - reach), min(duration_s, to_s + reach))
    if found is None:
        return None
    ends = whole_cycles(from_s, to_s, found.period_s, duration_s)
    if ends is None:
        return None
    return WholeCycles(*ends, round((ends[1] - ends[0]) / found.period_s), "the current's own period")


def _by_train(times: Floats, from_s: float, to_s: float, what: str) -> WholeCycles | None:
    """Extend to the times of one regular train that the stretch lies in."""
    gaps = np.diff(times)
    if len(gaps) < 2:
        return None
    period_s = float(np.median(gaps))
    if float(np.median(np.abs(gaps - period_s))) > _REGULAR * period_s or period_s > 3 * (to_s - from_s):
        return None
    slack = 0.02 * period_s
    first = int(np.searchsorted(times, from_s + slack, side="right")) - 1
    last = int(np.searchsorted(times, to_s - slack, side="left"))
    if first < 0 or last >= len(times) or last <= first:
        return None
    inside = np.diff(times[first : last + 1])
    if np.any(np.abs(inside - period_s) > 3 * _REGULAR * period_s):
        return None
    return WholeCycles(float(times[first]), float(times[last]), last - first, what)
