"""What something that happens with a period takes, measured in a capture, so that another period can be asked for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.recording import Recording
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.errors import BadArgumentError
from warm_ember.model.placement import Placement
from warm_ember.model.plan import ActivityEvery, CurrentBy, Effect, PlannedChange, ReduceAverage
from warm_ember.model.project import Project
from warm_ember.signal.bands import band_stays
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import Series, ShouldStop, never
from warm_ember.signal.stretch import total
from warm_ember.signal.timer_periods import period_of
from warm_ember.units import duration_text

_LEAST = 6
_NEAR = 0.02
_HALF_WAY, _ABOVE = 0.5, 1.5
_LONGEST_LOOK_S = 600.0
_MEDIAN_PIECES, _MEDIAN_SAMPLES = 64, 1 << 14


@dataclass(frozen=True)
class PeriodModel:
    """Something with a period: what each time takes, over what flows between.

    Parameters
    ----------
    name
        A source of wakes, or a state in which something pulses.
    in_state
        Whether it is a state: what is saved counts for the time in it.
    period_s
        As measured.
    charge_c
        Of each time, above what flows between.
    floor_a
        What flows between.
    times
        How often it was seen.
    """

    name: str
    in_state: bool
    period_s: float
    charge_c: float
    floor_a: float
    times: int

    def mean_a(self, period_s: float) -> float:
        """Return the average current with another period.

        Raises
        ------
        BadArgumentError
            If it is no time.
        """
        if not period_s > 0:
            raise BadArgumentError(f"expected a period above 0, found {period_s:g} s")
        return self.floor_a + self.charge_c / period_s

    def change(self, period_s: float, project: Project, run: str) -> PlannedChange:
        """Return the change that another period is.

        A source that an activity of the same period stands for changes the activity; another source saves what it no
        longer adds; what pulses in a state changes what the state draws.
        """
        by_a = self.mean_a(period_s) - self.mean_a(self.period_s)
        activity = next((one for one in project.activities if _is_near(one.interval_s, self.period_s)), None)
        effect: Effect = ReduceAverage(-by_a)
        if self.in_state:
            effect = CurrentBy(by_a, self.name)
        elif activity is not None:
            effect = ActivityEvery(activity.name, period_s)
        late_s = max(period_s - self.period_s, 0.0)
        return PlannedChange(f"{self.name} every {duration_text(period_s)}", (effect,), run, "timer", latency_s=late_s)


def _is_near(interval_s: float | None, period_s: float) -> bool:
    return interval_s is not None and abs(interval_s / period_s - 1) < _NEAR


def of_source(ledger: WakeLedger, source: str) -> PeriodModel | None:
    """Return the model of a source of wakes; None when its wakes have no period."""
    row = ledger.row(source)
    if row is None or len(row.periods) != 1 or not ledger.is_measured:
        return None
    return PeriodModel(source, False, row.periods[0].period_s, row.charge_c_mean, ledger.floor_a, row.count)


def of_state(
    recording: Recording, placement: Placement, state: str, *, should_stop: ShouldStop = never
) -> PeriodModel | None:
    """Return the model of what pulses in the longest stay in a state; None when nothing does with a period.

    Notes
    -----
    A pulse is what rises above half way between the state's median and its highest reading.
    """
    current = recording.current
    mine = np.flatnonzero(placement.of(state))
    if not len(mine):
        return None
    lengths = np.diff(placement.edges)[mine]
    longest = mine[int(np.argmax(lengths))]
    first, last = int(placement.edges[longest]), int(placement.edges[longest + 1])
    last = min(last, first + int(_LONGEST_LOOK_S / current.interval_s))
    stay = total(current, first, last)
    if stay.count < _LEAST:
        return None
    floor_a, highest_a = _median_a(current, first, last), stay.high
    if highest_a < _ABOVE * floor_a:
        return None
    threshold_a = floor_a + _HALF_WAY * (highest_a - floor_a)
    stays = band_stays(current, threshold_a, np.inf, hysteresis=0.2, should_stop=should_stop)
    stays = stays[(stays[:, 0] > first) & (stays[:, 1] < last)]
    period = period_of(stays[:, 0].astype(np.float64) * current.interval_s, least=_LEAST)
    if period is None or period.period_s < 4 * current.interval_s:
        return None
    edges = np.unique(stays.ravel())
    sums = interval_sums(current, edges, should_stop=should_stop)
    at = np.searchsorted(edges, stays[:, 0])
    above_c = (sums.total[at] - floor_a * sums.count[at]) * current.interval_s
    charge_c = float(above_c.sum())
    between_a = (stay.total * current.interval_s - charge_c) / (stay.count * current.interval_s)
    return PeriodModel(state, True, period.period_s, charge_c / len(stays), between_a, len(stays))


def _median_a(current: Series, first: int, last: int) -> float:
    """Return the median of a stretch; where it is long, of pieces that are evenly spread over it."""
    count = min(_MEDIAN_PIECES, -(-(last - first) // _MEDIAN_SAMPLES))
    starts = np.linspace(first, max(first, last - _MEDIAN_SAMPLES), count).astype(int).tolist()
    pieces = [current.read(start, min(start + _MEDIAN_SAMPLES, last)) for start in starts]
    return float(np.nanmedian(np.concatenate(pieces).astype(np.float64)))
