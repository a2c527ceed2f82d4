"""Results about the wakes of one run, remembered like all others."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec

from warm_ember.attribution.sleep_depth import Mode
from warm_ember.attribution.wake_alignment import Saving, saving_of
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.attribution.wake_profile import WakeProfile, wake_profile
from warm_ember.model.project import Project
from warm_ember.model.wake_plan import ModePower, WakePath, WakePlan
from warm_ember.session.graph import remembered
from warm_ember.session.kind_results import KindResults, KindsShown
from warm_ember.session.results import Results
from warm_ember.signal.series import ShouldStop, never
from warm_ember.tuning.wake_plan import PlanCheck, check_plan, refusals


@dataclass(frozen=True, eq=False)
class WakesShown:
    """The wakes of a run or of one of its CPUs, when they happen, and which CPUs there are.

    The kinds are those of a run whose wakes no log tells; None for others.
    """

    ledger: WakeLedger
    profile: WakeProfile
    cpus: tuple[int, ...] = ()
    kinds: KindsShown | None = None


class WakeResults:
    """Compute and remember what is known of one run's wakes."""

    def __init__(self, results: Results) -> None:
        self._results, self.graph = results, results.graph

    @remembered
    def shown(self, project: Project, name: str, cpu: int | None = None, should_stop: ShouldStop = never) -> WakesShown:
        """Sum one run over its wakes, or those of one CPU."""
        ledger = self._results.wake_ledger(project, name, should_stop=should_stop, cpu=cpu)
        wakes = self._results.wakes(project, name, should_stop)
        kinds = KindResults(self._results).shown(project, name, should_stop) if wakes.states is not None else None
        return WakesShown(ledger, wake_profile(ledger), wakes.cpus, kinds)

    @remembered
    def saving(
        self, project: Project, name: str, source: str, cpu: int | None = None, should_stop: ShouldStop = never
    ) -> Saving:
        """Try slacks of one source."""
        ledger = self._results.wake_ledger(project, name, should_stop=should_stop, cpu=cpu)
        return saving_of(
            ledger.wakes,
            ledger.cost_c,
            ledger.slack_s,
            source,
            ledger.interval_s,
            ledger.duration_s,
            should_stop=should_stop,
        )


def slowest_mode(ledger: WakeLedger, source: str) -> Mode | None:
    """Return the mode with the longest latency that a source woke the device from; None where none is known."""
    row = ledger.row(source)
    used = [ledger.depth.mode(name) for name in (row.woke_from if row is not None else ())]
    known = [mode for mode in used if mode.latency_s is not None]
    return max(known, key=lambda mode: mode.latency_s or 0.0, default=None)


def late_sources(ledger: WakeLedger, project: Project) -> tuple[str, ...]:
    """Return the sources that woke the device from a mode that answers after their deadline."""
    deadlines_s = {one.name: one.deadline_s for one in project.wake_sources}
    late = []
    for row in ledger.sources:
        deadline_s, slowest = deadlines_s.get(row.source), slowest_mode(ledger, row.source)
        if deadline_s is not None and slowest is not None and (slowest.latency_s or 0.0) > deadline_s:
            late.append(row.source)
    return tuple(late)


def whole_plan(ledger: WakeLedger | None, project: Project) -> WakePlan:
    """Return the wake plan with a row for each source and sleep mode of a capture beside those that are planned."""
    plan = project.wake_plan
    if ledger is None:
        return plan
    sources, modes = {path.source for path in plan.paths}, {mode.mode for mode in plan.modes}
    stretches = ledger.depth.stretches
    inner = {ledger.depth.modes[i].name for i in set(stretches.mode[stretches.in_wakes].tolist())}
    more = tuple(WakePath(row.source) for row in ledger.sources if row.source not in sources)
    used = [row.mode for row in ledger.depth.rows if row.mode not in modes and row.mode not in inner]
    return msgspec.structs.replace(
        plan, paths=(*plan.paths, *more), modes=(*plan.modes, *(ModePower(mode) for mode in used))
    )


def plan_check(ledger: WakeLedger | None, project: Project) -> PlanCheck | None:
    """Check the wake plan; None where nothing is planned, so that nothing can conflict."""
    if ledger is None or project.wake_plan == WakePlan():
        return None
    latency_s = {mode.name: mode.latency_s for mode in project.sleep_modes if mode.latency_s is not None}
    return check_plan(whole_plan(ledger, project), latency_s)


def refusal_words(ledger: WakeLedger) -> str:
    """Return how often sleep was refused in a run and by what; empty when it never was."""
    return refusals(ledger.refused)
