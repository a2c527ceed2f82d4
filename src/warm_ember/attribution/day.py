"""The ledger of a mean day: what the states take once the activities come as often as they do in use."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.ledger import Ledger, LedgerRow
from warm_ember.model.arrays import Floats
from warm_ember.model.load import ActivityCost, BasePart, Load
from warm_ember.units import DAY_S


@dataclass(frozen=True)
class DayRow:
    """One state of a mean day.

    Parameters
    ----------
    time_share, charge_share
        Its shares of the day.
    charge_c
        Its charge in a day.
    energy_j
        Its energy in a day, at the capture's energy per charge; None without a voltage.
    entries
        How often it is entered in a day.
    """

    name: str
    time_share: float
    charge_share: float
    charge_c: float
    energy_j: float | None
    entries: float


def day_rows(load: Load, ledger: Ledger) -> dict[str, DayRow]:
    """Scale the states that activities are measured in to a day; what is left of the day is the base.

    Parameters
    ----------
    load, ledger
        Of one run; without activities the capture is the day.

    Returns
    -------
    dict
        By name: the ledger's states, and after them each activity of which no state of it shows anything, such as one
        that was typed. Their shares sum to 1.
    """
    seconds: dict[str, float] = {row.name: 0.0 for row in ledger.all_rows}
    charges: dict[str, float] = dict(seconds)
    left_s = DAY_S
    for cost in load.costs:
        times = cost.rate_hz * DAY_S
        left_s -= times * cost.duration_s
        parts = cost.state_charges_c or {cost.name: (cost.charge_c, cost.duration_s)}
        for name, (charge_c, dwell_s) in parts.items():
            seconds[name] = seconds.get(name, 0.0) + times * dwell_s
            charges[name] = charges.get(name, 0.0) + times * charge_c
    for part in load.base_parts if load.costs else _as_captured(ledger):
        seconds[part.state] += left_s * part.time_share
        charges[part.state] += left_s * load.base_a * part.charge_share
    whole_c = load.mean_a * DAY_S
    rows = {row.name: row for row in ledger.all_rows}
    return {
        name: DayRow(
            name,
            seconds[name] / DAY_S,
            charges[name] / whole_c if whole_c else 0.0,
            charges[name],
            _energy_j(charges[name], rows.get(name)),
            _entries(seconds[name], rows.get(name)),
        )
        for name in seconds
    }


def _as_captured(ledger: Ledger) -> tuple[BasePart, ...]:
    dwell_s = sum(row.dwell_s for row in ledger.all_rows)
    return tuple(
        BasePart(
            row.name,
            row.charge_c / ledger.charge_c if ledger.charge_c else 0.0,
            row.dwell_s / dwell_s if dwell_s else 0.0,
        )
        for row in ledger.all_rows
    )


def _energy_j(charge_c: float, row: LedgerRow | None) -> float | None:
    if row is None or row.energy_j is None or not row.charge_c:
        return None
    return charge_c * row.energy_j / row.charge_c


def _entries(seconds: float, row: LedgerRow | None) -> float:
    return seconds / row.mean_dwell_s if row is not None and row.mean_dwell_s else 0.0


def hourly(cost: ActivityCost, base_a: float) -> Floats:
    """Return what an activity adds to the mean current of each hour of the day, A, shape ``(24,)``.

    An activity with weights by the hour follows them; one that comes a few times a day at even intervals is shown
    in the hours it falls into, counted from midnight; anything else is even.
    """
    added_a = cost.added_a(base_a)
    weights = np.ones(24)
    times_a_day = cost.rate_hz * DAY_S
    if len(cost.hours) == 24 and sum(cost.hours) > 0:
        weights = np.array(cost.hours, dtype=np.float64)
    elif 0.99 < times_a_day < 23.5:
        weights = np.zeros(24)
        weights[(np.arange(round(times_a_day)) * 24 / round(times_a_day)).astype(int)] = 1.0
    return np.asarray(added_a * 24 * weights / weights.sum())
