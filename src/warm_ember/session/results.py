"""The graph of results: each a pure function of the project and a capture, remembered by what it depends on."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import TypeVar

import msgspec
import numpy as np

from warm_ember.attribution.budget import Segment, budget_by_activity, budget_by_state
from warm_ember.attribution.cycles import default_plan, fold_cycles
from warm_ember.attribution.expected import expected_in
from warm_ember.attribution.ledger import Ledger, make_ledger
from warm_ember.attribution.load import Occurrences, Reproduced, make_load, no_pulses, reproduce
from warm_ember.attribution.occurrences import of_stretch, of_wakes
from warm_ember.attribution.placing import place
from warm_ember.attribution.pulses import hottest_entries, left_of_pulses
from warm_ember.attribution.wake_ledger import WakeLedger, make_wake_ledger
from warm_ember.attribution.wakes import Wakes, arranged, find_wakes
from warm_ember.battery.life import LifeEstimate, estimate_life, follow_life
from warm_ember.model.battery import Activity, FromStates, FromStretch, FromWakes, Points
from warm_ember.model.finding import Finding
from warm_ember.model.fold import FoldPlan
from warm_ember.model.load import LifeModel, Load
from warm_ember.model.placement import Placement
from warm_ember.model.project import Project, Run
from warm_ember.model.rules import HandRule, Rule
from warm_ember.signal.fold import Fold
from warm_ember.signal.levels import Levels, find_levels
from warm_ember.signal.series import ShouldStop, never
from warm_ember.signal.stretch import StretchReading, snap
from warm_ember.store.capture import Capture
from warm_ember.tuning.findings.registry import Checkup, check
from warm_ember.tuning.findings.waste import Waste
from warm_ember.tuning.findings.wasters import find_waste

T = TypeVar("T")
_REMEMBERED = 200
_MOST_PULSES = 16


@dataclass(frozen=True, eq=False)
class RunResults:
    """Everything that is known of one run.

    Parameters
    ----------
    run
        The run.
    capture
        Its capture, open.
    whole
        The reading of the whole capture.
    placement, ledger
        Its states.
    load, life
        What it means over the device's life.
    by_state, by_activity
        The budget bar's segments.
    reproduced
        How well the load stands for the capture; None when nothing was measured.
    fold_plan
        How its cycles are folded: as the project says, else as is likely to be wanted.
    """

    run: Run
    capture: Capture
    whole: StretchReading
    placement: Placement
    ledger: Ledger
    load: Load
    life: LifeEstimate
    by_state: tuple[Segment, ...]
    by_activity: tuple[Segment, ...]
    reproduced: Reproduced | None
    fold_plan: FoldPlan

    @property
    def state_means(self) -> tuple[tuple[str, float | None], ...]:
        """Each state with its mean current, A."""
        return tuple((row.name, row.mean.value) for row in self.ledger.all_rows)


class Memory:
    """Values that were computed, by all that they depend on; the least recently used are forgotten."""

    def __init__(self) -> None:
        self._kept: OrderedDict[Hashable, object] = OrderedDict()
        self._lock = threading.Lock()

    def once(self, key: Hashable, work: Callable[[], T]) -> T:
        """Return what is known under a key, else compute it; safe from several threads."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key][0]  # type: ignore[index, no-any-return]
        value = work()
        with self._lock:
            # The first answer stays, so that what is keyed by its identity stays valid.
            kept = self._kept.setdefault(key, (value,))
            while len(self._kept) > _REMEMBERED:
                self._kept.popitem(last=False)
        return kept[0]  # type: ignore[index, no-any-return]


_memory = Memory()  # one for all sessions: a project that is opened again is there at once


class Results:
    """Compute and remember; safe to ask from several threads."""

    def __init__(self, open_capture: Callable[[str], Capture]) -> None:
        self.open_capture = open_capture
        self.once = _memory.once

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
        run = project.run(name) or Run(name)
        capture = self.open_capture(name)
        placement = self.placement(project, name, should_stop)
        ledger = self.ledger(project, name, should_stop)
        load, life = self.life(project, name, should_stop)
        return RunResults(
            run=run,
            capture=capture,
            whole=self.once(
                ("whole", capture.identity, project.supply_v),
                lambda: capture.whole(supply_v=project.supply_v),
            ),
            placement=placement,
            ledger=ledger,
            load=load,
            life=life,
            by_state=budget_by_state(load, ledger),
            by_activity=budget_by_activity(load),
            reproduced=reproduce(load, ledger),
            fold_plan=self.fold_plan(project, name, should_stop),
        )

    def placement(self, project: Project, name: str, should_stop: ShouldStop = never) -> Placement:
        """Place the states of one capture."""
        capture = self.open_capture(name)
        rules = _rules_for(project.rules, name)
        levels = self.levels(capture, should_stop)
        return self.once(
            placement_key(project, capture),
            lambda: place(capture, rules, clock=project.clock_of(name), levels=levels, should_stop=should_stop),
        )

    def levels(self, capture: Capture, should_stop: ShouldStop) -> Callable[[], Levels]:
        """Return what gives the levels of a capture, which several results need."""
        key = ("levels", capture.identity)
        return lambda: self.once(key, lambda: find_levels(capture.current, should_stop=should_stop))

    def ledger(self, project: Project, name: str, should_stop: ShouldStop = never) -> Ledger:
        """Sum one capture over its states."""
        capture = self.open_capture(name)

        def work() -> Ledger:
            placement = self.placement(project, name, should_stop)
            volts = project.supply_v
            expected = expected_in(project, name)
            return make_ledger(capture, placement, expected, supply_v=volts, should_stop=should_stop)

        return self.once(_ledger_key(project, capture), work)

    def findings(self, project: Project, name: str, should_stop: ShouldStop = never) -> tuple[Finding, ...]:
        """Find what is wrong with one capture, and what is wasted in it, in the order of time."""
        capture, wakes = self.open_capture(name), self.wake_ledger(project, name, should_stop=should_stop)
        device = (project.parts, project.bench.attached, project.sleep_modes)

        def work() -> tuple[Finding, ...]:
            return find_waste(self.waste(project, name, should_stop), self.checkup(name, should_stop).findings)

        return self.once(("findings", wakes, device, *_ledger_key(project, capture)), work)

    def waste(self, project: Project, name: str, should_stop: ShouldStop = never) -> Waste:
        """Return what waste is looked for in."""
        capture = self.open_capture(name)
        return Waste(
            capture,
            self.placement(project, name, should_stop),
            self.ledger(project, name, should_stop),
            self.wake_ledger(project, name, should_stop=should_stop),
            expected_in(project, name),
            project.parts,
            project.bench.attached,
            capture.info.supply_v or project.supply_v,
            frozenset(mode.name for mode in project.sleep_modes),
            should_stop,
        )

    def checkup(self, name: str, should_stop: ShouldStop = never) -> Checkup:
        """Find what is wrong with one capture, and say what was looked at."""
        capture = self.open_capture(name)
        levels = self.levels(capture, should_stop)
        return self.once(("checkup", capture.identity), lambda: check(capture, levels, should_stop=should_stop))

    def fold_plan(self, project: Project, name: str, should_stop: ShouldStop = never) -> FoldPlan:
        """Say how one capture is folded: as the project says, else as is likely to be wanted."""
        known = project.fold_of(name)
        if known is not None:
            return known
        capture, placement = self.open_capture(name), self.placement(project, name, should_stop)
        key = ("fold plan", *placement_key(project, capture))
        return self.once(key, lambda: default_plan(capture, placement))

    def fold(self, project: Project, name: str, plan: FoldPlan, should_stop: ShouldStop = never) -> Fold:
        """Fold one capture; how its steps are cut and named does not matter here.

        Raises
        ------
        BadArgumentError
            If there is nothing to fold.
        """
        capture = self.open_capture(name)
        plan = msgspec.structs.replace(plan, edges_s=None, names=())

        def work() -> Fold:
            return fold_cycles(capture, self.placement(project, name, should_stop), plan, should_stop=should_stop)

        return self.once(("fold", plan, *placement_key(project, capture)), work)

    def life(self, project: Project, name: str, should_stop: ShouldStop = never) -> tuple[Load, LifeEstimate]:
        """Work out one run's load and life."""

        def work() -> tuple[Load, LifeEstimate]:
            load = self.load(project, name, should_stop)
            return load, estimate_life(life_model(project, load), project.target_s)

        return self.once(("life", *self.life_key(project, name)), work)

    def load(self, project: Project, name: str, should_stop: ShouldStop = never) -> Load:
        """Work out what one run means for the device's life: its base, and its activities as often as they come.

        Raises
        ------
        BadArgumentError
            If an activity's rate is impossible.
        """
        key = ("load", *self.life_key(project, name))
        return self.once(key, lambda: self._load(project, name, should_stop))

    def _load(self, project: Project, name: str, should_stop: ShouldStop) -> Load:
        ledger = self.ledger(project, name, should_stop)
        measure = partial(self.occurrences, project, name, should_stop=should_stop)
        behind = partial(self._pulses, project, name, should_stop=should_stop)
        return make_load(ledger, project.activities, measure, behind if project.supply.input_f else no_pulses)

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
        by_state, by_activity = budget_by_state(load, like.ledger), budget_by_activity(load)
        return replace(like, load=load, life=life, by_state=by_state, by_activity=by_activity)

    def wakes(self, project: Project, name: str, should_stop: ShouldStop = never) -> Wakes:
        """Find one run's wakes."""
        capture, placement = self.open_capture(name), self.placement(project, name, should_stop)
        levels = self.levels(capture, should_stop)
        found = self.once(
            ("wakes", *placement_key(project, capture)),
            lambda: find_wakes(capture, placement, levels, should_stop=should_stop),
        )
        return arranged(found, project.wake_sources, placement, capture.current.interval_s)

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
        capture, placement = self.open_capture(name), self.placement(project, name, should_stop)
        wakes, slack_s = self.wakes(project, name, should_stop), {**project.slack_s, **(slack_s or {})}
        wakes = wakes if cpu is None else wakes.of_cpu(cpu)
        said = (cpu, tuple(sorted(slack_s.items())), project.wake_sources, project.sleep_modes)
        return self.once(
            ("wake ledger", *said, *placement_key(project, capture)),
            lambda: make_wake_ledger(capture, placement, wakes, slack_s, project.sleep_modes, should_stop=should_stop),
        )

    def occurrences(
        self, project: Project, name: str, source: FromStretch | FromWakes, should_stop: ShouldStop
    ) -> Occurrences | None:
        """Measure an activity that was taken from a bracket or from wakes; None when its capture does not show it."""
        if isinstance(source, FromWakes):
            capture, placement = self.open_capture(name), self.placement(project, name, should_stop)
            wakes = self.wakes(project, name, should_stop)
            return of_wakes(capture, placement, wakes, source.wake_source, should_stop=should_stop)
        if project.run(source.capture) is None:
            return None
        capture, placement = self.open_capture(source.capture), self.placement(project, source.capture, should_stop)
        first, last = snap(capture.current, source.from_s, source.to_s)
        found = of_stretch(capture, placement, first, last, should_stop=should_stop)
        # A bracket on another run takes nothing from this one's base, and its states are that run's.
        if found is None or source.capture == name:
            return found
        return replace(found, here_s=None, parts={})

    def _pulses(self, project: Project, name: str, activity: Activity, should_stop: ShouldStop) -> Points:
        source = activity.source
        capture, placement = self.open_capture(name), self.placement(project, name, should_stop)
        if isinstance(source, FromStretch):
            capture = self.open_capture(source.capture)
            stretches = [snap(capture.current, source.from_s, source.to_s)]
        elif isinstance(source, FromWakes):
            wakes = self.wakes(project, name, should_stop)
            mine = np.flatnonzero(wakes.by(source.wake_source))[:_MOST_PULSES]
            stretches = list(zip(wakes.first[mine].tolist(), wakes.last[mine].tolist(), strict=True))
        elif isinstance(source, FromStates):
            stretches = hottest_entries(self.ledger(project, name, should_stop), placement, source, _MOST_PULSES)
        else:
            return ()
        key = ("pulses", capture.identity, tuple(stretches))
        return self.once(key, lambda: left_of_pulses(capture.current, stretches, should_stop=should_stop))

    def life_key(self, project: Project, name: str) -> tuple[Hashable, ...]:
        """Return all that the life of one run depends on."""
        stretches = {a.source.capture for a in project.activities if isinstance(a.source, FromStretch)}
        others = tuple(self.open_capture(other).identity for other in sorted(stretches) if project.run(other))
        inputs = (project.activities, project.battery, project.supply, project.climate, project.target_s)
        return (*_ledger_key(project, self.open_capture(name)), others, *inputs)


def life_model(project: Project, load: Load) -> LifeModel:
    """Return a load with what feeds it in a project."""
    return LifeModel(load, project.battery, project.supply, project.climate)


def placement_key(project: Project, capture: Capture) -> tuple[Hashable, ...]:
    """Return all that the placement of one capture depends on."""
    # Some rules hold a table of names, which has no hash; their text says all that they are.
    rules, clock = repr(_rules_for(project.rules, capture.name)), project.clock_of(capture.name)
    return ("placement", capture.name, capture.identity, rules, clock)


def _ledger_key(project: Project, capture: Capture) -> tuple[Hashable, ...]:
    expected = expected_in(project, capture.name)
    return ("ledger", *placement_key(project, capture), expected, project.supply_v)


def _rules_for(rules: tuple[Rule, ...], name: str) -> tuple[Rule, ...]:
    """Leave out strokes by hand on other captures: they change nothing here.

    A project that has rules of its own must not fall back to the default ones, so at least one stays.
    """
    return tuple(rule for rule in rules if not isinstance(rule, HandRule) or rule.capture == name)
