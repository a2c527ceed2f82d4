"""Answers as tables of text, shared by the commands that print them."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

from warm_ember.cli.output import print_line, print_table
from warm_ember.model.finding import confidence_word
from warm_ember.units import (
    QuantityText,
    column_writer,
    counted,
    duration_text,
    format_trimmed,
    months_text,
    percent_text,
    quantity_text,
)

if TYPE_CHECKING:
    from warm_ember.attribution.day import DayRow
    from warm_ember.attribution.ledger import Ledger
    from warm_ember.attribution.wake_ledger import WakeLedger
    from warm_ember.attribution.window import Window
    from warm_ember.battery.life import LifeEstimate
    from warm_ember.library.findings import Findings
    from warm_ember.model.figure import Bound, Figure
    from warm_ember.session.battery_results import UnseenLife

Write = Callable[[float | None], QuantityText]


def figure_text(figure: Figure, unit: str, write: Write | None = None) -> str:
    """Return a figure in words: a value, or the bound that is known of it; `write` gives a column one unit."""
    from warm_ember.model.figure import Bound

    if figure.bound is Bound.BELOW:
        return f"below {quantity_text(figure.high, unit, 2)}"
    return bound_text(figure.value, unit, figure.bound, write)


def bound_text(value: float | None, unit: str, bound: Bound | None, write: Write | None = None) -> str:
    """Return a value in words, with "at least" or "at most" before it where it is that."""
    words = "" if bound is None else f"{bound.value.replace('_', ' ')} "
    return f"{words}{write(value) if write is not None else quantity_text(value, unit)}"


def print_ledger(ledger: Ledger, day: Mapping[str, DayRow] | None = None) -> None:
    """Print the ledger as a table; with a mean day beside it also each state's share of that day's charge."""
    expected = {row.name: row.expected.current_a if row.expected else None for row in ledger.all_rows}
    mean = column_writer([*(row.mean.value for row in ledger.all_rows), *expected.values()], "A")
    charge = column_writer([row.charge_c for row in ledger.all_rows], "C")
    energy = column_writer([row.energy_j for row in ledger.all_rows], "J")
    rows = [
        (
            row.name,
            row.entries,
            duration_text(row.dwell_s),
            percent_text(row.time_share),
            figure_text(row.mean, "A", mean),
            charge(row.charge_c),
            percent_text(row.charge_share),
            energy(row.energy_j),
            mean(expected[row.name]),
            row.verdict.value if row.expected else "",
            *((percent_text(day[row.name].charge_share),) if day is not None else ()),
        )
        for row in ledger.all_rows
    ]
    header = (
        "state",
        "entries",
        "dwell",
        "of time",
        "mean",
        "charge",
        "of charge",
        "energy",
        "expected",
        "verdict",
    )
    print_table((*header, "of a day") if day is not None else header, rows)
    print_line(
        f"{duration_text(ledger.duration_s)}, mean {figure_text(ledger.mean, 'A')}, "
        f"{quantity_text(ledger.charge_c, 'C')}, {percent_text(1 - ledger.unplaced_share)} of the charge placed"
    )


def print_life(life: LifeEstimate, window: Window | None = None, unseen: UnseenLife | None = None) -> None:
    """Print the life in words."""
    if math.isinf(life.life_s):
        print_line("nothing is drawn on average: this model never ends, the battery lasts for ever")
        return
    side = f"{life.bound.value.replace('_', ' ')} " if life.bound is not None else ""
    print_line(
        f"{side}{months_text(life.life_s)} at {quantity_text(life.mean_a, 'A')} on average; "
        f"{life.band_words.replace('**', '')} months; "
        f"ended by {life.limit.value}; least certain input: {life.weakest.origin} ({life.weakest.grade.words})"
    )
    if window is not None:
        print_line(window.words)
    if unseen is not None:
        print_line(unseen.words)
    for assumption in life.assumptions:
        print_line(f"{assumption}; measure it more often to know")
    if life.delivered:
        print_line("delivers " + ", ".join(f"{count:.0f} × {name}" for name, count in life.delivered.items()))
    if life.target_s is None or life.budget_a is None:
        return
    verdict = "met" if life.life_s >= life.target_s else "missed"
    print_line(
        f"target {months_text(life.target_s)} {verdict}: it allows {quantity_text(life.budget_a, 'A')} on average"
    )


def print_findings(found: Findings) -> None:
    """Print findings, each with its evidence."""
    if not found.findings:
        print_line("nothing found")
    for finding in found.findings:
        cost = f", costs {quantity_text(finding.cost_a, 'A')}" if finding.cost_a is not None else ""
        where = f"{duration_text(finding.from_s)} to {duration_text(finding.to_s)}"
        print_line(f"{finding.kind} from {where}, {confidence_word(finding.confidence)}{cost}")
        print_line(f"  {finding.text}")


def print_wakes(ledger: WakeLedger) -> None:
    """Print the wakes by source and the sleep between them as tables."""
    charge = column_writer([row.charge_c_mean for row in ledger.sources], "C")
    added = column_writer([row.added_a for row in ledger.sources], "A")
    sources = [
        (row.source, row.count, format_trimmed(row.rate_per_h), duration_text(row.awake_s_mean),
         bound_text(row.charge_c_mean, "C", row.bound, charge), bound_text(row.added_a, "A", row.bound, added))
        for row in ledger.sources
    ]  # fmt: skip
    print_table(("source", "wakes", "an hour", "awake", "charge", "adds"), sources)
    print_line()
    idle = [
        (row.mode, row.count, duration_text(row.time_s), row.too_shallow, row.too_deep, quantity_text(row.lost_a, "A"))
        for row in ledger.idle
    ]
    print_table(("sleep", "stretches", "time", "too shallow", "too deep", "loses"), idle)
    if ledger.floor.bound is not None:
        print_line(f"sleep takes {figure_text(ledger.floor, 'A')}: it is not resolved")
    aligned = (
        f"aligned {format_trimmed(ledger.aligned.rate_per_h)}, which saves {quantity_text(ledger.aligned.saved_a, 'A')}"
    )
    print_line(f"{counted(ledger.wakes.count, 'wake')}, {format_trimmed(ledger.rate_per_h)} an hour; {aligned}")
