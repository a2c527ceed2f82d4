"""The runs of one project as a river: what a ladder becomes when it has too many rungs to be read."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from warm_ember.attribution.day import day_rows
from warm_ember.fleet.data_set import moment
from warm_ember.fleet.history import History
from warm_ember.model.figure import Figure, Grade
from warm_ember.session.average_figure import average_figure
from warm_ember.session.river import River, river_of
from warm_ember.session.run_results import RunResults
from warm_ember.units import HOUR_S

MANY = 40
"""From so many runs on a ladder is shown as a river."""

RUN, FIRMWARE = "run", "firmware"


def river_of_runs(runs: Sequence[RunResults], by: str = "") -> River:
    """Return the runs of a project as a river, in the project's order.

    Parameters
    ----------
    runs
        In the order made, one or more.
    by
        ``firmware``, or ``run`` for each alone; by default the firmware where each run has one and there are several.
    """
    names = [found.capture.info.firmware for found in runs]
    by = by or (FIRMWARE if all(names) and len(set(names)) > 1 else RUN)
    labels = [found.run.label for found in runs]
    alone = labels if len(set(labels)) == len(labels) else [found.run.name for found in runs]
    keys = names if by == FIRMWARE else alone
    adds = [_adds(found) for found in runs]
    states = dict.fromkeys(name for added in adds for name in added)
    budget_a, target_s = runs[-1].life.budget_a, runs[-1].life.target_s
    known: dict[str, Any] = {
        "target_h": None if target_s is None else target_s / HOUR_S,
        "budget_a": budget_a,
        "weakest": f"{runs[-1].life.weakest.origin}, {runs[-1].life.weakest.grade.value}",
    }

    def history(of: str, figures: Mapping[int, Figure]) -> History:
        return _history(of, by, runs, keys, figures, known)

    return river_of(
        "",
        history("average", {at: average_figure(found) for at, found in enumerate(runs)}),
        history("life", {at: _life(found) for at, found in enumerate(runs)}),
        {
            f"adds:{name}": history(f"adds:{name}", {at: added[name] for at, added in enumerate(adds) if name in added})
            for name in states
        },
    )


def _adds(found: RunResults) -> dict[str, Figure]:
    """Return what each state adds to the average of a run."""
    day, whole_a = day_rows(found.load, found.ledger), found.load.mean_a
    bounds = {row.name: row.mean.bound for row in found.ledger.rows}
    return {
        name: Figure(
            one.charge_share * whole_a,
            grade=Grade.BOUNDED if bounds[name] else Grade.MEASURED,
            bound=bounds[name],
        )
        for name, one in day.items()
        if name in bounds
    }


def _life(found: RunResults) -> Figure:
    life = found.life
    return Figure(life.life_s / HOUR_S, life.p10_s / HOUR_S, life.p90_s / HOUR_S, life.weakest.grade, bound=life.bound)


def _history(
    of: str,
    by: str,
    runs: Sequence[RunResults],
    keys: Sequence[str],
    figures: Mapping[int, Figure],
    known: Mapping[str, Any],
) -> History:
    import pyarrow as pa

    use = [at for at, figure in figures.items() if keys[at] and figure.value is not None and np.isfinite(figure.value)]
    places = {key: place for place, key in enumerate(dict.fromkeys(keys[at] for at in use))}
    place = np.array([places[keys[at]] for at in use], dtype=np.int64)
    order = np.argsort(place, kind="stable")
    use = [use[one] for one in order.tolist()]
    infos = [runs[at].capture.info for at in use]
    columns: dict[str, list[Any]] = {
        "key": [keys[at] for at in use],
        "run": [runs[at].run.name for at in use],
        "project": [""] * len(use),
        "board": [info.board for info in infos],
        "firmware": [info.firmware for info in infos],
        "run_hash": [f"{at:032x}" for at in use],
        "recorded_utc": [moment(info.start_utc) or "" for info in infos],
        "value": [figures[at].value for at in use],
        "low": [figures[at].low for at in use],
        "high": [figures[at].high for at in use],
        "grade": [figures[at].grade.value for at in use],
        "bound": [figures[at].bound and str(figures[at].bound) for at in use],
    }
    numbers = {name: pa.float64() for name in ("value", "low", "high")}
    table = pa.table({name: pa.array(one, numbers.get(name, pa.string())) for name, one in columns.items()})
    return History(of, by, tuple(places), place[order], table, (), (FIRMWARE,), **known)
