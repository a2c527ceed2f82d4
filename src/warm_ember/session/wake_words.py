"""Wakes in words: who wakes the device, what that costs, and whether the sleep between was deep enough."""

from __future__ import annotations

from typing import TYPE_CHECKING

from warm_ember.model.figure import signed
from warm_ember.units import percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.attribution.wake_ledger import WakeLedger

_MATTERS = 0.01


def wakes_sentence(ledger: WakeLedger) -> str:
    """Return what the wakes of a run cost, as rich text: the charge lost to wrong sleep, else who adds most."""
    if not ledger.wakes.count:
        return "Nothing wakes the device in this capture."
    if not ledger.is_measured:
        return _uncharged(ledger)
    lost_a, mean_a = ledger.depth.lost_a, ledger.mean_a
    if lost_a > _MATTERS * mean_a:
        of = f"{quantity_text(lost_a, 'A').rich} of the {quantity_text(mean_a, 'A').rich}"
        return f"{of} go to the wrong sleep mode. {_saved(ledger)}"
    top = ledger.sources[0]
    often = max(ledger.sources, key=lambda row: row.count)
    adds = signed(top.bound, quantity_text(top.added_a, "A").rich)
    most = f"{top.source} adds {adds} of the {signed(ledger.bound, quantity_text(mean_a, 'A').rich)}"
    most += f"; most wakes come from {often.source}" if often is not top else ", and most of the wakes"
    return f"{most}{_fits(ledger)} {_saved(ledger)}"


def plan_sentence(conflicts: tuple[str, ...]) -> str:
    """Return whether a wake plan holds, and its first conflict."""
    if not conflicts:
        return "The wake plan holds: every source reaches the core in some mode."
    more = f" And **{len(conflicts) - 1}** more." if len(conflicts) > 1 else ""
    return f"The wake plan does not hold: {conflicts[0]}{more}"


def _fits(ledger: WakeLedger) -> str:
    """Return whether another sleep mode would have been better, as far as there are others."""
    if not any(ledger.depth.break_evens(row.mode) for row in ledger.idle):
        return "; no other sleep mode to compare it with: see modes."
    if ledger.depth.lost_a > 0:
        return f"; a better choice of sleep would save {quantity_text(ledger.depth.lost_a, 'A', 2).rich}."
    return "; the depth of sleep fits."


def _uncharged(ledger: WakeLedger) -> str:
    """Return what is known without a current: who wakes most, and how many stretches were in the wrong mode."""
    often = max(ledger.sources, key=lambda row: row.count)
    share = percent_text(often.count / ledger.wakes.count).rich
    wrong, count = sum(row.too_shallow + row.too_deep for row in ledger.idle), sum(row.count for row in ledger.idle)
    depth = f"**{wrong}** of **{count}** idle stretches were in the wrong state" if wrong else "every idle state fits"
    return f"{often.source} is {share} of all wakes; {depth}. Without a current no charge is known."


def _saved(ledger: WakeLedger) -> str:
    """Return what aligning within the slack saves."""
    if not ledger.slack_s:
        return "No timer has slack yet."
    if not ledger.aligned.saved_a > 0:
        return "Aligning the wakes within their slack saves nothing."
    return f"Aligning the wakes within their slack saves {quantity_text(ledger.aligned.saved_a, 'A', 2).rich}."
