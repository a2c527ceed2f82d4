"""Awake tail: the core waits awake for something slow before it sleeps."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.wake_ledger import SourceRow
from warm_ember.attribution.wakes import UNKNOWN
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.kinds import UNSORTED
from warm_ember.model.placement import UNPLACED
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.timer_overridden import timer_overridden
from warm_ember.tuning.findings.waste import WasteContext
from warm_ember.units import duration_text, quantity_text

_LOOKED_AT, _PIECES = 60, 200
_MATTERS, _MOSTLY, _LEAST_S = 0.03, 0.5, 5e-3
_LEVEL, _HIGHER = 0.2, 1.5
_WAY_IN_S, _WAY_OUT_S = 0.3e-3, 1.5e-3
_ABOVE_FLOOR, _AWAKE_A = 2.0, 0.2e-3
_STOPPED, _SHORT_S = 0.45, 0.1
_OFTEN = 0.6
_BREAKS_OUT = 3
_WAITS = re.compile(r"wait|idle|settl|delay|warm", re.IGNORECASE)


@dataclass(frozen=True)
class _Tail:
    """The last level of a wake: how long, how high above the floor, and how high what came before it."""

    lasts_s: float
    level_a: float
    before_a: float
    state: str


def awake_tail(waste: WasteContext) -> list[Finding]:
    """Find wakes that end in a long level, lower than the work before it and far above sleep.

    Notes
    -----
    A state in which something is known to idle is left to the audit of sleep depth. A short one that is called waiting
    and draws far less than running is one in which the core is stopped already.
    """
    if waste.wakes.wakes.by_cpu is not None or not waste.wakes.is_measured:
        return []
    overridden = timer_overridden(waste)
    # What nobody knows nobody can change.
    rows = [row for row in waste.wakes.sources if row.source not in (UNKNOWN, UNSORTED)]
    return [finding for row in rows for finding in _of_source(waste, row, overridden)]


def _is_open(waste: WasteContext, overridden: list[Finding], wake: int) -> bool:
    """Return whether what a wake ends with is not waiting for a timer that the network chose."""
    wakes = waste.wakes.wakes
    first, last = (float(edge[wake]) * waste.wakes.interval_s for edge in (wakes.first, wakes.last))
    return not any(one.from_s < last and one.to_s > first for one in overridden)


def _of_source(waste: WasteContext, row: SourceRow, overridden: list[Finding]) -> list[Finding]:
    wakes, interval_s = waste.wakes.wakes, waste.wakes.interval_s
    mine = np.flatnonzero(wakes.by(row.source))
    mine = mine[[_is_open(waste, overridden, k) for k in mine.tolist()]]
    if not len(mine):
        return []
    chosen = mine[np.unique(np.linspace(0, len(mine) - 1, min(len(mine), _LOOKED_AT)).astype(int))]
    tails = [_tail(waste, int(wakes.first[k]), int(wakes.last[k])) for k in chosen.tolist()]
    found = [tail for tail in tails if tail is not None]
    if len(found) < _OFTEN * len(chosen):
        return []
    lasts_s = float(np.median([tail.lasts_s for tail in found]))
    level_a = float(np.median([tail.level_a for tail in found]))
    running_a = _running_a(waste, found)
    state = found[0].state
    is_stopped = level_a < _STOPPED * running_a and lasts_s < _SHORT_S and bool(_WAITS.search(state))
    if is_stopped or state in waste.idling:
        return []
    cost_a = float(np.mean([tail.lasts_s * tail.level_a for tail in found])) * len(mine) * len(found) / len(chosen)
    cost_a /= waste.duration_s
    if cost_a < _MATTERS * waste.usual_a:
        return []
    name = f"by {row.source}" if row.source else ""
    text = (
        f"wakes {name} end with {duration_text(lasts_s)} at a steady {quantity_text(level_a, 'A')}, of "
        f"{duration_text(row.awake_s_mean)} awake: the core waits for something slow. Sleep meanwhile, and let its "
        f"completion interrupt wake the device"
    )
    first, last = float(wakes.first[mine[0]]) * interval_s, float(wakes.last[mine[-1]]) * interval_s
    sure, remedy = confidence(FindingKind.AWAKE_TAIL, is_sure=len(mine) > 1), f"Sleep while {row.source} waits"
    return [Finding(FindingKind.AWAKE_TAIL, first, last, cost_a, sure, text, remedy, waste.less_in(state, cost_a))]


def _running_a(waste: WasteContext, tails: list[_Tail]) -> float:
    return float(np.median([tail.before_a for tail in tails]))


def _tail(waste: WasteContext, first: int, last: int) -> _Tail | None:
    """Return the last level of a wake; None where it is short, or alone."""
    series, interval_s, floor_a = waste.recording.current, waste.wakes.interval_s, waste.wakes.floor_a
    # The ways in and out belong to nothing, and a log is no more exact than its clock.
    first, last = first + max(1, round(_WAY_IN_S / interval_s)), last - max(1, round(_WAY_OUT_S / interval_s))
    if last - first < 8:
        return None
    size = max(1, (last - first) // _PIECES)
    values = np.asarray(series.read(first, first + (last - first) // size * size), dtype=np.float64)
    with np.errstate(invalid="ignore"):
        means = values.reshape(-1, size).mean(axis=1)
    if not np.isfinite(means).all():
        return None
    level_a = float(np.median(means[-max(2, len(means) // 5) :]))
    off = np.flatnonzero(np.abs(means - level_a) > _LEVEL * level_a)
    begin = int(off[-1]) + 1 if len(off) else 0
    lasts_s = (len(means) - begin) * size * interval_s
    is_level = level_a - floor_a >= _AWAKE_A and level_a >= _ABOVE_FLOOR * max(floor_a, 0.0)
    if begin == 0 or lasts_s < max(_MOSTLY * (last - first) * interval_s, _LEAST_S) or not is_level:
        return None
    # A reading or two that break out are no work.
    worked = min(begin, -(-_BREAKS_OUT // size))
    before_a = float(np.sort(means[:begin])[-worked])
    if before_a < _HIGHER * level_a:
        return None
    return _Tail(lasts_s, level_a - floor_a, before_a - floor_a, _state(waste, (first + begin * size + last) // 2))


def _state(waste: WasteContext, at: int) -> str:
    """Return the state at a sample, empty where there is none."""
    placement = waste.placement
    index = int(np.searchsorted(placement.edges, at, side="right")) - 1
    number = int(placement.state[max(min(index, len(placement.state) - 1), 0)])
    return placement.names[number] if number != UNPLACED else ""
