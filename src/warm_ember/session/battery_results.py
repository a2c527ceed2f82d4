"""Results about the battery of one run beyond its life, remembered like all others."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.battery.life import budget_current
from warm_ember.battery.parameters import parameters
from warm_ember.battery.tradeoff import Course, Region, Way, course, region, ways
from warm_ember.model.project import Project
from warm_ember.session.results import Results, life_model
from warm_ember.signal.series import ShouldStop, never


@dataclass(frozen=True, eq=False)
class Tradeoffs:
    """What may be traded for life in one run.

    Parameters
    ----------
    ways
        What each parameter alone would have to be; empty without a target.
    course
        The life against the chosen parameter; None where the model has none.
    region
        Which base goes with which interval of the chosen activity; None without a target or without activities.
    target_s, budget_a
        The target, and the average current that it allows.
    """

    ways: tuple[Way, ...]
    course: Course | None
    region: Region | None
    target_s: float | None
    budget_a: float | None


class BatteryResults:
    """Compute and remember what is asked about the battery; safe to ask from several threads.

    Parameters
    ----------
    results
        The graph of results.
    """

    def __init__(self, results: Results) -> None:
        self._results = results

    def tradeoffs(
        self, project: Project, name: str, parameter: str, activity: str, should_stop: ShouldStop = never
    ) -> Tradeoffs:
        """Work out what may be traded for life.

        Parameters
        ----------
        project, name
            The project and the run.
        parameter, activity
            What the course and the region are about; the first where there is none of that name.
        should_stop
            Polled on long passes.
        """
        results = self._results

        def work() -> Tradeoffs:
            load = results.load(project, name, should_stop)
            model = life_model(project, load)
            known = parameters(model)
            chosen = next((one for one in known if one.name == parameter), known[0] if known else None)
            line = course(chosen, project.target_s) if chosen is not None else None
            if project.target_s is None:
                return Tradeoffs((), line, None, None, None)
            budget_a = budget_current(model, project.target_s)
            names = [cost.name for cost in load.costs]
            about = activity if activity in names else next(iter(names), None)
            edge = region(model, about, budget_a) if about is not None else None
            return Tradeoffs(ways(model, project.target_s), line, edge, project.target_s, budget_a)

        return results.once(("tradeoffs", parameter, activity, *results.life_key(project, name)), work)
