"""What is computed of each run: pure functions of the project and its captures, remembered by what they read."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import partial
from typing import NamedTuple

import msgspec
import numpy as np

from warm_ember.attribution.budget import budget_by_activity, budget_by_state
from warm_ember.attribution.clock import align
from warm_ember.attribution.cycles import WholeCycles, default_plan, extend_to_whole_cycles, fold_cycles
from warm_ember.attribution.expected import expected_in
from warm_ember.attribution.kinds import Kinds, SortedWakes, sort_wakes
from warm_ember.attribution.known_kinds import name_kinds
from warm_ember.attribution.ledger import Ledger, make_ledger
from warm_ember.attribution.limits import MeasurementLimits, clipped_limits, find_limits
from warm_ember.attribution.load import MeasurePulses, Occurrences, make_load, no_pulses, reproduce
from warm_ember.attribution.occurrences import of_stretch, of_wakes
from warm_ember.attribution.placing import place
from warm_ember.attribution.pulses import hottest_entries, left_of_pulses
from warm_ember.attribution.stay_sums import StaySums, sum_stays, sums_within
from warm_ember.attribution.wake_ledger import WakeLedger, make_wake_ledger
from warm_ember.attribution.wakes import Wakes, arranged, find_wakes
from warm_ember.attribution.window import Window, find_window, within
from warm_ember.battery.life import LifeEstimate, estimate_life, follow_life
from warm_ember.errors import BadArgumentError
from warm_ember.model.band_limit import CURRENT, BandLimit
from warm_ember.model.battery import Activity, FromStates, FromStretch, FromWakes, Points
from warm_ember.model.bench import Attached
from warm_ember.model.figure import Figure
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.fold import FoldPlan
from warm_ember.model.kinds import SortedWake
from warm_ember.model.load import LifeModel, Load
from warm_ember.model.placement import Alignment, Placement
from warm_ember.model.project import Project, Run
from warm_ember.model.rules import HandRule, Rule
from warm_ember.session.band_limits import channels_of
from warm_ember.session.graph import ResultGraph, look_up, remembered
from warm_ember.session.run_results import RunResults
from warm_ember.signal.band_limit import BandLimited
from warm_ember.signal.envelope import current_span
from warm_ember.signal.fold import Fold
from warm_ember.signal.hum import Hum, find_hum
from warm_ember.signal.level_numbers import numbered
from warm_ember.signal.levels import Levels, find_levels
from warm_ember.signal.resolution import tells_within
from warm_ember.signal.series import Series, ShouldStop, never
from warm_ember.signal.stretch import StretchReading, read_stretch, snap
from warm_ember.store.capture import Capture
from warm_ember.tuning.findings.registry import QualityReport, check, find_alone
from warm_ember.tuning.findings.waste import WasteContext
from warm_ember.tuning.findings.wasters import find_waste

_MOST_PULSES = 16
_FAR_ABOVE = 20.0


class LoadAndLife(NamedTuple):
    """What one run means for the device's life, and that life."""

    load: Load
    life: LifeEstimate


class Results:
    """Compute and remember; safe to ask from several threads.

    Parameters
    ----------
    open_capture
        Opens a capture by its name.

    Attributes
    ----------
    graph
        Where results are remembered.
    """

    def __init__(self, open_capture: Callable[[str], Capture]) -> None:
        self.graph = ResultGraph(open_capture)

    @remembered
    def run(self, project: Project, name: str, should_stop: ShouldStop = never) -> RunResults:
        """Compute all of one run.

        Raises
        ------
        BadFileError
            If the capture cannot be read.
        BadArgumentError
            If battery or activities are impossible.
        Cancelled
            If `should_stop` answered yes.
        """
        ledger, modelled = self.ledger(project, name, should_stop), self.modelled(project, name, should_stop)
        load, life = self.life(project, name, should_stop)
        return RunResults(
            run=project.run(name) or Run(name),
            capture=self.graph.capture(project, name),
            whole=self.whole(project, name, should_stop),
            current_span_a=self.current_span_a(project, name, should_stop),
            placement=self.placement(project, name, should_stop),
            limits=self.limits(project, name, should_stop),
            ledger=ledger,
            window=None if look_up(project, _has_activities) else self.window(project, name, should_stop),
            modelled=modelled,
            load=load,
            life=life,
            by_state=budget_by_state(load, modelled),
            by_activity=budget_by_activity(load),
            reproduced=reproduce(load, modelled),
            fold_plan=self.fold_plan(project, name, should_stop),
            limited=self.limited_channels(project, name, should_stop),
        )

    @remembered
    def current_span_a(self, project: Project, name: str, should_stop: ShouldStop = never) -> tuple[float, float]:
        """Return between which currents one capture lies."""
        return current_span(self.graph.capture(project, name).current)

    @remembered
    def whole(self, project: Project, name: str, should_stop: ShouldStop = never) -> StretchReading:
        """Read the whole of one capture."""
        return self.graph.capture(project, name).whole(supply_v=project.supply_v)

    @remembered
    def placement(self, project: Project, name: str, should_stop: ShouldStop = never) -> Placement:
        """Place the states of one capture."""
        return place(
            self.graph.capture(project, name),
            look_up(project, rules_for, name),
            clock=project.clock_of(name),
            levels=partial(self.placing_levels, project, name, should_stop),
            kinds=partial(self.kinds, project, name, should_stop),
            alignment=partial(self.alignment, project, name, should_stop),
            limited=self._limited_for_states(project, name, should_stop),
            should_stop=should_stop,
        )

    @remembered
    def band_limited(
        self, project: Project, name: str, channel: str, shortest_s: float, should_stop: ShouldStop = never
    ) -> BandLimited | None:
        """Limit the band of a channel of one capture; None where it has no such channel, or is too short for it."""
        series = channels_of(self.graph.capture(project, name)).get(channel)
        if series is None:
            return None
        try:
            return BandLimited(series, shortest_s, should_stop=should_stop)
        except BadArgumentError:
            return None

    def _limited_for_states(self, project: Project, name: str, should_stop: ShouldStop) -> BandLimited | None:
        limit = look_up(project, _limit_for_states, name)
        return self.band_limited(project, name, limit.channel, limit.shortest_s, should_stop) if limit else None

    def placing_current(self, project: Project, name: str, should_stop: ShouldStop = never) -> Series:
        """Return what rules by current look at in one capture."""
        return self._limited_for_states(project, name, should_stop) or self.graph.capture(project, name).current

    @remembered
    def placing_levels(self, project: Project, name: str, should_stop: ShouldStop = never) -> Levels:
        """Find the levels of what rules by current look at in one capture."""
        limited = self._limited_for_states(project, name, should_stop)
        found = self.levels(project, name, should_stop) if limited is None else find_levels(limited)
        return numbered(self.graph.capture(project, name).current, found, should_stop=should_stop)

    def limited_channels(self, project: Project, name: str, should_stop: ShouldStop = never) -> dict[str, BandLimited]:
        """Return the channels of one capture that are shown with their band limited, by name."""
        found = {
            limit.channel: self.band_limited(project, name, limit.channel, limit.shortest_s, should_stop)
            for limit in look_up(project, _limits_of, name)
        }
        return {channel: series for channel, series in found.items() if series is not None}

    @remembered
    def alignment(self, project: Project, name: str, should_stop: ShouldStop = never) -> Alignment:
        """Find how the log of one capture lies on it, as long as nobody entered that."""
        return align(self.graph.capture(project, name), partial(self.levels, project, name, should_stop))

    @remembered
    def levels(self, project: Project, name: str, should_stop: ShouldStop = never) -> Levels:
        """Find the levels of one capture."""
        return find_levels(self.graph.capture(project, name).current, should_stop=should_stop)

    @remembered
    def limits(self, project: Project, name: str, should_stop: ShouldStop = never) -> MeasurementLimits:
        """Find what the instrument could not tell in one capture."""
        capture = self.graph.capture(project, name)
        levels = partial(self.levels, project, name, should_stop)
        hum = self.hum(project, name, should_stop)
        return find_limits(capture, levels, hum=hum, should_stop=should_stop)

    @remembered
    def hum(self, project: Project, name: str, should_stop: ShouldStop = never) -> Hum | None:
        """Find the mains in the quiet parts of one capture; None where it is not seen."""
        return find_hum(self.graph.capture(project, name).current, should_stop=should_stop)

    @remembered
    def ledger(self, project: Project, name: str, should_stop: ShouldStop = never) -> Ledger:
        """Sum one capture over its states."""
        return make_ledger(
            self.graph.capture(project, name),
            self.placement(project, name, should_stop),
            look_up(project, expected_in, name),
            limits=self.limits(project, name, should_stop),
            sums=self._stays(project, name, should_stop),
            should_stop=should_stop,
        )

    @remembered
    def _stays(self, project: Project, name: str, should_stop: ShouldStop = never) -> StaySums:
        placement = self.placement(project, name, should_stop)
        return sum_stays(
            self.graph.capture(project, name), placement, supply_v=project.supply_v, should_stop=should_stop
        )

    @remembered
    def window(self, project: Project, name: str, should_stop: ShouldStop = never) -> Window:
        """Find the whole cycles of one capture without its start-up."""
        capture, placement = self.graph.capture(project, name), self.placement(project, name, should_stop)
        sums = self._stays(project, name, should_stop)
        return find_window(capture, placement, sums=sums, should_stop=should_stop)

    def whole_cycles(
        self, project: Project, name: str, from_s: float | None, to_s: float | None, should_stop: ShouldStop = never
    ) -> WholeCycles:
        """Return the whole cycles about a stretch of one capture, or all that are in it.

        Raises
        ------
        BadArgumentError
            If nothing repeats.
        """
        capture = self.graph.capture(project, name)
        found: WholeCycles | None = None
        if from_s is None and to_s is None:
            window = self.window(project, name, should_stop)
            if window.cycles is not None:
                found = WholeCycles(window.from_s, window.to_s, window.cycles, window.found_by)
        else:
            duration_s = capture.current.samples * capture.current.interval_s
            stretch = (from_s or 0.0, duration_s if to_s is None else to_s)
            read_stretch(capture.current, *stretch)  # refuses what is reversed or outside
            found = extend_to_whole_cycles(capture, self.placement(project, name, should_stop), *stretch)
        if found is None:
            raise BadArgumentError(f"{name} has no whole cycles there: nothing repeats often enough")
        return found

    def stretch_mean(self, project: Project, name: str, reading: StretchReading) -> Figure:
        """Return the mean of a stretch: a bound where its range was exceeded, or where it is below what is resolved.

        What the instrument resolves in the whole capture is only asked of a stretch that is near it.
        """
        capture, mean_a = self.graph.capture(project, name), reading.mean_a
        first, last = snap(capture.current, reading.from_s, reading.to_s)
        limits = self._clipped(project, name)
        if mean_a is not None and mean_a <= _FAR_ABOVE * tells_within(capture.current, first, last):
            limits = self.limits(project, name)
        return limits.read(mean_a, is_clipped=bool(limits.clips(np.array([first, last])).any()))

    @remembered
    def _clipped(self, project: Project, name: str, should_stop: ShouldStop = never) -> MeasurementLimits:
        return clipped_limits(self.graph.capture(project, name), should_stop=should_stop)

    @remembered
    def modelled(self, project: Project, name: str, should_stop: ShouldStop = never) -> Ledger:
        """Sum over its states what of one capture stands for the device's life."""
        if look_up(project, _has_activities):
            return self.ledger(project, name, should_stop)
        capture, whole = self.graph.capture(project, name), self.placement(project, name, should_stop)
        part = within(whole, self.window(project, name, should_stop), capture.current.interval_s)
        sums = self._stays(project, name, should_stop)
        if part is not whole:
            first, last = int(part.edges[0]), int(part.edges[-1])
            volts = project.supply_v
            sums = sums_within(sums, capture, first, last, supply_v=volts, should_stop=should_stop)
        return make_ledger(
            capture,
            part,
            look_up(project, expected_in, name),
            limits=self.limits(project, name, should_stop),
            sums=sums,
            should_stop=should_stop,
        )

    @remembered
    def findings(self, project: Project, name: str, should_stop: ShouldStop = never) -> tuple[Finding, ...]:
        """Find what is wrong with one capture, and what is wasted in it, in the order of time."""
        faults = self.quality(project, name, should_stop).findings
        if project.clock_of(name) is not None:  # typed, so that nothing is open any more
            faults = tuple(one for one in faults if one.kind is not FindingKind.AMBIGUOUS_CLOCK)
        return find_waste(self.waste(project, name, should_stop), faults)

    @remembered
    def faults_alone(
        self, project: Project, name: str, kinds: tuple[FindingKind, ...], should_stop: ShouldStop = never
    ) -> tuple[Finding, ...]:
        """Find only faults of some kinds of `STANDS_ALONE`: what `findings` lists of them, in a part of the time."""
        levels = partial(self.levels, project, name, should_stop)
        return find_alone(self.graph.capture(project, name), kinds, levels, should_stop=should_stop)

    def waste(self, project: Project, name: str, should_stop: ShouldStop = never) -> WasteContext:
        """Return what waste is looked for in."""
        capture = self.graph.capture(project, name)
        return WasteContext(
            capture,
            self.placement(project, name, should_stop),
            self.ledger(project, name, should_stop),
            self.wake_ledger(project, name, should_stop=should_stop),
            look_up(project, expected_in, name),
            project.parts,
            look_up(project, attached),
            capture.info.supply_v or project.supply_v,
            look_up(project, _mode_names),
            should_stop,
        )

    @remembered
    def quality(self, project: Project, name: str, should_stop: ShouldStop = never) -> QualityReport:
        """Find what is wrong with one capture, and say what was looked at."""
        levels = partial(self.levels, project, name, should_stop)
        hum = partial(self.hum, project, name, should_stop)
        return check(self.graph.capture(project, name), levels, hum=hum, should_stop=should_stop)

    def fold_plan(self, project: Project, name: str, should_stop: ShouldStop = never) -> FoldPlan:
        """Return how one capture is folded: as the project says, else as is likely to be wanted."""
        return project.fold_of(name) or self._default_fold_plan(project, name, should_stop)

    @remembered
    def _default_fold_plan(self, project: Project, name: str, should_stop: ShouldStop = never) -> FoldPlan:
        return default_plan(self.graph.capture(project, name), self.placement(project, name, should_stop))

    def fold(self, project: Project, name: str, plan: FoldPlan, should_stop: ShouldStop = never) -> Fold:
        """Fold one capture; how its steps are cut and named does not matter here.

        Raises
        ------
        BadArgumentError
            If there is nothing to fold.
        """
        return self._fold(project, name, msgspec.structs.replace(plan, edges_s=None, names=()), should_stop)

    @remembered
    def _fold(self, project: Project, name: str, plan: FoldPlan, should_stop: ShouldStop = never) -> Fold:
        capture, placement = self.graph.capture(project, name), self.placement(project, name, should_stop)
        return fold_cycles(capture, placement, plan, should_stop=should_stop)

    @remembered
    def life(self, project: Project, name: str, should_stop: ShouldStop = never) -> LoadAndLife:
        """Work out one run's load and life."""
        load = self.load(project, name, should_stop)
        return LoadAndLife(load, estimate_life(life_model(project, load), project.target_s))

    @remembered
    def load(self, project: Project, name: str, should_stop: ShouldStop = never) -> Load:
        """Work out what one run means for the device's life: its base, and its activities as often as they come.

        Raises
        ------
        BadArgumentError
            If an activity's rate is impossible.
        """
        return self._load(project, name, should_stop)

    def _load(self, project: Project, name: str, should_stop: ShouldStop) -> Load:
        measure = partial(self.occurrences, project, name, should_stop=should_stop)
        pulses = self.pulses(project, name, should_stop)
        return make_load(self.modelled(project, name, should_stop), project.activities, measure, pulses)

    def pulses(self, project: Project, name: str, should_stop: ShouldStop = never) -> MeasurePulses:
        """Return what measures how much of an activity's pulses gets through a capacitor before the cell, if any."""
        if not look_up(project, _has_capacitor):
            return no_pulses
        return partial(self._pulses, project, name, should_stop=should_stop)

    def preview(self, project: Project, like: RunResults, should_stop: ShouldStop = never) -> RunResults:
        """Work out roughly what a run's life would be in a project that differs only in what it is fed by or does.

        Nothing of it is remembered: it is for a value that is being dragged.

        Raises
        ------
        BadArgumentError
            If battery or activities are impossible.
        """
        load = self._load(project, like.run.name, should_stop)
        life = follow_life(life_model(project, load), project.target_s, like.life)
        by_state, by_activity = budget_by_state(load, like.modelled), budget_by_activity(load)
        return replace(like, load=load, life=life, by_state=by_state, by_activity=by_activity)

    @remembered
    def wakes(self, project: Project, name: str, should_stop: ShouldStop = never) -> Wakes:
        """Find one run's wakes, under the names of their sources."""
        capture, placement = self.graph.capture(project, name), self.placement(project, name, should_stop)
        found = self._wakes_as_found(project, name, should_stop)
        return arranged(found, project.wake_sources, placement, capture.current.interval_s)

    @remembered
    def _wakes_as_found(self, project: Project, name: str, should_stop: ShouldStop = never) -> Wakes:
        levels = partial(self.levels, project, name, should_stop)
        capture, placement = self.graph.capture(project, name), self.placement(project, name, should_stop)
        kinds = partial(self.kinds, project, name, should_stop)
        return find_wakes(capture, placement, levels, kinds, should_stop=should_stop)

    @remembered
    def kinds(self, project: Project, name: str, should_stop: ShouldStop = never) -> Kinds:
        """Sort one run's wakes into kinds by its current alone, as the project knows them."""
        current, wakes = self.graph.capture(project, name).current, self.sorted_wakes(project, name, should_stop)
        return name_kinds(current, wakes, project.wake_kinds, look_up(project, sorted_in, name))

    @remembered
    def sorted_wakes(self, project: Project, name: str, should_stop: ShouldStop = never) -> SortedWakes:
        """Sort one run's wakes into kinds by its current alone, whatever the project knows of kinds."""
        return sort_wakes(self.graph.capture(project, name).current, should_stop=should_stop)

    def wake_ledger(
        self,
        project: Project,
        name: str,
        slack_s: Mapping[str, float] | None = None,
        should_stop: ShouldStop = never,
        *,
        cpu: int | None = None,
    ) -> WakeLedger:
        """Sum one run over its wakes, or those of one CPU; `slack_s` overrides the project's."""
        return self._wake_ledger(project, name, tuple(sorted((slack_s or {}).items())), cpu, should_stop)

    @remembered
    def _wake_ledger(
        self,
        project: Project,
        name: str,
        slack: tuple[tuple[str, float], ...],
        cpu: int | None,
        should_stop: ShouldStop = never,
    ) -> WakeLedger:
        capture, placement = self.graph.capture(project, name), self.placement(project, name, should_stop)
        wakes = self.wakes(project, name, should_stop)
        wakes, slack_s = wakes if cpu is None else wakes.of_cpu(cpu), {**project.slack_s, **dict(slack)}
        limits = self.limits(project, name, should_stop)
        return make_wake_ledger(
            capture, placement, wakes, slack_s, project.sleep_modes, limits=limits, should_stop=should_stop
        )

    def occurrences(
        self, project: Project, name: str, source: FromStretch | FromWakes, should_stop: ShouldStop
    ) -> Occurrences | None:
        """Measure an activity that was taken from a bracket or from wakes; None when its capture does not show it."""
        if isinstance(source, FromWakes):
            capture, placement = self.graph.capture(project, name), self.placement(project, name, should_stop)
            wakes = self.wakes(project, name, should_stop)
            limits = self.limits(project, name, should_stop)
            return of_wakes(capture, placement, wakes, source.wake_source, limits=limits, should_stop=should_stop)
        if not look_up(project, _has_run, source.capture):
            return None
        capture = self.graph.capture(project, source.capture)
        placement = self.placement(project, source.capture, should_stop)
        first, last = snap(capture.current, source.from_s, source.to_s)
        limits = self.limits(project, source.capture, should_stop)
        found = of_stretch(capture, placement, first, last, limits=limits, should_stop=should_stop)
        # A bracket on another run takes nothing from this one's base, and its states are that run's.
        if found is None or source.capture == name:
            return found
        return replace(found, here_s=None, parts={})

    def _pulses(self, project: Project, name: str, activity: Activity, should_stop: ShouldStop) -> Points:
        source = activity.source
        capture, placement = self.graph.capture(project, name), self.placement(project, name, should_stop)
        if isinstance(source, FromStretch):
            name = source.capture
            capture = self.graph.capture(project, name)
            stretches = [snap(capture.current, source.from_s, source.to_s)]
        elif isinstance(source, FromWakes):
            wakes = self.wakes(project, name, should_stop)
            mine = np.flatnonzero(wakes.by(source.wake_source))[:_MOST_PULSES]
            stretches = list(zip(wakes.first[mine].tolist(), wakes.last[mine].tolist(), strict=True))
        elif isinstance(source, FromStates):
            stretches = hottest_entries(self.ledger(project, name, should_stop), placement, source, _MOST_PULSES)
        else:
            return ()
        return self._left_of_pulses(project, name, tuple(stretches), should_stop)

    @remembered
    def _left_of_pulses(
        self, project: Project, name: str, stretches: tuple[tuple[int, int], ...], should_stop: ShouldStop = never
    ) -> Points:
        return left_of_pulses(self.graph.capture(project, name).current, stretches, should_stop=should_stop)


def life_model(project: Project, load: Load) -> LifeModel:
    """Return a load with what feeds it in a project."""
    return LifeModel(load, project.battery, project.supply, project.climate)


def sorted_in(project: Project, name: str) -> tuple[SortedWake, ...]:
    """Return what of one capture was sorted by hand."""
    return tuple(one for one in project.sorted_wakes if one.capture == name)


def rules_for(project: Project, name: str) -> tuple[Rule, ...] | None:
    """Return the placement rules that may change something in one capture, None where a project has none of its own.

    Strokes by hand on other captures change nothing in it. A project that has nothing but such strokes has rules of
    its own all the same, and must not fall back on the default ones.
    """
    if not project.rules:
        return None
    return tuple(rule for rule in project.rules if not isinstance(rule, HandRule) or rule.capture == name)


def _limits_of(project: Project, name: str) -> tuple[BandLimit, ...]:
    return project.band_limits_of(name)


def _limit_for_states(project: Project, name: str) -> BandLimit | None:
    found = (one for one in project.band_limits_of(name) if one.places_states and one.channel == CURRENT)
    return next(found, None)


def attached(project: Project) -> tuple[Attached, ...]:
    """Return what hangs beside the device."""
    return project.bench.attached


def run_names(project: Project) -> tuple[str, ...]:
    """Return the names of all runs, in their order."""
    return tuple(run.name for run in project.runs)


def _mode_names(project: Project) -> frozenset[str]:
    return frozenset(mode.name for mode in project.sleep_modes)


def _has_capacitor(project: Project) -> bool:
    return project.supply.input_f > 0


def _has_activities(project: Project) -> bool:
    return bool(project.activities)


def _has_run(project: Project, name: str) -> bool:
    return project.run(name) is not None
