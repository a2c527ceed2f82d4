"""What flowed in each stay in a state: summed in one pass, and read again for a part of the capture without another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.recording import Recording
from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.placement import Placement
from warm_ember.signal.edge_reach import cut_inside, find_edge_reach
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import ShouldStop, never


@dataclass(frozen=True, eq=False)
class StaySums:
    """Sums over stays, each of shape ``(stays,)``.

    Parameters
    ----------
    edges
        Sample indices, rising, shape ``(stays + 1,)``.
    state
        The state of each.
    charge_c, measured_s
        What flowed, and how long that was measured.
    energy_j
        None without a voltage.
    peak_a
        Highest sample; NaN where nothing was measured.
    inner_c, inner_s
        The same as charge and measured time without the samples that what lies beside a stay reaches.
    inner_first, inner_last
        From which sample on, and up to which, nothing beside it reaches; the last is not above the first where that
        is nowhere.
    """

    edges: Indices
    state: Indices
    charge_c: Floats
    measured_s: Floats
    energy_j: Floats | None
    peak_a: Floats
    inner_c: Floats
    inner_s: Floats
    inner_first: Indices
    inner_last: Indices
    interval_s: float

    @property
    def dwell_s(self) -> Floats:
        """Length of each stay, shape ``(stays,)``."""
        return np.diff(self.edges).astype(np.float64) * self.interval_s

    @property
    def mean_a(self) -> Floats:
        """Mean of what was measured in each stay, shape ``(stays,)``; 0 where nothing was."""
        return np.where(self.measured_s > 0, self.charge_c / np.where(self.measured_s > 0, self.measured_s, 1.0), 0.0)

    @property
    def charge_so_far_c(self) -> Floats:
        """What flowed up to each edge, shape ``(stays + 1,)``."""
        return np.concatenate(([0.0], np.cumsum(self.charge_c)))


def sum_stays(
    recording: Recording, placement: Placement, *, supply_v: float | None = None, should_stop: ShouldStop = never
) -> StaySums:
    """Sum a capture over its stays in states.

    Parameters
    ----------
    recording, placement
        The capture and its states.
    supply_v
        For the energy where the capture has neither a voltage channel nor a supply voltage of its own.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    off_s = placement.alignment.residual_s if placement.alignment is not None else 0.0
    reach = find_edge_reach(
        recording.current, placement.edges, placement.state, clock_off_s=off_s, should_stop=should_stop
    )
    inner = placement.edges[:-1] + reach.after, placement.edges[1:] - reach.before
    return _sums(recording, placement.edges, placement.state, inner, supply_v, should_stop)


def sums_within(
    sums: StaySums,
    recording: Recording,
    first: int,
    last: int,
    *,
    supply_v: float | None = None,
    should_stop: ShouldStop = never,
) -> StaySums:
    """Return the sums of a part of a capture: only the stays that its ends cut are summed again.

    Parameters
    ----------
    sums
        Of the whole capture.
    recording
        The capture.
    first, last
        The part, as samples; it holds one at least.
    supply_v
        As for `sum_stays`.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    begin = int(np.searchsorted(sums.edges, first, side="right")) - 1
    end = int(np.searchsorted(sums.edges, last, side="left"))
    edges = np.concatenate(([first], sums.edges[begin + 1 : end], [last])).astype(np.int64)
    inner_first = np.maximum(sums.inner_first[begin:end], edges[:-1])
    inner_last = np.minimum(sums.inner_last[begin:end], edges[1:])
    is_cut = (edges[:-1] > sums.edges[begin:end]) | (edges[1:] < sums.edges[begin + 1 : end + 1])
    charge_c, measured_s, peak_a, inner_c, inner_s = (
        values[begin:end].copy() for values in (sums.charge_c, sums.measured_s, sums.peak_a, sums.inner_c, sums.inner_s)
    )
    energy_j = None if sums.energy_j is None else sums.energy_j[begin:end].copy()
    for stay in np.flatnonzero(is_cut).tolist():
        one = slice(stay, stay + 1)
        again = _sums(
            recording,
            edges[stay : stay + 2],
            sums.state[begin:end][one],
            (inner_first[one], inner_last[one]),
            supply_v,
            should_stop,
        )
        charge_c[one], measured_s[one], peak_a[one] = again.charge_c, again.measured_s, again.peak_a
        inner_c[one], inner_s[one] = again.inner_c, again.inner_s
        if energy_j is not None and again.energy_j is not None:
            energy_j[one] = again.energy_j
    return StaySums(
        edges=edges,
        state=sums.state[begin:end],
        charge_c=charge_c,
        measured_s=measured_s,
        energy_j=energy_j,
        peak_a=peak_a,
        inner_c=inner_c,
        inner_s=inner_s,
        inner_first=inner_first,
        inner_last=inner_last,
        interval_s=sums.interval_s,
    )


def _sums(
    recording: Recording,
    edges: Indices,
    state: Indices,
    inner: tuple[Indices, Indices],
    supply_v: float | None,
    should_stop: ShouldStop,
) -> StaySums:
    current = recording.current
    interval_s = current.interval_s
    first, last = inner
    cut = cut_inside(edges, first, last)
    found = interval_sums(current, cut.cuts, should_stop=should_stop)
    opens = np.searchsorted(cut.cuts, edges[:-1])
    flowed_c, taken_s = found.total * interval_s, found.count.astype(np.float64) * interval_s
    charge_c, inner_c, measured_s, inner_s = (
        np.bincount(cut.owner, parts, minlength=len(state)).astype(np.float64)
        for parts in (flowed_c, flowed_c * cut.is_inside, taken_s, taken_s * cut.is_inside)
    )
    volts = recording.info.supply_v if recording.info.supply_v is not None else supply_v
    energy_j: Floats | None = None
    if recording.power is not None:
        energy_j = interval_sums(recording.power, edges, should_stop=should_stop).total * interval_s
    elif volts is not None:
        energy_j = charge_c * volts
    return StaySums(
        edges=edges,
        state=state,
        charge_c=charge_c,
        measured_s=measured_s,
        energy_j=energy_j,
        peak_a=np.fmax.reduceat(found.high, opens) if len(opens) else found.high,
        inner_c=inner_c,
        inner_s=inner_s,
        inner_first=first,
        inner_last=last,
        interval_s=interval_s,
    )
