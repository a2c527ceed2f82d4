"""Wakes as the log tells them: from each wake to the sleep after it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.recording import Recording
from warm_ember.model.arrays import Indices
from warm_ember.model.placement import Alignment, Placement

UNKNOWN = "unknown"


@dataclass(frozen=True, eq=False)
class Wakes:
    """Wakes on the capture's time axis, in order; one begins where the one before it ends, or later.

    Parameters
    ----------
    source
        What woke the device, for each wake.
    first, last
        Sample indices of the wake and of the sleep after it, shape ``(wakes,)``.
    """

    source: tuple[str, ...]
    first: Indices
    last: Indices


def no_wakes() -> Wakes:
    """Return no wakes."""
    nothing = np.zeros(0, dtype=np.int64)
    return Wakes((), nothing, nothing)


def find_wakes(recording: Recording, placement: Placement) -> Wakes:
    """Find the wakes that the log tells of.

    Parameters
    ----------
    recording
        The capture.
    placement
        Its states: the clock that lays the log on the capture, and, where the log does not say when the device goes
        back to sleep, the state before the wake, whose return ends it.

    Returns
    -------
    Wakes
        A wake that the capture cuts off at its end is left out: it would look cheaper than it was.
    """
    current = recording.current
    alignment = placement.alignment or Alignment()
    samples = current.samples

    def places(kind: str) -> tuple[Indices, list[str]]:
        told = [(alignment.to_capture(e.time_s), e.name) for e in recording.events if e.event == kind]
        told = sorted((time_s, name) for time_s, name in told if 0 <= time_s < samples * current.interval_s)
        at = np.array([round(time_s / current.interval_s) for time_s, _ in told], dtype=np.int64)
        return np.minimum(at, samples - 1), [name or UNKNOWN for _, name in told]

    starts, names = places("wake")
    sleeps, _ = places("sleep")
    if not len(starts):
        return no_wakes()
    following = np.append(starts[1:], samples + 1)
    if len(sleeps):
        asleep = np.append(sleeps, samples + 1)[np.searchsorted(sleeps, starts, side="right")]
    else:
        asleep = np.array([_back(placement, int(start)) or samples + 1 for start in starts], dtype=np.int64)
    ends = np.minimum(following, asleep)
    whole = (ends > starts) & (ends <= samples)
    kept = np.flatnonzero(whole)
    return Wakes(tuple(names[index] for index in kept), starts[kept], ends[kept])


def _back(placement: Placement, start: int) -> int | None:
    """Return where the state that was left at a sample begins again."""
    edges = placement.edges
    # The event and the change it announces are rounded to a sample each, so the state may end just after it.
    before = max(int(np.searchsorted(edges, start - 1, side="right")) - 1, 0)
    again = np.flatnonzero(placement.state[before + 1 :] == placement.state[before])
    return int(edges[before + 1 + again[0]]) if len(again) else None
