"""A life year by year: what is left, and how close the pulses come to the cut-off."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from warm_ember.battery.life import LifeEstimate
from warm_ember.battery.year import start_of
from warm_ember.model.battery import Climate
from warm_ember.units import DAY_S, YEAR_S

MOST_YEARS = 100


@dataclass(frozen=True)
class YearOfLife:
    """One year of a life, or what there is of its last.

    Parameters
    ----------
    number
        From 1.
    from_s, to_s
        Its ends since the start.
    begins
        Its first day; None where no start was typed.
    charge_share
        What is left of the capacity at its end.
    lowest_v
        The lowest voltage under the highest current in it; None without a cell.
    margin_v
        That above the voltage at which the device stops; None without a cell or without such a voltage.
    coldest_c
        The lowest temperature in it.
    """

    number: int
    from_s: float
    to_s: float
    begins: date | None
    charge_share: float
    lowest_v: float | None
    margin_v: float | None
    coldest_c: float


def by_year(life: LifeEstimate, climate: Climate) -> tuple[YearOfLife, ...]:
    """Cut a life into years, at most `MOST_YEARS`; none of one that never ends."""
    if not math.isfinite(life.life_s) or life.life_s <= 0:
        return ()
    course, start = life.course, start_of(climate)
    times_s = course.time_s[0]
    years = []
    for index in range(min(math.ceil(life.life_s / YEAR_S), MOST_YEARS)):
        from_s, to_s = index * YEAR_S, min((index + 1) * YEAR_S, life.life_s)
        inside = (times_s >= from_s) & (times_s <= to_s)
        ends_s = np.concatenate(([from_s, to_s], times_s[inside]))

        def lowest(values: np.ndarray, at: np.ndarray = ends_s) -> float:
            return float(np.interp(at, times_s, values).min())

        volts = lowest(course.pulse_v[0])
        known = not math.isnan(volts)
        years.append(
            YearOfLife(
                number=index + 1,
                from_s=from_s,
                to_s=to_s,
                begins=None if start is None else start + timedelta(seconds=round(from_s / DAY_S) * DAY_S),
                charge_share=float(np.interp(to_s, times_s, course.charge_share[0])),
                lowest_v=volts if known else None,
                margin_v=volts - course.end_v if known and course.end_v else None,
                coldest_c=lowest(course.temperature_c[0]),
            )
        )
    return tuple(years)
