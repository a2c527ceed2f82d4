"""All kinds of waste. A new kind is one module and one line here."""

from __future__ import annotations

from collections.abc import Iterable

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.tuning.findings.awake_tail import awake_tail
from warm_ember.tuning.findings.floor_above_expected import floor_above_expected
from warm_ember.tuning.findings.part_left_on import part_left_on
from warm_ember.tuning.findings.registry import LEAST_CONFIDENCE
from warm_ember.tuning.findings.sleep_depth import sleep_depth
from warm_ember.tuning.findings.sleep_not_entered import sleep_not_entered
from warm_ember.tuning.findings.tick_running import tick_running
from warm_ember.tuning.findings.timer_overridden import timer_overridden
from warm_ember.tuning.findings.timers_unaligned import timers_unaligned
from warm_ember.tuning.findings.wake_burst import wake_burst
from warm_ember.tuning.findings.waste import WasteContext, Waster

WASTERS: tuple[Waster, ...] = (
    tick_running,
    sleep_not_entered,
    floor_above_expected,
    part_left_on,
    awake_tail,
    wake_burst,
    timers_unaligned,
    sleep_depth,
    timer_overridden,
)
_CLOCK_S = 2e-3
_EXPLAINED_BY = {
    FindingKind.FLOOR_ABOVE_EXPECTED: {FindingKind.SLEEP_NOT_ENTERED},
    FindingKind.PART_LEFT_ON: {FindingKind.SLEEP_NOT_ENTERED},
    FindingKind.HUM: {FindingKind.TICK_RUNNING},
    FindingKind.BELOW_RESOLUTION: {FindingKind.TICK_RUNNING},
    FindingKind.UNDERSAMPLED: {FindingKind.TICK_RUNNING},
}
"""Kinds that say no more where another is found: a core that runs on in sleep lifts the floor as well, and pulses of a
tick look like noise or hum."""


def _just_before(finding: Finding) -> float:
    """Return a moment before the end of a finding; the log's clock is not exact to the sample."""
    return max((finding.from_s + finding.to_s) / 2, finding.to_s - _CLOCK_S)


def find_waste(waste: WasteContext, checked: Iterable[Finding] = ()) -> tuple[Finding, ...]:
    """Find all that is wasted in a capture; only what is more likely so than not.

    Parameters
    ----------
    waste
        What to look in.
    checked
        What must not be believed of the capture: what stays of it is returned as well.

    Raises
    ------
    Cancelled
        If `waste.should_stop` answered yes.
    """
    if not waste.duration_s:
        return tuple(checked)
    # Without a current nothing has a cost; a trace alone still tells of timers.
    wasters = WASTERS if waste.wakes.is_measured else (timer_overridden,)
    found = [finding for waster in wasters for finding in waster(waste)]
    every = [*(one for one in found if one.confidence >= LEAST_CONFIDENCE), *checked]
    kinds = {finding.kind for finding in every}
    kept = [finding for finding in every if not _EXPLAINED_BY.get(finding.kind, set()) & kinds]
    # A capture that ends in a lighter sleep ends at rest, whatever the level.
    kept = [one for one in kept if one.kind is not FindingKind.TRUNCATED or not waste.sleeps_at(_just_before(one))]
    return tuple(sorted(kept, key=lambda finding: (finding.from_s, finding.to_s)))
