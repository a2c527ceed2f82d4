"""The project: one immutable value from which everything else is computed."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum

import msgspec

from warm_ember.model.band_limit import BandLimit
from warm_ember.model.battery import Activity, Battery, Climate, SupplyStage
from warm_ember.model.bench import Bench
from warm_ember.model.figure import Grade
from warm_ember.model.fold import FoldPlan
from warm_ember.model.kinds import SortedWake, WakeKind
from warm_ember.model.parts import Part, PartOn, PowerRule
from warm_ember.model.plan import Plan
from warm_ember.model.rules import Rule
from warm_ember.model.wake_plan import WakePlan
from warm_ember.model.wakes import SleepMode, WakeSource

FORMAT = 1


class RunKind(StrEnum):
    """What a run is on the ladder: a step, a side rung that is compared but is no step, or one of a sweep: no rung."""

    STEP = "step"
    REPEAT = "repeat"
    CONDITION = "condition"
    POINT = "point of a sweep"


class Run(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the project knows of one capture.

    Parameters
    ----------
    name
        The capture's name: its file is ``captures/<name>.h5``.
    title
        What the engineer calls the run; the name when empty.
    changed
        What changed since the run before.
    kind
        Step, repeat, other condition, or point of a sweep.
    note
        What else is to be known of it.
    """

    name: str
    title: str = ""
    changed: str = ""
    kind: RunKind = RunKind.STEP
    note: str = ""

    @property
    def label(self) -> str:
        """The title, or the name when there is none."""
        return self.title or self.name


class ExpectedValue(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a state should draw, under which condition, and who says so.

    Parameters
    ----------
    state
        The state.
    current_a
        Typed, A; with `parts` their sum takes its place.
    tolerance
        As a share of it.
    condition
        When it holds, such as ``"3.0 V, 21 °C"``.
    source
        Who says so.
    parts
        What should be on.
    """

    state: str
    current_a: float = 0.0
    tolerance: float = 0.2
    condition: str = ""
    source: str = ""
    parts: tuple[PartOn, ...] = ()


class StateGroup(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """States that are read together."""

    name: str
    states: tuple[str, ...]


class Bracket(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A stretch of a capture that the reader cares about."""

    letter: str
    capture: str
    from_s: float
    to_s: float
    name: str = ""


class Note(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the reader wants to be known of a moment of a capture, or of a stretch.

    Parameters
    ----------
    capture
        The capture.
    at_s
        When, or where the stretch begins.
    text
        The words.
    to_s
        Where the stretch ends; None for a moment.
    """

    capture: str
    at_s: float
    text: str
    to_s: float | None = None


class TypedClock(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How the target's clock maps to one capture's, typed: ``capture = offset_s + (1 + drift) * target``."""

    capture: str
    offset_s: float = 0.0
    drift: float = 0.0


class TrustLimits(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Thresholds from which on a link is not trusted."""

    unplaced_limit: float = 0.02


class Project(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A project as a value.

    An edit is a function from one project to the next; undo is a list of earlier values.
    """

    format: int = FORMAT
    name: str = ""
    runs: tuple[Run, ...] = ()
    rules: tuple[Rule, ...] = ()
    expected: tuple[ExpectedValue, ...] = ()
    parts: tuple[Part, ...] = ()
    power_rules: tuple[PowerRule, ...] = ()
    groups: tuple[StateGroup, ...] = ()
    brackets: tuple[Bracket, ...] = ()
    notes: tuple[Note, ...] = ()
    folds: tuple[FoldPlan, ...] = ()
    clocks: tuple[TypedClock, ...] = ()
    band_limits: tuple[BandLimit, ...] = ()
    battery: Battery = Battery(capacity_c=21600.0, self_discharge_per_year=0.015, reserve=0.1, grade=Grade.ASSUMED)
    supply: SupplyStage = SupplyStage()
    supply_v: float | None = None
    climate: Climate = Climate()
    activities: tuple[Activity, ...] = ()
    wake_sources: tuple[WakeSource, ...] = ()
    sleep_modes: tuple[SleepMode, ...] = ()
    wake_kinds: tuple[WakeKind, ...] = ()
    sorted_wakes: tuple[SortedWake, ...] = ()
    wake_plan: WakePlan = WakePlan()
    plan: Plan = Plan()
    target_s: float | None = None
    settings: TrustLimits = TrustLimits()
    bench: Bench = Bench()

    def run(self, name: str) -> Run | None:
        """Return the run of that capture name, or None."""
        return next((run for run in self.runs if run.name == name), None)

    @property
    def rungs(self) -> tuple[Run, ...]:
        """The runs that stand on the ladder: all but the points of sweeps."""
        return tuple(run for run in self.runs if run.kind is not RunKind.POINT)

    @property
    def latest(self) -> str:
        """The name of the latest run, one on the ladder where there is one; empty without runs."""
        return next((run.name for run in reversed(self.rungs or self.runs)), "")

    def expected_of(self, state: str) -> ExpectedValue | None:
        """Return the expected value of a state, or None."""
        return next((value for value in self.expected if value.state == state), None)

    @property
    def group_of(self) -> dict[str, str]:
        """The group of each state that is in one."""
        return {state: group.name for group in self.groups for state in group.states}

    def brackets_of(self, capture: str) -> tuple[Bracket, ...]:
        """Return the brackets on one capture in the order they were made."""
        return tuple(bracket for bracket in self.brackets if bracket.capture == capture)

    def notes_of(self, capture: str) -> tuple[Note, ...]:
        """Return the notes on one capture, the earliest first."""
        return tuple(sorted((note for note in self.notes if note.capture == capture), key=lambda note: note.at_s))

    def clock_of(self, capture: str) -> TypedClock | None:
        """Return the clock map that was typed for one capture, or None when it is found."""
        return next((clock for clock in self.clocks if clock.capture == capture), None)

    def band_limits_of(self, capture: str) -> tuple[BandLimit, ...]:
        """Return what is shown of one capture with its band limited."""
        return tuple(limit for limit in self.band_limits if limit.capture == capture)

    def wake_kind(self, letter: str) -> WakeKind | None:
        """Return the kind of wakes of a letter, or None."""
        return next((kind for kind in self.wake_kinds if kind.letter == letter), None)

    @property
    def slack_s(self) -> dict[str, float]:
        """By how much later each source of wakes may come, where anybody said so."""
        return {source.name: source.slack_s for source in self.wake_sources if source.slack_s > 0}

    def fold_of(self, capture: str) -> FoldPlan | None:
        """Return how one capture is folded, or None when nobody said so yet."""
        return next((plan for plan in self.folds if plan.capture == capture), None)


Edit = Callable[[Project], Project]
