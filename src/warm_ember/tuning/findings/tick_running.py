"""Tick running: a periodic system tick keeps waking the core in sleep."""

from __future__ import annotations

import numpy as np

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.plan import ReduceAverage
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.waste import LONGEST_TICK_S, WasteContext
from warm_ember.units import duration_text, format_trimmed, quantity_text

_MATTERS = 0.04
_OF_REST, _LEAST, _LEAST_A = 0.15, 2e-3, 1e-6
_MANY, _BRIEF, _MOSTLY = 50, 0.35, 0.6
_REMEDY = "Stop the tick in sleep"


def tick_running(waste: WasteContext) -> list[Finding]:
    """Find pulses with a period of at most 50 ms while the device should be at rest, or wakes that come like that.

    Notes
    -----
    Pulses of a supply's supervision come like that as well, but take next to nothing: only what is a noticeable part
    of the average is a tick. What is up for as long as down is no tick either, but a hum that was taken for wakes.
    """
    return _in_rest(waste) or _as_wakes(waste)


def _in_rest(waste: WasteContext) -> list[Finding]:
    tick, rest = waste.tick, waste.rest
    if tick is None or rest is None:
        return []
    cost_a = tick.mean_a * waste.share(rest.time_s)
    at_rest = tick.mean_a > max(_OF_REST * (tick.mean_a + tick.base_a), _LEAST_A) and cost_a > _LEAST * waste.usual_a
    if cost_a < _MATTERS * waste.usual_a and not at_rest:
        return []
    interval_s = rest.current.interval_s
    from_s, to_s = float(rest.first[0]) * interval_s, float(rest.last[-1]) * interval_s
    sure = confidence(FindingKind.TICK_RUNNING, is_sure=tick.explains > _MOSTLY)
    words, effects = _words(tick.period_s, tick.mean_a), waste.less_at_rest(tick.mean_a)
    return [Finding(FindingKind.TICK_RUNNING, from_s, to_s, cost_a, sure, words, _REMEDY, effects)]


def _as_wakes(waste: WasteContext) -> list[Finding]:
    found = []
    ledger = waste.wakes
    for row in ledger.sources:
        for period in row.periods:
            if period.period_s > LONGEST_TICK_S or len(period.members) < _MANY:
                continue
            mine = ledger.wakes.by(row.source).nonzero()[0][period.members]
            cost_a = float(ledger.cost_c[mine].sum()) / waste.duration_s
            is_brief = float(np.median(ledger.awake_s[mine])) < _BRIEF * period.period_s
            if cost_a < _MATTERS * waste.usual_a or not is_brief:
                continue
            interval_s = ledger.interval_s
            from_s, to_s = float(ledger.wakes.first[mine[0]]) * interval_s, float(ledger.wakes.last[mine[-1]])
            words = _words(period.period_s, cost_a)
            to_s, effects = to_s * interval_s, (ReduceAverage(cost_a),)
            found.append(
                Finding(
                    FindingKind.TICK_RUNNING,
                    from_s,
                    to_s,
                    cost_a,
                    confidence(FindingKind.TICK_RUNNING),
                    words,
                    _REMEDY,
                    effects,
                )
            )
    return found


def _words(period_s: float, mean_a: float) -> str:
    rate = format_trimmed(1 / period_s)
    return (
        f"during sleep the core wakes every {duration_text(period_s)} ({rate}/s), which adds "
        f"{quantity_text(mean_a, 'A')} to the sleep current. Stop the system tick before sleep, and correct the tick "
        f"count on wake-up from a clock that keeps running"
    )
