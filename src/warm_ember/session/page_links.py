"""What each page says of itself on its link in the navigation: a figure, a detail, and why not to trust it yet.

Nothing of a page is needed for it, so that pages need not be there before somebody opens them.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from warm_ember.bench.wiring import added_by
from warm_ember.model.bench import Bench
from warm_ember.model.figure import Grade, signed
from warm_ember.model.project import Project, RunKind
from warm_ember.session.pace import pace_text
from warm_ember.units import (
    MONTH_S,
    duration_text,
    format_trimmed,
    interval_numbers,
    months_text,
    percent_text,
    quantity_text,
)

if TYPE_CHECKING:
    from warm_ember.bench.description import InstrumentDescription
    from warm_ember.model.finding import Finding
    from warm_ember.session.run_results import RunResults
    from warm_ember.session.tuning_results import PlanResults
    from warm_ember.session.wake_results import WakesShown

_STAYS_LIMIT = 0.03
_STRAY = 0.1
_MATTERS = 0.01


@dataclass(frozen=True)
class LinkFigure:
    """What a link shows.

    Parameters
    ----------
    figure, detail
        Its two lines of rich text.
    doubt
        Why the figure cannot be trusted yet and what to do; empty when it can.
    """

    figure: str = "–"
    detail: str = ""
    doubt: str = ""


@dataclass(frozen=True, eq=False)
class Known:
    """What is known of the open project and of the run that is shown.

    Parameters
    ----------
    project
        The project.
    results
        Of the run that is shown; None while they are not there.
    findings
        What is wrong with its capture; empty while that is not known.
    wakes, plan
        Its wakes, and what the plan makes of it; None while they are not known.
    averages_a
        The average of each run, as far as they are known.
    """

    project: Project = field(default_factory=Project)
    results: RunResults | None = None
    findings: tuple[Finding, ...] = ()
    wakes: WakesShown | None = None
    plan: PlanResults | None = None
    averages_a: Mapping[str, float] = field(default_factory=dict)


def link_to(title: str, known: Known) -> LinkFigure:
    """Return what the link to a page shows that nobody has opened yet."""
    return _LINKS[title](known)


class QuietestState(NamedTuple):
    """The state that takes least, and its mean current, A."""

    name: str
    mean_a: float


def quietest_state(results: RunResults | None) -> QuietestState | None:
    """Return the state that takes least, and its mean current, A; None where nothing is known."""
    rows = results.ledger.rows if results is not None else ()
    known = [QuietestState(row.name, row.mean.value) for row in rows if row.mean.value]
    return min(known, key=lambda one: one.mean_a, default=None)


def bench_doubt(bench: Bench, quietest: QuietestState | None) -> str:
    """Return why what the bench measures cannot be trusted yet, as rich text."""
    share = added_by(bench).share_of(quietest.mean_a) if quietest else None
    if share is not None and share > _STAYS_LIMIT:
        return "the set-up is a part of the floor: subtract it, or unplug it"
    if bench.resource and bench.guard_v is None:
        return "no voltage guard is set: enter it in the recipe"
    if bench.resource and bench.settings.voltage_v is None:
        return "no voltage is set: the source stays at what it is set to, which may be nothing"
    return ""


def bench_link(bench: Bench, known: InstrumentDescription | None, doubt: str) -> LinkFigure:
    """Return the link of the Bench page, with what is known of its instrument."""
    settings = bench.settings
    voltage = quantity_text(settings.voltage_v, "V").rich if settings.voltage_v is not None else "–"
    name = known.name if known is not None else "not asked yet" if bench.resource else "no instrument yet"
    return LinkFigure(voltage, f"{pace_text(bench, known)}, {name}", _plain(doubt))


def trace_doubt(results: RunResults | None, findings: tuple[Finding, ...]) -> str:
    """Return what is wrong with a capture, as rich text."""
    if results is None:
        return ""
    kinds = list(dict.fromkeys(finding.kind.value for finding in findings))
    parts = [f"{', '.join(kinds)}: see data quality"] if kinds else []
    whole = results.whole
    if whole.coverage < 0.999:
        missing = f"**{(1 - whole.coverage) * 100:.1f}** % not measured"
        bounds = results.capture.bounds(whole.from_s, whole.to_s)
        if bounds is not None and bounds.low_a is not None:
            high = f" to {quantity_text(bounds.high_a, 'A').rich}" if bounds.high_a is not None else " or more"
            missing += f", the mean is {quantity_text(bounds.low_a, 'A').rich}{high}"
        parts.append(missing)
    return "; ".join(parts)


def trace_link(results: RunResults | None, doubt: str) -> LinkFigure:
    """Return the link of the Trace page."""
    if results is None:
        return LinkFigure(detail="no capture yet")
    return LinkFigure(duration_text(results.capture.duration_s).rich, results.run.label, _plain(doubt))


def clock_doubt(results: RunResults | None) -> str:
    """Return why nothing is placed by a log, as the end of a sentence in rich text; empty where it is."""
    alignment = results.placement.alignment if results is not None else None
    if alignment is None or not alignment.is_unusable:
        return ""
    return f"the log **{'fits in several ways' if alignment.is_ambiguous else 'does not fit this capture'}**"


def unplaced_doubt(results: RunResults | None, project: Project) -> str:
    """Return that too much is unplaced, as rich text."""
    limit = project.settings.unplaced_limit
    if results is None or results.ledger.unplaced_share <= limit:
        return ""
    share = percent_text(results.ledger.unplaced_share)
    return f"**{share}** is unplaced, the limit is **{percent_text(limit)}**: place it below"


def states_doubt(results: RunResults | None, project: Project) -> str:
    """Return why the states cannot be trusted yet, as rich text."""
    clock = clock_doubt(results)
    return f"{clock}, nothing is placed by it: see clock" if clock else unplaced_doubt(results, project)


def states_link(results: RunResults | None, doubt: str) -> LinkFigure:
    """Return the link of the States page."""
    if results is None:
        return LinkFigure(detail="no states yet")
    ledger = results.ledger
    count = len(ledger.rows)
    detail = f"**{count}** state{'s' if count != 1 else ''}{' + unplaced' if ledger.unplaced else ''}"
    return LinkFigure(f"{percent_text(1 - ledger.unplaced_share).rich} placed", detail, _plain(doubt))


def wakes_doubt(
    results: RunResults | None, wakes: WakesShown | None, project: Project, *, in_plan: bool = False
) -> str:
    """Return why the wakes cannot be trusted yet, as rich text; while the plan is looked at it tells of itself."""
    if results is None or wakes is None:
        return ""
    from warm_ember.session.wake_results import late_sources, plan_check  # half a second that an empty window saves

    ledger, clock = wakes.ledger, clock_doubt(results)
    if clock:
        return f"{clock}: wakes come from the current alone"
    late = late_sources(ledger, project)
    if late:
        return f"**{late[0]}** cannot be served within its deadline: see modes"
    check = plan_check(ledger, project)
    if check is not None and check.conflicts and not in_plan:
        return "the **wake plan** does not hold: see plan"
    unknown = ledger.row("unknown")
    if unknown is not None and unknown.count > _MATTERS * ledger.wakes.count:
        share = percent_text(unknown.count / ledger.wakes.count).rich
        return f"{share} of the wakes have **no known cause**: log them, or record a line of their source"
    return ""


def wakes_link(results: RunResults | None, wakes: WakesShown | None, doubt: str) -> LinkFigure:
    """Return the link of the Wakes page."""
    if wakes is None:
        return LinkFigure(detail="finding wakes …" if results is not None else "no wakes yet")
    kinds = wakes.kinds.kinds if wakes.kinds is not None else None
    count = len(wakes.ledger.sources) if kinds is None else len(kinds.kinds)
    detail = f"**{count}** {'source' if kinds is None else 'kind'}{'s' if count != 1 else ''}"
    if kinds is not None and len(kinds.unsorted):
        detail += f", **{len(kinds.unsorted)}** unsorted"
    return LinkFigure(f"**{format_trimmed(wakes.ledger.rate_per_h)}** /h", detail, _plain(doubt))


def battery_doubt(results: RunResults | None, project: Project) -> str:
    """Return why the life cannot be trusted yet, as rich text."""
    if results is None:
        return ""
    load = results.load
    if project.battery.grade is Grade.ASSUMED:
        return "**no battery chosen**: enter yours at the right"
    if load.missing:
        return f"**{', '.join(load.missing)}** not in this capture: left out"
    stray = [one for one in load.base_parts[1:] if one.charge_share > _STRAY]
    if load.costs and stray:
        share = percent_text(stray[0].charge_share).rich
        return f"**{stray[0].state}** is in no activity: {share} of the base is its charge"
    return ""


def battery_link(results: RunResults | None, doubt: str) -> LinkFigure:
    """Return the link of the Battery page."""
    if results is None:
        return LinkFigure(detail="no life yet")
    life = results.life
    reach = _months_reach(*life.band)
    detail = f"{signed(results.load.bound, quantity_text(life.mean_a, 'A').rich)}, {reach}"
    return LinkFigure(signed(life.bound, months_text(life.life_s).rich), detail, _plain(doubt))


def _months_reach(low_s: float | None, high_s: float | None) -> str:
    if low_s is not None and high_s is not None:
        first, last = interval_numbers(low_s / MONTH_S, high_s / MONTH_S)
        return f"**{first}** to **{last}**"
    sign, end_s = ("≤", high_s) if high_s is not None else ("≥", low_s)
    return f"{sign} **{months_text(end_s).number}**"


def tune_doubt(plan: PlanResults | None) -> str:
    """Return which rules of the matrix are broken."""
    if plan is None or not plan.matrix.broken:
        return ""
    count = len(plan.matrix.broken)
    return f"{count} rule{'s' if count > 1 else ''} of the matrix {'are' if count > 1 else 'is'} broken"


def tune_link(results: RunResults | None, plan: PlanResults | None) -> LinkFigure:
    """Return the link of the Tune page."""
    if plan is None:
        return LinkFigure(detail="no plan yet" if results is None else "working …")
    count = len(plan.steps)
    current = signed(plan.predicted.load.bound, quantity_text(plan.predicted.mean_a, "A").rich)
    detail = f"{current}, **{count}** change{'s' if count != 1 else ''}"
    return LinkFigure(signed(plan.life.bound, months_text(plan.life.life_s).rich), detail, tune_doubt(plan))


def run_before(project: Project, name: str) -> str:
    """Return the step before a run, or the first other run; empty where there is none."""
    names = [run.name for run in project.rungs]
    if name not in names:
        return ""
    steps = [run.name for run in project.rungs[: names.index(name)] if run.kind is RunKind.STEP]
    return steps[-1] if steps else next((other for other in names if other != name), "")


def runs_link(results: RunResults | None, project: Project, averages_a: Mapping[str, float]) -> LinkFigure:
    """Return the link of the Runs page."""
    if results is None:
        return LinkFigure(detail="no runs yet")
    count, name = len(project.rungs), results.run.name
    if name not in averages_a:
        return LinkFigure(f"**{count}** run{'s' if count != 1 else ''}", "")
    order = sorted(averages_a, key=lambda one: averages_a[one])
    rank = order.index(name) + 1
    before, detail = run_before(project, name), ""
    if averages_a.get(before, 0.0) > 0:
        change = averages_a[name] / averages_a[before] - 1
        detail = f"{percent_text(abs(change)).rich} {'below' if change < 0 else 'above'} {before}"
    return LinkFigure(f"{ordinal(rank)} of **{len(order)}**", detail)


def ordinal(rank: int) -> str:
    """Return a rank as rich text.

    Examples
    --------
    >>> ordinal(2), ordinal(12), ordinal(21)
    ('**2**nd', '**12**th', '**21**st')
    """
    ending = {1: "st", 2: "nd", 3: "rd"}.get(rank % 10, "th") if rank % 100 not in (11, 12, 13) else "th"
    return f"**{rank}**{ending}"


def _plain(doubt: str) -> str:
    return doubt.replace("**", "")


_LINKS: dict[str, Callable[[Known], LinkFigure]] = {
    "Bench": lambda k: bench_link(k.project.bench, None, bench_doubt(k.project.bench, quietest_state(k.results))),
    "Trace": lambda k: trace_link(k.results, trace_doubt(k.results, k.findings)),
    "States": lambda k: states_link(k.results, states_doubt(k.results, k.project)),
    "Wakes": lambda k: wakes_link(k.results, k.wakes, wakes_doubt(k.results, k.wakes, k.project)),
    "Battery": lambda k: battery_link(k.results, battery_doubt(k.results, k.project)),
    "Tune": lambda k: tune_link(k.results, k.plan),
    "Runs": lambda k: runs_link(k.results, k.project, k.averages_a),
}
