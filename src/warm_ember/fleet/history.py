"""The history of one figure: the runs of a data set in their order, and what is to be told of them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.fleet.data_set import DataSet
from warm_ember.fleet.tables import (
    FIELDS,
    TABLES_OF,
    TIME,
    newer,
    of_latest,
    opened,
    rows_of,
    several,
    state_names,
    usual_key,
    why_none,
)
from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.figure import Bound, Grade
from warm_ember.units import counted

if TYPE_CHECKING:
    import pyarrow as pa

_KINDS = ("average", "life", *TABLES_OF)
_OFTEN = 5
_SIDES = {Bound.AT_LEAST.value: 1, Bound.AT_MOST.value: -1, Bound.BELOW.value: -1}
_LATEST = "~"


@dataclass(frozen=True)
class Measured:
    """One run with the figure that is asked about.

    Parameters
    ----------
    key
        What it is placed by: its commit, its firmware, its time …
    run, project, board, firmware
        Which run it is; a board that nobody named is empty.
    run_hash
        What it is known by.
    recorded_utc
        When it was recorded, as far as its clock can be right; empty where not.
    value, low, high
        The figure with its 90 % interval, SI; None where nothing is known of the spread.
    grade, bound
        Where the figure comes from, and on which side of it the truth lies where the instrument tells no more:
        ``at_least`` or ``at_most`` it, or ``below`` its high end.
    """

    key: str
    run: str
    project: str
    board: str
    firmware: str
    run_hash: str
    recorded_utc: str
    value: float
    low: float | None
    high: float | None
    grade: str = Grade.MEASURED.value
    bound: str | None = None


@dataclass(frozen=True, eq=False)
class History:
    """Runs in their order, with what had to be left out or may mislead.

    Parameters
    ----------
    of, by
        The figure, and what the runs are placed by.
    keys
        The places in order.
    place
        Index of each run's place, never falling, shape ``(n,)``.
    table
        The runs, with the fields of `Measured` as columns.
    notes
        What is to be told, a sentence each.
    columns
        What else the runs may be placed by.
    target_h, budget_a, weakest
        Of the latest run: the life that it is to reach, the average that allows that, and which input of its life is
        known least, with its grade.
    """

    of: str
    by: str
    keys: tuple[str, ...]
    place: Indices
    table: pa.Table
    notes: tuple[str, ...]
    columns: tuple[str, ...]
    target_h: float | None = None
    budget_a: float | None = None
    weakest: str = ""

    @cached_property
    def runs(self) -> tuple[Measured, ...]:
        """The runs one by one."""
        columns = [self.table[name].to_pylist() for name in FIELDS]
        return tuple(Measured(*fields) for fields in zip(*columns, strict=True))

    @cached_property
    def values(self) -> Floats:
        """The figure of each run, shape ``(n,)``."""
        return np.asarray(self.table["value"].to_numpy())

    @cached_property
    def bounds(self) -> Indices:
        """On which side of each run's figure the truth lies: 1 at least so much, -1 at most, 0 it is measured."""
        texts = self.table["bound"].to_pylist()
        return np.array([_SIDES[text] if text is not None else 0 for text in texts], dtype=np.int64)

    def coded(self, name: str) -> tuple[Indices, tuple[str, ...]]:
        """Return the index of each run's text in a column, shape ``(n,)``, and the texts in order."""
        texts, codes = np.unique(self.table[name].to_numpy(zero_copy_only=False).astype(str), return_inverse=True)
        return codes.astype(np.int64), tuple(texts.tolist())


def read_history(data_set: DataSet, of: str = "average", by: str = "", only: Sequence[tuple[str, str]] = ()) -> History:
    """Read the runs of a data set with one figure of each; see `read_histories`."""
    return read_histories(data_set, (of,), by, only)[of]


def read_histories(
    data_set: DataSet,
    of: Sequence[str],
    by: str = "",
    only: Sequence[tuple[str, str]] = (),
    *,
    with_states: bool = False,
) -> dict[str, History]:
    """Read the runs of a data set with some figures of each, by figure.

    Parameters
    ----------
    data_set
        The data set.
    of
        ``average``, ``life``, ``state:NAME``, ``source:NAME`` or ``finding:KIND``: the average in A, the life in h, the
        mean current of a state, what a source adds, what findings of a kind cost, 1 for each where they have no cost.
    by
        A column of its runs, or ``time`` for each run alone; by default the commit where runs have one, else the
        firmware where there are several, else the time.
    only
        Columns with the value that runs must have.
    with_states
        Whether what each state adds to the average is read as well, as ``adds:NAME``.

    Raises
    ------
    BadFileError
        If there is no data set.
    BadArgumentError
        If there is no such figure or column.
    """
    asked = {one: _asked(one) for one in of}
    kinds = {kind for kind, _ in asked.values()} | ({"adds"} if with_states else set())
    if not data_set.exists():
        raise BadFileError(Path(data_set.address), "there is no data set", remedy="collect some runs first")
    chosen = [column for column, _ in only] + ([by] if by not in ("", TIME) else [])
    with opened(data_set, kinds, chosen) as (connection, notes, columns):
        for column in chosen:
            if column not in columns or column == "filename":
                known = ", ".join(sorted({TIME, *columns} - {"hash", "filename"}))
                raise BadArgumentError(f"the runs have no {column!r}; there are: {known}")
        by = by or usual_key(connection)
        notes += newer(connection)
        notes += several(connection, only)
        if with_states:
            asked |= {f"adds:{name}": ("adds", name) for name in state_names(connection)}
        found = {}
        for one, (kind, name) in asked.items():
            rows = rows_of(connection, kind, name, by, only)
            why = [] if rows.num_rows else [why_none(connection, kind, name)]
            placed = _placed(one, by, rows, [*notes, *why], columns, data_set)
            found[one] = replace(placed, **of_latest(connection))
    return found


def project_path(data_set: DataSet, run_hash: str) -> str:
    """Return the folder of the project that a run was collected from; empty where that is not known."""
    with opened(data_set, {"average"}, ["project_path"]) as (connection, _notes, _columns):
        found = connection.execute("SELECT project_path FROM runs WHERE hash = ?", [run_hash]).fetchall()
    return str(found[0][0] or "") if found else ""


def _asked(of: str) -> tuple[str, str]:
    kind, _, name = of.partition(":")
    if kind not in _KINDS or (":" in of) != (kind in TABLES_OF) or (kind in TABLES_OF and not name):
        raise BadArgumentError(f"--of is average, life, state:NAME, source:NAME or finding:KIND, found {of!r}")
    return kind, name


def _placed(
    of: str, by: str, rows: pa.Table, notes: Sequence[str], columns: tuple[str, ...], data_set: DataSet
) -> History:
    """Return runs in their order: places by the first time that one of their runs can have been recorded at."""
    import pyarrow.compute as pc

    told = [*notes]
    has_key, is_timed = pc.is_valid(rows["key"]).to_numpy(), pc.not_equal(rows["recorded_utc"], "").to_numpy()
    is_finite = pc.fill_null(pc.is_finite(rows["value"]), fill_value=False).to_numpy()
    without = {
        f"no {by}" if by != TIME else "no place in time": np.count_nonzero(~has_key),
        f"no finite {of}": np.count_nonzero(has_key & ~is_finite),
    }
    told += [f"{counted(int(count), 'run')} with {what} left out" for what, count in without.items() if count]
    if not is_timed.all():
        others = "" if by == TIME else f", placed by the others of their {by}"
        told.append(f"{counted(int(np.count_nonzero(~is_timed)), 'run')} whose clock was wrong or not set{others}")
    keep = has_key & is_finite
    rows, is_timed = rows.filter(keep), is_timed[keep]
    coded = pc.dictionary_encode(rows["key"].combine_chunks())
    texts, code = coded.dictionary.to_pylist(), coded.indices.to_numpy().astype(np.int64)
    first = dict.fromkeys(range(len(texts)), _LATEST)
    timed = np.flatnonzero(is_timed)
    found, at = np.unique(code[timed], return_index=True)
    first |= zip(found.tolist(), rows["recorded_utc"].take(timed[at]).to_pylist(), strict=True)
    untimed = [number for number, when in first.items() if when == _LATEST]
    if untimed and len(untimed) < len(first):
        told.append(f"{counted(len(untimed), 'place')} without a time left out, such as {by} {texts[untimed[0]]!r}")
    elif untimed:
        order_words = f"of their {by}"
        if by == "commit":  # whose names tell nothing of an order
            order_words = "in which they were collected"
            written = {path: data_set.modified(path) for path in set(rows["filename"].to_pylist())}
            for number, path in zip(code.tolist(), rows["filename"].to_pylist(), strict=True):
                first[number] = min(first[number], written[path])
        told.append(f"no run has a time that can be right: they are in the order {order_words}")
    left_out = set(untimed) if len(untimed) < len(first) else set()
    order = sorted(first.keys() - left_out, key=lambda number: (first[number], _natural(texts[number])))
    places = np.full(len(texts), -1, dtype=np.int64)
    places[order] = np.arange(len(order))
    place = places[code]
    use = np.argsort(place, kind="stable")[np.count_nonzero(place < 0) :]
    keys, place = tuple(texts[number] for number in order), place[use]
    return History(of, by, keys, place, rows.take(use), (*told, *_often(keys, place, by)), columns)


def _often(keys: tuple[str, ...], place: Indices, by: str) -> list[str]:
    """Return which place was measured far more often than the others: it counts for no more than one measured well."""
    if by == TIME or not keys:
        return []
    counts = np.bincount(place)
    usual, most = int(np.sort(counts)[len(counts) // 2]), int(counts.argmax())
    told = f"{by} {keys[most]!r} was measured {counts[most]} times, the others {usual}"
    return [told] if counts[most] > _OFTEN * usual else []


def _natural(text: str) -> tuple[tuple[int, str], ...]:
    """Return what orders names as people do: build 9 before build 10."""
    return tuple((int(part), "") if part.isdecimal() else (-1, part) for part in re.split(r"(\d+)", text))
