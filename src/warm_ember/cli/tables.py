"""The contract's JSON objects and their tables of text, shared by the commands that print them."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import asdict
from typing import Any

from warm_ember.attribution.day import DayRow
from warm_ember.attribution.ledger import Ledger
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.attribution.window import Window
from warm_ember.battery.life import LifeEstimate
from warm_ember.cli.output import print_line, print_table
from warm_ember.model.estimate import Estimate
from warm_ember.model.figure import Bound, Figure, Grade
from warm_ember.model.finding import Finding, confidence_word
from warm_ember.session.battery_results import UnseenLife
from warm_ember.units import (
    HOUR_S,
    QuantityText,
    column_writer,
    counted,
    duration_text,
    format_trimmed,
    months_text,
    percent_text,
    quantity_text,
)


def ends_json(name: str, ends: tuple[float | None, float | None] | None) -> dict[str, float | None]:
    """Return the 90 % interval of a figure as the contract has it, null where nothing is known of the spread."""
    low, high = ends if ends is not None else (None, None)
    return {f"{name}_low": low, f"{name}_high": high}


Write = Callable[[float | None], QuantityText]


def figure_text(figure: Figure, unit: str, write: Write | None = None) -> str:
    """Return a figure in words: a value, or the bound that is known of it; `write` gives a column one unit."""
    if figure.bound is Bound.BELOW:
        return f"below {quantity_text(figure.high, unit, 2)}"
    return bound_text(figure.value, unit, figure.bound, write)


def bound_text(value: float | None, unit: str, bound: Bound | None, write: Write | None = None) -> str:
    """Return a value in words, with "at least" or "at most" before it where it is that."""
    words = "" if bound is None else f"{bound.value.replace('_', ' ')} "
    return f"{words}{write(value) if write is not None else quantity_text(value, unit)}"


def grade_json(figure: Figure) -> dict[str, Any]:
    """Return what the contract says of where a figure comes from, and on which side of the truth it may lie."""
    return {"grade": figure.grade.value, "bound": figure.bound and figure.bound.value}


MEASURED = grade_json(Figure(None))
"""What is said of figures that are measured, without a bound."""


def ledger_json(ledger: Ledger) -> dict[str, Any]:
    """Return the ``states`` object of the contract."""
    return {
        "capture": ledger.capture,
        "duration_s": ledger.duration_s,
        "mean_a": ledger.mean_a,
        **ends_json("mean_a", ledger.estimate.interval()),
        "charge_c": ledger.charge_c,
        "energy_j": ledger.energy_j,
        "unplaced_share": ledger.unplaced_share,
        **grade_json(ledger.mean),
        "states": [
            {
                "name": row.name,
                "entries": row.entries,
                "dwell_s": row.dwell_s,
                "time_share": row.time_share,
                "mean_a": row.mean.value,
                "mean_a_low": row.mean.low,
                "mean_a_high": row.mean.high,
                "charge_c": row.charge_c,
                "charge_share": row.charge_share,
                "energy_j": row.energy_j,
                "expected_a": row.expected.current_a if row.expected is not None else None,
                "verdict": row.verdict.value,
                **grade_json(row.mean),
            }
            for row in ledger.rows
        ],
    }


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


def life_json(life: LifeEstimate, window: Window | None = None, unseen: UnseenLife | None = None) -> dict[str, Any]:
    """Return the ``life`` object of the contract; where a capture stands for the life, with what part of it does."""
    found: dict[str, Any] = {
        "mean_a": life.mean_a,
        "life_h": life.life_s / HOUR_S,
        "life_h_p10": life.p10_s / HOUR_S,
        "life_h_p50": life.p50_s / HOUR_S,
        "life_h_p90": life.p90_s / HOUR_S,
        "limit": life.limit.value,
        "used_capacity_c": life.used_c,
        "target_h": None if life.target_s is None else life.target_s / HOUR_S,
        "budget_a": life.budget_a,
        "grade": life.weakest.grade.value,
        "bound": life.bound and life.bound.value,
        "weakest": {"what": life.weakest.origin, "grade": life.weakest.grade.value},
    }
    if window is not None:
        found["window"] = window_json(window)
    if unseen is not None:
        at_limit_s = unseen.at_limit_s
        found["unseen"] = {
            "interval_s": unseen.unseen.interval_s,
            "charge_c": unseen.unseen.charge_c,
            "life_h": None if at_limit_s is None else at_limit_s / HOUR_S,
            "grade": (Grade.ENTERED if unseen.unseen.is_asked else Grade.ASSUMED).value,
            "bound": Bound.AT_LEAST.value,
        }
    return found


def window_json(window: Window) -> dict[str, Any]:
    """Return the ``window`` object of the contract."""
    return {
        "from_s": window.from_s,
        "to_s": window.to_s,
        "cycles": window.cycles,
        "cycle_s": window.cycle_s,
        "left_out": list(window.left_out),
    }


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


_FINDING_FIELDS = ("kind", "from_s", "to_s", "cost_a", "confidence", "text")


def findings_json(findings: tuple[Finding, ...]) -> list[dict[str, Any]]:
    """Return findings as the contract has them."""
    return [{**{name: getattr(finding, name) for name in _FINDING_FIELDS}, **MEASURED} for finding in findings]


def print_findings(findings: tuple[Finding, ...]) -> None:
    """Print findings, each with its evidence."""
    if not findings:
        print_line("nothing found")
    for finding in findings:
        cost = f", costs {quantity_text(finding.cost_a, 'A')}" if finding.cost_a is not None else ""
        where = f"{duration_text(finding.from_s)} to {duration_text(finding.to_s)}"
        print_line(f"{finding.kind} from {where}, {confidence_word(finding.confidence)}{cost}")
        print_line(f"  {finding.text}")


_SOURCE_FIELDS = ("source", "count", "rate_per_h", "awake_s_mean", "charge_c_mean", "added_a")


def wakes_json(ledger: WakeLedger) -> dict[str, Any]:
    """Return the ``wakes`` object of the contract; charges are null where no current was measured."""
    sources = [
        {
            **{name: getattr(row, name) for name in _SOURCE_FIELDS},
            **reach_json("charge_c_mean", row.charge, row.bound),
            **reach_json("added_a", row.added, row.bound),
            **graded(row.bound),
        }
        for row in ledger.sources
    ]
    idle = [{**asdict(row), **grade_json(ledger.asleep(row.mean_a))} for row in ledger.idle]
    aligned, closing = {**asdict(ledger.aligned), **graded(ledger.bound)}, ledger.closing
    whole: dict[str, Any] = {
        "floor_a": ledger.floor_a,
        **ends_json("floor_a", (ledger.floor.low, ledger.floor.high)),
        "charge_c": closing.charge_c,
        "awake_charge_c": closing.awake_c,
        "sleep_charge_c": closing.asleep_c,
        "ends_charge_c": closing.ends_c,
    }
    if not ledger.is_measured:
        charges = [name for one in ("charge_c_mean", "added_a") for name in (one, f"{one}_low", f"{one}_high")]
        for row in sources:
            row.update(dict.fromkeys(charges))
        for row in (*idle, aligned):
            row.update({name: None for name in ("lost_a", "saved_a", "mean_a") if name in row})
        whole = dict.fromkeys(whole, None)
    return {
        "capture": ledger.capture,
        "wakes": ledger.wakes.count,
        "rate_per_h": ledger.rate_per_h,
        **whole,
        "coverage": closing.coverage,
        **graded(ledger.bound),
        "sources": sources,
        "idle": idle,
        "aligned": aligned,
    }


def graded(bound: Bound | None) -> dict[str, Any]:
    """Return what the contract says of measured figures that may be bounded."""
    return grade_json(Figure(None, grade=Grade.MEASURED if bound is None else Grade.BOUNDED, bound=bound))


def reach_json(name: str, estimate: Estimate, bound: Bound | None) -> dict[str, float | None]:
    """Return the 90 % interval of a figure, without its upper end where that was cut off."""
    low, high = estimate.interval() or (None, None)
    return ends_json(name, (low, None if bound is Bound.AT_LEAST else high))


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
