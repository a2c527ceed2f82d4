"""The occurrences of an activity, measured one by one: the wakes by one source, or what is bracketed."""

from __future__ import annotations

import numpy as np

from warm_ember.attribution.limits import NO_LIMITS, MeasurementLimits
from warm_ember.attribution.load import Occurrences
from warm_ember.attribution.recording import Recording
from warm_ember.attribution.wakes import Wakes
from warm_ember.model.arrays import Indices
from warm_ember.model.figure import Bound
from warm_ember.model.placement import UNPLACED, UNPLACED_NAME, Placement
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import ShouldStop, never


def of_wakes(
    recording: Recording,
    placement: Placement,
    wakes: Wakes,
    source: str,
    *,
    limits: MeasurementLimits = NO_LIMITS,
    should_stop: ShouldStop = never,
) -> Occurrences | None:
    """Measure the wakes by one source, each up to the sleep after it; None when there is none.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    mine = wakes.by(source)
    if not mine.any():
        return None
    origin = f"{int(mine.sum())} × wake by {source}"
    return _measure(recording, placement, wakes.first[mine], wakes.last[mine], origin, limits, should_stop)


def of_stretch(
    recording: Recording,
    placement: Placement,
    first: int,
    last: int,
    *,
    limits: MeasurementLimits = NO_LIMITS,
    should_stop: ShouldStop = never,
) -> Occurrences | None:
    """Measure one bracketed stretch; None when it is empty.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    if last <= first:
        return None
    ends = np.array([[first], [last]], dtype=np.int64)
    return _measure(recording, placement, ends[0], ends[1], f"bracket on {recording.name}", limits, should_stop)


def _measure(
    recording: Recording,
    placement: Placement,
    first: Indices,
    last: Indices,
    origin: str,
    limits: MeasurementLimits,
    should_stop: ShouldStop,
) -> Occurrences:
    """Sum the current over stretches that do not overlap, each cut where a state ends."""
    current = recording.current
    edges = np.unique(np.concatenate((placement.edges, first, last)))
    edges = edges[(edges >= first[0]) & (edges <= last[-1])]
    sums = interval_sums(current, edges, should_stop=should_stop)
    owner = np.searchsorted(first, edges[:-1], side="right") - 1
    inside = edges[:-1] < last[owner]
    lasts_s = np.diff(edges) * current.interval_s
    # What was not measured of a piece is taken to be as the rest of it.
    charge_c = sums.mean * lasts_s
    state = placement.state[np.searchsorted(placement.edges, edges[:-1], side="right") - 1]
    times = len(first)
    parts = {}
    for number in np.unique(state[inside]).tolist():
        mine = inside & (state == number)
        name = UNPLACED_NAME if number == UNPLACED else placement.names[number]
        parts[name] = (float(charge_c[mine].sum()) / times, float(lasts_s[mine].sum()) / times)
    peaks = sums.high[inside]
    return Occurrences(
        charges_c=tuple(np.bincount(owner[inside], charge_c[inside], minlength=times).tolist()),
        durations_s=tuple(np.bincount(owner[inside], lasts_s[inside], minlength=times).tolist()),
        peak_a=float(np.nanmax(peaks)) if not np.isnan(peaks).all() else 0.0,
        parts=parts,
        here_s=current.samples * current.interval_s,
        origin=origin,
        bound=Bound.AT_LEAST if bool((limits.clips(edges) & inside).any()) else None,
    )
