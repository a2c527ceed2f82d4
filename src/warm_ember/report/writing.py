"""Tables and captures to files that appear only when they are complete."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.signal.series import Progress, ignore_progress
from warm_ember.store.new_file import NewFile
from warm_ember.store.room import not_written

if TYPE_CHECKING:
    import pyarrow as pa

TABLE_ENDINGS = (".csv", ".parquet")


@contextlib.contextmanager
def complete_or_nothing(path: Path) -> Iterator[NewFile]:
    """Give a file to write to; it takes its name when all went well, else nothing is left and nothing was changed.

    Through a symbolic link the file that it leads to is replaced, and the link stays.

    Raises
    ------
    BadFileError
        If it cannot be written.
    """
    try:
        with NewFile(path.resolve()) as new:
            yield new
            new.keep()
    except BadFileError:
        raise
    except OSError as error:
        problem = not_written(path, error, "nothing was changed")
        raise BadFileError(path, problem.problem, remedy=problem.remedy) from error


def check_target(path: Path, project: Path) -> None:
    """Check that a file may be written where the user said.

    Raises
    ------
    BadArgumentError
        If that is the project's own file, or one of its captures under whatever name.
    """
    real, folder = path.resolve(), project.resolve()
    captures = folder / "captures"
    if real == folder / "project.json" or captures in real.parents:
        raise BadArgumentError(f"{path} belongs to the project itself: choose a place outside of it")
    if real.exists() and any(capture.samefile(real) for capture in captures.glob("*.h5") if capture.exists()):
        raise BadArgumentError(f"{path} is a capture of this project: choose another name")


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
    with complete_or_nothing(path) as new, _writer(new.partial, schema, ending) as write:
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
    with complete_or_nothing(path) as new:
        shutil.copyfile(source, new.partial)
