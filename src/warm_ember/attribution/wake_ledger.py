"""What wakes cost by source, whether the sleeps between them were deep enough, and what aligning them would save."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from warm_ember.attribution.between_wakes import (
    Pieces,
    cut_at_wakes,
    floors_under,
    idle_of_cpus,
    idle_stretches,
    modes_woken_from,
    time_to_next_timer,
)
from warm_ember.attribution.cpu_wakes import covered
from warm_ember.attribution.limits import NO_LIMITS, MeasurementLimits
from warm_ember.attribution.recording import Recording
from warm_ember.attribution.sequence import recurring
from warm_ember.attribution.sleep_depth import IdleRow, IdleStretches, SleepDepth, judge
from warm_ember.attribution.wake_alignment import Aligned, align
from warm_ember.attribution.wakes import Cause, Wakes
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.estimate import NOTHING_KNOWN, Estimate
from warm_ember.model.figure import Bound, Figure, Grade
from warm_ember.model.placement import UNPLACED, UNPLACED_NAME, Placement
from warm_ember.model.wakes import SleepMode
from warm_ember.signal.estimates import mean
from warm_ember.signal.series import ShouldStop, never
from warm_ember.signal.timer_periods import TimerPeriod, find_periods, period_of
from warm_ember.units import HOUR_S

_LEAST_SHARE = 0.5
_MOSTLY = 0.9
REFUSED, _SOMEBODY = "sleep refused", "somebody"


@dataclass(frozen=True)
class StateDuringWake:
    """A state that ran in the wakes by a source.

    Parameters
    ----------
    state
        Its name.
    charge_c, lasts_s
        Charge above the sleep floor, and time, per wake by the source.
    is_resuming
        Whether it is what the wakes by several sources begin with and never all of one: a restart, or memory and
        clocks coming back.
    """

    state: str
    charge_c: float
    lasts_s: float
    is_resuming: bool


@dataclass(frozen=True, eq=False)
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
    charge, added
        The same two with what is known of their errors.
    bound
        At least that, where the instrument's range was exceeded in any of its wakes; None for values.
    ran
        What ran in its wakes, in the order in which it began.
    periods
        Timers that its wakes come from.
    woke_from
        The sleep modes that it woke the device from.
    by_line, by_period
        How many of its wakes the log does not name: known from a line, and from their period.
    """

    source: str
    count: int
    rate_per_h: float
    awake_s_mean: float
    charge_c_mean: float
    added_a: float
    ran: tuple[StateDuringWake, ...]
    periods: tuple[TimerPeriod, ...]
    woke_from: tuple[str, ...]
    by_line: int
    by_period: int
    charge: Estimate = NOTHING_KNOWN
    added: Estimate = NOTHING_KNOWN
    bound: Bound | None = None

    @property
    def resume_c(self) -> float | None:
        """Charge of restarting or resuming, apart from useful work; None when nothing tells it apart."""
        found = [one.charge_c for one in self.ran if one.is_resuming]
        return sum(found) if found else None


@dataclass(frozen=True)
class Closing:
    """Where all charge that was measured is.

    Parameters
    ----------
    awake_c, asleep_c
        In wakes, and asleep.
    ends_c
        Awake at the capture's ends.
    coverage
        Share of the time that was measured.
    """

    awake_c: float = 0.0
    asleep_c: float = 0.0
    ends_c: float = 0.0
    coverage: float = 1.0

    @property
    def charge_c(self) -> float:
        """All of it."""
        return self.awake_c + self.asleep_c + self.ends_c


@dataclass(frozen=True, eq=False)
class WakeLedger:
    """The wakes of one capture.

    Parameters
    ----------
    floor_a
        Mean current of all sleep; 0 when there is none.
    cost_c, awake_s
        For each wake its charge above the floor of the sleep before it, and its length, shape ``(wakes,)``.
    sources
        The source that adds most first.
    depth
        The sleep modes and how well they were chosen.
    slack_s
        By how much later each source may wake.
    mean_a
        Average current of the capture.
    refused
        How often who refused sleep, by the log's marks ``sleep refused``.
    closing
        Where all charge is; what was not measured is in no sum.
    is_measured
        Whether there is a current at all: a trace may come alone, and charges are unknown then.
    resolved_a
        Below this the instrument cannot tell a current from nothing.
    """

    capture: str
    duration_s: float
    interval_s: float
    floor_a: float
    mean_a: float
    wakes: Wakes
    cost_c: Floats
    awake_s: Floats
    sources: tuple[SourceRow, ...]
    depth: SleepDepth
    aligned: Aligned
    slack_s: Mapping[str, float]
    is_measured: bool = True
    refused: Mapping[str, int] = field(default_factory=dict)
    closing: Closing = field(default_factory=Closing)
    resolved_a: float = 0.0

    @property
    def floor(self) -> Figure:
        """The floor as a figure: below what is resolved, where it is."""
        return self.asleep(self.floor_a)

    def asleep(self, mean_a: float | None) -> Figure:
        """Return a current that flows asleep as a figure: below what is resolved, where it is."""
        if mean_a is None or mean_a >= self.resolved_a:
            return Figure(mean_a)
        return Figure(mean_a, None, self.resolved_a, Grade.BOUNDED, bound=Bound.BELOW)

    @property
    def bound(self) -> Bound | None:
        """On which side of the truth the sums lie."""
        return Bound.AT_LEAST if any(row.bound is Bound.AT_LEAST for row in self.sources) else None

    @property
    def idle(self) -> tuple[IdleRow, ...]:
        """The modes that were used, the one with most time first."""
        return self.depth.rows

    @property
    def rate_per_h(self) -> float:
        """Wakes an hour."""
        return self.wakes.count / self.duration_s * HOUR_S if self.duration_s else 0.0

    @property
    def rest_a(self) -> float:
        """What is left of the average without what the sources add: sleep, and what is awake at the capture's ends."""
        return self.mean_a - sum(row.added_a for row in self.sources)

    def transition_charge_c(self, source: str) -> float:
        """Return the highest charge to enter and leave the modes that a source wakes from; 0 where nothing tells."""
        row = self.row(source)
        costs = [self.depth.mode(mode).transition_charge_c for mode in (row.woke_from if row is not None else ())]
        return max((cost for cost in costs if np.isfinite(cost)), default=0.0)

    def row(self, source: str) -> SourceRow | None:
        """Return the row of a source."""
        return next((row for row in self.sources if row.source == source), None)


def _closing(pieces: Pieces, measured_share: float) -> Closing:
    """Return what was measured awake, asleep and in neither, so that the sum can be checked."""
    neither = ~pieces.awake & ~pieces.asleep
    awake_c, asleep_c, neither_c = (
        float(pieces.measured_c[mask].sum()) for mask in (pieces.awake, pieces.asleep, neither)
    )
    return Closing(awake_c, asleep_c, neither_c, measured_share)


def _above_floor(wakes: Wakes, idle: IdleStretches, modes: int, pieces: Pieces) -> Floats:
    """Return each piece's charge above the floor of the sleep before its wake, C; all of it where nothing is awake."""
    under_a = np.full(wakes.count, pieces.floor_a)
    if wakes.by_cpu is None:
        under_a = floors_under(wakes, idle, modes, pieces.floor_a)
    under_piece_a = under_a[np.maximum(pieces.owner, 0)] if wakes.count else 0.0
    above_c: Floats = pieces.measured_c - np.where(pieces.awake, under_piece_a, 0.0) * pieces.measured_s
    return above_c


def make_wake_ledger(
    recording: Recording,
    placement: Placement,
    wakes: Wakes,
    slack_s: Mapping[str, float] | None = None,
    typed: Sequence[SleepMode] = (),
    *,
    limits: MeasurementLimits = NO_LIMITS,
    should_stop: ShouldStop = never,
) -> WakeLedger:
    """Sum a capture over its wakes.

    Parameters
    ----------
    recording, placement, wakes
        The capture, its states and its wakes.
    slack_s
        By how much later each source may wake; 0 for sources that are not named.
    typed
        What the project says of sleep modes.
    limits
        What the instrument could not tell.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    The floor under a wake is the mean current of all sleep in the mode before it, so that with one mode the average
    is the floor and what the sources add to it, but for what is awake at the capture's ends.
    """
    current = recording.current
    duration_s = current.samples * current.interval_s
    pieces = cut_at_wakes(current, placement, wakes, should_stop)
    if wakes.by_cpu is None:
        idle, names = idle_stretches(recording, placement, pieces, wakes, typed)
    else:
        idle, names = idle_of_cpus(wakes, pieces)
    above_c = _above_floor(wakes, idle, len(names), pieces)
    # CPUs that are awake at the same time share what flows evenly.
    seen_c = _over(wakes, pieces.edges, above_c / np.maximum(covered(wakes.first, wakes.last, pieces.edges), 1))
    seen_s = _over(wakes, pieces.edges, pieces.measured_s)
    awake_s = (wakes.last - wakes.first).astype(np.float64) * current.interval_s
    cost_c = _whole_costs(wakes, seen_c, seen_s / np.maximum(awake_s, 1e-300))
    whole_s, whole_c = float(pieces.measured_s.sum()), float(pieces.measured_c.sum())
    added_a = seen_c / (whole_s or 1.0)
    times_s = wakes.first.astype(np.float64) * current.interval_s
    costs = _Costs(cost_c, added_a, awake_s, times_s, _clipped(wakes, limits), duration_s)
    periods = {name: _periods(times_s[wakes.by(name)]) for name in wakes.names}
    woken_from = [tuple(names[index] for index in modes.tolist()) for modes in modes_woken_from(wakes, idle)]
    ran = _ran(wakes, placement, pieces, above_c) if wakes.by_cpu is None else dict.fromkeys(wakes.names, ())
    timer_s = time_to_next_timer(wakes, idle, [name for name, found in periods.items() if found], current.interval_s)
    return WakeLedger(
        recording.name,
        duration_s,
        current.interval_s,
        pieces.floor_a,
        whole_c / whole_s if whole_s else 0.0,
        wakes,
        cost_c,
        awake_s,
        _sources(wakes, costs, ran, periods, woken_from),
        judge(wakes, idle, names, cost_c, typed, timer_s, duration_s),
        align(wakes, cost_c, slack_s or {}, current.interval_s, duration_s),
        dict(slack_s or {}),
        whole_s > 0,
        Counter(e.value or _SOMEBODY for e in recording.events if e.event == "mark" and e.name == REFUSED),
        _closing(pieces, whole_s / duration_s if duration_s else 0.0),
        max(limits.least_a, recording.info.resolution_a or 0.0),
    )


def _clipped(wakes: Wakes, limits: MeasurementLimits) -> Flags:
    """Return in which wakes the range of the instrument was exceeded."""
    if not len(limits.clipped):
        return np.zeros(wakes.count, dtype=bool)
    next_one = np.searchsorted(limits.clipped[:, 1], wakes.first, side="right")
    begins = np.append(limits.clipped[:, 0], np.iinfo(np.int64).max)[next_one]
    return np.asarray(begins < wakes.last)


def _over(wakes: Wakes, edges: Indices, parts: Floats) -> Floats:
    """Return the sum of parts between edges over each wake."""
    until = np.append(0.0, np.cumsum(parts))
    return np.asarray(until[np.searchsorted(edges, wakes.last)] - until[np.searchsorted(edges, wakes.first)])


def _whole_costs(wakes: Wakes, seen_c: Floats, share: Floats) -> Floats:
    """Return what each wake costs: of one measured in part as if it went on alike, of others what its source does."""
    known = share >= _LEAST_SHARE
    cost_c = np.where(known, seen_c / np.maximum(share, 1e-300), np.nan)
    for number in np.unique(wakes.number[~known]).tolist():
        mine = wakes.number == number
        usual_c = float(cost_c[mine & known].mean()) if (mine & known).any() else 0.0
        cost_c[mine & ~known] = usual_c
    return cost_c


def _periods(times_s: Floats) -> tuple[TimerPeriod, ...]:
    """Return the timers in the wakes by one source."""
    one = period_of(times_s)
    return (one,) if one is not None else find_periods(times_s)


@dataclass(frozen=True, eq=False)
class _Costs:
    """What each wake costs and adds, how long it is and when it begins, and whether it was clipped."""

    cost_c: Floats
    added_a: Floats
    awake_s: Floats
    begins_s: Floats
    clipped: Flags
    duration_s: float


def _sources(
    wakes: Wakes,
    costs: _Costs,
    ran: Mapping[str, tuple[StateDuringWake, ...]],
    periods: Mapping[str, tuple[TimerPeriod, ...]],
    woken_from: Sequence[tuple[str, ...]],
) -> tuple[SourceRow, ...]:
    rows = []
    for source, modes in zip(wakes.names, woken_from, strict=True):
        mine = wakes.by(source)
        count, cause, cost_c = int(mine.sum()), wakes.cause[mine], costs.cost_c[mine]
        added_a = float(costs.added_a[mine].sum())
        rows.append(
            SourceRow(
                source,
                count,
                count / costs.duration_s * HOUR_S,
                float(costs.awake_s[mine].mean()),
                float(cost_c.mean()),
                added_a,
                ran[source],
                periods[source],
                modes,
                int((cause == Cause.LINE).sum()),
                int((cause == Cause.PERIOD).sum()),
                mean(cost_c),
                replace(recurring(costs.begins_s[mine], cost_c, costs.duration_s), value=added_a),
                Bound.AT_LEAST if costs.clipped[mine].any() else None,
            )
        )
    return tuple(sorted(rows, key=lambda row: -row.added_a))


def _ran(wakes: Wakes, placement: Placement, pieces: Pieces, above_c: Floats) -> dict[str, tuple[StateDuringWake, ...]]:
    """Return what ran in the wakes by each source."""
    inside = np.flatnonzero(pieces.awake)
    owner, state = pieces.owner[inside], pieces.state[inside] + 1
    states = len(placement.names) + 1
    cell = wakes.number[owner] * states + state
    charge_c = np.bincount(cell, above_c[inside], minlength=len(wakes.names) * states).reshape(-1, states)
    lasts_s = np.bincount(cell, pieces.lasts_s[inside], minlength=len(wakes.names) * states).reshape(-1, states)
    begins = np.append(True, owner[1:] != owner[:-1]) if len(owner) else np.zeros(0, dtype=bool)
    ends = np.append(begins[1:], True) if len(owner) else begins
    found = {}
    shared = {
        one for one in np.unique(state[begins]) if len(np.unique(wakes.number[owner][begins & (state == one)])) > 1
    }
    for number, name in enumerate(wakes.names):
        mine = wakes.number[owner] == number
        count = max(int((mine & begins).sum()), 1)
        order = np.unique(state[mine], return_index=True)
        parts = []
        for one in order[0][np.argsort(order[1])].tolist():
            here = mine & (state == one)
            only = (here & begins & ends).any()
            resuming = (
                one in shared and not only and (here & begins).sum() >= _MOSTLY * count and not (here & ~begins).any()
            )
            label = UNPLACED_NAME if one - 1 == UNPLACED else placement.names[one - 1]
            parts.append(
                StateDuringWake(label, charge_c[number, one] / count, lasts_s[number, one] / count, bool(resuming))
            )
        found[name] = tuple(parts)
    return found
