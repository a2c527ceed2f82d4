"""Rows of made runs, written as `collect` writes them, without captures."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from hashlib import blake2b

import numpy as np
import pyarrow as pa

from warm_ember.fleet.data_set import DataSet

_NO_KEYS = ("findings", "schema_version", "target", "target_h", "bound")
DAY = np.datetime64("2026-02-02")


def identity(*parts: object) -> str:
    """Return a hash as of a run, of its own capture."""
    return blake2b(repr(parts).encode(), digest_size=16).hexdigest()


def write_run(data_set: DataSet, build: str, run: str, average_a: float, **known: object) -> str:
    """Write one run whose device sleeps and counts, and return its hash."""
    keys = {
        "hash": identity(build, run, known.get("board")),
        "project": "post",
        "run": run,
        "recorded_utc": None,
        "commit": None,
        "board": None,
    } | {name: value for name, value in known.items() if name not in _NO_KEYS}
    columns = {name: pa.array([value], pa.string()) for name, value in keys.items()}
    figures = {"mean_a": average_a, "mean_a_low": 0.98 * average_a, "mean_a_high": 1.02 * average_a}
    life_h = 6.0 / average_a
    runs = figures | {"life_h": life_h, "life_h_p10": 0.9 * life_h, "life_h_p90": 1.1 * life_h, "supply_v": 3.0}
    grade = {"grade": "bounded" if known.get("bound") else "measured", "bound": known.get("bound")}
    opposite = {"at_least": "at_most", "at_most": "at_least", "below": "at_least"}
    runs |= {"mean_a_grade": grade["grade"], "mean_a_bound": grade["bound"], "grade": grade["grade"]}
    runs |= {"bound": opposite.get(str(grade["bound"]))}
    runs |= {"schema_version": known.get("schema_version", 1), "target": known.get("target", "post")}
    runs |= (
        {"target_h": known["target_h"], "budget_a": 6.0 / float(str(known["target_h"]))} if "target_h" in known else {}
    )
    findings: Mapping[str, float | None] = known.get("findings", {})  # type: ignore[assignment]
    tables = {
        "runs": _table(columns, [runs]),
        "states": _table(
            columns,
            [
                {"name": name, "added_a": share * average_a} | figures | grade
                for name, share in (("Deep sleep", 0.6), ("Count", 0.4))
            ],
        ),
        "sources": _table(columns, [{"source": "pir", "added_a": average_a / 2} | grade]),
        "findings": _table(columns, [{"kind": kind, "cost_a": cost} for kind, cost in findings.items()]),
        "activities": _table(columns, [{"name": "Count", "added_a": average_a / 2}]),
    }
    if not findings:
        empty = {**columns, "kind": pa.array(["-"]), "cost_a": pa.array([None], pa.float64())}
        tables["findings"] = pa.table(empty).slice(1)
    data_set.write(build, str(keys["hash"]), tables)
    return str(keys["hash"])


def _table(columns: Mapping[str, pa.Array], rows: Iterable[Mapping[str, object]]) -> pa.Table:
    rows = list(rows)
    repeated = {name: pa.concat_arrays([value] * len(rows)) for name, value in columns.items()} if rows else {}
    names = tuple(rows[0]) if rows else ()
    kinds = {name: pa.string() for name in names if name.endswith("bound")}  # also where none is known
    return pa.table(repeated | {name: pa.array([row[name] for row in rows], kinds.get(name)) for name in names})


def day(number: int) -> str:
    """Return a time as collected runs have it."""
    return f"{DAY + np.timedelta64(number, 'D')}T21:00:00Z"
