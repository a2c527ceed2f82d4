"""What could be changed next: by the findings, by what has no owner in the matrix, and by parts that could be off."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from warm_ember.model.bench import Attached
from warm_ember.model.finding import Finding
from warm_ember.model.load import Load
from warm_ember.model.parts import Part, PartMode, Power
from warm_ember.model.plan import CurrentBy, PartTo, PlannedChange
from warm_ember.tuning.leaks import leak_words, possible_leaks
from warm_ember.tuning.matrix import Matrix, StateColumn, lead_words
from warm_ember.tuning.prediction import PredictionStart, predict

MATRIX = "matrix"
_WORTH, _SETTLES = 5e-3, 0.2


@dataclass(frozen=True)
class SuggestedChange:
    """A change that could be taken into the plan.

    Parameters
    ----------
    change
        The change.
    words
        Why, with its evidence.
    saved_a
        What it would save beside the plan as it is.
    from_s, to_s
        Where the evidence lies; None where it is no stretch of the capture.
    load
        What the device would draw with it beside the plan; None where nobody worked it out.
    gain_s
        What that would add to the life, s; 0 where nobody worked it out.
    """

    change: PlannedChange
    words: str
    saved_a: float
    from_s: float | None = None
    to_s: float | None = None
    load: Load | None = None
    gain_s: float = 0.0


def suggest_changes(
    start: PredictionStart,
    findings: Iterable[Finding],
    matrix: Matrix,
    planned: tuple[PlannedChange, ...],
    ahead: tuple[PlannedChange, ...],
    attached: tuple[Attached, ...] = (),
    supply_v: float | None = None,
) -> tuple[SuggestedChange, ...]:
    """Offer changes, the one that saves most first.

    Parameters
    ----------
    start
        The run.
    findings, matrix
        What was found in it, and its shutdown matrix.
    planned, ahead
        All changes of the project, which are not offered again, and those that the run does not contain yet: what an
        offer saves counts after them.
    attached, supply_v
        What hangs beside the device, and its rail: for what could draw what has no owner.
    """
    run = start.ledger.capture
    found = [
        SuggestedChange(
            PlannedChange(one.remedy, one.effects, run, one.kind.value), one.text, 0.0, one.from_s, one.to_s
        )
        for one in findings
        if one.remedy and one.effects
    ]
    told = {state for one in found for effect in one.change.effects if (state := getattr(effect, "state", ""))}
    found += [
        _lead(column, start, attached, supply_v, run)
        for column in matrix.columns
        if column.is_open and (column.unexplained_a or 0.0) > 0 and column.state not in told
    ]
    found += _idle_parts(start, matrix, run)
    answers = [*(one for one in planned if one.on == run), *ahead]
    names = {one.change.name for one in found}
    fresh = [one for one in found if not _is_answered(one.change, answers, names)]
    before_a = predict(start, ahead).mean_a
    loads = [predict(start, (*ahead, one.change)).load for one in fresh]
    priced = [replace(one, saved_a=before_a - load.mean_a, load=load) for one, load in zip(fresh, loads, strict=True)]
    worth = [one for one in priced if one.saved_a > _WORTH * before_a]
    return tuple(sorted(worth, key=lambda one: -one.saved_a))


def _is_answered(change: PlannedChange, planned: list[PlannedChange], names: set[str]) -> bool:
    """Return whether changes that were planned on the same run are about the same thing.

    Parameters
    ----------
    change
        What could be offered.
    planned
        What is planned.
    names
        Of all that could be offered: a change that is called like one of them answers that one alone.
    """
    if any(one.name == change.name for one in planned):
        return True
    mine = _about(change)
    others = [_about(one) for one in planned if one.reason == change.reason != MATRIX and one.name not in names]
    if any(about == mine or about & mine for about in others):
        return True
    states = {effect.state for effect in change.effects if isinstance(effect, CurrentBy)}
    parts = {(effect.part, effect.mode) for effect in change.effects if isinstance(effect, PartTo)}
    for effect in (effect for one in planned for effect in one.effects):
        if isinstance(effect, CurrentBy) and change.reason == MATRIX and effect.state in (*states, "") and states:
            return True
        if isinstance(effect, PartTo) and (effect.part, effect.mode) in parts:
            return True
    return False


def _about(change: PlannedChange) -> frozenset[str]:
    """Return the states, parts and activities that a change acts on."""
    names = ("state", "part", "activity")
    return frozenset(name for effect in change.effects for key in names if (name := getattr(effect, key, "")))


def _lead(
    column: StateColumn, start: PredictionStart, attached: tuple[Attached, ...], supply_v: float | None, run: str
) -> SuggestedChange:
    """Offer to end what has no owner in a state."""
    left_a = column.unexplained_a or 0.0
    leaks = possible_leaks(left_a, supply_v, start.parts, start.on.get(column.state, ()), attached)
    name = (
        f"End in {column.state}: {leaks[0].what}" if leaks else f"Find the owner of what {column.state} draws too much"
    )
    fits = f" It fits {leak_words(leaks, left_a)}." if leaks else ""
    change = PlannedChange(name, (CurrentBy(-left_a, column.state),), run, MATRIX)
    return SuggestedChange(change, f"{lead_words(column)}{fits}", 0.0)


def _idle_parts(start: PredictionStart, matrix: Matrix, run: str) -> list[SuggestedChange]:
    """Offer to turn parts off that could be: in a lower mode than the one that they idle in."""
    found = []
    for part in start.parts:
        row = matrix.row(part.name)
        if row is None:
            continue
        for mode_name in dict.fromkeys(cell.mode for cell in row.cells if cell.mode):
            mode = part.mode(mode_name)
            lower = _lower(part, mode)
            if lower is None or mode is None:
                continue
            states = [
                column.state
                for column, cell in zip(matrix.columns, row.cells, strict=True)
                if cell.mode == mode_name and _pays(start, column.state, mode, lower)
            ]
            if not states:
                continue
            change = PlannedChange(
                f"Turn {part.name} from {mode_name} to {lower.name}",
                tuple(PartTo(part.name, lower.name, state, mode_name) for state in states),
                run,
                MATRIX,
                latency_s=lower.settle_s,
                accuracy=lower.accuracy,
            )
            words = f"{part.name} stays in {mode_name} in {', '.join(states)}; {lower.name} draws less"
            found.append(SuggestedChange(change, words, 0.0))
    return found


def _pays(start: PredictionStart, state: str, mode: PartMode, lower: PartMode) -> bool:
    """Return whether stays in a state are long enough to come back from a lower mode."""
    row = start.ledger.row(state)
    if row is None or lower.settle_s > _SETTLES * row.mean_dwell_s:
        return False
    return (mode.current_a - lower.current_a) * row.mean_dwell_s > lower.switch_c


def _lower(part: Part, mode: PartMode | None) -> PartMode | None:
    """Return the mode that a gated part could be off in; None where it is at work, or off."""
    if mode is None or mode.power is not Power.GATED:
        return None
    off = [one for one in part.modes if one.power is Power.OFF and one.current_a < mode.current_a]
    return min(off, key=lambda one: one.current_a, default=None)
