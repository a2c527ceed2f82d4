"""What can be taken out of a capture as a table, in SI base units."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from warm_ember.attribution.functions import FunctionLedger
from warm_ember.attribution.kinds import Kinds
from warm_ember.attribution.ledger import Ledger
from warm_ember.attribution.transitions import Transition
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.attribution.wakes import Cause
from warm_ember.battery.emulation import Emulation
from warm_ember.model.finding import Finding
from warm_ember.model.project import Bracket, Note
from warm_ember.session.tuning_results import PlanResults
from warm_ember.signal.fold import Fold
from warm_ember.signal.series import CHUNK_SAMPLES, ShouldStop, never
from warm_ember.signal.stretch import StretchReading
from warm_ember.store.capture import Capture

if TYPE_CHECKING:
    import pyarrow as pa

_ROWS = CHUNK_SAMPLES // 4
_TIME_DIGITS = 12
_READING = ("from_s", "to_s", "length_s", "coverage", "mean_a", "min_a", "max_a", "charge_c", "energy_j")


def capture_schema(capture: Capture) -> pa.Schema:
    """Return the columns of a capture's samples: ``time_s``, ``current_a``, and what else it has."""
    import pyarrow as pa

    fields = [pa.field("time_s", pa.float64()), pa.field("current_a", pa.float32())]
    if capture.voltage is not None:
        fields.append(pa.field("voltage_v", pa.float32()))
    if capture.lines is not None:
        fields += [pa.field(name, pa.uint8()) for name in capture.lines.names]
    for name, (_, unit) in capture.aux.items():
        fields.append(pa.field(f"{name} ({unit})" if unit else name, pa.float32()))
    return pa.schema(fields)


def capture_batches(
    capture: Capture, first: int, last: int, *, should_stop: ShouldStop = never
) -> Iterator[tuple[float, pa.RecordBatch]]:
    """Yield the samples ``[first, last)`` in batches, each with the share that is done with it; missing ones are null.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    import pyarrow as pa

    from warm_ember.errors import Cancelled

    current, schema = capture.current, capture_schema(capture)
    for start in range(first, last, _ROWS):
        if should_stop():
            raise Cancelled("stopped")
        end = min(start + _ROWS, last)
        columns = [pa.array(np.round(np.arange(start, end) * current.interval_s, _TIME_DIGITS))]
        columns.append(_with_nulls(current.read(start, end)))
        if capture.voltage is not None:
            columns.append(_with_nulls(capture.voltage.read(start, end)))
        if capture.lines is not None:
            bits = capture.lines.read(start, end)
            columns += [pa.array((bits >> k & 1).astype(np.uint8)) for k, _ in enumerate(capture.lines.names)]
        columns += [_with_nulls(series.read(start, end)) for series, _ in capture.aux.values()]
        yield (end - first) / (last - first), pa.record_batch(columns, schema=schema)


def _with_nulls(values: np.ndarray) -> pa.Array:
    import pyarrow as pa

    return pa.array(values, from_pandas=True)  # NaN is a missing sample


def brackets_table(brackets: tuple[Bracket, ...], readings: list[StretchReading]) -> pa.Table:
    """Return brackets with their readings, one row each."""
    import pyarrow as pa

    return pa.table(
        {
            "bracket": [bracket.letter for bracket in brackets],
            "name": [bracket.name for bracket in brackets],
            "capture": [bracket.capture for bracket in brackets],
            **{
                name: pa.array([getattr(reading, name) for reading in readings], pa.float64())
                for name in (
                    "from_s",
                    "to_s",
                    "length_s",
                    "coverage",
                    "mean_a",
                    "min_a",
                    "max_a",
                    "charge_c",
                    "energy_j",
                )
            },
        }
    )


def notes_table(notes: tuple[Note, ...]) -> pa.Table:
    """Return notes, one row each; the end is missing where a note is about a moment."""
    import pyarrow as pa

    return pa.table(
        {
            "capture": pa.array([note.capture for note in notes], pa.string()),
            "at_s": pa.array([note.at_s for note in notes], pa.float64()),
            "to_s": pa.array([note.to_s for note in notes], pa.float64()),
            "text": pa.array([note.text for note in notes], pa.string()),
        }
    )


def ledger_table(ledger: Ledger) -> pa.Table:
    """Return the ledger, one row for each state, what is unplaced last."""
    import pyarrow as pa

    rows = ledger.all_rows
    numbers = {
        "dwell_s": [row.dwell_s for row in rows],
        "time_share": [row.time_share for row in rows],
        "mean_a": [row.mean.value for row in rows],
        "mean_a_low": [row.mean.low for row in rows],
        "mean_a_high": [row.mean.high for row in rows],
        "charge_c": [row.charge_c for row in rows],
        "charge_share": [row.charge_share for row in rows],
        "energy_j": [row.energy_j for row in rows],
        "peak_a": [row.peak_a for row in rows],
        "expected_a": [row.expected.current_a if row.expected else None for row in rows],
    }
    return pa.table(
        {
            "name": [row.name for row in rows],
            "entries": [row.entries for row in rows],
            **{name: pa.array(values, pa.float64()) for name, values in numbers.items()},
            "verdict": [row.verdict.value for row in rows],
            "placed_by": [row.how for row in rows],
        }
    )


def transitions_table(crossings: tuple[Transition, ...]) -> pa.Table:
    """Return the changes of state, one row for each kind."""
    import pyarrow as pa

    figures = {"leaving": [one.leaving_c for one in crossings], "entering": [one.entering_c for one in crossings]}
    ends = {"": "value", "_low": "low", "_high": "high"}
    return pa.table(
        {
            "before": pa.array([one.before for one in crossings], pa.string()),
            "after": pa.array([one.after for one in crossings], pa.string()),
            "count": pa.array([one.count for one in crossings], pa.int64()),
            **{
                f"{side}_c{end}": pa.array([getattr(one, field) for one in found], pa.float64())
                for side, found in figures.items()
                for end, field in ends.items()
            },
            "total_c": pa.array([one.total_c for one in crossings], pa.float64()),
        }
    )


def wakes_table(ledger: WakeLedger) -> pa.Table:
    """Return the wakes, one row each; charges are missing where no current was measured."""
    import pyarrow as pa

    wakes = ledger.wakes
    columns: dict[str, pa.Array] = {
        "source": pa.array(wakes.source, pa.string()),
        "known_from": pa.array([Cause(one).name.lower() for one in wakes.cause.tolist()], pa.string()),
        "from_s": pa.array(wakes.first * ledger.interval_s, pa.float64()),
        "awake_s": pa.array(ledger.awake_s, pa.float64()),
        "charge_c": pa.array(ledger.cost_c if ledger.is_measured else [None] * wakes.count, pa.float64()),
    }
    if wakes.by_cpu is not None:
        columns["cpu"] = pa.array(wakes.by_cpu.cpu, pa.int64())
    return pa.table(columns)


def kinds_table(kinds: Kinds) -> pa.Table:
    """Return the kinds of wakes, one row each, the one that adds most first."""
    import pyarrow as pa

    rows = kinds.kinds
    ends = [row.charge.interval() or (None, None) for row in rows]
    return pa.table(
        {
            "kind": pa.array([row.label for row in rows], pa.string()),
            "count": pa.array([row.count for row in rows], pa.int64()),
            "how": pa.array([row.recurrence.manner.value for row in rows], pa.string()),
            "period_s": pa.array([row.recurrence.period_s for row in rows], pa.float64()),
            "jitter_s": pa.array([row.recurrence.jitter_s for row in rows], pa.float64()),
            "awake_s": pa.array([row.awake_s for row in rows], pa.float64()),
            "charge_c": pa.array([row.charge.value for row in rows], pa.float64()),
            "charge_c_low": pa.array([low for low, _ in ends], pa.float64()),
            "charge_c_high": pa.array([high for _, high in ends], pa.float64()),
            "peak_a": pa.array([row.peak_a for row in rows], pa.float64()),
            "added_a": pa.array([row.added_a for row in rows], pa.float64()),
        }
    )


def functions_table(ledger: FunctionLedger) -> pa.Table:
    """Return the charge by function, one row each, the costliest first."""
    import pyarrow as pa

    rows = ledger.rows
    numbers = ("time_s", "charge_c", "charge_error_c", "mean_a")
    return pa.table(
        {
            "function": pa.array([row.name for row in rows], pa.string()),
            "file": pa.array([row.file for row in rows], pa.string()),
            "is_code": pa.array([row.is_code for row in rows], pa.bool_()),
            "samples": pa.array([row.samples for row in rows], pa.int64()),
            **{name: pa.array([getattr(row, name) for row in rows], pa.float64()) for name in numbers},
            "mostly_in": pa.array([row.states[0][0] if row.states else "" for row in rows], pa.string()),
        }
    )


def fold_table(folded: Fold) -> pa.Table:
    """Return the mean occurrence, one row for each bin."""
    import pyarrow as pa

    return pa.table(
        {
            "from_s": folded.edges_s[:-1],
            "to_s": folded.edges_s[1:],
            "mean_a": folded.mean_a,
            "p10_a": folded.low_a,
            "median_a": folded.median_a,
            "p90_a": folded.high_a,
            "standard_error_a": folded.spread_a / np.sqrt(folded.cycles),
        }
    )


def cycles_table(folded: Fold) -> pa.Table:
    """Return the cycles of a fold, one row each, with their charge."""
    import pyarrow as pa

    return pa.table(
        {
            "time_s": folded.starts * folded.interval_s,
            "charge_c": folded.charges_c,
            "coverage": folded.coverages,
        }
    )


def battery_table(pack: Emulation) -> pa.Table:
    """Return the pack's voltage and resistance against the charge drawn, for a programmable source to play."""
    import pyarrow as pa

    names = ("drawn_c", "charge_share", "open_v", "resistance_ohm")
    return pa.table({name: getattr(pack, name) for name in names})


def findings_table(findings: tuple[Finding, ...]) -> pa.Table:
    """Return findings, one row each."""
    import pyarrow as pa

    return pa.table(
        {
            "kind": [finding.kind.value for finding in findings],
            "from_s": pa.array([finding.from_s for finding in findings], pa.float64()),
            "to_s": pa.array([finding.to_s for finding in findings], pa.float64()),
            "cost_a": pa.array([finding.cost_a for finding in findings], pa.float64()),
            "confidence": pa.array([finding.confidence for finding in findings], pa.float64()),
            "text": [finding.text for finding in findings],
        }
    )


def plan_table(plan: PlanResults) -> pa.Table:
    """Return a plan's changes in their order: what each saves, what it would save alone, and what is left then."""
    import pyarrow as pa

    steps = plan.steps
    return pa.table(
        {
            "change": pa.array([step.change.name for step in steps], pa.string()),
            "reason": pa.array([step.change.reason for step in steps], pa.string()),
            "saved_a": pa.array([step.saved_a for step in steps], pa.float64()),
            "alone_a": pa.array([step.alone_a for step in steps], pa.float64()),
            "mean_a": pa.array([step.mean_a for step in steps], pa.float64()),
            "life_s": pa.array(list(plan.lives_s), pa.float64()),
            "effort": pa.array([step.change.effort for step in steps], pa.float64()),
            "latency_s": pa.array([step.change.latency_s for step in steps], pa.float64()),
            "accuracy": pa.array([step.change.accuracy for step in steps], pa.float64()),
            "memory_bytes": pa.array([step.change.memory_bytes for step in steps], pa.float64()),
            "proved_by": pa.array([step.change.proved_by for step in steps], pa.string()),
        }
    )
