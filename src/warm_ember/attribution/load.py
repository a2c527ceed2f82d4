"""From a ledger and the project's activities to the load over the device's life."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from warm_ember.attribution.ledger import Ledger, LedgerRow
from warm_ember.model.battery import Activity, FromStates, FromStretch, Typed
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import ActivityCost, Load
from warm_ember.signal.stretch import StretchReading

TYPED_SPREAD = 0.05
RATE_SPREAD = 0.1

ReadStretch = Callable[[FromStretch], StretchReading | None]


def make_load(ledger: Ledger, activities: tuple[Activity, ...], read_stretch: ReadStretch) -> Load:
    """Turn what a capture shows into an average over the device's life.

    Parameters
    ----------
    ledger
        The capture's states.
    activities
        What happens how often. Without any, the capture stands for the whole life.
    read_stretch
        Reads an activity that was taken from a bracket; None when its capture is not there.

    Notes
    -----
    The base is the mean current of all states that belong to no activity, so what an activity adds counts from
    there. An activity from states costs what those states took in the whole capture, for each entry of the state
    that counts its occurrences.
    """
    if not activities:
        base = Figure(ledger.mean_a, ledger.mean_a, ledger.mean_a, Grade.MEASURED, "the whole capture")
        return Load(base, "the whole capture", ())
    taken = {state for a in activities if isinstance(a.source, FromStates) for state in a.source.states}
    resting = [row for row in ledger.all_rows if row.name not in taken]
    costs, missing = [], []
    for activity in activities:
        cost = _cost(activity, ledger, read_stretch)
        if cost is None:
            missing.append(activity.name)
        else:
            costs.append(cost)
    return Load(_base(resting), _base_name(resting), tuple(costs), tuple(missing))


def _base(resting: list[LedgerRow]) -> Figure:
    measured = [row for row in resting if row.mean.value is not None]
    dwell_s = sum(row.dwell_s for row in measured)
    if dwell_s <= 0:
        return Figure(0.0, grade=Grade.ASSUMED, origin="no state is left for the time between activities")
    value, low, high = (
        sum(row.dwell_s * (getattr(row.mean, end) or 0.0) for row in measured) / dwell_s
        for end in ("value", "low", "high")
    )
    grade = max((row.mean.grade for row in measured), key=lambda g: g.weakness)
    return Figure(value, low, high, grade, _base_name(resting))


def _base_name(resting: list[LedgerRow]) -> str:
    longest = max(resting, key=lambda row: row.dwell_s, default=None)
    return longest.name if longest is not None else "base"


def _cost(activity: Activity, ledger: Ledger, read_stretch: ReadStretch) -> ActivityCost | None:
    source = activity.source
    if isinstance(source, FromStates):
        return _from_states(activity, source, ledger)
    if isinstance(source, FromStretch):
        reading = read_stretch(source)
        if reading is None or reading.mean_a is None:
            return None
        return _activity_cost(
            activity, reading.charge_c, reading.length_s, reading.max_a or 0.0, TYPED_SPREAD, Grade.MEASURED,
            f"bracket on {source.capture}",
        )  # fmt: skip
    return _typed(activity, source)


def _typed(activity: Activity, source: Typed) -> ActivityCost:
    return _activity_cost(
        activity, source.charge_c, source.duration_s, source.peak_a, TYPED_SPREAD, Grade.TYPED, "typed"
    )


def _from_states(activity: Activity, source: FromStates, ledger: Ledger) -> ActivityCost | None:
    counted = ledger.row(source.per)
    rows = [row for name in source.states if (row := ledger.row(name)) is not None]
    if counted is None or not counted.entries:
        return None
    times = counted.entries
    parts = {row.name: (row.charge_c / times, row.dwell_s / times) for row in rows}
    peak_a = max((row.peak_a for row in rows if row.peak_a is not None), default=0.0)
    charges = counted.entry_charge_c
    spread = TYPED_SPREAD
    if times >= 3 and charges.mean() > 0:
        spread = max(0.01, float(np.std(charges, ddof=1) / charges.mean() / np.sqrt(times)))
    charge_c, duration_s = (sum(part[i] for part in parts.values()) for i in (0, 1))
    cost = _activity_cost(activity, charge_c, duration_s, peak_a, spread, Grade.MEASURED, f"{times} × {source.per}")
    cost.state_charges_c.update(parts)
    return cost


def _activity_cost(
    activity: Activity,
    charge_c: float,
    duration_s: float,
    peak_a: float,
    spread: float,
    grade: Grade,
    origin: str,
) -> ActivityCost:
    return ActivityCost(
        name=activity.name,
        charge_c=charge_c,
        duration_s=duration_s,
        peak_a=peak_a,
        rate_hz=activity.rate_hz,
        charge_spread=spread,
        rate_spread=RATE_SPREAD,
        grade=grade,
        origin=origin,
        hours=activity.hours,
        state_charges_c={},
    )
