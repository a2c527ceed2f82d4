"""The tables of a data set in DuckDB: every run once, and one figure of each."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

from warm_ember.errors import BadFileError
from warm_ember.fleet.data_set import CAPTURE_LENGTH, SCHEMA, DataSet
from warm_ember.units import counted

if TYPE_CHECKING:
    import duckdb
    import pyarrow as pa

_FIRST_YEAR = 2010
TABLES_OF = {
    "state": ("states", "name"),
    "adds": ("states", "name"),
    "source": ("sources", "source"),
    "finding": ("findings", "kind"),
}
"""Where figures of a part of a run are: the table, and the column that names the part."""

_GRADES = ("grade", "bound")
_FIGURES = {
    "average": ("runs", "mean_a", "mean_a_low", "mean_a_high", "mean_a_grade", "mean_a_bound"),
    "life": ("runs", "life_h", "life_h_p10", "life_h_p90", *_GRADES),
    "state": ("states", "mean_a", "mean_a_low", "mean_a_high", *_GRADES),
    "adds": ("states", "added_a", "mean_a", "mean_a_high", *_GRADES),
    "source": ("sources", "added_a", "added_a_low", "added_a_high", *_GRADES),
    "finding": ("findings", "cost_a"),
}
"""Where a figure is: the table, its value, both ends of its interval, its grade and its bound."""

TIME = "time"
"""What places each run alone."""

_MOST_TOLD = 3
FIELDS = (
    *("key", "run", "project", "board", "firmware", "run_hash", "recorded_utc"),
    *("value", "low", "high", "grade", "bound"),
)
"""The columns of `rows_of`."""

_OF_RUNS = (*FIELDS[1:5], "recorded_utc", "commit", "target", "supply_v", "schema_version", "filename")
_OF_LATEST = ("target_h", "budget_a", "weakest_what", "weakest_grade")


@contextmanager
def opened(
    data_set: DataSet, kinds: set[str], chosen: Sequence[str]
) -> Iterator[tuple[duckdb.DuckDBPyConnection, list[str], tuple[str, ...]]]:
    """Open a connection in which each run stands once; with what could not be read, and the columns of the runs."""
    import duckdb

    notes: list[str] = []
    wanted = {"runs": [*_OF_RUNS, *chosen]} | {_FIGURES[kind][0]: [] for kind in kinds if kind in TABLES_OF}
    for kind in kinds:
        table, *figures = _FIGURES[kind]
        wanted[table] += [*figures, *TABLES_OF.get(kind, ())[1:]]
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


def usual_key(connection: duckdb.DuckDBPyConnection) -> str:
    """Return what runs are placed by where nobody said: the commit, the firmware, or the time."""
    query = 'SELECT count(DISTINCT "commit"), count(DISTINCT firmware) FROM runs'
    ((commits, builds),) = connection.execute(query).fetchall()
    return "commit" if commits else "firmware" if builds > 1 else TIME


def rows_of(
    connection: duckdb.DuckDBPyConnection, kind: str, name: str, by: str, only: Sequence[tuple[str, str]]
) -> pa.Table:
    """Return all runs that may count, the earliest first; without a key, a time or a figure where they have none."""
    table, *figures = _FIGURES[kind]
    source = "runs" if table == "runs" else "found"
    value, low, high = (f"CAST({source}.{figure} AS DOUBLE)" for figure in (figures * 3)[:3])
    grade, bound = (f"{source}.{figure}" for figure in (*figures[3:], *_GRADES)[:2])
    joined, given = "", []
    if kind == "finding":  # a run without one has 0 of it; what never has a cost counts 1
        value, low, high, grade, bound = "CAST(coalesce(found.cost_a, 0.0) AS DOUBLE)", "NULL", "NULL", "NULL", "NULL"
        joined = (
            "LEFT JOIN (SELECT hash, sum(coalesce(cost_a, CASE WHEN (SELECT max(cost_a) FROM findings WHERE kind = ?) "
            "IS NULL THEN 1.0 END)) AS cost_a FROM findings WHERE kind = ? GROUP BY hash) AS found USING (hash)"
        )
        given = [name, name]
    elif kind == "adds":  # as far as its mean may be higher, it may add more
        low, high = "NULL", "CAST(found.added_a * found.mean_a_high / nullif(found.mean_a, 0) AS DOUBLE)"
    if kind in TABLES_OF and kind != "finding":
        joined = f"JOIN {table} AS found ON found.hash = runs.hash AND found.{TABLES_OF[kind][1]} = ?"
        given = [name]
    latest = (datetime.now(UTC) + timedelta(days=1)).isoformat()
    when = f"CASE WHEN runs.recorded_utc BETWEEN '{_FIRST_YEAR}' AND '{latest}' THEN runs.recorded_utc ELSE '' END"
    key = f"nullif({when}, '')" if by == TIME else f"CAST(runs.{_named(by)} AS VARCHAR)"
    where = " AND ".join(f"CAST(runs.{_named(column)} AS VARCHAR) = ?" for column, _ in only)
    query = (
        f"SELECT {key} AS key, runs.run, runs.project, coalesce(CAST(runs.board AS VARCHAR), '') AS board, "
        f"coalesce(runs.firmware, '') AS firmware, runs.hash AS run_hash, {when} AS recorded_utc, "
        f"CASE WHEN {bound} = 'below' THEN coalesce({high}, {value}) ELSE {value} END AS value, "
        f"{low} AS low, {high} AS high, coalesce(CAST({grade} AS VARCHAR), 'measured') AS grade, "
        f"CAST({bound} AS VARCHAR) AS bound, runs.filename FROM runs {joined} {'WHERE ' + where if where else ''} "
        "ORDER BY recorded_utc, runs.project, runs.run, runs.hash"
    )
    return connection.sql(query, params=[*given, *(wanted for _, wanted in only)]).to_arrow_table()


def why_none(connection: duckdb.DuckDBPyConnection, kind: str, name: str) -> str:
    """Return why no run has a figure, in words."""
    if kind not in TABLES_OF:
        return "no run is left"
    table, column = TABLES_OF[kind]
    known = [row[0] for row in connection.execute(f"SELECT DISTINCT {column} FROM {table} ORDER BY 1").fetchall()]
    return f"no run has the {kind} {name!r}; there are: {', '.join(known) or 'none'}"


def of_latest(connection: duckdb.DuckDBPyConnection) -> dict[str, Any]:
    """Return what the latest run is to reach, and which input of its life is known least."""
    query = "SELECT filename, hash FROM runs ORDER BY recorded_utc DESC NULLS LAST, hash LIMIT 1"
    found: list[tuple[Any, ...]] = []
    for path, run_hash in connection.execute(query).fetchall():
        _read(connection, "latest", [path], _OF_LATEST)  # four columns of one file, not of all
        found = connection.execute(f"SELECT {', '.join(_OF_LATEST)} FROM latest WHERE hash = ?", [run_hash]).fetchall()
    ((target_h, budget_a, what, grade),) = found or [(None,) * 4]
    return {"target_h": target_h, "budget_a": budget_a, "weakest": f"{what}, {grade}" if what else ""}


def state_names(connection: duckdb.DuckDBPyConnection) -> tuple[str, ...]:
    """Return the states that any run has."""
    found = connection.execute("SELECT DISTINCT name FROM states WHERE name IS NOT NULL ORDER BY 1").fetchall()
    return tuple(name for (name,) in found)


def newer(connection: duckdb.DuckDBPyConnection) -> list[str]:
    """Return whether a newer version wrote some of them, in words."""
    query = "SELECT count(*) FROM runs WHERE schema_version > ?"
    ((newer,),) = connection.execute(query, [SCHEMA]).fetchall()
    return [f"{counted(newer, 'run')} of a newer version of the program: what it adds is not shown"] if newer else []


def several(connection: duckdb.DuckDBPyConnection, only: Sequence[tuple[str, str]]) -> list[str]:
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
