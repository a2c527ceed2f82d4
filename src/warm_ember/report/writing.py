"""Tables and captures to files that appear only when they are complete."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.signal.series import Progress, ignore_progress

if TYPE_CHECKING:
    import pyarrow as pa

TABLE_ENDINGS = (".csv", ".parquet")


@contextlib.contextmanager
def complete_or_nothing(path: Path) -> Iterator[Path]:
    """Give a path to write to; the file takes its name when all went well, else nothing is left.

    Raises
    ------
    BadFileError
        If it cannot be written.
    """
    partial = path.with_name(f".{path.name}.{os.getpid()}.partial")
    try:
        yield partial
        partial.replace(path)
    except OSError as error:
        raise BadFileError(path, f"cannot be written: {error.strerror or error}") from error
    finally:
        with contextlib.suppress(OSError):
            partial.unlink(missing_ok=True)


def check_ending(path: Path, endings: Iterable[str]) -> str:
    """Return a file's ending.

    Raises
    ------
    BadArgumentError
        If it is not among those that can be written.
    """
    ending = path.suffix.lower()
    if ending not in tuple(endings):
        raise BadArgumentError(f"{path}: expected a file ending in {', '.join(endings)}, found {ending or 'none'!r}")
    return ending


def write_table(table: pa.Table, path: Path) -> None:
    """Write a table as CSV or Parquet, by the file's ending."""
    write_batches(path, table.schema, ((1.0, batch) for batch in table.to_batches()))


def write_batches(
    path: Path,
    schema: pa.Schema,
    batches: Iterable[tuple[float, pa.RecordBatch]],
    *,
    progress: Progress = ignore_progress,
) -> None:
    """Write batches of rows as CSV or Parquet in bounded memory.

    Raises
    ------
    BadArgumentError
        If the ending is neither.
    BadFileError
        If the file cannot be written.
    """
    ending = check_ending(path, TABLE_ENDINGS)
    with complete_or_nothing(path) as partial, _writer(partial, schema, ending) as write:
        for share, batch in batches:
            write(batch)
            progress(share)


@contextlib.contextmanager
def _writer(path: Path, schema: pa.Schema, ending: str) -> Iterator[Callable[[pa.RecordBatch], None]]:
    if ending == ".csv":
        from pyarrow import csv

        with csv.CSVWriter(path, schema, write_options=csv.WriteOptions(quoting_style="needed")) as writer:
            yield writer.write_batch
    else:
        from pyarrow import parquet

        with parquet.ParquetWriter(path, schema) as writer:
            yield writer.write_batch


def copy_file(source: Path, path: Path) -> None:
    """Copy a file under another name.

    Raises
    ------
    BadFileError
        If it cannot be written.
    """
    with complete_or_nothing(path) as partial:
        shutil.copyfile(source, partial)
