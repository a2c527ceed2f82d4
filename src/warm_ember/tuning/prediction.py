"""What a device would draw with some changes: its states and activities as measured, changed, and summed anew.

A change acts on states, not on the average, so that changes meet as they would in the device: less current asleep is
worth less once more of the time is spent awake, and a shorter stay leaves its time to the rest.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

import msgspec
import numpy as np

from warm_ember.attribution.budget import BudgetSegment, budget_by_state
from warm_ember.attribution.ledger import Ledger, LedgerRow
from warm_ember.attribution.load import MeasureOccurrences, MeasurePulses, Occurrences, make_load, no_pulses
from warm_ember.model.battery import Activity, FromStretch, FromWakes
from warm_ember.model.figure import Figure
from warm_ember.model.load import Load
from warm_ember.model.parts import Part, PartOn
from warm_ember.model.plan import (
    ActivityEvery,
    CurrentBy,
    CurrentTo,
    LengthTo,
    PartTo,
    PlannedChange,
    ReduceAverage,
    ReplaceState,
    ScaleRate,
)

_GONE = 1e-12


@dataclass(frozen=True, eq=False)
class PredictionStart:
    """What a prediction starts from.

    Parameters
    ----------
    ledger, activities, measure, pulses
        What a load is made of; see `make_load`.
    parts, on
        The device's parts, and in which modes they should be in each state.
    """

    ledger: Ledger
    activities: tuple[Activity, ...]
    measure: MeasureOccurrences
    pulses: MeasurePulses = no_pulses
    parts: tuple[Part, ...] = ()
    on: dict[str, tuple[PartOn, ...]] = field(default_factory=dict)


@dataclass(frozen=True)
class _Moved:
    """How a state changes: its time by a factor, its current by an amount, and its name where it has a new one."""

    time: float = 1.0
    by_a: float = 0.0
    name: str = ""


class _Moves:
    """How the states of a ledger change, by their names in it."""

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger
        self.of: dict[str, _Moved] = {row.name: _Moved() for row in ledger.all_rows}

    def row(self, state: str) -> LedgerRow | None:
        """Return the row that a state is in, by its new name or its own; None when there is none."""
        name = next((own for own, one in self.of.items() if (one.name or own) == state), "")
        return next((row for row in self._ledger.all_rows if row.name == name), None)

    def by(self, state: str, by_a: float) -> None:
        """Let a state draw more, or less."""
        self.of[state] = replace(self.of[state], by_a=self.of[state].by_a + by_a)


@dataclass(frozen=True, eq=False)
class Predicted:
    """A device with some changes.

    Parameters
    ----------
    load
        What it draws over its life.
    by_state
        The average by state; entered savings have a segment of their own.
    ledger
        The states of its capture, changed.
    unclear
        Why an effect does nothing here, one sentence each.
    """

    load: Load
    by_state: tuple[BudgetSegment, ...]
    ledger: Ledger
    unclear: tuple[str, ...] = ()

    @property
    def mean_a(self) -> float:
        """Average current over the device's life."""
        return self.load.mean_a


def predict(start: PredictionStart, changes: Iterable[PlannedChange]) -> Predicted:
    """Apply changes in their order and sum anew."""
    moved = _Moves(start.ledger)
    on = {state: list(parts) for state, parts in start.on.items()}
    activities, saved_a, unclear = start.activities, 0.0, list[str]()
    for change in changes:
        for effect in change.effects:
            if isinstance(effect, ReduceAverage):
                saved_a += effect.saved_a
            elif isinstance(effect, ActivityEvery):
                activities = _every(activities, effect, unclear)
            elif isinstance(effect, PartTo):
                _part_to(start, on, moved, effect, unclear)
            else:
                _move(moved, effect, unclear)
    ledger = _changed(start.ledger, moved.of)
    load = make_load(ledger, activities, _measure(start.measure, moved.of), start.pulses)
    by_state = budget_by_state(load, ledger)
    if saved_a:
        # What activities take stands in place of the base, so the base has to fall by more than is saved.
        resting = 1 - sum(cost.rate_hz * cost.duration_s for cost in load.costs)
        base_a = load.base_a - saved_a / max(resting, _GONE)
        load = replace(load, base=msgspec.structs.replace(load.base, value=base_a))
        by_state = (*by_state, BudgetSegment("entered savings", -saved_a, saved_a))
    return Predicted(load, by_state, ledger, tuple(unclear))


def _every(activities: tuple[Activity, ...], effect: ActivityEvery, unclear: list[str]) -> tuple[Activity, ...]:
    activity = next((one for one in activities if one.name == effect.activity), None)
    if activity is None:
        unclear.append(f"no activity is called {effect.activity}")
    elif activity.follows:
        unclear.append(f"{activity.name} follows {activity.follows}: change the interval of that one")
        return activities
    return tuple(
        msgspec.structs.replace(one, interval_s=effect.interval_s, per_day=None) if one.name == effect.activity else one
        for one in activities
    )


def _part_to(
    start: PredictionStart, on: dict[str, list[PartOn]], moved: _Moves, effect: PartTo, unclear: list[str]
) -> None:
    part = next((part for part in start.parts if part.name == effect.part), None)
    mode = part.mode(effect.mode) if part is not None else None
    if part is None or mode is None:
        unclear.append(f"no part {effect.part} with a mode {effect.mode} is known")
        return
    found = False
    for state in [effect.state] if effect.state else list(on):
        row = moved.row(state)
        for index, one in enumerate(on.get(state, [])):
            before = part.mode(one.mode) if one.part == part.name else None
            if before is None or row is None or not effect.moves(before.name, before.current_a, mode.current_a):
                continue
            found, on[state][index] = True, PartOn(part.name, mode.name)
            # Coming back from a mode takes its charge each time.
            switching_a = (mode.switch_c - before.switch_c) * row.entries / row.dwell_s if row.dwell_s else 0.0
            moved.by(row.name, mode.current_a - before.current_a + switching_a)
    if not found:
        where = f"in {effect.state}" if effect.state else "anywhere"
        unclear.append(f"{effect.part} is not known to be in another mode {where}")


def _move(
    moved: _Moves, effect: CurrentBy | CurrentTo | LengthTo | ScaleRate | ReplaceState, unclear: list[str]
) -> None:
    if isinstance(effect, CurrentBy) and not effect.state:
        for state in moved.of:
            moved.by(state, effect.by_a)
        return
    row = moved.row(effect.state)
    if row is None or row.mean.value is None:
        unclear.append(f"this run has no state {effect.state}")
        return
    before = moved.of[row.name]
    if isinstance(effect, CurrentBy):
        moved.by(row.name, effect.by_a)
    elif isinstance(effect, CurrentTo):
        moved.of[row.name] = replace(before, by_a=effect.to_a - row.mean.value)
    elif isinstance(effect, LengthTo):
        shorter = float(np.minimum(row.entry_dwell_s * before.time, effect.to_s).sum()) / row.dwell_s
        moved.of[row.name] = replace(before, time=min(before.time, shorter))
    elif isinstance(effect, ScaleRate):
        moved.of[row.name] = replace(before, time=before.time * max(effect.factor, 0.0))
    elif moved.row(effect.name) is None:
        moved.of[row.name] = replace(before, name=effect.name)


def _changed(ledger: Ledger, moved: dict[str, _Moved]) -> Ledger:
    """Return the ledger with its states changed; the time that is left over goes to the lowest state."""
    rows = [_row(row, moved.get(row.name, _Moved())) for row in ledger.rows]
    unplaced = ledger.unplaced and _row(ledger.unplaced, moved.get(ledger.unplaced.name, _Moved()))
    left_s = sum(row.dwell_s for row in ledger.rows) - sum(row.dwell_s for row in rows)
    kept = [index for index, row in enumerate(rows) if row.mean.value is not None and row.dwell_s > 0]
    if left_s > _GONE and kept:
        lowest = min(kept, key=lambda index: rows[index].mean.value or 0.0)
        rows[lowest] = _longer(rows[lowest], left_s)
    every = [*rows, *([unplaced] if unplaced is not None else [])]
    charge_c = sum(row.charge_c for row in every)
    mean_a = charge_c / ledger.measured_s if ledger.measured_s else None
    shared = [_shared(row, charge_c, ledger.duration_s) for row in rows]
    factor = mean_a / ledger.mean_a if mean_a is not None and ledger.mean_a else 1.0
    estimate = ledger.estimate.times(factor)
    return replace(
        ledger,
        rows=tuple(shared),
        unplaced=unplaced,
        charge_c=charge_c,
        mean_a=mean_a,
        energy_j=None,
        estimate=estimate,
    )


def _row(row: LedgerRow, moved: _Moved) -> LedgerRow:
    if moved == _Moved() or row.mean.value is None:
        return row
    # A state cannot draw less than nothing.
    by_a = max(moved.by_a, -row.mean.value)
    dwell_s = row.dwell_s * moved.time
    low, high = (None if end is None else end + by_a for end in (row.mean.low, row.mean.high))
    entry_dwell_s = row.entry_dwell_s * moved.time
    return replace(
        row,
        name=moved.name or row.name,
        dwell_s=dwell_s,
        mean=Figure(row.mean.value + by_a, low, high, row.mean.grade, row.mean.origin),
        charge_c=(row.charge_c + by_a * row.dwell_s) * moved.time,
        energy_j=None,
        peak_a=None if row.peak_a is None else row.peak_a + by_a,
        entry_charge_c=row.entry_charge_c * moved.time + by_a * entry_dwell_s,
        entry_dwell_s=entry_dwell_s,
        entry_peak_a=row.entry_peak_a + by_a,
        estimate=replace(row.estimate, value=row.estimate.value + by_a),
        added=row.added.times(moved.time),
    )


def _longer(row: LedgerRow, by_s: float) -> LedgerRow:
    return replace(row, dwell_s=row.dwell_s + by_s, charge_c=row.charge_c + by_s * (row.mean.value or 0.0))


def _shared(row: LedgerRow, charge_c: float, duration_s: float) -> LedgerRow:
    return replace(
        row,
        time_share=row.dwell_s / duration_s if duration_s else 0.0,
        charge_share=row.charge_c / charge_c if charge_c else 0.0,
        added=replace(row.added, value=row.charge_c / duration_s if duration_s else 0.0),
    )


def _measure(measure: MeasureOccurrences, moved: dict[str, _Moved]) -> MeasureOccurrences:
    """Return what measures an activity with its states changed."""

    def changed(source: FromStretch | FromWakes) -> Occurrences | None:
        found = measure(source)
        if found is None or not found.parts:
            return found
        parts = {}
        for state, (charge_c, dwell_s) in found.parts.items():
            how = moved.get(state, _Moved())
            parts[how.name or state] = (max((charge_c + how.by_a * dwell_s) * how.time, 0.0), dwell_s * how.time)
        before_c = sum(charge_c for charge_c, _ in found.parts.values())
        before_s = sum(dwell_s for _, dwell_s in found.parts.values())
        after_c, after_s = (sum(part[index] for part in parts.values()) for index in (0, 1))
        scale, times = after_c / before_c if before_c else 1.0, after_s / before_s if before_s else 1.0
        return replace(
            found,
            charges_c=tuple(one * scale for one in found.charges_c),
            durations_s=tuple(one * times for one in found.durations_s),
            parts=parts,
        )

    return changed


@dataclass(frozen=True, eq=False)
class PredictedStep:
    """One change on the way from what is measured to the plan.

    Parameters
    ----------
    change
        The change.
    saved_a
        What it saves after those before it.
    alone_a
        What it would save alone.
    load
        What the device draws with it and those before it.
    unclear
        Why a part of it does nothing here.
    """

    change: PlannedChange
    saved_a: float
    alone_a: float
    load: Load
    unclear: tuple[str, ...]

    @property
    def mean_a(self) -> float:
        """The average with it and those before it."""
        return self.load.mean_a


def waterfall(start: PredictionStart, changes: Iterable[PlannedChange]) -> tuple[PredictedStep, ...]:
    """Predict changes one after the other."""
    chosen = tuple(changes)
    first_a = predict(start, ()).mean_a
    steps, before_a = [], first_a
    for number, change in enumerate(chosen):
        load, alone = predict(start, chosen[: number + 1]).load, predict(start, (change,))
        steps.append(PredictedStep(change, before_a - load.mean_a, first_a - alone.mean_a, load, alone.unclear))
        before_a = load.mean_a
    return tuple(steps)


def by_gain(start: PredictionStart, changes: Iterable[PlannedChange]) -> tuple[PlannedChange, ...]:
    """Order changes by what each saves for its effort, the best next one first, after those before it."""
    left, chosen = list(changes), list[PlannedChange]()
    before_a = predict(start, ()).mean_a
    while left:
        after = [(predict(start, (*chosen, one)).mean_a, one) for one in left]
        mean_a, best = max(after, key=lambda pair: (before_a - pair[0]) / max(pair[1].effort, _GONE))
        chosen.append(best)
        left.remove(best)
        before_a = mean_a
    return tuple(chosen)
