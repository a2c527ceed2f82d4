"""A data set: many runs as tables of Parquet files, written by many and read as one by any engine.

    DATASET/<table>/firmware=<firmware>/<hash>.parquet

A file of one run is named by its content, so that whoever writes it, and however many at once, it is there once. Of a
run `runs` is written last: what has no row there is not there yet. When a folder holds many such files they are merged
into one, which is named by theirs.
"""

from __future__ import annotations

import io
import logging
from collections import defaultdict
from collections.abc import Iterable, Mapping
from contextlib import suppress
from datetime import UTC, datetime
from hashlib import blake2b
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from warm_ember.errors import BadFileError, WarmEmberError
from warm_ember.store.lock import Lock
from warm_ember.store.new_file import write_new

if TYPE_CHECKING:
    import pyarrow as pa

log = logging.getLogger(__name__)

TABLES = ("states", "sources", "findings", "activities", "runs")
"""In the order in which those of one run are written."""

SCHEMA = 1
"""Version of the columns. Later ones add columns, and change none that there is."""

CAPTURE_LENGTH = 16
"""As many characters of a hash are the capture's; the rest is that of the rules it was read by."""

_SINGLE_LENGTH, _MERGED_LENGTH = 32, 40
_NO_FIRMWARE = "__HIVE_DEFAULT_PARTITION__"
_LONGEST_NAME = 240
_MANY_FILES = 32
_ENDING = ".parquet"
_LOCK = ".merging.lock"


class DataSet:
    """A data set at an address.

    Parameters
    ----------
    address
        A folder, or an address that fsspec reads, such as ``s3://bucket/name``. It begins with its first run.

    Raises
    ------
    BadFileError
        If the address cannot be understood, or is a file.
    """

    def __init__(self, address: str) -> None:
        try:
            import duckdb  # noqa: F401 - whoever opens one will ask it
            import fsspec
        except ImportError as error:
            raise WarmEmberError(
                f"data sets need packages that are not installed ({error.name}): pip install 'warm-ember[fleet]'"
            ) from error
        self.address = address
        try:
            self.files, self.root = fsspec.core.url_to_fs(address)
            is_file = self.files.isfile(self.root)
        except (ValueError, ImportError, OSError) as error:
            raise BadFileError(Path(address), f"no data set can be there: {error}") from error
        if is_file:
            raise BadFileError(Path(address), "a data set is a folder, and this is a file")

    @property
    def is_local(self) -> bool:
        """Whether it is a folder of this machine."""
        return "file" in self.files.protocol

    def folder(self, table: str, firmware: str) -> str:
        """Return the folder of a table's rows of one firmware.

        Raises
        ------
        BadFileError
            If the firmware's name is too long for a folder.
        """
        name = f"firmware={quote(firmware, safe='') or _NO_FIRMWARE}"
        if len(name) > _LONGEST_NAME:
            raise BadFileError(Path(self.address), f"the firmware's name is too long for a folder: {firmware[:40]}…")
        return f"{self.root}/{table}/{name}"

    def exists(self) -> bool:
        """Return whether there is anything of it yet."""
        return bool(self.files.isdir(f"{self.root}/runs"))

    def holds(self, firmware: str, run_hash: str) -> bool:
        """Return whether a run is there, whole, in a file of its own."""
        path = f"{self.folder('runs', firmware)}/{run_hash}{_ENDING}"
        return bool(self.files.exists(path)) and self._is_whole(path)

    def merged_hashes(self) -> frozenset[str]:
        """Return the runs that stand in merged files."""
        import pyarrow.parquet as pq

        found: set[str] = set()
        for path in self._paths("runs"):
            if len(_stem(path)) == _MERGED_LENGTH:
                with self.files.open(path) as opened:
                    found.update(pq.read_table(opened, columns=["hash"]).column("hash").to_pylist())
        return frozenset(found)

    def write(self, firmware: str, run_hash: str, tables: Mapping[str, pa.Table]) -> None:
        """Write one run, in place of the same capture read by other rules.

        Raises
        ------
        BadFileError
            If it cannot be written.
        """
        try:
            for table in TABLES:
                folder = self.folder(table, firmware)
                self.files.makedirs(folder, exist_ok=True)
                self._put(f"{folder}/{run_hash}{_ENDING}", _bytes_of(tables[table]))
                for path in self.files.glob(f"{folder}/{run_hash[:CAPTURE_LENGTH]}*{_ENDING}"):
                    if _stem(path) != run_hash and len(_stem(path)) == _SINGLE_LENGTH:
                        self._remove(path)
        except OSError as error:
            raise BadFileError(Path(self.address), f"cannot be written: {error.strerror or error}") from error

    def merge(self, *, at_least: int = _MANY_FILES) -> int:
        """Join the files of every folder that holds many, and return how many folders that were.

        Only where a lock holds, in a folder of this machine. A program killed in between leaves rows twice: readers
        of this program take them once, and the next to merge removes them.
        """
        if not self.is_local or not self.exists():
            return 0
        lock = Lock(Path(self.root) / _LOCK)
        if not lock.take():
            return 0  # somebody else is at it
        try:
            return sum(self._merge_table(table, at_least) for table in TABLES)
        finally:
            lock.release()

    def _merge_table(self, table: str, at_least: int) -> int:
        by_folder: defaultdict[str, list[str]] = defaultdict(list)
        for path in self._paths(table):
            by_folder[path.rpartition("/")[0]].append(path)
        merged = 0
        for folder, paths in by_folder.items():
            if sum(len(_stem(path)) == _SINGLE_LENGTH for path in paths) >= at_least:
                self._merge_folder(folder, [path for path in paths if self._is_whole(path)])
                merged += table == "runs"
        return merged

    def _merge_folder(self, folder: str, paths: list[str]) -> None:
        import pyarrow as pa
        import pyarrow.compute as pc

        # What stands alone is newer than what is merged, and a capture counts once, by its newest rules.
        paths.sort(key=lambda path: (len(_stem(path)), path))
        tables, known = [], set[str]()
        for path in paths:
            rows = self.read(path)
            captures = pc.utf8_slice_codeunits(rows["hash"], 0, CAPTURE_LENGTH)
            rows = rows.filter(pc.invert(pc.is_in(captures, pa.array(sorted(known), pa.string()))))
            known.update(captures.unique().to_pylist())
            if len(_stem(path)) == _SINGLE_LENGTH:
                known.add(_stem(path)[:CAPTURE_LENGTH])  # of a run without rows, such as one without findings
            tables.append(rows)
        if not tables:
            return
        together = pa.concat_tables(tables, promote_options="default").sort_by("hash")
        name = blake2b("".join(map(_stem, paths)).encode(), digest_size=_MERGED_LENGTH // 2).hexdigest()
        self._put(f"{folder}/{name}{_ENDING}", _bytes_of(together))
        for path in paths:
            self._remove(path)

    def read(self, path: str) -> pa.Table:
        """Return the rows of one file."""
        import pyarrow.parquet as pq

        with self.files.open(path) as opened:
            # The firmware is in the path alone.
            return pq.ParquetFile(io.BytesIO(opened.read())).read()

    def unreadable(self, table: str) -> tuple[str, ...]:
        """Return the files of a table that are no whole Parquet files."""
        return tuple(path for path in self._paths(table) if not self._is_whole(path))

    def _is_whole(self, path: str) -> bool:
        import pyarrow as pa
        import pyarrow.parquet as pq

        try:
            with self.files.open(path) as opened:
                pq.read_metadata(opened)
        except (pa.ArrowException, OSError):
            return False
        return True

    def modified(self, path: str) -> str:
        """Return when a file was written, as ISO 8601 text."""
        when: datetime = self.files.modified(self.files._strip_protocol(path))
        return when.isoformat(timespec="microseconds")

    def pattern(self, table: str) -> str:
        """Return what names all files of a table, as an engine takes it."""
        found = f"{self.root}/{table}/*/*{_ENDING}"
        return found if self.is_local else str(self.files.unstrip_protocol(found))

    def paths(self, table: str, without: Iterable[str] = ()) -> list[str]:
        """Return a table's files, some left out, as an engine takes them."""
        left_out = set(without)
        named = (path for path in self._paths(table) if path not in left_out)
        return [path if self.is_local else self.files.unstrip_protocol(path) for path in named]

    def _paths(self, table: str) -> list[str]:
        found = self.files.glob(f"{self.root}/{table}/firmware=*/*{_ENDING}")
        return sorted(path for path in found if not path.rpartition("/")[2].startswith((".", "_")))

    def _put(self, path: str, content: bytes) -> None:
        if self.is_local:
            write_new(Path(path), content)
        else:  # what is written elsewhere appears when it is complete
            with self.files.open(path, "wb") as opened:
                opened.write(content)

    def _remove(self, path: str) -> None:
        with suppress(FileNotFoundError):
            self.files.rm_file(path)


def _stem(path: str) -> str:
    return path.rpartition("/")[2].removesuffix(_ENDING)


def _bytes_of(table: pa.Table) -> bytes:
    import pyarrow.parquet as pq

    table = table.replace_schema_metadata({"warm_ember_schema": str(SCHEMA), **_texts(table.schema.metadata or {})})
    written = io.BytesIO()
    pq.write_table(table, written, compression="zstd")
    return written.getvalue()


def _texts(metadata: Mapping[Any, Any]) -> dict[Any, Any]:
    return {key: value for key, value in metadata.items() if key != b"warm_ember_schema"}


def moment(text: str) -> str | None:
    """Return a time in UTC as ISO 8601 text; None where none can be read.

    Examples
    --------
    >>> moment("2026-06-14T08:30:00+02:30"), moment("2026-06-14 06:00"), moment("yesterday")
    ('2026-06-14T06:00:00Z', '2026-06-14T06:00:00Z', None)
    """
    try:
        read = datetime.fromisoformat(text)
        at = read.astimezone(UTC) if read.tzinfo is not None else read.replace(tzinfo=UTC)
    except (ValueError, OverflowError):
        return None
    return at.isoformat(timespec="microseconds" if at.microsecond else "seconds").replace("+00:00", "Z")
