"""Results about the wakes of one run, remembered like all others."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.attribution.wake_alignment import Saving, saving_of
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.attribution.wake_profile import WakeProfile, wake_profile
from warm_ember.model.project import Project
from warm_ember.session.graph import remembered
from warm_ember.session.results import Results
from warm_ember.signal.series import ShouldStop, never


@dataclass(frozen=True, eq=False)
class WakesShown:
    """The wakes of a run or of one of its CPUs, when they happen, and which CPUs there are."""

    ledger: WakeLedger
    profile: WakeProfile
    cpus: tuple[int, ...] = ()


class WakeResults:
    """Compute and remember what is known of one run's wakes."""

    def __init__(self, results: Results) -> None:
        self._results, self.graph = results, results.graph

    @remembered
    def shown(self, project: Project, name: str, cpu: int | None = None, should_stop: ShouldStop = never) -> WakesShown:
        """Sum one run over its wakes, or those of one CPU."""
        ledger = self._results.wake_ledger(project, name, should_stop=should_stop, cpu=cpu)
        return WakesShown(ledger, wake_profile(ledger), self._results.wakes(project, name, should_stop).cpus)

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
