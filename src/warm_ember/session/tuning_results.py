"""Results about changing the device: runs compared, changes predicted, and predictions compared with what came."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import NamedTuple

import numpy as np

from warm_ember.attribution.expected import expected_in
from warm_ember.attribution.known_kinds import name_kinds
from warm_ember.attribution.ledger import Ledger
from warm_ember.attribution.wake_ledger import WakeLedger, make_wake_ledger
from warm_ember.attribution.wakes import Cause, wakes_of_kinds
from warm_ember.battery.life import LifeEstimate, follow_life, life_of
from warm_ember.errors import BadArgumentError
from warm_ember.model.estimate import Estimate
from warm_ember.model.figure import Bound
from warm_ember.model.plan import PlannedChange
from warm_ember.model.project import Project
from warm_ember.session.graph import look_up, remembered
from warm_ember.session.kind_changes import KindChange, kind_changes
from warm_ember.session.kind_edits import kinds_known
from warm_ember.session.kind_results import KindResults
from warm_ember.session.results import Results, attached, life_model, run_names, sorted_in
from warm_ember.session.run_results import RunResults
from warm_ember.signal.series import ShouldStop, never
from warm_ember.tuning.claims import CHARGE, LIFE, POWER, Claim, ClaimedValue, ClaimResult, check_claim, read_claim
from warm_ember.tuning.confounders import Confounder, confounders
from warm_ember.tuning.difference import ComparedRun, Difference, average, by_activity, by_source, by_state, of_average
from warm_ember.tuning.findings.timer_overridden import GrantedTimer, asked_and_granted
from warm_ember.tuning.matrix import WAKES, Matrix, lead_words, make_matrix
from warm_ember.tuning.prediction import Predicted, PredictedStep, PredictionStart, by_gain, predict, waterfall
from warm_ember.tuning.proof import Proof, prove
from warm_ember.tuning.search import SmallestSet, costs_of, smallest_set
from warm_ember.tuning.suggestions import SuggestedChange, suggest_changes
from warm_ember.tuning.timers.period_model import PeriodModel, of_source, of_state
from warm_ember.tuning.waveform import WaveformSegment, predicted_waveform

__all__ = [
    "PLAN",
    "WAKES",
    "Comparison",
    "PlanResults",
    "TuningResults",
    "changes_ahead",
    "compare_averages",
    "compare_states",
    "over_limits",
    "step_before",
]

PLAN = "the plan"
"""In place of a run: what the plan predicts."""


@dataclass(frozen=True, eq=False)
class Comparison:
    """Two runs held against each other.

    Parameters
    ----------
    before, after
        Their names.
    changed
        What the project says was changed for the second.
    average
        The average over the device's life.
    lives_s
        Its life with each.
    states, sources, activities
        What each adds; the largest change first.
    confounders
        What else differs between them.
    kinds
        What became of the kinds of wakes, where nothing but the current tells of these in either run.
    """

    before: str
    after: str
    changed: str
    average: Difference
    lives_s: tuple[float, float]
    states: tuple[Difference, ...]
    sources: tuple[Difference, ...]
    activities: tuple[Difference, ...]
    confounders: tuple[Confounder, ...]
    kinds: tuple[KindChange, ...] = ()


@dataclass(frozen=True, eq=False)
class PlanResults:
    """The plan as it stands for one run.

    Parameters
    ----------
    run, before
        The run that it starts from, and the step before it; empty where there is none.
    mean_a, life_s
        What the run takes, and its life.
    bound
        On which side of the truth what it takes lies.
    before_a, before_life_s
        The same of the step before it.
    steps
        The changes ahead, one after the other.
    lives_s
        The life after each of them.
    predicted, life
        The device with all of them, and its life with its uncertainty.
    proofs
        Changes that a run contains, with what was predicted of them and what came.
    target_s, budget_a
        The target, and the average current that it allows.
    offers
        What else could be changed, from findings and from the shutdown matrix.
    matrix
        The shutdown matrix.
    leads
        What of a state is unexplained, in words, for each state where it matters.
    mode_of
        The sleep mode that each state of sleep is.
    waveform
        What each stay in a state would be.
    """

    run: str
    before: str
    mean_a: float
    life_s: float
    bound: Bound | None
    before_a: float | None
    before_life_s: float | None
    steps: tuple[PredictedStep, ...]
    lives_s: tuple[float, ...]
    predicted: Predicted
    life: LifeEstimate
    proofs: tuple[Proof, ...]
    target_s: float | None
    budget_a: float | None
    suggestions: tuple[SuggestedChange, ...]
    matrix: Matrix
    leads: tuple[str, ...]
    mode_of: Mapping[str, str]
    waveform: tuple[WaveformSegment, ...]


class PlannedLife(NamedTuple):
    """The average current with all of the plan, A, and the life, s."""

    mean_a: float
    life_s: float


class TuningResults:
    """Compute what is known of changes."""

    def __init__(self, results: Results) -> None:
        self._results, self.graph = results, results.graph

    @remembered
    def compare(self, project: Project, before: str, after: str, should_stop: ShouldStop = never) -> Comparison:
        """Hold one run against another.

        Raises
        ------
        BadFileError
            If there is no such capture.
        """
        results, names = self._results, (before, after)
        runs = [results.run(project, name, should_stop) for name in names]
        wakes, kinds = self._wakes_of(project, before, after, should_stop)
        one, other = (
            ComparedRun(run.by_state, run.modelled, run.load, ledger) for run, ledger in zip(runs, wakes, strict=True)
        )
        infos = [run.capture.info for run in runs]
        return Comparison(
            before,
            after,
            runs[1].run.changed,
            of_average(one, other),
            (runs[0].life.life_s, runs[1].life.life_s),
            by_state(one, other),
            by_source(one, other),
            by_activity(one, other),
            confounders(infos[0], infos[1], (runs[0].ledger.duration_s, runs[1].ledger.duration_s)),
            kinds,
        )

    def _wakes_of(
        self, project: Project, before: str, after: str, should_stop: ShouldStop
    ) -> tuple[list[WakeLedger], tuple[KindChange, ...]]:
        """Return the wakes of two runs; where they are kinds, those of the second are recognised by the first's."""
        results, names = self._results, (before, after)
        ledgers = [results.wake_ledger(project, name, should_stop=should_stop) for name in names]
        wakes = [ledger.wakes for ledger in ledgers]
        if not all(one.states is not None and (one.cause == Cause.KIND).any() for one in wakes):
            return ledgers, ()
        shown = KindResults(results).shown(project, before, should_stop)
        known, capture = kinds_known(project.wake_kinds, shown), self.graph.capture(project, after)
        sorted_wakes = results.sorted_wakes(project, after, should_stop)
        kinds = name_kinds(capture.current, sorted_wakes, known, look_up(project, sorted_in, after))
        placement = results.placement(project, after, should_stop)
        limits, known_wakes = results.limits(project, after, should_stop), wakes_of_kinds(kinds)
        ledgers[1] = make_wake_ledger(capture, placement, known_wakes, limits=limits, should_stop=should_stop)
        return ledgers, kind_changes(shown.kinds, kinds)

    def claim(
        self, project: Project, text: str, before: str, after: str, should_stop: ShouldStop = never
    ) -> ClaimResult:
        """Check a claim on two runs, or on the plan of the first when the second is `PLAN`.

        Raises
        ------
        BadArgumentError
            If the claim cannot be understood, or there is nothing to hold it against.
        """
        first = self._results.run(project, before, should_stop)
        if after == PLAN:
            start = self.start(project, before, should_stop)
            predicted = predict(start, look_up(project, changes_ahead, before))
            second = ComparedRun(predicted.by_state, predicted.ledger, predicted.load)
            model = life_model(project, predicted.load)
            life = follow_life(model, project.target_s, first.life)
        else:
            run = self._results.run(project, after, should_stop)
            second, life = ComparedRun(run.by_state, run.modelled, run.load), run.life
        states = tuple(dict.fromkeys(row.name for ledger in (first.ledger, second.ledger) for row in ledger.rows))
        claim = read_claim(text, states)
        sides = (ComparedRun(first.by_state, first.modelled, first.load), second)
        volts = [_mean_v(first.ledger), _mean_v(first.ledger if after == PLAN else second.ledger)]
        known = zip(sides, (first.life, life), volts, strict=True)
        about = [_about(claim, side, of, supply_v) for side, of, supply_v in known]
        return check_claim(claim, about[0], about[1])

    def start(self, project: Project, name: str, should_stop: ShouldStop = never) -> PredictionStart:
        """Return what predictions of changes to one run start from."""
        results = self._results
        return PredictionStart(
            results.modelled(project, name, should_stop),
            project.activities,
            partial(results.occurrences, project, name, should_stop=should_stop),
            pulses=results.pulses(project, name, should_stop),
            parts=project.parts,
            on={value.state: value.parts for value in look_up(project, expected_in, name)},
        )

    def predict(
        self, project: Project, name: str, changes: tuple[PlannedChange, ...], should_stop: ShouldStop = never
    ) -> Predicted:
        """Predict one run with some changes."""
        return predict(self.start(project, name, should_stop), changes)

    @remembered
    def ahead(self, project: Project, name: str, should_stop: ShouldStop = never) -> PlannedLife:
        """Return the average and the life of one run with all of the plan that it does not contain yet."""
        load = self.predict(project, name, look_up(project, changes_ahead, name), should_stop).load
        return PlannedLife(load.mean_a, life_of(life_model(project, load)))

    def smallest_set(
        self, project: Project, name: str, changes: tuple[PlannedChange, ...], should_stop: ShouldStop = never
    ) -> SmallestSet | None:
        """Search for the fewest changes that meet the target; None without a target."""
        budget_a = self._results.run(project, name, should_stop).life.budget_a
        if budget_a is None:
            return None
        start = self.start(project, name, should_stop)
        return smallest_set(start, changes, budget_a, project.plan.limits, should_stop=should_stop)

    @remembered
    def plan(self, project: Project, name: str, should_stop: ShouldStop = never) -> PlanResults:
        """Work out the plan as it stands for one run."""
        results = self._results
        run = results.run(project, name, should_stop)
        start = self.start(project, name, should_stop)
        ahead = look_up(project, changes_ahead, name)
        steps, predicted = waterfall(start, ahead), predict(start, ahead)
        model = life_model(project, predicted.load)
        planned_s = life_of(model)
        before = look_up(project, step_before, name)
        last = results.run(project, before, should_stop) if before else None
        matrix = self.matrix(project, name, should_stop)
        found = results.findings(project, name, should_stop)
        supply_v = run.capture.info.supply_v or project.supply_v
        offered = suggest_changes(
            start, found, matrix, project.plan.changes, ahead, look_up(project, attached), supply_v
        )
        return PlanResults(
            name,
            before,
            run.load.mean_a,
            run.life.life_s,
            run.load.bound,
            last.load.mean_a if last is not None else None,
            last.life.life_s if last is not None else None,
            steps,
            tuple(life_of(life_model(project, step.load)) for step in steps),
            predicted,
            follow_life(model, project.target_s, run.life),
            self.proofs(project, name, should_stop),
            project.target_s,
            run.life.budget_a,
            tuple(
                replace(one, gain_s=life_of(life_model(project, one.load)) - planned_s if one.load else 0.0)
                for one in offered
            ),
            matrix,
            tuple(lead_words(column) for column in matrix.columns if column.is_open),
            results.waste(project, name, should_stop).modes_of_states,
            predicted_waveform(run.placement, run.ledger, predicted, ahead),
        )

    def by_gain(
        self, project: Project, name: str, changes: tuple[PlannedChange, ...], should_stop: ShouldStop = never
    ) -> tuple[PlannedChange, ...]:
        """Order changes to one run by what each saves for its effort."""
        return by_gain(self.start(project, name, should_stop), changes)

    @remembered
    def matrix(self, project: Project, name: str, should_stop: ShouldStop = never) -> Matrix:
        """Return the shutdown matrix compared with one run."""
        results = self._results
        waste = results.waste(project, name, should_stop)
        return make_matrix(
            results.ledger(project, name, should_stop),
            project.parts,
            waste.expected,
            project.power_rules,
            project.wake_plan,
            waste.modes_of_states,
        )

    @remembered
    def periods(self, project: Project, name: str, should_stop: ShouldStop = never) -> tuple[PeriodModel, ...]:
        """Return what happens with a period in one run: sources of wakes, and what pulses in its states."""
        capture = self.graph.capture(project, name)
        placement = self._results.placement(project, name, should_stop)
        ledger = self._results.wake_ledger(project, name, should_stop=should_stop)
        sources = (of_source(ledger, row.source) for row in ledger.sources)
        states = (of_state(capture, placement, state, should_stop=should_stop) for state in placement.names)
        return tuple(one for one in (*sources, *states) if one is not None)

    @remembered
    def asked(self, project: Project, name: str, should_stop: ShouldStop = never) -> tuple[GrantedTimer, ...]:
        """Return what was asked of a network and what it granted, in the order of the log."""
        return asked_and_granted(self._results.waste(project, name, should_stop))

    @remembered
    def proofs(self, project: Project, name: str, should_stop: ShouldStop = never) -> tuple[Proof, ...]:
        """Hold what was predicted of the changes in each run up to this one against what came."""
        results, found = self._results, []
        names = look_up(project, run_names)
        for after in names[: names.index(name) + 1] if name in names else []:
            changes = tuple(one for one in project.plan.changes if one.proved_by == after and one.on in names)
            for before in dict.fromkeys(change.on for change in changes):
                mine = tuple(one for one in changes if one.on == before)
                runs = [results.run(project, one, should_stop) for one in (before, after)]
                sides = [ComparedRun(run.by_state, run.modelled, run.load) for run in runs]
                proof = prove(before, after, mine, self.start(project, before, should_stop), *sides)
                found.append(replace(proof, recorded_utc=runs[1].capture.info.start_utc))
        return tuple(found)


def _mean_v(ledger: Ledger) -> float | None:
    """Return the voltage at which flowed what did; None where nobody knows it."""
    return ledger.energy_j / ledger.charge_c if ledger.energy_j is not None and ledger.charge_c else None


def _about(claim: Claim, side: ComparedRun, life: LifeEstimate, supply_v: float | None) -> Estimate | ClaimedValue:
    """Return what a claim is about, of one run."""
    if claim.about == POWER:
        if supply_v is None:
            raise BadArgumentError("a power needs a voltage: record it, or give the project's supply voltage")
        return average(side).times(supply_v)
    if claim.about == CHARGE:
        return average(side)
    if claim.about == LIFE:
        drawn = average(side)
        if claim.is_ratio:  # what is not known of the battery is the same for both
            return (
                Estimate(life.life_s, life.life_s * drawn.error / drawn.value, drawn.freedom) if drawn.value else drawn
            )
        low_s, high_s = (
            np.quantile(life.draws_s, (0.05, 0.95)) if np.isfinite(life.draws_s).all() else (life.life_s,) * 2
        )
        return ClaimedValue(life.life_s, float(low_s), float(high_s))
    row = side.ledger.row(claim.about)
    if row is None or row.mean.value is None:
        raise BadArgumentError(f"{claim.about} was not measured there")
    return row.estimate


def compare_states(first: RunResults, second: RunResults) -> tuple[Difference, ...]:
    """Return what each state adds in two runs, the largest change first."""
    return by_state(*(ComparedRun(run.by_state, run.modelled, run.load) for run in (first, second)))


def compare_averages(first: RunResults, second: RunResults) -> Difference:
    """Return what two runs take on average over the device's life, without its uncertainty."""
    one, other = first.load, second.load
    return Difference("average", one.mean_a, other.mean_a, None, None, (one.bound, other.bound))


def over_limits(project: Project, name: str) -> dict[str, float]:
    """Return what the changes ahead of a run cost together where it is over the plan's limits.

    Returns
    -------
    dict
        Of ``"latency"`` in s, ``"accuracy"`` as a share and ``"memory"`` in bytes those that are over.
    """
    costs = costs_of(changes_ahead(project, name))
    known = {"latency": costs.latency_s, "accuracy": costs.accuracy, "memory": float(costs.memory_bytes)}
    return {one: known[one] for one in costs.over(project.plan.limits)}


def changes_ahead(project: Project, name: str) -> tuple[PlannedChange, ...]:
    """Return the changes in the plan that a run does not contain yet."""
    names = [run.name for run in project.runs]
    done = set(names[: names.index(name) + 1]) if name in names else set()
    return tuple(change for change in project.plan.changes if change.is_planned and change.proved_by not in done)


def step_before(project: Project, name: str) -> str:
    """Return the step before a run on the ladder; empty where there is none."""
    names = [run.name for run in project.runs]
    if name not in names:
        return ""
    steps = [run.name for run in project.runs[: names.index(name)] if run.kind == "step"]
    return steps[-1] if steps else ""
