"""Two runs compared: what each part of the average is in both, and whether the change is larger than chance."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

from warm_ember.attribution.budget import BudgetSegment
from warm_ember.attribution.ledger import Ledger
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.model.estimate import Estimate, total
from warm_ember.model.figure import Bound
from warm_ember.model.load import Load

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
        The 90 % interval of the change; None where it has no end: nothing is known of the spread of either, or one of
        them is only bounded.
    bounds
        On which side of the truth the two lie; None for values.
    hides_a
        How much more each may be where it is below something.
    """

    name: str
    before_a: float
    after_a: float
    low_a: float | None
    high_a: float | None
    bounds: tuple[Bound | None, Bound | None] = (None, None)
    hides_a: tuple[float, float] = (0.0, 0.0)

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
        return (self.low_a is not None and self.low_a > 0) or (self.high_a is not None and self.high_a < 0)

    @property
    def shown_a(self) -> tuple[float, float]:
        """Both sides as one shows them: what is below something as that."""
        return self.before_a + self.hides_a[0], self.after_a + self.hides_a[1]

    @property
    def is_bounded(self) -> bool:
        """Whether either side is only bounded."""
        return self.bounds != (None, None)

    @property
    def bound(self) -> Bound | None:
        """On which side of the true change the change lies; None where it is one, and where nothing tells."""
        before, after = self.bounds
        sides = {before.opposite if before is not None else None, after if after is not Bound.BELOW else Bound.AT_MOST}
        sides -= {None}
        return sides.pop() if len(sides) == 1 else None

    @property
    def words(self) -> str:
        """What is said of it in a word or three."""
        if self.is_real:
            return "real"
        if self.low_a is not None and self.high_a is not None:
            return "in noise"
        return "only bounded" if self.is_bounded else "seen too seldom"


@dataclass(frozen=True, eq=False)
class ComparedRun:
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

    by_state: tuple[BudgetSegment, ...]
    ledger: Ledger
    load: Load
    wakes: WakeLedger | None = None


def by_state(before: ComparedRun, after: ComparedRun) -> tuple[Difference, ...]:
    """Compare two runs state by state, the largest change first."""
    return _compared(before, after, _states)


def by_source(before: ComparedRun, after: ComparedRun) -> tuple[Difference, ...]:
    """Compare what each source of wakes adds in the two captures, the largest change first."""
    return _compared(before, after, _sources)


def by_activity(before: ComparedRun, after: ComparedRun) -> tuple[Difference, ...]:
    """Compare two runs activity by activity, the largest change first."""
    return _compared(before, after, _activities)


def of_average(before: ComparedRun, after: ComparedRun) -> Difference:
    """Compare the averages over the device's life."""
    return _difference("average", _average(before), _average(after))


def average(side: ComparedRun) -> Estimate:
    """Return the average over the device's life with what is known of its error."""
    if not side.load.costs:
        return side.ledger.estimate
    found = total(part.estimate for part in _activities(side).values())
    return replace(found, value=side.load.mean_a)


@dataclass(frozen=True)
class _Part:
    """What is known of a part of the average; where it is only bounded, how much less and more it may be besides."""

    estimate: Estimate
    bound: Bound | None = None
    less_a: float = 0.0
    more_a: float = 0.0


_NOTHING = _Part(Estimate(0.0))


def _part(estimate: Estimate, bound: Bound | None, hides_a: float = 0.0) -> _Part:
    """Return a part; `hides_a` is how much more than its value there may be where that is below something."""
    if bound is None:
        return _Part(estimate)
    if bound is Bound.AT_LEAST:
        return _Part(estimate, bound, more_a=math.inf)
    return _Part(estimate, bound, max(estimate.value, 0.0), hides_a)


def _average(side: ComparedRun) -> _Part:
    found, load = average(side), side.load
    if not load.costs:
        mean = side.ledger.mean
        hides_a = mean.high - found.value if mean.bound is Bound.BELOW and mean.high is not None else 0.0
        return _part(found, mean.bound, hides_a)
    return _part(found, load.bound)


def _compared(
    before: ComparedRun, after: ComparedRun, take: Callable[[ComparedRun], dict[str, _Part]]
) -> tuple[Difference, ...]:
    sides = [take(side) for side in (before, after)]
    found = [_difference(name, *(side.get(name, _NOTHING) for side in sides)) for name in _names(sides)]
    return tuple(sorted(found, key=lambda one: -abs(one.change_a)))


def _names(sides: Iterable[dict[str, _Part]]) -> list[str]:
    return list(dict.fromkeys(name for side in sides for name in side))


def _difference(name: str, before: _Part, after: _Part) -> Difference:
    change = _read(after.estimate).less(_read(before.estimate))
    low_a, high_a = change.interval() or (-math.inf, math.inf)
    low_a, high_a = low_a - after.less_a - before.more_a, high_a + after.more_a + before.less_a
    return Difference(
        name,
        before.estimate.value,
        after.estimate.value,
        low_a if math.isfinite(low_a) else None,
        high_a if math.isfinite(high_a) else None,
        (before.bound, after.bound),
        (_hides(before), _hides(after)),
    )


def _hides(part: _Part) -> float:
    return part.more_a if math.isfinite(part.more_a) else 0.0


def _read(estimate: Estimate) -> Estimate:
    """Return an estimate with what two readings of one thing by one instrument may differ by."""
    return total((estimate, Estimate(0.0, _LEAST_SPREAD * abs(estimate.value))))


def _states(side: ComparedRun) -> dict[str, _Part]:
    """Return what each state adds to the average: in the capture, or by its part in each activity and in the base."""
    load = side.load
    if not load.costs:
        whole_s = side.ledger.measured_s or 1.0
        return {row.name: _part(row.added, row.mean.bound, row.may_hide_c / whole_s) for row in side.ledger.all_rows}
    parts = _activities(side)
    errors: dict[str, list[Estimate]] = {}
    for cost in load.costs:
        whole_c = sum(charge_c for charge_c, _ in cost.state_charges_c.values())
        for state, (charge_c, _) in cost.state_charges_c.items():
            share = charge_c / whole_c if whole_c else 0.0
            errors.setdefault(state, []).append(parts[cost.name].estimate.times(share))
        if not cost.state_charges_c:
            errors.setdefault(cost.name, []).append(parts[cost.name].estimate)
    errors.setdefault(load.base_name, []).append(parts[load.base_name].estimate)
    bounds = {row.name: row.mean.bound for row in side.ledger.all_rows}
    bounds.setdefault(load.base_name, load.base.bound)
    return {
        one.name: _part(replace(total(errors.get(one.name, ())), value=one.added_a), bounds.get(one.name))
        for one in side.by_state
    }


def _sources(side: ComparedRun) -> dict[str, _Part]:
    wakes = side.wakes
    return {} if wakes is None else {row.source: _part(row.added, row.bound) for row in wakes.sources}


def _activities(side: ComparedRun) -> dict[str, _Part]:
    load = side.load
    if not load.costs:
        return {load.base_name: replace(_average(side), estimate=replace(side.ledger.estimate, value=load.base_a))}
    base = Estimate(load.base_a, load.base_a * load.base_spread, load.base_freedom)
    found = {load.base_name: _part(base, load.base.bound)}
    for cost in load.costs:
        added_a = cost.added_a(load.base_a)
        flows_a = cost.rate_hz * cost.charge_c
        known = Estimate(added_a, flows_a * cost.charge_spread, cost.charge_freedom, flows_a**3 * cost.charge_skew)
        found[cost.name] = _part(known, cost.bound)
    return found
