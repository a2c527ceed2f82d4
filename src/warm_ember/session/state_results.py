"""Results about the states of one run: pure functions of the project and a capture, remembered like all others."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import partial
from typing import NamedTuple

import numpy as np

from warm_ember.attribution.clock import TIMED_EVENTS, Residuals, clock_sentence, residuals
from warm_ember.attribution.day import DayRow, day_rows
from warm_ember.attribution.dwells import DwellSpread, dwell_spread
from warm_ember.attribution.expected import resolve
from warm_ember.attribution.functions import FunctionLedger, LaidTrace, function_ledger, lay_on_current
from warm_ember.attribution.ledger import Ledger, LedgerRow, Verdict, make_ledger
from warm_ember.attribution.placing import longest_unplaced
from warm_ember.attribution.relabelling import SplitBy, grouped, split
from warm_ember.attribution.sleep_agreement import (
    Marker,
    SleepAgreement,
    compare_sleep,
    default_threshold_a,
    state_asleep,
)
from warm_ember.attribution.transitions import SETTLES_WITHIN_S, StateReturn, Transition, find_returns, find_transitions
from warm_ember.model.placement import Alignment
from warm_ember.model.project import ExpectedValue, Project
from warm_ember.session.graph import remembered
from warm_ember.session.results import Results
from warm_ember.session.run_results import RunResults
from warm_ember.signal.level_numbers import numbered
from warm_ember.signal.level_stays import LevelStays, level_stays
from warm_ember.signal.levels import MOST_LEVELS, find_levels
from warm_ember.signal.series import ShouldStop, never

__all__ = [
    "MOST_LEVELS",
    "SETTLES_WITHIN_S",
    "Marker",
    "SplitBy",
    "StateResults",
    "Transitions",
    "Verdict",
    "clock_sentence",
]


@dataclass(frozen=True, eq=False)
class Transitions:
    """What changes of state take, and whether states come back as they were left."""

    changes: tuple[Transition, ...]
    returns: tuple[StateReturn, ...]


class ClockFitted(NamedTuple):
    """The map from the log's clock to the capture's, and what it leaves over."""

    alignment: Alignment
    residuals: Residuals


class StateResults:
    """Compute and remember what is asked about the states; safe to ask from several threads.

    Parameters
    ----------
    results
        The graph of results.
    """

    def __init__(self, results: Results) -> None:
        self._results, self.graph = results, results.graph

    @remembered
    def grouped(self, project: Project, name: str, should_stop: ShouldStop = never) -> Ledger:
        """Sum one capture over its groups of states."""
        placement = grouped(self._results.placement(project, name, should_stop), project.group_of)
        capture = self.graph.capture(project, name)
        limits = self._results.limits(project, name, should_stop)
        return make_ledger(capture, placement, supply_v=project.supply_v, limits=limits, should_stop=should_stop)

    @remembered
    def sub_rows(
        self, project: Project, name: str, state: str, by: SplitBy, should_stop: ShouldStop = never
    ) -> tuple[LedgerRow, ...]:
        """Split one state of one capture by what its entries share."""
        capture = self.graph.capture(project, name)
        placement, parts = split(capture, self._results.placement(project, name, should_stop), state, by)
        limits = self._results.limits(project, name, should_stop)
        ledger = make_ledger(capture, placement, supply_v=project.supply_v, limits=limits, should_stop=should_stop)
        return tuple(row for row in ledger.rows if row.name in parts)

    @remembered
    def level_stays(
        self, project: Project, name: str, most: int, centres_a: tuple[float, ...] = (), should_stop: ShouldStop = never
    ) -> LevelStays:
        """Measure the levels of one capture, at most so many, or those about centres that are known."""
        current = self._results.placing_current(project, name, should_stop)
        if centres_a or most != MOST_LEVELS:
            levels = find_levels(current, most=most, centres_a=centres_a, should_stop=should_stop)
            if not centres_a:
                levels = numbered(self.graph.capture(project, name).current, levels, should_stop=should_stop)
        else:
            levels = self._results.placing_levels(project, name, should_stop)
        return level_stays(current, levels, should_stop=should_stop)

    @remembered
    def transitions(self, project: Project, name: str, should_stop: ShouldStop = never) -> Transitions:
        """Find what lies between the states of one capture."""
        current = self.graph.capture(project, name).current
        placement = self._results.placement(project, name, should_stop)
        return Transitions(
            find_transitions(current, placement, should_stop=should_stop),
            find_returns(current, placement, should_stop=should_stop),
        )

    @remembered
    def agreement(
        self, project: Project, name: str, marker: Marker, should_stop: ShouldStop = never
    ) -> SleepAgreement | None:
        """Hold what the firmware believes of its sleep against the current; None when it says nothing of it."""
        capture, placement = self.graph.capture(project, name), self._results.placement(project, name, should_stop)
        alignment = placement.alignment or Alignment()
        threshold_a = marker.threshold_a
        if threshold_a is None:
            state = state_asleep(capture, placement, marker, alignment)
            value = project.expected_of(state) if state is not None else None
            asleep_a = resolve(value, project.parts).value.current_a if value is not None else None
            threshold_a = default_threshold_a(self._results.levels(project, name, should_stop), asleep_a)
        if threshold_a is None:
            return None
        return compare_sleep(capture, alignment, threshold_a, marker, should_stop=should_stop)

    @remembered
    def residuals(self, project: Project, name: str, should_stop: ShouldStop = never) -> ClockFitted | None:
        """Return the map from the log's clock to one capture's, and what it leaves over; None without a log."""
        capture = self.graph.capture(project, name)
        if not any(event.event in TIMED_EVENTS for event in capture.events):
            return None
        alignment = self._results.placement(project, name, should_stop).alignment or Alignment()
        levels = partial(self._results.levels, project, name, should_stop)
        return ClockFitted(alignment, residuals(capture, alignment, levels))

    @remembered
    def functions(
        self, project: Project, name: str, state: str | None = None, should_stop: ShouldStop = never
    ) -> FunctionLedger | None:
        """Give the charge of one capture, or of one of its states, to functions.

        Returns
        -------
        FunctionLedger or None
            None without a trace of the program.
        """
        laid = self._laid_trace(project, name, should_stop)
        if laid is None:
            return None
        trace, shifted_s = laid
        capture, placement = self.graph.capture(project, name), self._results.placement(project, name, should_stop)
        ledger = function_ledger(capture.current, trace, placement, state=state, should_stop=should_stop)
        return replace(ledger, shifted_s=shifted_s)

    @remembered
    def _laid_trace(self, project: Project, name: str, should_stop: ShouldStop = never) -> LaidTrace | None:
        capture = self.graph.capture(project, name)
        if capture.program is None:
            return None
        return lay_on_current(capture.program, self._results.levels(project, name, should_stop), capture.current)


def day_ledger(results: RunResults) -> dict[str, DayRow]:
    """Return what the states of a run take in a mean day, by name; activities that no state shows come after them."""
    return day_rows(results.load, results.ledger)


def dwells_of(rows: Iterable[LedgerRow]) -> DwellSpread:
    """Return how long the entries of some states last, all together."""
    return dwell_spread(np.concatenate([np.empty(0), *(row.entry_dwell_s for row in rows)]))


def unplaced_stretch_s(results: RunResults) -> tuple[float, float] | None:
    """Return the ends of the longest stretch of a run that no rule places; None where all of it is placed."""
    found = longest_unplaced(results.placement)
    interval_s = results.capture.current.interval_s
    return (found[0] * interval_s, found[1] * interval_s) if found is not None else None


def first_change_s(results: RunResults, change: Transition) -> float:
    """Return when a change of state happens for the first time in a run."""
    placement = results.placement
    changes = placement.of(change.before)[:-1] & placement.of(change.after)[1:]
    return float(placement.edges[int(np.argmax(changes)) + 1]) * results.capture.current.interval_s


def summed(value: ExpectedValue, project: Project) -> ExpectedValue:
    """Return an expected value with the sum of its parts as its current; one without parts as it was entered."""
    return resolve(value, project.parts).value
