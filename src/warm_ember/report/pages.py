"""A report as one page of HTML without links to anything outside, and the same as PDF."""

from __future__ import annotations

import math
from base64 import b64encode
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from importlib import resources
from itertools import count
from pathlib import Path
from typing import TYPE_CHECKING

from markupsafe import Markup

from warm_ember.attribution.kinds import Kinds
from warm_ember.library.project import Project
from warm_ember.library.states import State
from warm_ember.model.finding import confidence_word
from warm_ember.model.placement import UNPLACED_NAME
from warm_ember.report import words
from warm_ember.report.content import Report, RunDetail, gather
from warm_ember.report.contents import Choice, Part
from warm_ember.report.figures.life_figure import life_figure
from warm_ember.report.figures.paper import heat
from warm_ember.report.figures.runs_figure import runs_figure
from warm_ember.report.figures.trace_figure import trace_figure
from warm_ember.report.page_setting import PageSetting
from warm_ember.report.writing import check_ending, check_target, complete_or_nothing
from warm_ember.session.kind_words import how_it_comes
from warm_ember.units import (
    counted,
    decade,
    duration_text,
    format_significant,
    interval_numbers,
    percent_text,
    quantity_text,
)
from warm_ember.version import VERSION

if TYPE_CHECKING:
    import jinja2

ENDINGS = (".html", ".pdf")
_IN_HEADING = 40  # characters of a name
_TEXTURES = ("plain", "dots", "bars", "rings")
_HOURS = 8760 / 12


def write_report(project: Project, choice: Choice, path: Path) -> None:
    """Write a report; the same project, choice and date give the same bytes.

    Raises
    ------
    BadArgumentError
        If the ending is neither ``.html`` nor ``.pdf``, or the file belongs to the project.
    BadFileError
        If a capture cannot be read or the file cannot be written.
    WarmEmberError
        If the pages could not be set.
    """
    ending = check_ending(path, ENDINGS)
    check_target(path, project.path)
    if ending == ".html":
        content = render(project, choice).encode("utf-8", "replace")
    else:
        with PageSetting() as setting:
            content = setting.pdf(render(project, choice, on_paper=True))
    with complete_or_nothing(path) as new:
        new.partial.write_bytes(content)


def render(project: Project, choice: Choice, *, on_paper: bool = False) -> str:
    """Return a report as HTML.

    Parameters
    ----------
    project, choice
        What it is of, and what it holds.
    on_paper
        Whether pages are made of it: its figures stand in it as pictures then, so that no style is looked for by each
        of their thousands of parts.
    """
    session, figures = project.session, {}

    def draw(details: tuple[RunDetail, ...]) -> None:
        figures["life"] = life_figure(session.run(details[-1].run).life)
        for number, detail in enumerate(details if Part.TRACE in choice.parts else (), start=1):
            figures[f"trace-{number}"] = trace_figure(
                f"trace-{number}", session.run(detail.run), detail.brackets, tuple(note.at_s for note in detail.notes)
            )

        _template()

    report = gather(project, choice, meanwhile=draw)
    if len(report.runs) > 1 and Part.RUNS in choice.parts:
        figures["runs"] = runs_figure(report)
    kinds = {detail.run: session.results.kinds(session.project, detail.run) for detail in report.details}
    numbers = count(1)
    return _template().render(
        report=report,
        version=VERSION,
        parts=frozenset(part.value for part in choice.parts),
        figures={name: Markup(_picture(svg) if on_paper else svg) for name, svg in figures.items()},
        style=Markup(_read("report.css")),
        kind=_kind(report),
        answer=_answer(report),
        rate=quantity_text(1 / report.detail.set_up.sample_interval_s, "S/s"),
        runs_title=_runs_title(report),
        steps={step.after: step for step in report.steps},
        trace_titles={detail.run: _trace_title(detail) for detail in report.details},
        ledgers={detail.run: _ledger(detail) for detail in report.details},
        averages={run.run: run.average for run in report.runs},
        sums={detail.run: math.fsum(row.added_a for row in detail.day) for detail in report.details},
        day_words="an average day" if session.project.activities else "what stands for the life",
        kind_words={name: _kind_words(found) for name, found in kinds.items()},
        identities={detail.run: _identity(detail) for detail in report.details},
        about=_about(report),
        number=lambda: next(numbers),
    )


@cache
def _template() -> jinja2.Template:
    import jinja2

    made = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True)
    made.filters |= words.FILTERS | {"plain": lambda text: str(text).replace("**", "")}
    known: dict[str, Callable[..., object]] = {
        "figure": words.figure,
        "reach": words.reach,
        "quantity": quantity_text,
        "duration": duration_text,
        "percent": _percent,
        "count": counted,
        "confidence": confidence_word,
    }
    made.globals |= known
    return made.from_string(_read("report.html"))


def _read(name: str) -> str:
    return (resources.files("warm_ember.report") / "templates" / name).read_text(encoding="utf-8")


def _percent(share: float | None, *, bare: bool = False) -> str:
    text = str(percent_text(share))
    return text.removesuffix("%").rstrip("\u2009 ") if bare else text


def _picture(svg: str) -> str:
    """Return a figure as an image element that holds it."""
    return f'<img class="figure" alt="" src="data:image/svg+xml;base64,{b64encode(svg.encode()).decode()}">'


def _kind(report: Report) -> str:
    if report.comparison is not None:
        return "of two runs"
    return "of a run" if len(report.runs) == 1 else "of a project"


def _answer(report: Report) -> Markup:
    """Return the answer in one sentence: the life with its range, the target and the chance to reach it."""
    life, target_h = report.subject.life, report.target_h
    if not math.isfinite(life.life_h):
        return Markup("Nothing is drawn on average: this battery never ends.")
    said = Markup("It lasts {} months").format(words.months(life.life_h, life.grade, life.bound))
    ends = (life.life_h_p10, life.life_h_p90)
    if all(map(math.isfinite, ends)) and ends[0] < ends[1] and life.bound is None:
        first, last = interval_numbers(ends[0] / _HOURS, ends[1] / _HOURS)
        said += Markup(", <b>{}</b> to <b>{}</b> in 8 of 10 cases").format(first, last)
    if target_h is None:
        return said + Markup("; no target is entered.")
    target = format_significant(target_h / _HOURS)
    verdict = "met" if life.life_h >= target_h else "missed"
    is_known = report.chance is not None and life.bound is None
    chance = f", reached with a chance of {_percent(report.chance)}" if is_known else ""
    return said + Markup("; the target of <b>{}</b> is {}{}.").format(target, verdict, chance)


def _runs_title(report: Report) -> str:
    lives = [run.life.life_h / _HOURS for run in report.runs]
    ends = [format_significant(one) if math.isfinite(one) else "∞" for one in (lives[0], lives[-1])]
    return f"{counted(len(lives), 'run')}, from {ends[0]} to {ends[1]} months"


def _trace_title(detail: RunDetail) -> Markup:
    """Return what the trace shows: what takes most, against the next, or how long it is."""
    named = sorted((one for one in detail.brackets if one.name), key=lambda one: -one.charge_c)
    if len(named) > 1 and named[1].charge_c > 0:
        first, second = named[:2]
        times = format_significant(first.charge_c / second.charge_c)
        return Markup("{} uses {}, {} times {}").format(
            words.breakable(first.name.capitalize(), _IN_HEADING),
            quantity_text(first.charge_c, "C"),
            times,
            words.breakable(second.name, _IN_HEADING),
        )
    return Markup("The capture")


@dataclass(frozen=True)
class _Row:
    """A row of the ledger as it is drawn."""

    name: str
    entries: object
    color: str
    texture: str
    time_share: float
    charge_share: float
    time_width: float
    charge_width: float
    mean_a: float | None
    grade: str
    bound: str | None
    high_a: float | None
    reach: str
    expected_a: float | None
    added_a: float


def _ledger(detail: RunDetail) -> list[_Row]:
    """Return the states by what they add, the most first; the widths of the bars are shares of the widest."""
    states: dict[str, State] = {state.name: state for state in detail.states.states}
    rows, used = [], dict[int, int]()
    most_time = max((row.time_share for row in detail.day), default=0.0) or 1.0
    most_charge = max((row.charge_share for row in detail.day), default=0.0) or 1.0
    for row in sorted(detail.day, key=lambda one: -one.added_a):
        state = states.get(row.name)
        mean_a = state.mean_a if state is not None else row.mean_a
        place = round(decade(mean_a or 0.0))
        order = used[place] = used.get(place, -1) + 1
        rows.append(
            _Row(
                name=row.name,
                entries=state.entries if state is not None else "–",
                color=heat(mean_a),
                texture="cross" if row.name == UNPLACED_NAME else _TEXTURES[order % len(_TEXTURES)],
                time_share=row.time_share,
                charge_share=row.charge_share,
                time_width=round(100 * row.time_share / most_time, 2),
                charge_width=round(100 * max(row.charge_share, 0.0) / most_charge, 2),
                mean_a=mean_a,
                grade=state.grade if state is not None else "entered",
                bound=state.bound if state is not None else None,
                high_a=state.mean_a_high if state is not None else None,
                reach=words.reach(state.mean_a_low, state.mean_a_high, "A") if state is not None else "–",
                expected_a=state.expected_a if state is not None else None,
                added_a=row.added_a,
            )
        )
    return rows


def _kind_words(found: Kinds) -> dict[str, str]:
    return {kind.label: how_it_comes(kind, found) for kind in found.kinds}


def _identity(detail: RunDetail) -> list[tuple[str, str]]:
    """Return under which conditions a run was measured; what nobody knows is left out."""
    it = detail.set_up
    known = (
        ("recorded", it.recorded_utc.replace("T", " ").replace("Z", " UTC")),
        ("firmware", it.firmware),
        ("device", ", ".join(filter(None, (it.target, it.board)))),
        ("instrument", ", ".join(filter(None, (it.instrument, it.range)))),
        ("temperature", "" if it.temperature_c is None else f"{it.temperature_c:g} °C"),
        ("resolution", "" if it.resolution_a is None else str(quantity_text(it.resolution_a, "A"))),
        ("other loads", ", ".join(it.attached)),
        ("checked before", ", ".join(it.checked)),
        ("note", it.note),
    )
    return [(name, value) for name, value in known if value]


def _about(report: Report) -> str:
    it = report.detail.set_up
    recorded = it.recorded_utc and f"recorded {it.recorded_utc[:10]}"
    said = (report.subject.run, recorded, it.firmware and f"firmware {it.firmware}")
    return str(words.safe(", ".join(filter(None, said))))
