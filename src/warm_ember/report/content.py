"""All that stands in a report, as records: figures with interval and grade, and no pictures."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, ClassVar

from warm_ember.attribution.day import day_rows
from warm_ember.battery.parameters import parameters
from warm_ember.errors import BadArgumentError, ProjectError
from warm_ember.library.comparison import Comparison
from warm_ember.library.findings import Findings
from warm_ember.library.grades import Graded, graded
from warm_ember.library.kinds import Kinds
from warm_ember.library.life import Life, life_of
from warm_ember.library.project import Project
from warm_ember.library.record import Record
from warm_ember.library.states import States
from warm_ember.library.wakes import Wakes
from warm_ember.model.figure import Grade
from warm_ember.report.beside import Beside
from warm_ember.report.contents import Choice, Part
from warm_ember.session.average_figure import average_figure
from warm_ember.session.results import life_model
from warm_ember.units import HOUR_S, MONTH_S

if TYPE_CHECKING:
    from warm_ember.session.run_results import RunResults
    from warm_ember.session.session import Session

_BATTERY_FIELDS = {"capacity": "capacity_c", "self-discharge": "self_discharge_per_year", "reserve": "reserve"}
_FIELDS = {**_BATTERY_FIELDS, "cut-off": "cutoff_v", "resistance of a cell": "resistance_ohm"}


class BracketRow(Graded, frozen=True, kw_only=True):
    """A bracket with its reading."""

    letter: str
    name: str
    from_s: float
    to_s: float
    mean_a: float | None
    mean_a_low: float | None
    mean_a_high: float | None
    charge_c: float
    energy_j: float | None
    max_a: float | None


class NoteRow(Record, frozen=True, kw_only=True):
    """A note on a moment, or on a stretch where it has an end."""

    at_s: float
    to_s: float | None
    text: str


class DayState(Record, frozen=True, kw_only=True):
    """A state or an activity on an average day, and what it adds to the average."""

    name: str
    time_share: float
    charge_share: float
    mean_a: float | None
    added_a: float


class Check(Record, frozen=True, kw_only=True):
    """What was looked at in the measurement, and what was seen; `fault` where it is one."""

    what: str
    words: str
    fault: bool


class SetUp(Record, frozen=True, kw_only=True):
    """How a run was measured."""

    recorded_utc: str
    firmware: str
    board: str
    target: str
    instrument: str
    range: str
    sample_interval_s: float
    duration_s: float
    coverage: float
    supply_v: float | None
    temperature_c: float | None
    resolution_a: float | None
    corrections: tuple[str, ...]
    attached: tuple[str, ...]
    checked: tuple[str, ...]
    note: str


class Average(Graded, frozen=True, kw_only=True):
    """The average over the device's life."""

    mean_a: float
    mean_a_low: float | None
    mean_a_high: float | None


class RunSummary(Record, frozen=True, kw_only=True):
    """A run among the others: what it is, what changed, and what that came to."""

    run: str
    label: str
    changed: str
    kind: str
    note: str
    average: Average
    life: Life


class RunDetail(Record, frozen=True, kw_only=True):
    """All that a report says of a run that it is about."""

    run: str
    states: States
    day: tuple[DayState, ...]
    wakes: Wakes
    kinds: Kinds
    findings: Findings
    brackets: tuple[BracketRow, ...]
    notes: tuple[NoteRow, ...]
    checks: tuple[Check, ...]
    set_up: SetUp


class Step(Record, frozen=True, kw_only=True):
    """Changes from one run to another: what was predicted of them and what was measured."""

    before: str
    after: str
    changes: tuple[str, ...]
    predicted_a: float
    measured_a: float
    proved: bool


@dataclass(frozen=True)
class _WayThere:
    runs: tuple[RunSummary, ...]
    steps: tuple[Step, ...]
    plan: tuple[PlannedStep, ...]


class PlannedStep(Record, frozen=True, kw_only=True):
    """A change ahead: what it saves after those before it, what is left then, and the life."""

    change: str
    reason: str
    saved_a: float
    mean_a: float
    life_h: float


class Input(Graded, frozen=True, kw_only=True):
    """An input of the life, as it is written."""

    name: str
    value: str


class Sensitivity(Record, frozen=True, kw_only=True):
    """What a quarter more and a quarter less of an input does to the life; the worse value first."""

    name: str
    now: str
    worse: str
    better: str
    worse_life_h: float
    better_life_h: float


class Missing(Record, frozen=True, kw_only=True):
    """What the life does not include, and why."""

    what: str
    why: str


class Report(Record, frozen=True, kw_only=True):
    """A whole report. The last run is the one that it is about and has details; of two that are compared both have."""

    ROWS: ClassVar[str] = "runs"
    KEY: ClassVar[str] = "run"
    OPTIONAL: ClassVar[frozenset[str]] = frozenset({"comparison"})

    title: str
    project: str
    made: str
    target_h: float | None
    budget_a: float | None
    chance: float | None
    runs: tuple[RunSummary, ...]
    details: tuple[RunDetail, ...]
    steps: tuple[Step, ...]
    plan: tuple[PlannedStep, ...]
    inputs: tuple[Input, ...]
    sensitivity: tuple[Sensitivity, ...]
    not_included: tuple[Missing, ...]
    comparison: Comparison | None = None
    claims: tuple[Comparison, ...] = ()

    @property
    def subject(self) -> RunSummary:
        """The run that it is about."""
        return self.runs[-1]

    @property
    def detail(self) -> RunDetail:
        """All of that run."""
        return self.details[-1]


def gather(
    project: Project, choice: Choice, *, meanwhile: Callable[[tuple[RunDetail, ...]], object] | None = None
) -> Report:
    """Compute what a report says: the runs it is about here, the way there beside.

    Parameters
    ----------
    project, choice
        What it is of, and what it holds.
    meanwhile
        What is done with the details while the other runs may still be computed.

    Raises
    ------
    ProjectError
        If the project has no run.
    BadArgumentError
        If a claim is given without two runs, or cannot be understood.
    BadFileError
        If there is no such run, or it cannot be read.
    """
    session = project.session
    names = choice.runs or tuple(run.name for run in session.project.rungs) or tuple(project.runs)
    if not names:
        raise ProjectError(project.path, "there is no capture to report on", remedy="import or record one first")
    if choice.claims and len(choice.runs) != 2:
        raise BadArgumentError("a claim is checked by two runs: give --run twice")
    for name in names:
        project.runs[name]  # one that there is not is told before anything is computed
    is_compared = len(choice.runs) == 2
    subject = session.run(names[-1])  # before the copy is made: both need it
    with Beside(lambda: _way_there(session, names)) as beside:
        details = tuple(_detail(project, name) for name in (names if is_compared else names[-1:]))
        if meanwhile is not None:
            meanwhile(details)
        way_there = beside.result()
    life = subject.life
    compared = project.compare(*names) if is_compared and Part.COMPARISON in choice.parts else None
    return Report(
        title=choice.title or f"{session.title}: {subject.run.label}",
        project=session.title,
        made=_today(),
        target_h=None if life.target_s is None else life.target_s / HOUR_S,
        budget_a=life.budget_a,
        chance=life.chance,
        runs=way_there.runs,
        details=details,
        steps=way_there.steps,
        plan=way_there.plan,
        inputs=_inputs(session, subject),
        sensitivity=tuple(
            Sensitivity(
                name=step.name,
                now=step.now,
                worse=step.worse,
                better=step.better,
                worse_life_h=step.worse_s / HOUR_S,
                better_life_h=step.better_s / HOUR_S,
            )
            for step in session.battery.steps(session.project, names[-1])
        ),
        not_included=_not_included(session, subject, details[-1]),
        comparison=compared,
        claims=tuple(project.compare(names[0], names[1], claim) for claim in choice.claims),
    )


def _today() -> str:
    """Return the date of the report, by ``SOURCE_DATE_EPOCH`` where that is set (reproducible-builds.org)."""
    given = os.environ.get("SOURCE_DATE_EPOCH", "")
    moment = datetime.fromtimestamp(int(given), UTC) if given.isdigit() else datetime.now().astimezone()
    return f"{moment.day} {moment:%B %Y}"


def _way_there(session: Session, names: tuple[str, ...]) -> _WayThere:
    runs = tuple(_summary(session.run(name)) for name in names)
    return _WayThere(runs, _steps(session, names), _plan(session, names[-1]))


def _summary(run: RunResults) -> RunSummary:
    mean = average_figure(run)
    return RunSummary(
        run=run.run.name,
        label=run.run.label,
        changed=run.run.changed,
        kind=run.run.kind.value,
        note=run.run.note,
        average=Average(mean_a=run.load.mean_a, mean_a_low=mean.low, mean_a_high=mean.high, **graded(mean)),
        life=life_of(run.life, run.window),
    )


def _detail(project: Project, name: str) -> RunDetail:
    session, run = project.session, project.runs[name]
    found = session.run(name)
    states, info = run.states(), found.capture.info
    day = day_rows(found.load, found.ledger)
    adds = {segment.name: segment for segment in found.by_state}
    quality = session.quality.shown(session.project, name)
    return RunDetail(
        run=name,
        states=states,
        day=tuple(
            DayState(
                name=one,
                time_share=row.time_share,
                charge_share=row.charge_share,
                mean_a=adds[one].mean_a if one in adds else None,
                added_a=row.charge_share * found.load.mean_a,
            )
            for one, row in day.items()
            if row.charge_share or row.time_share
        ),
        wakes=run.wakes(),
        kinds=run.kinds(),
        findings=run.findings(),
        brackets=tuple(_brackets(session, name)),
        notes=tuple(NoteRow(at_s=note.at_s, to_s=note.to_s, text=note.text) for note in session.project.notes_of(name)),
        checks=(
            *(Check(what=row.word, words=f"{row.text} ({row.confidence})", fault=True) for row in quality.by_effect),
            *(Check(what=one.what, words=one.words, fault=False) for one in quality.passed),
        ),
        set_up=SetUp(
            recorded_utc=info.start_utc,
            firmware=info.firmware,
            board=info.board,
            target=info.target,
            instrument=info.instrument,
            range=info.range,
            sample_interval_s=info.sample_interval_s,
            duration_s=states.duration_s,
            coverage=found.whole.coverage,
            supply_v=info.supply_v if info.supply_v is not None else session.project.supply_v,
            temperature_c=info.temperature_c,
            resolution_a=info.resolution_a,
            corrections=info.corrections,
            attached=info.attached,
            checked=info.checked,
            note=info.note,
        ),
    )


def _brackets(session: Session, name: str) -> list[BracketRow]:
    capture, rows = session.capture(name), []
    for bracket in session.project.brackets_of(name):
        reading = capture.reading(bracket.from_s, bracket.to_s, supply_v=session.project.supply_v)
        mean = session.results.stretch_mean(session.project, name, reading)
        rows.append(
            BracketRow(
                letter=bracket.letter,
                name=bracket.name,
                from_s=reading.from_s,
                to_s=reading.to_s,
                mean_a=reading.mean_a,
                mean_a_low=mean.low,
                mean_a_high=mean.high,
                charge_c=reading.charge_c,
                energy_j=reading.energy_j,
                max_a=reading.max_a,
                **graded(mean),
            )
        )
    return rows


def _steps(session: Session, names: tuple[str, ...]) -> tuple[Step, ...]:
    proofs = session.tuning.proofs(session.project, names[-1])
    return tuple(
        Step(
            before=proof.before,
            after=proof.after,
            changes=tuple(change.name for change in proof.changes),
            predicted_a=-proof.predicted_step_a,
            measured_a=-proof.measured_step_a,
            proved=proof.is_proved,
        )
        for proof in proofs
        if proof.before in names and proof.after in names
    )


def _plan(session: Session, name: str) -> tuple[PlannedStep, ...]:
    found = session.tuning.plan(session.project, name)
    return tuple(
        PlannedStep(
            change=step.change.name,
            reason=step.change.reason,
            saved_a=step.saved_a,
            mean_a=step.mean_a,
            life_h=life_s / HOUR_S,
        )
        for step, life_s in zip(found.steps, found.lives_s, strict=True)
    )


def _inputs(session: Session, run: RunResults) -> tuple[Input, ...]:
    """Return what the life rests on: what the battery, the stage and the activities are taken to be."""
    battery, rows = session.project.battery, []
    if battery.cell is not None:
        cell = battery.cell if isinstance(battery.cell, str) else "a cell of one's own"
        pack = f"{battery.series * battery.parallel} × {cell}, {battery.series}S{battery.parallel}P"
        rows.append(Input(name="cells", value=pack, grade=battery.grade.value))
    activities = {one.name for one in session.project.activities}
    for one in parameters(life_model(session.project, run.load)):
        field, activity = _FIELDS.get(one.name), one.name.partition(", ")[0]
        if field is not None:
            grade = battery.grade_of(field)
        else:
            is_rate = one.name.endswith("how often")
            grade = Grade.ENTERED if is_rate and activity in activities else Grade.MEASURED
        rows.append(Input(name=one.name, value=str(one.write(one.value)), grade=grade.value))
    return tuple(rows)


def _not_included(session: Session, run: RunResults, detail: RunDetail) -> tuple[Missing, ...]:
    """Return what the life leaves out: effects that are not known, what may not have been seen, what was cut away."""
    name = run.run.name
    years = session.battery.in_years(session.project, name)
    rows = [Missing(what=one.name, why=one.why_not) for one in years.effects if one.why_not]
    unseen = session.battery.unseen(session.project, name)
    if unseen is not None:
        rows.append(Missing(what="what comes too seldom to be in the capture", why=unseen.words))
    rows += [Missing(what=one, why="left out of the average") for one in (run.window.left_out if run.window else ())]
    rows += [
        Missing(what=f"the current of {state.name}", why="below what the instrument resolves")
        for state in detail.states.states
        if state.bound == "below"
    ]
    return tuple(rows)


MONTHS = MONTH_S / HOUR_S
"""Hours of a month, a twelfth of 8760."""
