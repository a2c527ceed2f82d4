"""Where the device should be at rest, by its own word, and what flows there piece by piece."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from warm_ember.attribution.ledger import Ledger
from warm_ember.attribution.recording import Recording
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.placement import UNPLACED, Placement
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import Series, ShouldStop, never

_SLEEPS = re.compile(r"sleep|hibernat|standby|stand-by|stop|dormant|power.?down", re.IGNORECASE)
_BLOCK_S = 0.02
_SETTLING_S, _SETTLING_SHARE = 3e-3, 0.1
_LEAST_SAMPLES, _MOST_BLOCKS = 4, 20_000
_LOW = 0.05
_TOLD = ("event", "digital lines", "line")


@dataclass(frozen=True, eq=False)
class Rest:
    """Stretches in which the device should be at rest.

    Parameters
    ----------
    state
        The state that they are in for the longest, and the name of their sleep mode, where known; else empty.
    first, last
        Samples, rising, shape ``(stretches,)``.
    told
        Whether the firmware itself says that it sleeps there, or names a state of sleep.
    current
        What they lie in.
    should_stop
        Polled on long passes.
    """

    state: str
    mode: str
    first: Indices
    last: Indices
    told: bool
    current: Series
    should_stop: ShouldStop = never

    @property
    def time_s(self) -> float:
        """All of it together."""
        return float((self.last - self.first).sum()) * self.current.interval_s

    @cached_property
    def blocks(self) -> Blocks:
        """The stretches cut into equal blocks, shape ``(blocks,)``, without the settling at their beginnings."""
        return _cut(self)

    @cached_property
    def floor_a(self) -> float:
        """What flows when least does: the mean of the lowest blocks, below which noise alone reaches; 0 for no rest."""
        mean_a = self.blocks.mean_a
        if not len(mean_a):
            return 0.0
        low = np.sort(mean_a)
        # A device that rests as it should spends most blocks at one level; a fault may leave it only a few.
        anchor = float(low[int(_LOW * (len(low) - 1))])
        near = low[np.abs(low - anchor) <= max(0.1 * abs(anchor), 3 * self.blocks.noise_a)]
        return float(np.median(near))


@dataclass(frozen=True, eq=False)
class Blocks:
    """Equal pieces of rest.

    Parameters
    ----------
    first, last
        Samples, shape ``(blocks,)``.
    stretch
        Which stretch each is of, shape ``(blocks,)``.
    mean_a
        What flows in each, shape ``(blocks,)``.
    noise_a
        By how much neighbours differ that should not, root mean square.
    """

    first: Indices
    last: Indices
    stretch: Indices
    mean_a: Floats
    noise_a: float


def rest_of(
    recording: Recording,
    placement: Placement,
    ledger: Ledger,
    wakes: WakeLedger,
    *,
    should_stop: ShouldStop = never,
) -> Rest | None:
    """Find where a device should be at rest: asleep by its log, else in a state of sleep, else between the wakes.

    Parameters
    ----------
    recording, placement, ledger, wakes
        A capture, its states and its wakes.

    Returns
    -------
    Rest or None
        None when it never rests.
    """
    events = {event.event for event in recording.events}
    by_state = any(how.startswith(_TOLD) for how in placement.how)
    if {"sleep", "wake"} <= events and not (placement.alignment is not None and placement.alignment.is_unusable):
        return _by_log(recording, placement, wakes, by_state, should_stop)
    named = [row for row in ledger.rows if _SLEEPS.search(row.name)]
    rows = named or (list(ledger.rows) if by_state else [])
    rows = [row for row in rows if row.mean.value is not None]
    if rows:
        # The longest of the states of sleep; where none is called so, the lowest.
        chosen = max(rows, key=lambda row: row.dwell_s) if named else min(rows, key=lambda row: row.mean.value or 0.0)
        mine = np.flatnonzero(placement.state == placement.names.index(chosen.name))
        first, last = placement.edges[mine], placement.edges[mine + 1]
        return Rest(chosen.name, "", first, last, bool(named), recording.current, should_stop)
    depth = wakes.depth.stretches
    if not len(depth.first):
        return None
    # What lasts longer than any wake is a state: nobody says that the device should sleep there.
    asleep = ~depth.in_stay
    first = depth.first[asleep]
    last = first + np.rint(depth.lasts_s[asleep] / wakes.interval_s).astype(np.int64)
    return Rest("", "", first, last, False, recording.current, should_stop) if len(first) else None


def _by_log(
    recording: Recording, placement: Placement, wakes: WakeLedger, by_state: bool, should_stop: ShouldStop
) -> Rest | None:
    depth = wakes.depth
    asleep = np.flatnonzero(~depth.stretches.in_wakes)
    if not len(asleep):
        return None
    # With several modes the one with most time is looked at: floors of different modes are no steps.
    time_s = np.bincount(depth.stretches.mode[asleep], depth.stretches.lasts_s[asleep])
    mode = int(np.argmax(time_s))
    asleep = asleep[depth.stretches.mode[asleep] == mode]
    first = depth.stretches.first[asleep]
    last = first + np.rint(depth.stretches.lasts_s[asleep] / wakes.interval_s).astype(np.int64)
    name = depth.modes[mode].name
    state = longest_state(placement, first, last)
    if by_state and state:
        first, last = _only(placement, state, first, last)
    return Rest(state, name, first, last, True, recording.current, should_stop) if len(first) else None


def longest_state(placement: Placement, first: Indices, last: Indices) -> str:
    """Return the state that some stretches are in for the longest.

    Parameters
    ----------
    placement
        The states.
    first, last
        The stretches, sample indices, shapes ``(n,)``, at least one; each counts for the state in its middle.

    Returns
    -------
    str
        Empty where none is placed.
    """
    middle = (first + last) // 2
    state = placement.state[np.clip(np.searchsorted(placement.edges, middle, side="right") - 1, 0, None)]
    placed = state != UNPLACED
    if not placed.any():
        return ""
    return placement.names[int(np.argmax(np.bincount(state[placed], (last - first)[placed], len(placement.names))))]


def _only(placement: Placement, state: str, first: Indices, last: Indices) -> tuple[Indices, Indices]:
    """Return the parts of stretches that are in a state."""
    edges = np.unique(np.concatenate((first, last, placement.edges)))
    begin, end = edges[:-1], edges[1:]
    within = _covered(begin, first, last)
    at = np.searchsorted(placement.edges, begin, side="right") - 1
    number = placement.state[np.clip(at, 0, len(placement.state) - 1)]
    kept = within & (number == placement.names.index(state))
    return begin[kept], end[kept]


def _covered(moments: Indices, first: Indices, last: Indices) -> Flags:
    at = np.searchsorted(first, moments, side="right") - 1
    return np.asarray((at >= 0) & (moments < last[np.maximum(at, 0)]))


def _cut(rest: Rest) -> Blocks:
    interval_s = rest.current.interval_s
    length = max(_LEAST_SAMPLES, round(_BLOCK_S / interval_s), int((rest.last - rest.first).sum()) // _MOST_BLOCKS + 1)
    settling = np.maximum(2, np.minimum(round(_SETTLING_S / interval_s), _SETTLING_SHARE * (rest.last - rest.first)))
    begin, end = rest.first + settling.astype(np.int64), rest.last - 2
    counts = np.maximum(end - begin, 0) // length
    stretch = np.repeat(np.arange(len(begin)), counts)
    within = np.arange(len(stretch)) - np.repeat(np.cumsum(counts) - counts, counts)
    first = begin[stretch] + within * length
    if not len(first):
        nothing = np.zeros(0, dtype=np.int64)
        return Blocks(nothing, nothing, nothing, np.zeros(0), 0.0)
    edges = np.unique(np.concatenate((first, first + length)))
    sums = interval_sums(rest.current, edges, should_stop=rest.should_stop)
    at = np.searchsorted(edges, first)
    measured = sums.count[at] > length // 2
    mean_a = sums.mean[at][measured]
    stretch, first = stretch[measured], first[measured]
    steps = np.abs(np.diff(mean_a))[np.diff(stretch) == 0]
    noise_a = float(np.median(steps)) / 0.954 if len(steps) else 0.0  # the median of a difference of two normals
    return Blocks(first, first + length, stretch, mean_a, noise_a)
