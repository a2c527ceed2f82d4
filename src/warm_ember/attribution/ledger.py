"""The ledger: time, charge and energy of each state, with the uncertainty from the spread over its entries."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from warm_ember.attribution.expected import mismatches
from warm_ember.attribution.recording import Recording
from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.placement import UNPLACED, Placement
from warm_ember.model.project import ExpectedValue
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import ShouldStop, never

UNPLACED_NAME = "unplaced"
_RESAMPLES = 400
_MOST_GROUPS = 512
_LEAST_ENTRIES = 8
_PIECES = 32


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
        Mean current, A, with its 90 % interval.
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

    @property
    def unexplained_a(self) -> float | None:
        """What it draws beyond what it should, A; None where either is not known."""
        if self.expected is None or self.mean.value is None:
            return None
        return self.mean.value - self.expected.current_a

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
    """

    capture: str
    duration_s: float
    measured_s: float
    mean_a: float | None
    charge_c: float
    energy_j: float | None
    rows: tuple[LedgerRow, ...]
    unplaced: LedgerRow | None

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
class _Sums:
    state: Indices
    charge_c: Floats
    measured_s: Floats
    dwell_s: Floats
    energy_j: Floats | None
    peak_a: Floats
    edges: Indices


def make_ledger(
    recording: Recording,
    placement: Placement,
    expected: tuple[ExpectedValue, ...] = (),
    *,
    supply_v: float | None = None,
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

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    sums = _sum(recording, placement, supply_v, should_stop)
    duration_s = recording.current.samples * recording.current.interval_s
    charge_c, measured_s = float(sums.charge_c.sum()), float(sums.measured_s.sum())
    whole = (duration_s, charge_c)
    rows = tuple(
        _row(recording, sums, index, name, placement.how[index], expected, whole)
        for index, name in enumerate(placement.names)
    )
    unplaced = None
    if (placement.state == UNPLACED).any():
        unplaced = _row(recording, sums, UNPLACED, UNPLACED_NAME, "no rule matches", (), whole)
    return Ledger(
        capture=recording.name,
        duration_s=duration_s,
        measured_s=measured_s,
        mean_a=charge_c / measured_s if measured_s else None,
        charge_c=charge_c,
        energy_j=None if sums.energy_j is None else float(sums.energy_j.sum()),
        rows=rows,
        unplaced=unplaced,
    )


def _sum(recording: Recording, placement: Placement, supply_v: float | None, should_stop: ShouldStop) -> _Sums:
    interval_s = recording.current.interval_s
    found = interval_sums(recording.current, placement.edges, should_stop=should_stop)
    charge_c = found.total * interval_s
    volts = recording.info.supply_v if recording.info.supply_v is not None else supply_v
    energy_j: Floats | None = None
    if recording.power is not None:
        energy_j = interval_sums(recording.power, placement.edges, should_stop=should_stop).total * interval_s
    elif volts is not None:
        energy_j = charge_c * volts
    return _Sums(
        placement.state,
        charge_c,
        found.count.astype(np.float64) * interval_s,
        np.diff(placement.edges).astype(np.float64) * interval_s,
        energy_j,
        found.high,
        placement.edges,
    )


def _row(
    recording: Recording,
    sums: _Sums,
    index: int,
    name: str,
    how: str,
    expected: tuple[ExpectedValue, ...],
    whole: tuple[float, float],
) -> LedgerRow:
    mine = sums.state == index
    charge_c, dwell_s = float(sums.charge_c[mine].sum()), float(sums.dwell_s[mine].sum())
    mean = _mean_figure(recording, sums, mine)
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


def _mean_figure(recording: Recording, sums: _Sums, mine: np.ndarray) -> Figure:
    charges, times = sums.charge_c[mine], sums.measured_s[mine]
    total_s = float(times.sum())
    if total_s <= 0:
        return Figure(None, grade=Grade.MEASURED, origin="nothing was measured")
    if len(charges) < _LEAST_ENTRIES:
        charges, times = _in_pieces(recording, sums, mine)
    low, high = ratio_interval(charges, times)
    mean_a = float(sums.charge_c[mine].sum()) / total_s
    resolution_a = recording.info.resolution_a
    if resolution_a is not None and abs(mean_a) < resolution_a:
        return Figure(mean_a, min(low, mean_a), resolution_a, Grade.BOUNDED, "below what the instrument resolves")
    return Figure(mean_a, min(low, mean_a), max(high, mean_a), Grade.MEASURED)


def _in_pieces(recording: Recording, sums: _Sums, mine: np.ndarray) -> tuple[Floats, Floats]:
    """Cut few entries into about equal pieces: the spread within them stands in for the spread over them."""
    intervals = np.flatnonzero(mine)
    lengths = np.diff(sums.edges)[intervals]
    charges, times = [], []
    for interval, length in zip(intervals, lengths, strict=True):
        pieces = max(1, min(int(length), round(_PIECES * length / lengths.sum())))
        cuts = np.linspace(sums.edges[interval], sums.edges[interval + 1], pieces + 1).astype(np.int64)
        found = interval_sums(recording.current, np.unique(cuts))
        charges.append(found.total * recording.current.interval_s)
        times.append(found.count * recording.current.interval_s)
    return np.concatenate(charges), np.concatenate(times)


def ratio_interval(charges: Floats, times: Floats) -> tuple[float, float]:
    """Return the 90 % bootstrap interval of ``sum(charges) / sum(times)``.

    Parameters
    ----------
    charges, times
        Per entry, shape ``(entries,)``. More than 512 entries are first joined into as many runs of neighbours,
        which keeps what neighbours have in common.

    References
    ----------
    B. Efron, R. Tibshirani, *An Introduction to the Bootstrap*, 1993, chapters 8.6 and 13.
    """
    low, high = np.nanquantile(ratio_draws(charges, times), (0.05, 0.95))
    return float(low), float(high)


def ratio_draws(charges: Floats, times: Floats, seed: int = 0) -> Floats:
    """Return what ``sum(charges) / sum(times)`` is for entries drawn anew, shape ``(400,)``; see `ratio_interval`."""
    if len(charges) > _MOST_GROUPS:
        starts = np.linspace(0, len(charges), _MOST_GROUPS, endpoint=False).astype(np.int64)
        charges, times = np.add.reduceat(charges, starts), np.add.reduceat(times, starts)
    random = np.random.default_rng([len(charges), seed])
    drawn = random.integers(0, len(charges), (_RESAMPLES, len(charges)))
    lengths = times[drawn].sum(axis=1)
    sums = charges[drawn].sum(axis=1)
    return np.asarray(np.divide(sums, lengths, out=np.full(_RESAMPLES, np.nan), where=lengths > 0))
