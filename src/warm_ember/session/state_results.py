"""Results about the states of one run: pure functions of the project and a capture, remembered like all others."""

from __future__ import annotations

from dataclasses import dataclass, replace

from warm_ember.attribution.belief import Belief, Marker, compare_belief, default_threshold_a, state_asleep
from warm_ember.attribution.clock import Residuals, residuals
from warm_ember.attribution.crossings import Comeback, Crossing, find_comebacks, find_crossings
from warm_ember.attribution.expected import resolve
from warm_ember.attribution.functions import FunctionLedger, function_ledger, lay_on_current
from warm_ember.attribution.ledger import Ledger, LedgerRow, make_ledger
from warm_ember.attribution.relabelling import SplitBy, grouped, split
from warm_ember.model.placement import Alignment
from warm_ember.model.project import Project
from warm_ember.session.results import Results, placement_key
from warm_ember.signal.series import ShouldStop, never


@dataclass(frozen=True, eq=False)
class Crossings:
    """What changes of state take, and whether states come back as they were left."""

    crossings: tuple[Crossing, ...]
    comebacks: tuple[Comeback, ...]


class StateResults:
    """Compute and remember what is asked about the states; safe to ask from several threads.

    Parameters
    ----------
    results
        The graph of results.
    """

    def __init__(self, results: Results) -> None:
        self._results = results

    def grouped(self, project: Project, name: str, should_stop: ShouldStop = never) -> Ledger:
        """Sum one capture over its groups of states."""
        results, capture = self._results, self._results.open_capture(name)

        def work() -> Ledger:
            placement = grouped(results.placement(project, name, should_stop), project.group_of)
            return make_ledger(capture, placement, supply_v=project.supply_v, should_stop=should_stop)

        return results.once(("groups", project.groups, project.supply_v, *placement_key(project, capture)), work)

    def sub_rows(
        self, project: Project, name: str, state: str, by: SplitBy, should_stop: ShouldStop = never
    ) -> tuple[LedgerRow, ...]:
        """Split one state of one capture by what its entries share."""
        results, capture = self._results, self._results.open_capture(name)

        def work() -> tuple[LedgerRow, ...]:
            placement, parts = split(capture, results.placement(project, name, should_stop), state, by)
            ledger = make_ledger(capture, placement, supply_v=project.supply_v, should_stop=should_stop)
            return tuple(row for row in ledger.rows if row.name in parts)

        key = ("sub-rows", state, by, project.supply_v, *placement_key(project, capture))
        return results.once(key, work)

    def crossings(self, project: Project, name: str, should_stop: ShouldStop = never) -> Crossings:
        """Find what lies between the states of one capture."""
        results, capture = self._results, self._results.open_capture(name)

        def work() -> Crossings:
            placement = results.placement(project, name, should_stop)
            return Crossings(
                find_crossings(capture.current, placement, should_stop=should_stop),
                find_comebacks(capture.current, placement, should_stop=should_stop),
            )

        return results.once(("crossings", *placement_key(project, capture)), work)

    def belief(self, project: Project, name: str, marker: Marker, should_stop: ShouldStop = never) -> Belief | None:
        """Hold what the firmware believes of its sleep against the current; None when it says nothing of it."""
        results, capture = self._results, self._results.open_capture(name)

        def work() -> Belief | None:
            levels = results.levels(capture, should_stop)
            placement = results.placement(project, name, should_stop)
            alignment = placement.alignment or Alignment()
            threshold_a = marker.threshold_a
            if threshold_a is None:
                state = state_asleep(capture, placement, marker, alignment)
                value = project.expected_of(state) if state is not None else None
                asleep_a = resolve(value, project.parts).value.current_a if value is not None else None
                threshold_a = default_threshold_a(levels(), asleep_a)
            if threshold_a is None:
                return None
            return compare_belief(capture, alignment, threshold_a, marker, should_stop=should_stop)

        return results.once(("belief", marker, project.expected, project.parts, *placement_key(project, capture)), work)

    def residuals(
        self, project: Project, name: str, should_stop: ShouldStop = never
    ) -> tuple[Alignment, Residuals] | None:
        """Return the map from the log's clock to one capture's, and what it leaves over; None without a log."""
        results, capture = self._results, self._results.open_capture(name)
        if not any(event.event in ("state", "wake", "sleep", "sync") for event in capture.events):
            return None

        def work() -> tuple[Alignment, Residuals]:
            levels = results.levels(capture, should_stop)
            alignment = results.placement(project, name, should_stop).alignment or Alignment()
            return alignment, residuals(capture, alignment, levels)

        return results.once(("residuals", *placement_key(project, capture)), work)

    def functions(
        self, project: Project, name: str, state: str | None = None, should_stop: ShouldStop = never
    ) -> FunctionLedger | None:
        """Give the charge of one capture, or of one of its states, to functions.

        Returns
        -------
        FunctionLedger or None
            None without a trace of the program.
        """
        results, capture = self._results, self._results.open_capture(name)
        trace = capture.program
        if trace is None:
            return None

        def work() -> FunctionLedger:
            placement = results.placement(project, name, should_stop)
            levels = results.levels(capture, should_stop)
            laid, shifted_s = results.once(
                ("trace", capture.identity), lambda: lay_on_current(trace, levels(), capture.current)
            )
            ledger = function_ledger(capture.current, laid, placement, state=state, should_stop=should_stop)
            return replace(ledger, shifted_s=shifted_s)

        return results.once(("functions", state, *placement_key(project, capture)), work)
