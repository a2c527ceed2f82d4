"""Two runs compared: what each part of the average is in both, and whether the change is larger than chance."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

import numpy as np

from warm_ember.attribution.budget import Segment
from warm_ember.attribution.ledger import Ledger
from warm_ember.attribution.sequence import recurring
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.model.load import Load
from warm_ember.signal.estimates import Estimate, total

_LEAST_SPREAD = 0.001


@dataclass(frozen=True)
class Difference:
    """One part of the average current in two runs.

    Parameters
    ----------
    name
        A state, a source of wakes, an activity, or the whole.
    before_a, after_a
        What it adds to the average current in each.
    low_a, high_a
        The 90 % interval of the change; None where nothing is known of the spread of either.
    """

    name: str
    before_a: float
    after_a: float
    low_a: float | None
    high_a: float | None

    @property
    def change_a(self) -> float:
        """After less before."""
        return self.after_a - self.before_a

    @property
    def noise_a(self) -> float:
        """Half width of the 90 % interval of the change; infinite where nothing is known of it."""
        return math.inf if self.low_a is None or self.high_a is None else (self.high_a - self.low_a) / 2

    @property
    def is_real(self) -> bool:
        """Whether the change is larger than what chance makes of both runs."""
        return self.low_a is not None and self.high_a is not None and (self.low_a > 0 or self.high_a < 0)

    @property
    def words(self) -> str:
        """What is said of it in a word or three."""
        return "real" if self.is_real else "in noise" if self.low_a is not None else "seen too seldom"


@dataclass(frozen=True, eq=False)
class Side:
    """What one run brings to a comparison.

    Parameters
    ----------
    by_state
        What each state adds to the average over the device's life.
    ledger, load
        Its states and its activities.
    wakes
        Its wakes; None where nobody asked for them.
    """

    by_state: tuple[Segment, ...]
    ledger: Ledger
    load: Load
    wakes: WakeLedger | None = None


def by_state(before: Side, after: Side) -> tuple[Difference, ...]:
    """Compare two runs state by state, the largest change first."""
    return _compared(before, after, _states)


def by_source(before: Side, after: Side) -> tuple[Difference, ...]:
    """Compare what each source of wakes adds in the two captures, the largest change first."""
    return _compared(before, after, _sources)


def by_activity(before: Side, after: Side) -> tuple[Difference, ...]:
    """Compare two runs activity by activity, the largest change first."""
    return _compared(before, after, _activities)


def of_average(before: Side, after: Side) -> Difference:
    """Compare the averages over the device's life."""
    return _difference("average", average(before), average(after))


def average(side: Side) -> Estimate:
    """Return the average over the device's life with what is known of its error."""
    if not side.load.costs:
        return side.ledger.estimate
    found = total(_activities(side).values())
    return replace(found, value=side.load.mean_a)


def _compared(before: Side, after: Side, take: Callable[[Side], dict[str, Estimate]]) -> tuple[Difference, ...]:
    sides = [take(side) for side in (before, after)]
    nothing = Estimate(0.0)
    found = [_difference(name, *(side.get(name, nothing) for side in sides)) for name in _names(sides)]
    return tuple(sorted(found, key=lambda one: -abs(one.change_a)))


def _names(sides: Iterable[dict[str, Estimate]]) -> list[str]:
    return list(dict.fromkeys(name for side in sides for name in side))


def _difference(name: str, before: Estimate, after: Estimate) -> Difference:
    change = _read(after).less(_read(before))
    low_a, high_a = change.interval() or (None, None)
    return Difference(name, before.value, after.value, low_a, high_a)


def _read(estimate: Estimate) -> Estimate:
    """Return an estimate with what two readings of one thing by one instrument may differ by."""
    return total((estimate, Estimate(0.0, _LEAST_SPREAD * abs(estimate.value))))


def _states(side: Side) -> dict[str, Estimate]:
    """Return what each state adds to the average: in the capture, or by its part in each activity and in the base."""
    load = side.load
    if not load.costs:
        return {row.name: row.added for row in side.ledger.all_rows}
    parts = _activities(side)
    errors: dict[str, list[Estimate]] = {}
    for cost in load.costs:
        whole_c = sum(charge_c for charge_c, _ in cost.state_charges_c.values())
        for state, (charge_c, _) in cost.state_charges_c.items():
            errors.setdefault(state, []).append(parts[cost.name].times(charge_c / whole_c if whole_c else 0.0))
        if not cost.state_charges_c:
            errors.setdefault(cost.name, []).append(parts[cost.name])
    errors.setdefault(load.base_name, []).append(parts[load.base_name])
    return {one.name: replace(total(errors.get(one.name, ())), value=one.added_a) for one in side.by_state}


def _sources(side: Side) -> dict[str, Estimate]:
    wakes = side.wakes
    if wakes is None or not wakes.duration_s:
        return {}
    found = {}
    for row in wakes.sources:
        mine = wakes.wakes.by(row.source)
        begins_s = wakes.wakes.first[mine].astype(np.float64) * wakes.interval_s
        found[row.source] = replace(recurring(begins_s, wakes.cost_c[mine], wakes.duration_s), value=row.added_a)
    return found


def _activities(side: Side) -> dict[str, Estimate]:
    load = side.load
    if not load.costs:
        return {load.base_name: replace(side.ledger.estimate, value=load.base_a)}
    found = {load.base_name: Estimate(load.base_a, load.base_a * load.base_spread, load.base_freedom)}
    for cost in load.costs:
        added_a = cost.added_a(load.base_a)
        found[cost.name] = Estimate(added_a, cost.rate_hz * cost.charge_c * cost.charge_spread, cost.charge_freedom)
    return found
