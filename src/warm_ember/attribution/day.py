"""The ledger of a mean day: what the states take once the activities come as often as they do in use."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.ledger import Ledger
from warm_ember.model.arrays import Floats
from warm_ember.model.load import ActivityCost, Load
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
    """
    times: dict[str, float] = {}
    charges: dict[str, float] = {}
    entries: dict[str, float] = {}
    busy = 0.0
    for cost in load.costs:
        busy += cost.rate_hz * cost.duration_s
        for name, (charge_c, dwell_s) in cost.state_charges_c.items():
            times[name] = times.get(name, 0.0) + cost.rate_hz * dwell_s
            charges[name] = charges.get(name, 0.0) + cost.rate_hz * charge_c * DAY_S
    resting = [row for row in ledger.all_rows if row.name not in times]
    resting_s = sum(row.dwell_s for row in resting)
    for row in resting:
        times[row.name] = (1 - busy) * row.dwell_s / resting_s if resting_s else 0.0
        charges[row.name] = times[row.name] * DAY_S * (row.mean.value or 0.0)
    for row in ledger.all_rows:
        entries[row.name] = times[row.name] * DAY_S / row.mean_dwell_s if row.mean_dwell_s else 0.0
    whole = load.mean_a * DAY_S
    return {
        row.name: DayRow(
            row.name,
            times[row.name],
            charges[row.name] / whole if whole else 0.0,
            charges[row.name],
            charges[row.name] * row.energy_j / row.charge_c if row.energy_j is not None and row.charge_c else None,
            entries[row.name],
        )
        for row in ledger.all_rows
    }


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
