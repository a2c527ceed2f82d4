"""What a report may hold and what may be exported, and what is chosen of it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

PAGE_TABLES = (
    "sources", "idle", "quality", "activities", "sensitivity", "years", "effects", "trade-offs", "matrix",
    "suggestions", "periods", "granted-timers", "levels", "expected", "corrections", "wake-plan", "proof", "comparison",
    "entries", "state-parts", "idle-stretches", "odd-cycles", "loads", "recipes", "runs",
)  # fmt: skip
"""What of the pages is exported beside the tables of a capture."""

TABLES = (
    "capture", "brackets", "notes", "ledger", "crossings", "functions", "wakes", "kinds", "fold", "cycles", "findings",
    "battery", "plan", *PAGE_TABLES,
)  # fmt: skip
"""All that is exported as a table."""

REPORT_DATA = "report-data"
"""A whole report as JSON."""


class Part(StrEnum):
    """A part of a report, in the order of its pages; its value is its title in the sheet of choices."""

    RUNS = "runs"
    COMPARISON = "comparison"
    TRACE = "trace"
    STATES = "states"
    WAKES = "wakes"
    BATTERY = "battery"
    FINDINGS = "findings"
    PLAN = "plan"
    QUALITY = "quality"
    GRADES = "grades"

    @property
    def words(self) -> str:
        """What it shows."""
        return {
            Part.RUNS: "Runs: predicted and measured steps",
            Part.COMPARISON: "Comparison of two runs",
            Part.TRACE: "Trace with brackets and notes",
            Part.STATES: "Where the charge goes, by state",
            Part.WAKES: "Wake sources and kinds of wakes",
            Part.BATTERY: "Battery, life, what is not included",
            Part.FINDINGS: "Findings",
            Part.PLAN: "Plan: changes ahead",
            Part.QUALITY: "Data quality and set-up",
            Part.GRADES: "What the grades mean",
        }[self]


@dataclass(frozen=True)
class Choice:
    """What a report is about.

    Parameters
    ----------
    runs
        The runs: one, two that are compared, or more; all of the project when empty.
    title
        Its title; the project's name and the run when empty.
    parts
        Which parts it has; a part that there is nothing to say in is left out.
    claims
        Claims to check, where two runs are compared.
    """

    runs: tuple[str, ...] = ()
    title: str = ""
    parts: frozenset[Part] = frozenset(Part)
    claims: tuple[str, ...] = ()
