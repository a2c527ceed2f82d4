"""Results about the battery of one run beyond its life, remembered like all others."""

from __future__ import annotations

from dataclasses import dataclass, replace

from warm_ember.attribution.day import hourly
from warm_ember.attribution.unseen import Unseen, at_its_limit, unseen_in, with_unseen
from warm_ember.battery.cells import REFERENCE_C
from warm_ember.battery.effects import YearEffect, bare_life, effects
from warm_ember.battery.life import LifeEstimate, budget_current, check_model, estimate_life, life_of
from warm_ember.battery.measured_cell import DischargeCheck, check_cell_against, constant_discharge
from warm_ember.battery.parameters import parameters
from warm_ember.battery.sensitivity import SensitivityStep, sensitivity
from warm_ember.battery.tradeoff import FeasibleRegion, LifeCurve, SingleParameterSolution, course, region, ways
from warm_ember.battery.year import monthly_c, start_of
from warm_ember.battery.years import YearOfLife, by_year
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Cell
from warm_ember.model.measured_discharge import MeasuredDischarge
from warm_ember.model.project import Project
from warm_ember.session.graph import remembered
from warm_ember.session.results import Results, life_model
from warm_ember.session.run_results import RunResults
from warm_ember.signal.series import ShouldStop, never
from warm_ember.units import duration_text, months_text, quantity_text

__all__ = ["BatteryResults", "LifeInYears", "Tradeoffs", "check_edited", "hourly", "monthly_c", "start_of"]


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

    ways: tuple[SingleParameterSolution, ...]
    course: LifeCurve | None
    region: FeasibleRegion | None
    target_s: float | None
    budget_a: float | None


@dataclass(frozen=True, eq=False)
class LifeInYears:
    """One run's life year by year, and what it includes.

    Parameters
    ----------
    years
        The years.
    effects
        What is included and what each alone takes.
    bare_s
        Capacity over average current, with nothing included.
    """

    years: tuple[YearOfLife, ...]
    effects: tuple[YearEffect, ...]
    bare_s: float


@dataclass(frozen=True, eq=False)
class CellRun:
    """One cell emptied by a constant current, as the life would do it.

    Parameters
    ----------
    current_a
        The current.
    drawn_c, volts
        Charge drawn and voltage under that current, shape ``(n,)``.
    end_v
        Where it ended.
    check
        What was measured of it, beside it; None without a measurement.
    """

    current_a: float
    drawn_c: Floats
    volts: Floats
    end_v: float
    check: DischargeCheck | None = None


def run_cell(cell: Cell, current_a: float, end_v: float) -> CellRun:
    """Empty one cell by a constant current at 20 °C.

    Raises
    ------
    BadArgumentError
        If its capacity is not known.
    """
    drawn_c, volts = constant_discharge(cell, current_a, end_v, REFERENCE_C)
    return CellRun(current_a, drawn_c, volts, end_v)


def check_run(cell: Cell, measured: MeasuredDischarge) -> CellRun:
    """Empty one cell as a measured discharge did, and compare.

    Raises
    ------
    BadArgumentError
        If the discharge cannot be used, or the cell's capacity is not known.
    """
    check = check_cell_against(cell, measured)
    run = run_cell(cell, measured.current_a, float(measured.voltage_v.min()))
    return replace(run, check=check)


@dataclass(frozen=True, eq=False)
class UnseenLife:
    """What a capture cannot tell of the life, because it may be too seldom to be in it.

    Parameters
    ----------
    unseen
        What that may be.
    at_limit_s
        The life if it comes as often as may just stay unseen; None where nothing tells how much it would take.
    life
        The life with it as often as chance leaves open; None unless somebody said how much it takes.
    """

    unseen: Unseen
    at_limit_s: float | None
    life: LifeEstimate | None

    @property
    def words(self) -> str:
        """What may not have been seen, in a sentence without its end."""
        often = duration_text(self.unseen.interval_s)
        text = f"anything rarer than once in {often} may not be in it"
        if self.at_limit_s is None or self.unseen.charge_c is None:
            return text
        each = quantity_text(self.unseen.charge_c, "C")
        what = f"{each} each" if self.unseen.is_asked else f"wakes of {each}, the costliest seen,"
        return f"{text}; {what} once in {often} on top would make it {months_text(self.at_limit_s)}"


class BatteryResults:
    """Compute and remember what is asked about the battery; safe to ask from several threads.

    Parameters
    ----------
    results
        The graph of results.
    """

    def __init__(self, results: Results) -> None:
        self._results, self.graph = results, results.graph

    @remembered
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
        load = self._results.load(project, name, should_stop)
        model, target_s = life_model(project, load), project.target_s
        known = parameters(model)
        chosen = next((one for one in known if one.name == parameter), known[0] if known else None)
        line = course(chosen, target_s) if chosen is not None else None
        if target_s is None:
            return Tradeoffs((), line, None, None, None)
        budget_a = budget_current(model, target_s)
        names = [cost.name for cost in load.costs]
        about = activity if activity in names else next(iter(names), None)
        edge = region(model, about, budget_a) if about is not None else None
        return Tradeoffs(ways(model, target_s), line, edge, target_s, budget_a)

    @remembered
    def steps(self, project: Project, name: str, should_stop: ShouldStop = never) -> tuple[SensitivityStep, ...]:
        """Work out what one more step of each parameter does to one run's life."""
        return sensitivity(life_model(project, self._results.load(project, name, should_stop)))

    @remembered
    def unseen(
        self, project: Project, name: str, charge_c: float | None = None, should_stop: ShouldStop = never
    ) -> UnseenLife | None:
        """Return what of a life one run cannot tell; None where activities say what happens how often.

        Parameters
        ----------
        project, name
            The project and the run.
        charge_c
            What something that may not have been seen takes each time, if anybody says.
        should_stop
            Polled on long passes.

        Raises
        ------
        BadArgumentError
            If the charge is not above 0.
        """
        if project.activities:
            return None
        load = self._results.load(project, name, should_stop)
        wakes = self._results.wake_ledger(project, name, should_stop=should_stop)
        found = unseen_in(self._results.modelled(project, name, should_stop), wakes, charge_c)
        at_limit_s = None
        if found.charge_c is not None:
            at_limit_s = life_of(life_model(project, at_its_limit(load, found)))
        life = (
            estimate_life(life_model(project, with_unseen(load, found)), project.target_s) if found.is_asked else None
        )
        return UnseenLife(found, at_limit_s, life)

    @remembered
    def in_years(self, project: Project, name: str, should_stop: ShouldStop = never) -> LifeInYears:
        """Cut one run's life into years, and say what it includes."""
        load, life = self._results.life(project, name, should_stop)
        model = life_model(project, load)
        return LifeInYears(by_year(life, project.climate), effects(model), bare_life(model))


def check_edited(project: Project, results: RunResults) -> None:
    """Check what feeds a run's load in a project that was edited.

    The load is taken as it is: what an edit of it does shows when it is worked out.

    Raises
    ------
    BadArgumentError
        Naming what is impossible.
    """
    check_model(life_model(project, results.load))
