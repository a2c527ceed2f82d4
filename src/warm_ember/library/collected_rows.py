"""One run as rows of a data set's tables: what the commands print of it, with what it is known by."""

from __future__ import annotations

from collections.abc import Mapping
from hashlib import blake2b
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec

from warm_ember.attribution.day import day_rows
from warm_ember.fleet.data_set import SCHEMA, moment
from warm_ember.library.findings import Findings
from warm_ember.library.grades import Graded
from warm_ember.library.life import Life
from warm_ember.library.record import Record
from warm_ember.library.states import States
from warm_ember.library.wakes import Wakes
from warm_ember.model.project import Project as ProjectValue
from warm_ember.session.average_figure import average_figure
from warm_ember.store.capture import Capture

if TYPE_CHECKING:
    import pyarrow as pa

    from warm_ember.library.project import Project
    from warm_ember.session.run_results import RunResults

_RULES_BYTES = 8
_KEYS = ("hash", "project", "run", "recorded_utc", "commit", "board")
_NOT_RULES = ("name", "runs", "notes", "brackets", "plan", "settings", "bench")
"""Fields of a project on which no figure of a run depends."""
_OF_CAPTURES = ("clocks", "band_limits", "sorted_wakes", "folds")
"""Fields whose items are each of one capture."""


class CollectedActivity(Graded, frozen=True, kw_only=True):
    """An activity of the battery's model as the life counts it."""

    name: str
    charge_c: float
    duration_s: float
    peak_a: float
    rate_per_h: float
    interval_s: float | None
    added_a: float


class CollectedActivities(Record, frozen=True, kw_only=True):
    """The activities that a run's life counts."""

    ROWS: ClassVar[str] = "activities"

    activities: tuple[CollectedActivity, ...]


class AverageEnds(Record, frozen=True, kw_only=True):
    """The interval of the average, and where it comes from; grade and bound of the row are those of the life."""

    mean_a_low: float | None
    mean_a_high: float | None
    mean_a_grade: str
    mean_a_bound: str | None


class Conditions(Record, frozen=True, kw_only=True):
    """How a run was measured, and what the whole of its capture comes to."""

    target: str | None
    instrument: str | None
    range: str | None
    temperature_c: float | None
    supply_v: float | None
    sample_interval_s: float
    duration_s: float
    coverage: float
    charge_c: float
    energy_j: float | None
    unplaced_share: float
    capture_mean_a: float | None


def columns() -> frozenset[str]:
    """Return the columns of all tables: no tag may have their name."""
    kinds = (Life, AverageEnds, Conditions, States, Wakes, Findings, CollectedActivities)
    return frozenset(_KEYS).union(
        *(kind.columns() for kind in kinds), ("schema_version", "project_path", "added_a", "firmware")
    )


def run_hash(capture: Capture, project: ProjectValue) -> str:
    """Return what a run under the project's rules is known by: 16 characters of the capture, 16 of the rules."""
    rules = {name: getattr(project, name) for name in project.__struct_fields__ if name not in _NOT_RULES}
    for name in _OF_CAPTURES:
        mine = [msgspec.to_builtins(one) for one in rules[name] if one.capture == capture.name]
        rules[name] = [{key: value for key, value in one.items() if key != "capture"} for one in mine]
    text = msgspec.json.encode([SCHEMA, rules], order="sorted")
    return capture.content_hash() + blake2b(text, digest_size=_RULES_BYTES).hexdigest()


def firmware_of(capture: Capture, tags: Mapping[str, str]) -> str:
    """Return the firmware of a run: what its capture says, unless a tag says it."""
    return tags.get("firmware", capture.info.firmware)


def rows_of(project: Project, name: str, identity: str, tags: Mapping[str, str]) -> dict[str, pa.Table]:
    """Return a run's rows by table.

    Parameters
    ----------
    project, name
        The run.
    identity
        What it is known by; see `run_hash`.
    tags
        What is written beside every row.

    Raises
    ------
    WarmEmberError
        If it cannot be analysed.
    """
    import pyarrow as pa

    session, run = project.session, project.runs[name]
    found, info = session.run(name), session.capture(name).info
    own = (identity, session.title, name, moment(info.start_utc), None, info.board or None)
    known = dict(zip(_KEYS, own, strict=True)) | {key: value for key, value in tags.items() if key != "firmware"}

    def keyed(*parts: pa.Table) -> pa.Table:
        columns: dict[str, Any] = {
            key: pa.array([value] * parts[0].num_rows, pa.string()) for key, value in known.items()
        }
        for part in parts:
            columns |= {field: part[field] for field in part.column_names if field not in columns}
        return pa.table(columns)

    average, states = average_figure(found), run.states()
    ends = AverageEnds(
        mean_a_low=average.low,
        mean_a_high=average.high,
        mean_a_grade=average.grade.value,
        mean_a_bound=average.bound and average.bound.value,
    )
    version = pa.table(
        {
            "schema_version": pa.array([SCHEMA], pa.int64()),
            "project_path": pa.array([str(session.folder.path.resolve())], pa.string()),
        }
    )
    day = day_rows(found.load, found.ledger)
    adds = [day[one.name].charge_share * found.load.mean_a if one.name in day else None for one in states.states]
    return {
        "runs": keyed(project.life(name).table(), ends.table(), _conditions(found).table(), version),
        "states": keyed(states.table(), pa.table({"added_a": pa.array(adds, pa.float64())})),
        "sources": keyed(run.wakes().table()),
        "findings": keyed(run.findings().table()),
        "activities": keyed(_activities(found).table()),
    }


def _conditions(found: RunResults) -> Conditions:
    info = found.capture.info
    return Conditions(
        target=info.target or None,
        instrument=info.instrument or None,
        range=info.range or None,
        temperature_c=info.temperature_c,
        supply_v=info.supply_v,
        sample_interval_s=info.sample_interval_s,
        duration_s=found.capture.duration_s,
        coverage=found.whole.coverage,
        charge_c=found.whole.charge_c,
        energy_j=found.whole.energy_j,
        unplaced_share=found.ledger.unplaced_share,
        capture_mean_a=found.whole.mean_a,
    )


def _activities(found: RunResults) -> CollectedActivities:
    load = found.load
    return CollectedActivities(
        activities=tuple(
            CollectedActivity(
                name=cost.name,
                charge_c=cost.charge_c,
                duration_s=cost.duration_s,
                peak_a=cost.peak_a,
                rate_per_h=cost.rate_hz * 3600,
                interval_s=1 / cost.rate_hz if cost.rate_hz else None,
                added_a=cost.added_a(load.base_a),
                grade=cost.grade.value,
                bound=cost.bound.value if cost.bound is not None else None,
            )
            for cost in load.costs
        )
    )
