"""Too shallow, too deep: sleep in a mode that another would have beaten for its length."""

from __future__ import annotations

import numpy as np

from warm_ember.attribution.sleep_depth import Mode
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.waste import WasteContext
from warm_ember.units import count_text, counted, duration_text, quantity_text

_MATTERS, _OFTEN = 0.02, 0.2


def sleep_depth(waste: WasteContext) -> list[Finding]:
    """Find modes whose stretches should often have been in another, where that costs a part of the average."""
    found, ledger = [], waste.wakes
    # Levels of the current are no modes: somebody has to have named them.
    told = ledger.wakes.by_cpu is not None or any(event.event == "sleep" for event in waste.recording.events)
    depth, stretches = ledger.depth, ledger.depth.stretches
    for index, mode in enumerate(depth.modes):
        mine = np.flatnonzero(stretches.mode == index)
        for other_index in np.unique(depth.best[mine]).tolist():
            wrong = mine[(depth.best[mine] == other_index) & (depth.lost_c[mine] > 0)]
            lost_a = float(depth.lost_c[wrong].sum()) / ledger.duration_s
            is_named = told or (mode.name in waste.idling and ledger.depth.modes[other_index].name in waste.idling)
            if not is_named or lost_a < _MATTERS * waste.usual_a or len(wrong) < _OFTEN * len(mine):
                continue
            other = depth.modes[other_index]
            from_s = float(stretches.first[wrong[0]]) * ledger.interval_s
            to_s = float(stretches.first[wrong[-1]]) * ledger.interval_s + float(stretches.lasts_s[wrong[-1]])
            kind = FindingKind.TOO_SHALLOW if other.floor_a < mode.floor_a else FindingKind.TOO_DEEP
            sure = confidence(kind, is_sure=mode.crossing_is_typed and other.crossing_is_typed)
            words = _words(ledger, mode, other, len(wrong), len(mine))
            state = mode.name if waste.ledger.row(mode.name) is not None else _state_of(waste, mode)
            remedy, effects = f"Use {other.name} instead of {mode.name}", waste.less_in(state, lost_a)
            found.append(Finding(kind, from_s, to_s, lost_a, sure, words, remedy, effects))
    return found


def _state_of(waste: WasteContext, mode: Mode) -> str:
    """Return the state that sleep in a mode is in; empty where none is known."""
    rest = waste.rest
    return rest.state if rest is not None and rest.mode == mode.name else ""


def _words(ledger: WakeLedger, mode: Mode, other: Mode, wrong: int, count: int) -> str:
    both = {mode.name, other.name}
    even = next(one for one in ledger.depth.break_evens(mode.name) if {one.lighter, one.deeper} == both)
    side = "longer" if even.deeper == other.name else "shorter"
    is_typed = mode.crossing_is_typed and other.crossing_is_typed
    cost = "as it was entered" if is_typed else "as the wakes after each show it"
    floors = f"{quantity_text(mode.floor_a, 'A')} against {quantity_text(other.floor_a, 'A')}"
    length = duration_text(even.from_s)
    return (
        f"{count_text(wrong)} of {counted(count, 'stretch', 'stretches')} in {mode.name}: {side} than {length}, where "
        f"{other.name} would draw less ({floors}). The charge to enter and leave is {cost}"
    )
