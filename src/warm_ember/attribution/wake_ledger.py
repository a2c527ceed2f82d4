"""What wakes cost by source, whether the sleeps between them were deep enough, and what aligning them would save."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.recording import Recording
from warm_ember.attribution.wakes import Wakes
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.placement import UNPLACED, Alignment, Placement
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import ShouldStop, never
from warm_ember.units import HOUR_S

_SOME_SLEEP = "sleep"


@dataclass(frozen=True)
class SourceRow:
    """What one source costs.

    Parameters
    ----------
    source
        Its name.
    count, rate_per_h
        How often it woke the device, and how often an hour of the capture.
    awake_s_mean
        Mean time awake.
    charge_c_mean
        Mean charge above the sleep floor.
    added_a
        What it adds to the average current.
    """

    source: str
    count: int
    rate_per_h: float
    awake_s_mean: float
    charge_c_mean: float
    added_a: float


@dataclass(frozen=True)
class IdleRow:
    """How one sleep mode was used.

    Parameters
    ----------
    mode
        Its name.
    count, time_s
        Stretches of sleep in it, and their time.
    too_shallow, too_deep
        How many of them a deeper, or a lighter, mode would have served at less charge.
    lost_a
        What that cost of the average current.
    """

    mode: str
    count: int
    time_s: float
    too_shallow: int
    too_deep: int
    lost_a: float


@dataclass(frozen=True)
class Aligned:
    """What is left when wakes are moved together within their slack, and the average current that this saves."""

    rate_per_h: float
    saved_a: float


@dataclass(frozen=True, eq=False)
class WakeLedger:
    """The wakes of one capture.

    Parameters
    ----------
    floor_a
        Mean current of all sleep; 0 when there is none.
    sources
        The source that adds most first.
    idle
        The mode with most time first.
    """

    capture: str
    duration_s: float
    floor_a: float
    wakes: Wakes
    sources: tuple[SourceRow, ...]
    idle: tuple[IdleRow, ...]
    aligned: Aligned

    @property
    def rate_per_h(self) -> float:
        """Wakes an hour."""
        return len(self.wakes.source) / self.duration_s * HOUR_S if self.duration_s else 0.0


def make_wake_ledger(
    recording: Recording,
    placement: Placement,
    wakes: Wakes,
    slack_s: Mapping[str, float] | None = None,
    *,
    should_stop: ShouldStop = never,
) -> WakeLedger:
    """Sum a capture over its wakes.

    Parameters
    ----------
    recording, placement, wakes
        The capture, its states and its wakes.
    slack_s
        By how much later each source may wake; 0 for sources that are not named.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    With the mean current of sleep as the floor, the average is the floor and what the sources add to it, but for
    what is awake at the capture's ends.
    """
    current = recording.current
    duration_s = current.samples * current.interval_s
    ends = np.array([0, current.samples, *(end for cut in wakes.cut for end in cut)], dtype=np.int64)
    edges = np.unique(np.concatenate((wakes.first, wakes.last, ends)))
    sums = interval_sums(current, edges, should_stop=should_stop)
    lasts_s = np.diff(edges) * current.interval_s
    # What was not measured of a stretch is taken to be as the rest of it.
    charge_c = sums.mean * lasts_s
    owner = np.searchsorted(wakes.first, edges[:-1], side="right") - 1
    awake = (owner >= 0) & (edges[:-1] < wakes.last[np.maximum(owner, 0)]) if len(wakes.first) else owner >= 0
    asleep = ~awake
    for first, last in wakes.cut:
        asleep &= (edges[:-1] < first) | (edges[:-1] >= last)
    asleep_s = float(lasts_s[asleep].sum())
    floor_a = float(charge_c[asleep].sum()) / asleep_s if asleep_s > 0 else 0.0
    times = len(wakes.first)
    cost_c: Floats = np.bincount(owner[awake], (charge_c - floor_a * lasts_s)[awake], minlength=times).astype(float)
    awake_s: Floats = np.bincount(owner[awake], lasts_s[awake], minlength=times).astype(float)
    whole = (edges[:-1] > 0) & (edges[1:] < current.samples)
    idle = _Idle(edges[:-1][asleep], lasts_s[asleep], charge_c[asleep], whole[asleep])
    modes = _modes(recording, placement, idle.start)
    return WakeLedger(
        recording.name,
        duration_s,
        floor_a,
        wakes,
        _sources(wakes, cost_c, awake_s, duration_s),
        _judged(wakes, idle, modes, cost_c, duration_s),
        _aligned(wakes, cost_c, slack_s or {}, current.interval_s, duration_s),
    )


@dataclass(frozen=True, eq=False)
class _Idle:
    """Stretches of sleep: where they start, how long they last, what flows in them, whether both ends are seen."""

    start: Indices
    lasts_s: Floats
    charge_c: Floats
    is_whole: Flags


def _sources(wakes: Wakes, cost_c: Floats, awake_s: Floats, duration_s: float) -> tuple[SourceRow, ...]:
    names = np.array(wakes.source)
    rows = []
    for source in dict.fromkeys(wakes.source):
        mine = names == source
        count = int(mine.sum())
        added_a = float(cost_c[mine].sum()) / duration_s
        per_h = count / duration_s * HOUR_S
        rows.append(SourceRow(source, count, per_h, float(awake_s[mine].mean()), float(cost_c[mine].mean()), added_a))
    return tuple(sorted(rows, key=lambda row: -row.added_a))


def _modes(recording: Recording, placement: Placement, starts: Indices) -> list[str]:
    """Return the mode of each stretch of sleep: as the log says, else the state it is in."""
    interval_s = recording.current.interval_s
    alignment = placement.alignment or Alignment()
    events = () if alignment.is_ambiguous else recording.events
    told = sorted((alignment.to_capture(e.time_s), e.name) for e in events if e.event == "sleep")
    times = np.array([time_s for time_s, _ in told])
    # The event and the change it announces are rounded to a sample each.
    last = np.searchsorted(times, (starts + 2) * interval_s, side="right") - 1
    states = np.searchsorted(placement.edges, starts, side="right") - 1
    numbers = placement.state[np.minimum(states, len(placement.state) - 1)].tolist()
    modes = [told[index][1] if index >= 0 else "" for index in last.tolist()]
    # Sleep that began before the log's first word of it is in the mode that its state has later.
    of_state = {number: mode for number, mode in zip(numbers, modes, strict=True) if mode}
    names = [placement.names[number] if number != UNPLACED else _SOME_SLEEP for number in numbers]
    return [mode or of_state.get(number, name) for mode, number, name in zip(modes, numbers, names, strict=True)]


def _judged(wakes: Wakes, idle: _Idle, modes: list[str], cost_c: Floats, duration_s: float) -> tuple[IdleRow, ...]:
    """Hold the mode of each stretch of sleep against the one that would have taken least.

    What entering and leaving a mode costs more than another is how much more the wakes of the same sources cost after
    it; the best mode for a stretch of `t` is the one with the least ``Q + i t``.
    """
    names = tuple(dict.fromkeys(modes))
    used = np.array([names.index(mode) for mode in modes], dtype=np.int64)
    floors = np.array(
        [idle.charge_c[used == m].sum() / max(idle.lasts_s[used == m].sum(), 1e-30) for m in range(len(names))]
    )
    crossing_c = _crossing_costs(wakes, idle, used, len(names), cost_c)
    taken = np.nan_to_num(crossing_c, nan=np.inf)[None, :] + floors[None, :] * idle.lasts_s[:, None]
    rows_at = np.arange(len(used))
    best = used
    if len(names) > 1:
        # A stretch that the capture cuts off is longer than it looks, and a mode of unknown cost cannot be judged.
        known = np.isfinite(crossing_c)[used]
        best = np.where(known & idle.is_whole, taken.argmin(axis=1), used)
    lost_c, other = np.zeros(len(used)), best != used
    lost_c[other] = taken[rows_at, used][other] - taken[rows_at, best][other]
    rows = []
    for number, name in enumerate(names):
        mine = used == number
        deeper = floors[best] < floors[used]
        rows.append(
            IdleRow(
                name,
                int(mine.sum()),
                float(idle.lasts_s[mine].sum()),
                int((mine & (best != used) & deeper).sum()),
                int((mine & (best != used) & ~deeper).sum()),
                float(lost_c[mine].sum()) / duration_s,
            )
        )
    return tuple(sorted(rows, key=lambda row: -row.time_s))


def _crossing_costs(wakes: Wakes, idle: _Idle, used: Indices, modes: int, cost_c: Floats) -> Floats:
    """Return how much more each mode's wakes cost than the first mode's, NaN where no source woke from both.

    A source may do very different things: its median wake is what leaving a mode shows in.
    """
    after: dict[tuple[int, str], list[float]] = {}
    before = np.searchsorted(idle.start, wakes.first, side="left") - 1
    for wake, gap in enumerate(before.tolist()):
        if gap >= 0:
            after.setdefault((int(used[gap]), wakes.source[wake]), []).append(float(cost_c[wake]))
    costs = np.zeros(modes)
    for mode in range(1, modes):
        shared = [source for number, source in after if number == mode and (0, source) in after]
        if not shared:
            costs[mode] = np.nan
            continue
        more = [float(np.median(after[mode, source]) - np.median(after[0, source])) for source in shared]
        weights = [min(len(after[mode, source]), len(after[0, source])) for source in shared]
        costs[mode] = float(np.average(more, weights=weights))
    return costs


def _aligned(
    wakes: Wakes, cost_c: Floats, slack_s: Mapping[str, float], interval_s: float, duration_s: float
) -> Aligned:
    """Move wakes together: the fewest moments that serve all windows ``[t, t + slack]`` (greedy stabbing, optimal).

    A wake that comes along with another saves what waking costs at least: the cheapest wake of all.

    References
    ----------
    J. Kleinberg, E. Tardos, *Algorithm Design*, 2006, chapter 4.1: the earliest end first.
    """
    begins = wakes.first * interval_s
    ends = begins + np.array([max(slack_s.get(source, 0.0), 0.0) for source in wakes.source])
    moments, moment = 0, -np.inf
    for index in np.argsort(ends, kind="stable").tolist():
        if begins[index] > moment:
            moment, moments = float(ends[index]), moments + 1
    spared = len(begins) - moments
    least_c = max(float(cost_c.min(initial=np.inf)), 0.0) if spared else 0.0
    per_h = moments / duration_s * HOUR_S if duration_s else 0.0
    return Aligned(per_h, spared * least_c / duration_s if duration_s else 0.0)
