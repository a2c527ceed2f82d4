"""The ledger: time, charge and energy of each state, with the uncertainty from the spread over its entries."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from warm_ember.attribution.expected import mismatches
from warm_ember.attribution.limits import NO_LIMITS, MeasurementLimits
from warm_ember.attribution.recording import Recording
from warm_ember.attribution.sequence import Sequence, added_by, mean_of_sequence
from warm_ember.attribution.stay_sums import StaySums, sum_stays
from warm_ember.model.arrays import Flags, Floats
from warm_ember.model.estimate import NOTHING_KNOWN, Estimate
from warm_ember.model.figure import Bound, Figure, Grade
from warm_ember.model.placement import UNPLACED, UNPLACED_NAME, Placement
from warm_ember.model.project import ExpectedValue
from warm_ember.signal.estimates import ratio
from warm_ember.signal.sampling_error import no_better_than, sampling_estimates
from warm_ember.signal.series import ShouldStop, never

_MATTERS = 0.01


class Verdict(StrEnum):
    """Measured against expected."""

    OK = "ok"
    ABOVE = "above"
    BELOW = "below"
    NONE = "none"


@dataclass(frozen=True, eq=False)
class LedgerRow:
    """One state of one capture.

    Parameters
    ----------
    name, how
        The state, and what placed it.
    entries
        How often it was entered.
    dwell_s, time_share
        Time in it, all entries together, and its share of the capture.
    mean
        Mean current, A, with its 90 % interval; of a quiet state without the samples that what lies beside it reaches.
    charge_c, charge_share
        Its charge and its share of the capture's.
    energy_j
        None without a voltage.
    peak_a
        Highest sample; None when nothing was measured.
    expected, verdict
        What it should draw, and whether it does.
    mismatches
        Conditions of the expected value that the capture did not meet.
    estimate
        The mean current with what is known of its error.
    reached_c
        What flows in it because of what lies beside it: charge beyond its mean current over the measured time.
    entry_charge_c, entry_dwell_s, entry_peak_a
        Per entry, shape ``(entries,)``.
    """

    name: str
    how: str
    entries: int
    dwell_s: float
    time_share: float
    mean: Figure
    charge_c: float
    charge_share: float
    energy_j: float | None
    peak_a: float | None
    expected: ExpectedValue | None
    verdict: Verdict
    entry_charge_c: Floats
    entry_dwell_s: Floats
    entry_peak_a: Floats
    mismatches: tuple[str, ...] = ()
    estimate: Estimate = NOTHING_KNOWN
    reached_c: float = 0.0
    added: Estimate = NOTHING_KNOWN

    @property
    def unexplained_a(self) -> float | None:
        """What it draws beyond what it should, A; None where either is not known."""
        if self.expected is None or self.mean.value is None:
            return None
        return self.mean.value - self.expected.current_a

    @property
    def may_hide_c(self) -> float:
        """How much more it may draw where only an upper bound is known."""
        if self.mean.bound not in (Bound.BELOW, Bound.AT_MOST) or self.mean.high is None or self.mean.value is None:
            return 0.0
        return (self.mean.high - self.mean.value) * self.dwell_s

    @property
    def mean_dwell_s(self) -> float:
        """Mean length of an entry."""
        return self.dwell_s / self.entries if self.entries else 0.0


@dataclass(frozen=True, eq=False)
class Ledger:
    """All states of one capture.

    Parameters
    ----------
    rows
        The placed states, in order of first appearance.
    unplaced
        What no rule places; None when all is placed.
    estimate
        The mean current with what is known of its error: what else might have been captured.
    """

    capture: str
    duration_s: float
    measured_s: float
    mean_a: float | None
    charge_c: float
    energy_j: float | None
    rows: tuple[LedgerRow, ...]
    unplaced: LedgerRow | None
    estimate: Estimate = NOTHING_KNOWN

    @property
    def mean(self) -> Figure:
        """The mean current; at least that where a state that matters is, and at most where one is."""
        low, high = self.interval or (None, None)
        figure = Figure(self.mean_a, low, high)
        matters = [row.mean.bound for row in self.all_rows if abs(row.charge_c) > _MATTERS * abs(self.charge_c)]
        if Bound.AT_LEAST in matters:
            return Figure(self.mean_a, low, None, Grade.BOUNDED, "the instrument's range was exceeded", Bound.AT_LEAST)
        more_c = sum(row.may_hide_c for row in self.all_rows)
        if self.mean_a is None or not more_c > _MATTERS * abs(self.charge_c):
            return figure
        most_a = self.mean_a + more_c / self.measured_s
        return Figure(self.mean_a, None, most_a, Grade.BOUNDED, "within what the instrument resolves", Bound.BELOW)

    @property
    def lowest_a(self) -> float:
        """What the state that draws least draws at least: no mixture of the states has a mean below it."""
        ends = (row.mean.low if row.mean.low is not None else row.mean.value for row in self.all_rows)
        return min((end for end in ends if end is not None and not math.isnan(end)), default=-math.inf)

    @property
    def interval(self) -> tuple[float, float] | None:
        """The 90 % interval of the mean; None where nothing is known of its spread.

        It does not reach below what the lowest of several states draws. Few and rare bursts make the error large, and
        a symmetric interval would allow them to have been less than nothing.
        """
        ends = self.estimate.interval()
        if len(self.all_rows) < 2:  # of one alone the mean is the state's own
            return ends
        return None if ends is None else (max(ends[0], min(self.lowest_a, self.estimate.value)), ends[1])

    @property
    def unplaced_share(self) -> float:
        """Share of the charge that no rule places."""
        return self.unplaced.charge_share if self.unplaced is not None else 0.0

    @property
    def all_rows(self) -> tuple[LedgerRow, ...]:
        """The placed states and, last, what is unplaced."""
        return self.rows if self.unplaced is None else (*self.rows, self.unplaced)

    def row(self, name: str) -> LedgerRow | None:
        """Return a state's row, or None."""
        return next((row for row in self.rows if row.name == name), None)


@dataclass(frozen=True, eq=False)
class _Bounds:
    """What makes a mean a bound: below `least_a`, or in intervals that hold clipped readings."""

    least_a: float
    why: str
    clipped: Flags


def make_ledger(
    recording: Recording,
    placement: Placement,
    expected: tuple[ExpectedValue, ...] = (),
    *,
    supply_v: float | None = None,
    limits: MeasurementLimits = NO_LIMITS,
    sums: StaySums | None = None,
    should_stop: ShouldStop = never,
) -> Ledger:
    """Sum a capture over its states.

    Parameters
    ----------
    recording, placement
        The capture and its states.
    expected
        What states should draw.
    supply_v
        For the energy where the capture has neither a voltage channel nor a supply voltage of its own.
    limits
        What the instrument could not tell: a mean beyond it is a bound.
    sums
        What flowed in the stays of the placement; summed here when None.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    sums = sums or sum_stays(recording, placement, supply_v=supply_v, should_stop=should_stop)
    bounds = _Bounds(max(limits.least_a, recording.info.resolution_a or 0.0), limits.why, limits.clips(placement.edges))
    sequence = Sequence(placement.state, placement.edges, sums.charge_c, sums.measured_s, recording.current)
    sampled = _sampled(recording, placement, should_stop)
    duration_s = float(placement.edges[-1] - placement.edges[0]) * recording.current.interval_s
    charge_c, measured_s = float(sums.charge_c.sum()), float(sums.measured_s.sum())
    whole = (duration_s, charge_c)
    rows = tuple(
        _row(recording, sums, sequence, bounds, index, name, placement.how[index], expected, whole, sampled)
        for index, name in enumerate(placement.names)
    )
    unplaced = None
    if (placement.state == UNPLACED).any():
        unplaced = _row(
            recording, sums, sequence, bounds, UNPLACED, UNPLACED_NAME, "no rule matches", (), whole, sampled
        )
    return Ledger(
        capture=recording.name,
        duration_s=duration_s,
        measured_s=measured_s,
        mean_a=charge_c / measured_s if measured_s else None,
        charge_c=charge_c,
        energy_j=None if sums.energy_j is None else float(sums.energy_j.sum()),
        rows=rows,
        unplaced=unplaced,
        estimate=no_better_than(mean_of_sequence(sequence), sampled[-1]) if sampled else mean_of_sequence(sequence),
    )


def _sampled(recording: Recording, placement: Placement, should_stop: ShouldStop) -> tuple[Estimate, ...]:
    """Return what readings of a meter tell that does not look all the time: of each state, of what is unplaced, of all.

    Empty where it looks all the time.
    """
    apart_s = recording.info.reading_interval_s
    if apart_s is None or not placement.intervals:
        return ()
    states = len(placement.names)
    group = np.where(placement.state == UNPLACED, states, placement.state)
    ways = ((group, states + 1), (np.zeros(len(group), dtype=np.int64), 1))
    return tuple(
        one
        for numbers, count in ways
        for one in sampling_estimates(
            recording.current, placement.edges, numbers, count, apart_s, should_stop=should_stop
        )
    )


def _row(
    recording: Recording,
    sums: StaySums,
    sequence: Sequence,
    bounds: _Bounds,
    index: int,
    name: str,
    how: str,
    expected: tuple[ExpectedValue, ...],
    whole: tuple[float, float],
    sampled: tuple[Estimate, ...],
) -> LedgerRow:
    mine = sums.state == index
    charge_c, dwell_s = float(sums.charge_c[mine].sum()), float(sums.dwell_s[mine].sum())
    estimate, is_free = _estimate(sums, mine)
    if sampled:
        estimate = no_better_than(estimate, sampled[index if index != UNPLACED else -2])
    mean = _mean_figure(estimate, bounds, is_free=is_free, is_clipped=bool(bounds.clipped[mine].any()))
    peaks = sums.peak_a[mine]
    value = next((e for e in expected if e.state == name), None)
    duration_s, all_charge_c = whole
    return LedgerRow(
        name=name,
        how=how,
        entries=int(mine.sum()),
        dwell_s=dwell_s,
        time_share=dwell_s / duration_s if duration_s else 0.0,
        mean=mean,
        charge_c=charge_c,
        charge_share=charge_c / all_charge_c if all_charge_c else 0.0,
        energy_j=None if sums.energy_j is None else float(sums.energy_j[mine].sum()),
        peak_a=None if np.isnan(peaks).all() else float(np.nanmax(peaks)),
        expected=value,
        verdict=verdict(mean, value),
        entry_charge_c=sums.charge_c[mine],
        entry_dwell_s=sums.dwell_s[mine],
        entry_peak_a=peaks,
        mismatches=mismatches(value.condition, recording.info) if value is not None else (),
        estimate=estimate,
        reached_c=charge_c - (mean.value or 0.0) * float(sums.measured_s[mine].sum()),
        added=added_by(sequence, index),
    )


def verdict(mean: Figure, expected: ExpectedValue | None) -> Verdict:
    """Judge a mean current: outside its expected band with its whole interval, or not."""
    if expected is None or mean.value is None:
        return Verdict.NONE
    low = mean.value if mean.low is None else mean.low
    high = mean.value if mean.high is None else mean.high
    if low > expected.current_a * (1 + expected.tolerance):
        return Verdict.ABOVE
    if high < expected.current_a * (1 - expected.tolerance):
        return Verdict.BELOW
    return Verdict.OK


def _estimate(sums: StaySums, mine: Flags) -> tuple[Estimate, bool]:
    """Return the mean current of a state, and whether it is free of what lies beside it."""
    if sums.inner_s[mine].any():
        return ratio(sums.inner_c[mine], sums.inner_s[mine]), True
    return ratio(sums.charge_c[mine], sums.measured_s[mine]), not sums.measured_s[mine].any()


def _mean_figure(estimate: Estimate, bounds: _Bounds, *, is_free: bool, is_clipped: bool) -> Figure:
    if math.isnan(estimate.value):
        return Figure(None, grade=Grade.MEASURED, origin="nothing was measured")
    mean_a = estimate.value
    low, high = estimate.interval() or (None, None)
    if is_clipped:
        return Figure(mean_a, low, None, Grade.BOUNDED, "the instrument's range was exceeded", Bound.AT_LEAST)
    if mean_a < bounds.least_a:
        why = f"within the instrument's {bounds.why or 'stated resolution'}"
        return Figure(mean_a, min(mean_a, 0.0), bounds.least_a, Grade.BOUNDED, why, Bound.BELOW)
    if not is_free:
        return Figure(mean_a, None, mean_a, Grade.BOUNDED, "too short beside its edges", Bound.AT_MOST)
    return Figure(mean_a, low, high, Grade.MEASURED)
