"""What a data set holds, asked through DuckDB: its runs with one figure of each, and what is to be told of them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.fleet.data_set import CAPTURE_LENGTH, SCHEMA, DataSet
from warm_ember.model.arrays import Floats, Indices
from warm_ember.units import counted

if TYPE_CHECKING:
    import duckdb
    import pyarrow as pa

_FIRST_YEAR = 2010
_TABLES_OF = {
    "state": ("states", "name"),
    "adds": ("states", "name"),
    "source": ("sources", "source"),
    "finding": ("findings", "kind"),
}
_FIGURES = {
    "average": ("runs", "mean_a", "mean_a_low", "mean_a_high"),
    "life": ("runs", "life_h", "life_h_p10", "life_h_p90"),
    "state": ("states", "mean_a", "mean_a_low", "mean_a_high"),
    "adds": ("states", "added_a"),
    "source": ("sources", "added_a", "added_a_low", "added_a_high"),
    "finding": ("findings", "cost_a"),
}
_KINDS = ("average", "life", *_TABLES_OF)
TIME = "time"
_MOST_TOLD = 3
_OFTEN = 5
_LATEST = "~"
_FIELDS = ("key", "run", "project", "board", "firmware", "run_hash", "recorded_utc", "value", "low", "high")
_OF_RUNS = (*_FIELDS[1:5], "recorded_utc", "commit", "target", "supply_v", "schema_version", "target_h", "filename")
_OF_LATEST = ("weakest_what", "weakest_grade", "budget_a")


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
        columns = [self.table[name].to_pylist() for name in _FIELDS]
        return tuple(Measured(*fields) for fields in zip(*columns, strict=True))

    @cached_property
    def values(self) -> Floats:
        """The figure of each run, shape ``(n,)``."""
        return np.asarray(self.table["value"].to_numpy())

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
    with _opened(data_set, kinds, chosen) as (connection, notes, columns):
        for column in chosen:
            if column not in columns or column == "filename":
                known = ", ".join(sorted({TIME, *columns} - {"hash", "filename"}))
                raise BadArgumentError(f"the runs have no {column!r}; there are: {known}")
        by = by or _usual_key(connection)
        notes += _newer(connection)
        notes += _several(connection, only)
        if with_states:
            names = connection.execute("SELECT DISTINCT name FROM states WHERE name IS NOT NULL ORDER BY 1").fetchall()
            asked |= {f"adds:{name}": ("adds", name) for (name,) in names}
        found = {}
        for one, (kind, name) in asked.items():
            rows = _rows(connection, kind, name, by, only)
            why = [] if rows.num_rows else [_why_none(connection, kind, name)]
            placed = _placed(one, by, rows, [*notes, *why], columns, data_set)
            found[one] = replace(placed, **_of_latest(connection))
    return found


def _asked(of: str) -> tuple[str, str]:
    kind, _, name = of.partition(":")
    if kind not in _KINDS or (":" in of) != (kind in _TABLES_OF) or (kind in _TABLES_OF and not name):
        raise BadArgumentError(f"--of is average, life, state:NAME, source:NAME or finding:KIND, found {of!r}")
    return kind, name


@contextmanager
def _opened(
    data_set: DataSet, kinds: set[str], chosen: Sequence[str]
) -> Iterator[tuple[duckdb.DuckDBPyConnection, list[str], tuple[str, ...]]]:
    """Open a connection in which each run stands once; with what could not be read, and the columns of the runs."""
    import duckdb

    notes: list[str] = []
    wanted = {"runs": [*_OF_RUNS, *_OF_LATEST, *chosen]} | {
        _FIGURES[kind][0]: [] for kind in kinds if kind in _TABLES_OF
    }
    for kind in kinds:
        table, *figures = _FIGURES[kind]
        wanted[table] += [*figures, *_TABLES_OF.get(kind, ())[1:]]
    columns: tuple[str, ...] = ()
    with duckdb.connect(config={"autoinstall_known_extensions": False}) as connection:
        if not data_set.is_local:
            connection.register_filesystem(data_set.files)
        for table, names in wanted.items():
            try:
                found = _read(connection, table, data_set.pattern(table), names)
            except duckdb.Error as error:
                broken = data_set.unreadable(table)
                left = data_set.paths(table, broken)
                if not left or not broken:
                    raise BadFileError(Path(data_set.address), f"its {table} cannot be read: {error}") from error
                first = broken[0].rpartition("/")[2]
                notes.append(f"{counted(len(broken), 'file')} of {table} cannot be read and left out, such as {first}")
                found = _read(connection, table, left, names)
            columns = found if table == "runs" else columns
        yield connection, notes, columns


def _read(
    connection: duckdb.DuckDBPyConnection, table: str, paths: str | list[str], names: Sequence[str]
) -> tuple[str, ...]:
    """Make a table of files, each run in it once and with the columns asked for, and return all columns there are."""
    import duckdb

    wanted = tuple(dict.fromkeys(["hash", *names]))
    with suppress(duckdb.Error):  # most have the same columns, and are read in half the time then
        source = _source(paths, union=False)
        there = _columns(connection, source)
        if set(wanted) <= set(there):
            _make(connection, table, source, list(map(_named, wanted)))
            return there
    source = _source(paths, union=True)
    there = _columns(connection, source)
    _make(connection, table, source, [_named(one) if one in there else f"NULL AS {_named(one)}" for one in wanted])
    return there


def _source(paths: str | list[str], *, union: bool) -> str:
    given = ", ".join(map(_quoted, [paths] if isinstance(paths, str) else paths))
    options = f"hive_partitioning=true, hive_types_autocast=false, filename=true, union_by_name={str(union).lower()}"
    return f"read_parquet([{given}], {options})"


def _columns(connection: duckdb.DuckDBPyConnection, source: str) -> tuple[str, ...]:
    found = connection.execute(f"DESCRIBE SELECT * FROM {source}").fetchall()
    return tuple(row[0] for row in found)


def _make(connection: duckdb.DuckDBPyConnection, table: str, source: str, chosen: Sequence[str]) -> None:
    """Make a table in which of one capture the newest rules count, and what stands twice counts once."""
    # What is newer stands in a file of its own, whose name is shorter than that of a merged one.
    stem = "regexp_extract(filename, '([0-9a-f]+).parquet$', 1)"
    connection.execute(
        f"CREATE OR REPLACE TEMP TABLE {table} AS SELECT {', '.join(chosen)} FROM {source} "
        f"QUALIFY dense_rank() OVER (PARTITION BY hash[1:{CAPTURE_LENGTH}] ORDER BY length({stem}), {stem}, hash) = 1"
    )


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _named(column: str) -> str:
    return '"' + column.replace('"', '""') + '"'


def _usual_key(connection: duckdb.DuckDBPyConnection) -> str:
    query = 'SELECT count(DISTINCT "commit"), count(DISTINCT firmware) FROM runs'
    ((commits, builds),) = connection.execute(query).fetchall()
    return "commit" if commits else "firmware" if builds > 1 else TIME


def _rows(
    connection: duckdb.DuckDBPyConnection, kind: str, name: str, by: str, only: Sequence[tuple[str, str]]
) -> pa.Table:
    """Return all runs that may count, the earliest first; without a key, a time or a figure where they have none."""
    table, *figures = _FIGURES[kind]
    source = "runs" if table == "runs" else "found"
    value, low, high = (f"CAST({source}.{figure} AS DOUBLE)" for figure in (figures * 3)[:3])
    joined, given = "", []
    if kind == "finding":  # a run without one has 0 of it; what never has a cost counts 1
        value, low, high = "CAST(coalesce(found.cost_a, 0.0) AS DOUBLE)", "NULL", "NULL"
        joined = (
            "LEFT JOIN (SELECT hash, sum(coalesce(cost_a, CASE WHEN (SELECT max(cost_a) FROM findings WHERE kind = ?) "
            "IS NULL THEN 1.0 END)) AS cost_a FROM findings WHERE kind = ? GROUP BY hash) AS found USING (hash)"
        )
        given = [name, name]
    elif kind in _TABLES_OF:
        joined = f"JOIN {table} AS found ON found.hash = runs.hash AND found.{_TABLES_OF[kind][1]} = ?"
        given = [name]
    latest = (datetime.now(UTC) + timedelta(days=1)).isoformat()
    when = f"CASE WHEN runs.recorded_utc BETWEEN '{_FIRST_YEAR}' AND '{latest}' THEN runs.recorded_utc ELSE '' END"
    key = f"nullif({when}, '')" if by == TIME else f"CAST(runs.{_named(by)} AS VARCHAR)"
    where = " AND ".join(f"CAST(runs.{_named(column)} AS VARCHAR) = ?" for column, _ in only)
    query = (
        f"SELECT {key} AS key, runs.run, runs.project, coalesce(CAST(runs.board AS VARCHAR), '') AS board, "
        f"coalesce(runs.firmware, '') AS firmware, runs.hash AS run_hash, {when} AS recorded_utc, {value} AS value, "
        f"{low} AS low, {high} AS high, runs.filename FROM runs {joined} {'WHERE ' + where if where else ''} "
        "ORDER BY recorded_utc, runs.project, runs.run, runs.hash"
    )
    return connection.sql(query, params=[*given, *(wanted for _, wanted in only)]).to_arrow_table()


def _why_none(connection: duckdb.DuckDBPyConnection, kind: str, name: str) -> str:
    if kind not in _TABLES_OF:
        return "no run is left"
    table, column = _TABLES_OF[kind]
    known = [row[0] for row in connection.execute(f"SELECT DISTINCT {column} FROM {table} ORDER BY 1").fetchall()]
    return f"no run has the {kind} {name!r}; there are: {', '.join(known) or 'none'}"


def _of_latest(connection: duckdb.DuckDBPyConnection) -> dict[str, Any]:
    query = (
        "SELECT target_h, budget_a, weakest_what, weakest_grade FROM runs ORDER BY recorded_utc DESC NULLS LAST LIMIT 1"
    )
    ((target_h, budget_a, what, grade),) = connection.execute(query).fetchall() or [(None,) * 4]
    return {"target_h": target_h, "budget_a": budget_a, "weakest": f"{what}, {grade}" if what else ""}


def _newer(connection: duckdb.DuckDBPyConnection) -> list[str]:
    query = "SELECT count(*) FROM runs WHERE schema_version > ?"
    ((newer,),) = connection.execute(query, [SCHEMA]).fetchall()
    return [f"{counted(newer, 'run')} of a newer version of the program: what it adds is not shown"] if newer else []


def _several(connection: duckdb.DuckDBPyConnection, only: Sequence[tuple[str, str]]) -> list[str]:
    """Return what differs between the runs that may be no change of the firmware."""
    found = []
    for column, words in (("target", "targets"), ("supply_v", "supply voltages")):
        if any(column == one for one, _ in only):
            continue
        kinds = [row[0] for row in connection.execute(f"SELECT DISTINCT {column} FROM runs ORDER BY 1").fetchall()]
        kinds = [kind for kind in kinds if kind is not None]
        if len(kinds) > 1:
            some = ", ".join(f"{kind:g}" if isinstance(kind, float) else str(kind) for kind in kinds[:_MOST_TOLD])
            found.append(f"runs of {len(kinds)} {words} are in one series ({some}): choose with --only {column}=VALUE")
    return found


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
