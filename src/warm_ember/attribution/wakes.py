"""Wakes as the log tells them: from each wake to the sleep after it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.belief import default_threshold_a
from warm_ember.attribution.recording import Recording
from warm_ember.model.arrays import Indices
from warm_ember.model.placement import Alignment, Placement
from warm_ember.signal.bands import band_stays
from warm_ember.signal.levels import Levels
from warm_ember.signal.series import ShouldStop, never

UNKNOWN = "unknown"
_HYSTERESIS = 0.2


@dataclass(frozen=True, eq=False)
class Wakes:
    """Wakes on the capture's time axis, in order; one begins where the one before it ends, or later.

    Parameters
    ----------
    source
        What woke the device, for each wake.
    first, last
        Sample indices of the wake and of the sleep after it, shape ``(wakes,)``.
    cut
        Stretches awake that the capture cuts off at its ends: they are neither wakes nor sleep.
    """

    source: tuple[str, ...]
    first: Indices
    last: Indices
    cut: tuple[tuple[int, int], ...] = ()


def no_wakes() -> Wakes:
    """Return no wakes."""
    nothing = np.zeros(0, dtype=np.int64)
    return Wakes((), nothing, nothing)


def find_wakes(
    recording: Recording,
    placement: Placement,
    levels: Callable[[], Levels] | None = None,
    *,
    should_stop: ShouldStop = never,
) -> Wakes:
    """Find the wakes that the log tells of, or, where it tells of none, those that the current shows.

    Parameters
    ----------
    recording
        The capture.
    placement
        Its states: the clock that lays the log on the capture, and, where the log does not say when the device goes
        back to sleep, the state before the wake, whose return ends it.
    levels
        Returns the levels of the current, asked only without wakes in the log; None leaves the current alone.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Returns
    -------
    Wakes
        A wake that the capture cuts off at its end is left out: it would look cheaper than it was.
    """
    current = recording.current
    alignment = placement.alignment or Alignment()
    samples = current.samples

    # A log that may lie on the capture in several ways tells nothing of when.
    events = () if alignment.is_ambiguous else recording.events

    def places(kind: str) -> tuple[Indices, list[str]]:
        told = [(alignment.to_capture(e.time_s), e.name) for e in events if e.event == kind]
        told = sorted((time_s, name) for time_s, name in told if 0 <= time_s < samples * current.interval_s)
        at = np.array([round(time_s / current.interval_s) for time_s, _ in told], dtype=np.int64)
        return np.minimum(at, samples - 1), [name or UNKNOWN for _, name in told]

    starts, names = places("wake")
    sleeps, _ = places("sleep")
    if not len(starts):
        return no_wakes() if levels is None else _in_current(recording, levels(), should_stop)
    following = np.append(starts[1:], samples + 1)
    if len(sleeps):
        asleep = np.append(sleeps, samples + 1)[np.searchsorted(sleeps, starts, side="right")]
    else:
        asleep = np.array([_back(placement, int(start)) or samples + 1 for start in starts], dtype=np.int64)
    ends = np.minimum(following, asleep)
    whole = (ends > starts) & (ends <= samples)
    kept = np.flatnonzero(whole)
    cut = [(0, int(sleeps[0]))] if len(sleeps) and 0 < sleeps[0] < starts[0] else []
    cut += [(int(starts[-1]), samples)] if ends[-1] > samples else []
    return Wakes(tuple(names[index] for index in kept), starts[kept], ends[kept], tuple(cut))


def _in_current(recording: Recording, levels: Levels, should_stop: ShouldStop) -> Wakes:
    """Take each stay clearly above sleep for a wake of no known cause."""
    threshold_a = default_threshold_a(levels)
    if threshold_a is None:
        return no_wakes()
    current = recording.current
    stays = band_stays(current, threshold_a, np.inf, hysteresis=_HYSTERESIS, should_stop=should_stop)
    # One that began before the capture, or outlasts it, would look cheaper than it was.
    is_whole = (stays[:, 0] > 0) & (stays[:, 1] < current.samples)
    whole, cut = stays[is_whole], tuple((first, last) for first, last in stays[~is_whole].tolist())
    return Wakes((UNKNOWN,) * len(whole), whole[:, 0], whole[:, 1], cut)


def _back(placement: Placement, start: int) -> int | None:
    """Return where the state that was left at a sample begins again."""
    edges = placement.edges
    # The event and the change it announces are rounded to a sample each, so the state may end just after it.
    before = max(int(np.searchsorted(edges, start - 1, side="right")) - 1, 0)
    again = np.flatnonzero(placement.state[before + 1 :] == placement.state[before])
    return int(edges[before + 1 + again[0]]) if len(again) else None
