"""How files of one kind are read: what was chosen for one of them, kept for all that have the same header."""

from __future__ import annotations

import logging
import re
from collections.abc import Sequence
from dataclasses import fields, replace
from pathlib import Path
from typing import NamedTuple

import msgspec

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats.source import ImportOptions
from warm_ember.places import settings_folder

log = logging.getLogger(__name__)

_NAME = re.compile(r"[^/\\\x00-\x1f.][^/\\\x00-\x1f]{0,99}")
_COLUMNS = ("current_column", "time_column", "voltage_column")


class Reading(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A way to read files.

    Parameters
    ----------
    header
        The columns of the files that it is for.
    options
        What was chosen, by the names of `ImportOptions`; columns by their titles.
    format
        Version of this file.
    """

    header: tuple[str, ...]
    options: dict[str, str | float | bool]
    format: int = 1

    def applied_to(self, options: ImportOptions) -> ImportOptions:
        """Return options with what they leave open as this reading says."""
        plain = ImportOptions()
        kept = {
            one.name: getattr(options, one.name)
            for one in fields(options)
            if getattr(options, one.name) != getattr(plain, one.name)
        }
        return replace(ImportOptions(**self.options), **kept)  # type: ignore[arg-type]


def reading_of(header: Sequence[str], options: ImportOptions) -> Reading | None:
    """Return what was chosen for a file as a reading; None when nothing was.

    Parameters
    ----------
    header
        The titles of its columns.
    options
        How it is read; a column that is named by its number is kept by its title.
    """
    plain, chosen = ImportOptions(), dict[str, str | float | bool]()
    for one in fields(options):
        value = getattr(options, one.name)
        if value == getattr(plain, one.name):
            continue
        if one.name in _COLUMNS and str(value).isdecimal() and 1 <= int(value) <= len(header):
            value = header[int(value) - 1]
        chosen[one.name] = value
    return Reading(tuple(header), chosen) if chosen and header else None


def folder() -> Path:
    """Return where readings are kept."""
    return settings_folder() / "readings"


def keep(name: str, reading: Reading) -> str:
    """Keep a reading, in place of one for the same header; return its name.

    Raises
    ------
    BadArgumentError
        If the name is no file's name.
    """
    if not _NAME.fullmatch(name):
        raise BadArgumentError(f"a reading needs a name of up to 100 letters without slashes, found {name!r}")
    known = named_for(reading.header)
    name = known[0] if known is not None else name
    where = folder()
    where.mkdir(parents=True, exist_ok=True)
    part = where / f".{name}.partial"
    part.write_bytes(msgspec.json.format(msgspec.json.encode(reading), indent=1) + b"\n")
    part.replace(where / f"{name}.json")
    return name


def load(name: str) -> Reading:
    """Return the reading of a name.

    Raises
    ------
    BadArgumentError
        If there is none; it names those that there are.
    BadFileError
        If its file is damaged.
    """
    path = folder() / f"{name}.json"
    if not _NAME.fullmatch(name) or not path.is_file():
        there = ", ".join(sorted(one.stem for one in folder().glob("*.json"))) or "none"
        raise BadArgumentError(f"there is no reading {name!r}; there are: {there}")
    return _loaded(path)


class NamedReading(NamedTuple):
    """A reading with the name that it is kept under."""

    name: str
    reading: Reading


def named_for(header: Sequence[str]) -> NamedReading | None:
    """Return the reading for files with a header, and its name; None when there is none."""
    for path in sorted(folder().glob("*.json")) if folder().is_dir() else ():
        try:
            found = _loaded(path)
        except BadFileError:
            log.warning("the reading %s cannot be read", path, exc_info=True)
            continue
        if found.header == tuple(header):
            return NamedReading(path.stem, found)
    return None


def _loaded(path: Path) -> Reading:
    try:
        found = msgspec.json.decode(path.read_bytes(), type=Reading)
        found.applied_to(ImportOptions())
    except (msgspec.MsgspecError, TypeError, BadArgumentError, OSError) as error:
        raise BadFileError(path, f"expected a reading: {error}", remedy="delete it, and choose again") from error
    return found
