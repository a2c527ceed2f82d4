"""What the view of limits shows: each limit beside what was measured, with its line in the file."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from warm_ember.errors import BadFileError
from warm_ember.model.finding import FindingKind
from warm_ember.model.gate_limits import (
    AverageLimits,
    BaselineLimits,
    FindingLimits,
    GateLimits,
    LifeLimits,
    MeasurementShares,
    SourceLimits,
    StateLimits,
)
from warm_ember.model.project import Project
from warm_ember.session.gate_results import MissingNameError
from warm_ember.session.limits_writing import limit_from, limits_written
from warm_ember.session.session import Session
from warm_ember.signal.series import ShouldStop, never
from warm_ember.store.limits_file import limits_in, line_of
from warm_ember.tuning.gate import Check, GateResult, Outcome
from warm_ember.units import MONTH_S, counted, format_significant, interval_numbers, percent_text, quantity_text

LIMITS_NAME = "limits.toml"
"""Where a project keeps its limits, in its folder."""

_ALWAYS_FORBIDDEN = (FindingKind.TICK_RUNNING, FindingKind.SLEEP_NOT_ENTERED, FindingKind.CLIPPED)
_GROUPS = ("average", "life", "states", "sources", "findings", "measurement", "baseline")
_LARGE = 1e12


@dataclass(frozen=True)
class LimitRow:
    """One limit beside what was measured.

    Parameters
    ----------
    check
        The check.
    group
        Under which table of the file it stands.
    line
        Its line in the file, from 1; 0 where that is not known.
    value, reach, limit, unit
        As they are shown.
    off, off_low, off_high
        How far the figure and the ends of its interval are from the limit, as shares of it; None where unknown.
    mean_a
        The current that gives it its colour; None where it is of none.
    proposed
        What the limit would be by this run; None where nothing is known of the spread.
    page
        The page where what it is about is looked at.
    """

    check: Check
    group: str
    line: int
    value: str
    reach: str
    limit: str
    unit: str
    off: float | None
    off_low: float | None
    off_high: float | None
    mean_a: float | None
    proposed: float | None
    page: str

    @property
    def reason(self) -> str:
        """Why the outcome is what it is, in a sentence with the figures marked."""
        words = self.check.text.partition(": ")[2] or self.check.text
        if self.off is None or self.check.limit is None:
            return f"{words[:1].upper()}{words[1:]}."
        side = "above" if self.off > 0 else "below"
        by = percent_text(abs(self.off)).rich
        beyond = {
            Outcome.FAIL: "all of its interval lies beyond it",
            Outcome.PASS: "all of its interval keeps to it",
            Outcome.UNDECIDED: "its interval reaches to both sides" if self.reach else "nothing is known of its spread",
        }[self.check.outcome]
        title = f"{self.check.title[:1].upper()}{self.check.title[1:]}"
        return f"{title} is **{self.value}** {self.unit}: {by} {side} its limit, and {beyond}."


@dataclass(frozen=True)
class LimitsShown:
    """All limits of a file beside one run.

    Parameters
    ----------
    rows
        In the order of the file.
    problem, problem_line
        What is wrong with the file, and where; empty where nothing is.
    result
        The whole outcome; None where the file cannot be used.
    """

    rows: tuple[LimitRow, ...] = ()
    problem: str = ""
    problem_line: int = 0
    result: GateResult | None = None

    def count(self, outcome: Outcome) -> int:
        """Return how many limits came to an outcome."""
        return sum(row.check.outcome is outcome for row in self.rows)

    @property
    def exit_code(self) -> int:
        """What the command ends with."""
        return 2 if self.result is None else int(self.result.outcome is Outcome.FAIL)


def show_limits(
    session: Session, project: Project, text: str, path: Path, run: str, baseline: str, should_stop: ShouldStop = never
) -> LimitsShown:
    """Compare a run with the text of a limits file; what is wrong with the text is part of the answer."""
    try:
        limits = limits_in(text, path)
        result = session.gate.gate(project, limits, run, baseline, should_stop)
    except MissingNameError as error:
        return LimitsShown(problem=str(error), problem_line=line_of(text, *error.key))
    except BadFileError as error:
        line = int(error.where.removeprefix("line ")) if error.where.startswith("line ") else 0
        return LimitsShown(problem=error.problem, problem_line=line)
    means = dict(session.run(run, should_stop).state_means)
    average_a = session.run(run, should_stop).load.mean_a
    rows = tuple(_row(check, line_of(text, *check.key), means, average_a) for check in result.checks)
    return LimitsShown(rows, result=result)


def _row(check: Check, line: int, means: dict[str, float | None], average_a: float) -> LimitRow:
    group = check.key[0] if check.key else ""
    mean_a = means.get(check.key[1]) if group == "states" else average_a if group in ("average", "life") else None
    value, reach, limit, unit = _texts(check)
    ends = (_off(check, check.value), _off(check, check.low), _off(check, check.high))
    page = {"states": "States", "sources": "Wakes", "life": "Battery", "average": "Battery"}.get(group, "Tune")
    proposed = limit_from(check) if group in ("average", "states", "sources", "life") else None
    return LimitRow(check, group, line, value, reach, limit, unit, *ends, mean_a, proposed, page)


def _texts(check: Check) -> tuple[str, str, str, str]:
    """Return figure, interval and limit in one unit, and that unit."""
    value, low, high, limit = check.value, check.low, check.high, check.limit
    if check.key[:2] == ("findings", "forbid"):
        return ("none" if not value else counted(value, "finding"), "", "none", "")
    factor, unit = 1.0, check.unit
    if unit == "share":
        factor, unit = 100.0, "%"
    elif unit == "months":
        unit = "mo"
    elif unit:
        shown = quantity_text(max(abs(limit or 0.0), abs(value or 0.0)), unit)
        largest = max(abs(limit or 0.0), abs(value or 0.0))
        factor = float(shown.number.replace("\u2009", "").replace("−", "-")) / largest if largest else 1.0
        factor = 10.0 ** round(math.log10(factor)) if factor > 0 else 1.0
        unit = shown.unit

    def told(one: float | None) -> str:
        return "unknown" if one is None or not math.isfinite(one) else format_significant(one * factor)

    reach = ""
    if low is not None and high is not None and low != high and abs(low) < _LARGE and abs(high) < _LARGE:
        reach = " to ".join(interval_numbers(low * factor, high * factor))
    return told(value), reach, told(limit), unit


def _off(check: Check, value: float | None) -> float | None:
    """Return how far a figure is from the limit: as a share of it, or the difference where it is a share itself."""
    if value is None or check.limit is None or not math.isfinite(value):
        return None
    if check.key[:1] == ("baseline",):
        return value - check.limit
    return value / check.limit - 1 if check.limit else (None if value else 0.0)


def limits_from_run(session: Session, project: Project, text: str, run: str, should_stop: ShouldStop = never) -> str:
    """Return the text of a limits file with limits added that a run as it is now keeps to; those there are stay.

    What nothing is known of the spread of gets none: it would stay undecided.

    Raises
    ------
    ValueError
        If the text is no TOML.
    """
    return limits_written(text, tuple(_proposals(session, project, run, should_stop)))


def _proposals(
    session: Session, project: Project, run: str, should_stop: ShouldStop
) -> Iterator[tuple[tuple[str, ...], float | tuple[str, ...]]]:
    """Yield limits that a run keeps to, by comparing it with limits that it keeps to in any case."""
    found = session.run(run, should_stop)
    wakes = session.results.wake_ledger(project, run, should_stop=should_stop)
    asked = GateLimits(
        average=AverageLimits(max_a=_LARGE),
        states={row.name: StateLimits(max_mean_a=_LARGE) for row in found.ledger.rows},
        sources={row.source: SourceLimits(max_charge_c=_LARGE) for row in wakes.sources},
        findings=FindingLimits(),
        measurement=MeasurementShares(),
        baseline=BaselineLimits(),
        life=LifeLimits(),
    )
    for check in session.gate.gate(project, asked, run, should_stop=should_stop).checks:
        if (limit := limit_from(check)) is not None and limit > 0:
            yield check.key, limit
        if check.key == ("average", "max_a") and found.life.target_s is not None:
            yield ("life", "min_months"), float(format_significant(found.life.target_s / MONTH_S))
            yield ("life", "chance"), 0.9
    present = {one.kind for one in session.results.findings(project, run, should_stop)}
    yield ("findings", "forbid"), tuple(kind.value for kind in _ALWAYS_FORBIDDEN if kind not in present)
    yield ("measurement", "max_missing"), 0.01
    yield ("measurement", "max_unplaced"), 0.02
    yield ("baseline", "max_worse"), 0.03
