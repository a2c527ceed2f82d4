"""From a ledger and the project's activities to the load over the device's life."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

import msgspec
import numpy as np

from warm_ember.attribution.ledger import Ledger, LedgerRow
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Activity, FromStates, FromStretch, FromWakes, Points, Typed
from warm_ember.model.estimate import Estimate, total
from warm_ember.model.figure import Bound, Figure, Grade
from warm_ember.model.load import ONCE_SPREAD, TYPED_SPREAD, ActivityCost, BasePart, Load
from warm_ember.model.rates import rates
from warm_ember.signal.estimates import mean

RATE_SPREAD = 0.1
WHOLE = "the whole capture"
_UNKNOWN_BASE = 0.3
_LEAST_SPREAD = 0.01


@dataclass(frozen=True)
class Occurrences:
    """The occurrences of an activity that were measured one by one.

    Parameters
    ----------
    charges_c, durations_s
        Of each.
    peak_a
        Highest current in any.
    parts
        Mean charge and time of one occurrence by state.
    here_s
        Length of the capture if they are in the one that the load is made of, else None: then they take nothing
        from its base.
    origin
        What they are, in words.
    bound
        On which side of the true charges they are known to lie; None for values.
    """

    charges_c: tuple[float, ...]
    durations_s: tuple[float, ...]
    peak_a: float
    parts: dict[str, tuple[float, float]]
    here_s: float | None
    origin: str
    bound: Bound | None = None


MeasureOccurrences = Callable[[FromStretch | FromWakes], Occurrences | None]
MeasurePulses = Callable[[Activity], Points]


def no_pulses(_activity: Activity) -> Points:
    """Measure nothing: no capacitor asks for it."""
    return ()


def make_load(
    ledger: Ledger,
    activities: tuple[Activity, ...],
    measure: MeasureOccurrences,
    pulses: MeasurePulses = no_pulses,
) -> Load:
    """Turn what a capture shows into an average over the device's life.

    Parameters
    ----------
    ledger
        The capture's states.
    activities
        What happens how often. Without any, the capture stands for the whole life.
    measure
        Measures an activity that was taken from a bracket or from wakes; None when its capture does not show it.
    pulses
        Measures what is left of an activity's pulses behind a capacitor.

    Raises
    ------
    BadArgumentError
        If a rate is impossible.

    Notes
    -----
    The base is the mean current of all time that belongs to no activity, so what an activity adds counts from
    there. An activity from states costs what those states took in the whole capture, for each entry of the state
    that counts its occurrences.
    """
    if not activities:
        base = msgspec.structs.replace(ledger.mean, origin=WHOLE)
        return Load(base, WHOLE, (), base_spread=_relative(ledger.estimate), base_freedom=ledger.estimate.freedom)
    often = rates(activities)
    costs: list[ActivityCost] = []
    missing: list[str] = []
    gone: dict[str, tuple[float, float]] = {}
    for activity in activities:
        found = _occurrences(activity, ledger, measure)
        if isinstance(activity.source, Typed):
            costs.append(_typed(activity, activity.source, often[activity.name]))
        elif found is None:
            missing.append(activity.name)
        else:
            costs.append(_measured(activity, found, often[activity.name], pulses))
            if found.here_s is not None:
                _take(gone, found)
    wholly = {state for a in activities if isinstance(a.source, FromStates) for state in a.source.states}
    left = [row for row in ledger.all_rows if row.name not in wholly]
    resting = [rest for row in left if (rest := _rest(row, gone.get(row.name, (0.0, 0.0)))) is not None]
    base, spread = _base(resting), _base_estimate(resting)
    return Load(
        base,
        _base_name(resting),
        tuple(_with_reached(costs, resting)),
        tuple(missing),
        _base_parts(resting),
        _relative(spread),
        spread.freedom,
    )


def _relative(estimate: Estimate) -> float:
    """Return the relative standard deviation of an estimate."""
    if not estimate.is_known:
        return _UNKNOWN_BASE
    return abs(estimate.error / estimate.value) if estimate.value else 0.0


def _base_estimate(resting: list[_Rest]) -> Estimate:
    whole_s = sum(rest.dwell_s for rest in resting)
    return total(rest.estimate.times(rest.dwell_s / whole_s) for rest in resting) if whole_s > 0 else Estimate(0.0)


def _with_reached(costs: list[ActivityCost], resting: list[_Rest]) -> Iterable[ActivityCost]:
    """Give what reaches from activities into the rest beside them back to them, in equal parts."""
    times = sum(cost.times_here for cost in costs)
    reached_c = sum(rest.reached_c for rest in resting)
    each_c = reached_c / times if times else 0.0
    for cost in costs:
        if not each_c or not cost.times_here:
            yield cost
            continue
        parts = dict(cost.state_charges_c)
        if parts:
            most = max(parts, key=lambda state: parts[state][0])
            parts[most] = (parts[most][0] + each_c, parts[most][1])
        yield replace(cost, charge_c=cost.charge_c + each_c, state_charges_c=parts)


@dataclass(frozen=True)
class _Rest:
    """What is left of a state outside all activities."""

    name: str
    dwell_s: float
    charge_c: float
    mean: Figure
    estimate: Estimate
    reached_c: float


def _rest(row: LedgerRow, taken: tuple[float, float]) -> _Rest | None:
    left_s = row.dwell_s - taken[1]
    # A state that is taken wholly leaves a rest of rounding, not of time.
    if row.mean.value is None or left_s <= 1e-6 * row.dwell_s:
        return None
    mean_a = (row.mean.value * row.dwell_s - taken[0]) / left_s if taken[1] else row.mean.value
    shift_a = mean_a - row.mean.value
    low, high = (None if end is None else end + shift_a for end in (row.mean.low, row.mean.high))
    mean = msgspec.structs.replace(row.mean, value=mean_a, low=low, high=high)
    return _Rest(row.name, left_s, mean_a * left_s, mean, replace(row.estimate, value=mean_a), row.reached_c)


def _take(gone: dict[str, tuple[float, float]], found: Occurrences) -> None:
    """Note what an activity takes of each state."""
    for state, (charge_c, dwell_s) in found.parts.items():
        times, before = len(found.charges_c), gone.get(state, (0.0, 0.0))
        gone[state] = (before[0] + charge_c * times, before[1] + dwell_s * times)


def _base(resting: list[_Rest]) -> Figure:
    dwell_s = sum(rest.dwell_s for rest in resting)
    if dwell_s <= 0:
        return Figure(0.0, grade=Grade.ASSUMED, origin="no state is left for the time between activities")
    value, low, high = (
        sum(rest.dwell_s * _end(rest.mean, end) for rest in resting) / dwell_s for end in ("value", "low", "high")
    )
    weak = max(resting, key=lambda rest: (rest.mean.grade.weakness, rest.dwell_s))
    bounds = {rest.mean.bound for rest in resting} - {None}
    bound = Bound.AT_LEAST if Bound.AT_LEAST in bounds else next(iter(bounds), None)
    end = None if bound is Bound.AT_LEAST else high
    return Figure(value, low, end, weak.mean.grade, _base_name(resting), bound)


def _end(figure: Figure, end: str) -> float:
    """Return an end of an interval, the value where it has none."""
    found: float | None = getattr(figure, end)
    return (figure.value or 0.0) if found is None else found


def _base_name(resting: list[_Rest]) -> str:
    longest = max(resting, key=lambda rest: rest.dwell_s, default=None)
    return longest.name if longest is not None else "base"


def _base_parts(resting: list[_Rest]) -> tuple[BasePart, ...]:
    """Return each state's share of the base, the largest charge first."""
    whole_c, whole_s = sum(rest.charge_c for rest in resting), sum(rest.dwell_s for rest in resting)
    parts = [BasePart(r.name, r.charge_c / whole_c if whole_c else 0.0, r.dwell_s / whole_s) for r in resting]
    return tuple(sorted(parts, key=lambda part: -part.charge_share))


def _occurrences(activity: Activity, ledger: Ledger, measure: MeasureOccurrences) -> Occurrences | None:
    source = activity.source
    if isinstance(source, FromStates):
        return _of_states(source, ledger)
    return None if isinstance(source, Typed) else measure(source)


def _of_states(source: FromStates, ledger: Ledger) -> Occurrences | None:
    counted = ledger.row(source.per)
    rows = [row for name in source.states if (row := ledger.row(name)) is not None]
    if counted is None or not counted.entries:
        return None
    times = counted.entries
    # What the other states took belongs to the occurrences in equal parts: they are not entered as often.
    scale = sum(row.charge_c for row in rows) / counted.charge_c if counted.charge_c > 0 else 1.0
    return Occurrences(
        charges_c=tuple((counted.entry_charge_c * scale).tolist()),
        durations_s=tuple(np.full(times, sum(row.dwell_s for row in rows) / times).tolist()),
        peak_a=max((row.peak_a for row in rows if row.peak_a is not None), default=0.0),
        parts={row.name: (row.charge_c / times, row.dwell_s / times) for row in rows},
        here_s=ledger.duration_s,
        origin=f"{times} × {source.per}",
        bound=Bound.AT_LEAST if any(row.mean.bound is Bound.AT_LEAST for row in rows) else None,
    )


def _measured(activity: Activity, found: Occurrences, rate_hz: float, pulses: MeasurePulses) -> ActivityCost:
    times = len(found.charges_c)
    charges = np.array(found.charges_c)
    charge_c, duration_s = float(charges.mean()), float(np.mean(found.durations_s))
    if found.parts:
        charge_c, duration_s = (sum(part[i] for part in found.parts.values()) for i in (0, 1))
    known = _mean_charge(charges)
    return ActivityCost(
        name=activity.name,
        charge_c=charge_c,
        duration_s=duration_s,
        peak_a=found.peak_a,
        rate_hz=rate_hz,
        charge_spread=max(_LEAST_SPREAD, _relative(known)),
        charge_freedom=known.freedom,
        charge_skew=known.skew / known.value**3 if known.value else 0.0,
        rate_spread=RATE_SPREAD,
        grade=Grade.MEASURED if found.bound is None else Grade.BOUNDED,
        origin=found.origin,
        bound=found.bound,
        hours=activity.hours,
        state_charges_c=dict(found.parts),
        months=activity.months,
        is_random=activity.is_random,
        pulses=pulses(activity),
        measured_hz=times / found.here_s if found.here_s else None,
        measured_times=times,
        times_here=times if found.here_s else 0,
        lowest_c=float(charges.min()),
        highest_c=float(charges.max()),
    )


def _mean_charge(charges_c: Floats) -> Estimate:
    """Return the mean charge of occurrences.

    Notes
    -----
    One occurrence tells nothing of how others differ: what these scatter by is assumed, and is said to be. A few
    charges show less of their skew than there is: it is corrected for that.

    References
    ----------
    D. N. Joanes, C. A. Gill, "Comparing measures of sample skewness and kurtosis", *The Statistician* 47, 1998.
    """
    many = len(charges_c)
    if many > 1:
        found = mean(charges_c)
        return replace(found, skew=found.skew * math.sqrt(many * (many - 1)) / max(many - 2, 1))
    once_c = float(charges_c[0])
    return Estimate(once_c, ONCE_SPREAD * abs(once_c))


def _typed(activity: Activity, source: Typed, rate_hz: float) -> ActivityCost:
    return ActivityCost(
        name=activity.name,
        charge_c=source.charge_c,
        duration_s=source.duration_s,
        peak_a=source.peak_a,
        rate_hz=rate_hz,
        charge_spread=TYPED_SPREAD,
        rate_spread=RATE_SPREAD,
        grade=Grade.ENTERED,
        origin="typed",
        hours=activity.hours,
        state_charges_c={},
        months=activity.months,
        is_random=activity.is_random,
        peak_s=source.peak_s,
    )


@dataclass(frozen=True)
class Reproduced:
    """How well a load stands for the capture that it was made of.

    Parameters
    ----------
    model_a
        The load's average with each activity as often as the capture shows it.
    measured_a
        The capture's own average.
    unknown
        Activities of which the capture does not say how often they come: they count nothing here.
    """

    model_a: float
    measured_a: float
    unknown: tuple[str, ...]

    @property
    def difference(self) -> float:
        """By how much the model is off, as a share of what was measured."""
        return self.model_a / self.measured_a - 1 if self.measured_a else 0.0


def reproduce(load: Load, ledger: Ledger) -> Reproduced | None:
    """Compare a load at the capture's own rates with the capture; None when nothing was measured."""
    if ledger.mean_a is None:
        return None
    base_a = load.base_a
    known = [cost for cost in load.costs if cost.measured_hz is not None]
    model_a = base_a + sum((c.measured_hz or 0.0) * (c.charge_c - base_a * c.duration_s) for c in known)
    unknown = tuple(cost.name for cost in load.costs if cost.measured_hz is None)
    return Reproduced(model_a, ledger.mean_a, (*unknown, *load.missing))
