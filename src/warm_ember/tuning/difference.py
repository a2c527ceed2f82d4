"""Two runs compared: what each part of the average is in both, and whether the change is larger than chance."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.budget import Segment
from warm_ember.attribution.ledger import Ledger, ratio_draws
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.model.arrays import Floats
from warm_ember.model.load import Load

_LEAST_SPREAD = 0.003
_FEW = 8
_NORMAL_90 = 1.645
_DRAWS = 400


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
        The 90 % interval of the change.
    """

    name: str
    before_a: float
    after_a: float
    low_a: float
    high_a: float

    @property
    def change_a(self) -> float:
        """After less before."""
        return self.after_a - self.before_a

    @property
    def noise_a(self) -> float:
        """Half width of the 90 % interval of the change."""
        return (self.high_a - self.low_a) / 2

    @property
    def is_real(self) -> bool:
        """Whether the change is larger than what chance makes of both runs."""
        return self.low_a > 0 or self.high_a < 0


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


@dataclass(frozen=True, eq=False)
class _Drawn:
    """What a part adds, and what it might add as well, shape ``(draws,)``."""

    value_a: float
    draws_a: Floats


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
    return _difference("average", *(_whole(side, _states(side)) for side in (before, after)))


def _whole(side: Side, parts: dict[str, _Drawn]) -> _Drawn:
    """Sum the parts, each drawn on its own."""
    return _Drawn(side.load.mean_a, np.sum([part.draws_a for part in parts.values()], axis=0) + np.zeros(_DRAWS))


def _compared(before: Side, after: Side, take: Callable[[Side], dict[str, _Drawn]]) -> tuple[Difference, ...]:
    sides = [take(side) for side in (before, after)]
    nothing = _Drawn(0.0, np.zeros(_DRAWS))
    found = [_difference(name, *(side.get(name, nothing) for side in sides)) for name in _names(sides)]
    return tuple(sorted(found, key=lambda one: -abs(one.change_a)))


def _names(sides: Iterable[dict[str, _Drawn]]) -> list[str]:
    return list(dict.fromkeys(name for side in sides for name in side))


def _difference(name: str, before: _Drawn, after: _Drawn) -> Difference:
    # Against another order, so that draws with the same chances do not go together.
    low, high = np.quantile(after.draws_a[::-1] - before.draws_a, (0.05, 0.95))
    change_a = after.value_a - before.value_a
    return Difference(name, before.value_a, after.value_a, min(float(low), change_a), max(float(high), change_a))


def _states(side: Side) -> dict[str, _Drawn]:
    return {
        segment.name: _Drawn(segment.added_a, segment.added_a * _relative(side.ledger, segment.name, number))
        for number, segment in enumerate(side.by_state)
    }


def _relative(ledger: Ledger, name: str, seed: int) -> Floats:
    """Return by what a state's mean might differ, as factors: from its entries, else from its interval."""
    random = np.random.default_rng([seed, len(name)])
    factors = 1 + _LEAST_SPREAD * random.standard_normal(_DRAWS)
    row = ledger.row(name)
    if row is None or not row.mean.value:
        return factors
    if row.entries >= _FEW:
        drawn = ratio_draws(row.entry_charge_c, row.entry_dwell_s, seed)
        return np.asarray(factors * drawn / row.mean.value)
    if row.mean.low is not None and row.mean.high is not None:
        spread = (row.mean.high - row.mean.low) / 2 / _NORMAL_90 / abs(row.mean.value)
        factors += spread * random.standard_normal(_DRAWS)
    return factors


def _sources(side: Side) -> dict[str, _Drawn]:
    wakes = side.wakes
    if wakes is None or not wakes.duration_s:
        return {}
    found = {}
    for number, row in enumerate(wakes.sources):
        mine = wakes.cost_c[wakes.wakes.by(row.source)]
        random = np.random.default_rng([number, row.count])
        costs = mine[random.integers(0, len(mine), (_DRAWS, min(len(mine), 512)))].mean(axis=1)
        # What comes by chance might have come more or less often; what a timer gives would not.
        counts = np.full(_DRAWS, float(row.count)) if row.periods else random.poisson(row.count, _DRAWS).astype(float)
        draws_a = costs * counts / wakes.duration_s * (1 + _LEAST_SPREAD * random.standard_normal(_DRAWS))
        found[row.source] = _Drawn(row.added_a, draws_a)
    return found


def _activities(side: Side) -> dict[str, _Drawn]:
    load = side.load
    base = _relative(side.ledger, load.base_name, 0)
    found = {load.base_name: _Drawn(load.base_a, load.base_a * base)}
    for number, cost in enumerate(load.costs, 1):
        random = np.random.default_rng([number, 1])
        factors = 1 + max(cost.charge_spread, _LEAST_SPREAD) * random.standard_normal(_DRAWS)
        found[cost.name] = _Drawn(cost.added_a(load.base_a), cost.added_a(load.base_a) * factors)
    return found
