"""Files of limits: TOML that is kept beside the firmware's sources."""

from __future__ import annotations

import difflib
import math
import re
import tomllib
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec

from warm_ember.errors import BadFileError
from warm_ember.model.finding import FindingKind
from warm_ember.model.gate_limits import (
    AverageLimits,
    BaselineLimits,
    FindingLimits,
    GateLimits,
    LifeLimits,
    MeasurementShares,
    SourceLimits,
    StateLimits,
)

LIMITS_FORMAT = 1
_TABLES: dict[str, type[msgspec.Struct]] = {
    "average": AverageLimits,
    "life": LifeLimits,
    "findings": FindingLimits,
    "measurement": MeasurementShares,
    "baseline": BaselineLimits,
}
_BY_NAME: dict[str, type[msgspec.Struct]] = {"states": StateLimits, "sources": SourceLimits}
_SHARES = {"chance", "max_share", "max_missing", "max_unplaced"}
_REMEDY = "see docs/formats.md"
_MOST_BYTES = 1 << 20
Path_ = tuple[str, ...]


def read_limits_file(path: Path) -> GateLimits:
    """Read a file of limits.

    Raises
    ------
    BadFileError
        If it cannot be read, is no TOML, or has a key that is no limit or a value that is none: with its line.
    """
    try:
        with path.open("rb") as file:
            content = file.read(_MOST_BYTES + 1)
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    if len(content) > _MOST_BYTES:
        raise BadFileError(path, "a file of limits is no larger than 1 MB", remedy=_REMEDY)
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadFileError(path, "expected UTF-8", where=f"byte {error.start}", remedy=_REMEDY) from error
    return limits_in(text, path)


def limits_in(text: str, path: Path) -> GateLimits:
    """Read limits from the text of a file.

    Raises
    ------
    BadFileError
        As `read_limits_file` does.
    """
    try:
        found = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        place = re.search(r"at line (\d+)", str(error))
        raise BadFileError(
            path, f"this is no TOML: {error}", where=f"line {place[1]}" if place else "", remedy=_REMEDY
        ) from error
    for key, problem in _problems(found):
        raise BadFileError(path, f"{_dotted(key)}: {problem}", where=_place(text, key), remedy=_REMEDY)
    return msgspec.convert(found, GateLimits)


def place_of(path: Path, *key: str) -> str:
    """Return where a key stands in a file of limits, such as ``line 12``; empty where that is not found."""
    try:
        return _place(path.read_text(encoding="utf-8-sig"), key)
    except (OSError, UnicodeDecodeError):
        return ""


def _problems(found: Mapping[str, Any]) -> Iterator[tuple[Path_, str]]:
    """Find what is no limit."""
    known = ("format", "strict", *_TABLES, *_BY_NAME)
    yield from _unknown((), found, known)
    version = found.get("format", LIMITS_FORMAT)
    if isinstance(version, bool) or not isinstance(version, int) or not 1 <= version <= LIMITS_FORMAT:
        yield ("format",), f"expected {LIMITS_FORMAT}, found {version!r}"
    if not isinstance(found.get("strict", False), bool):
        yield ("strict",), f"expected true or false, found {found['strict']!r}"
    for name, record in _TABLES.items():
        yield from _table((name,), found.get(name, {}), record)
    for name, record in _BY_NAME.items():
        tables = found.get(name, {})
        if not isinstance(tables, dict):
            yield (name,), f"expected a table for each name, found {tables!r}"
            continue
        for one, table in tables.items():
            yield from _table((name, one), table, record)


def _table(key: Path_, table: Any, record: type[msgspec.Struct]) -> Iterator[tuple[Path_, str]]:
    if not isinstance(table, dict):
        yield key, f"expected a table, found {table!r}"
        return
    yield from _unknown(key, table, record.__struct_fields__)
    for name, value in table.items():
        problem = _CHECKS.get(name, _number)(name, value)
        if problem:
            yield (*key, name), problem


def _unknown(key: Path_, table: Mapping[str, Any], known: tuple[str, ...]) -> Iterator[tuple[Path_, str]]:
    for name in table:
        if name not in known:
            near = difflib.get_close_matches(name, known, 1)
            meant = f"is {near[0]} meant?" if near else f"known are {', '.join(known)}"
            yield (*key, name), f"this is no limit; {meant}"


def _number(name: str, value: Any) -> str:
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value) or value < 0:
        unit = {"a": " in A", "c": " in C", "s": " in s"}.get(name.rsplit("_", 1)[-1], "")
        return f"expected a number of 0 or more{unit}, without a unit, found {value!r}"
    if name in _SHARES and value > 1:
        return f"expected a share from 0 to 1, found {value!r}"
    return ""


def _of(_name: str, value: Any) -> str:
    return "" if value in ("life", "capture") else f"expected “life” or “capture”, found {value!r}"


def _forbid(_name: str, value: Any) -> str:
    kinds = [kind.value for kind in FindingKind]
    if not isinstance(value, list):
        return f"expected a list of kinds of findings, found {value!r}"
    for one in value:
        if one != "*" and one not in kinds:
            near = difflib.get_close_matches(str(one), kinds, 1)
            meant = f"is {near[0]} meant?" if near else f"known are {', '.join(kinds)}, or *"
            return f"{one!r} is no kind of finding; {meant}"
    return ""


_CHECKS: dict[str, Callable[[str, Any], str]] = {"of": _of, "forbid": _forbid}


def _dotted(key: Path_) -> str:
    plain = (part if re.fullmatch(r"[A-Za-z0-9_-]+", part) else f'"{part}"' for part in key)
    return ".".join(plain)


def _place(text: str, key: Path_) -> str:
    line = line_of(text, *key)
    return f"line {line}" if line else ""


def line_of(text: str, *key: str) -> int:
    """Return the line of a key, from 1; of the table that it is in where it stands in one line with that, else 0."""
    table: Path_ = ()
    best, line = 0, 0
    for number, row in enumerate(text.splitlines(), 1):
        header = re.match(r"\s*\[(?!\[)(.+?)\]\s*(#.*)?$", row)
        pair = re.match(r"\s*((?:\"[^\"]*\"|'[^']*'|[\w.\- ])+?)\s*=", row)
        if header:
            table = _parts(header[1])
            here = table
        elif pair:
            here = (*table, *_parts(pair[1]))
        else:
            continue
        if here == key[: len(here)] and len(here) > best:
            best, line = len(here), number
    return line


def _parts(dotted: str) -> Path_:
    """Return the parts of a dotted key."""
    try:
        found: Any = tomllib.loads(f"{dotted} = 0")
    except tomllib.TOMLDecodeError:
        return ()
    parts: list[str] = []
    while isinstance(found, dict):
        name, found = next(iter(found.items()))
        parts.append(name)
    return tuple(parts)
