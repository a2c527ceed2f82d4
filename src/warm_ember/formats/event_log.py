"""The target's event log: CSV or JSON Lines with ``time_s,event,name,value``."""

from __future__ import annotations

import csv
import itertools
import json
import math
import sys
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from warm_ember.errors import BadFileError
from warm_ember.model.capture import Event
from warm_ember.units import counted

_REPLACED = "\N{REPLACEMENT CHARACTER}"
_MOST_EVENTS = 2_000_000
_LONGEST_CELL = 1 << 24
csv.field_size_limit(_LONGEST_CELL)
KINDS = ("state", "wake", "sleep", "mark", "sync", "log")


@dataclass(frozen=True)
class EventLog:
    """A log as it was read.

    Parameters
    ----------
    events
        In the order of their times, in the target's clock.
    notes
        What was not as it should be, a sentence each.
    """

    events: tuple[Event, ...]
    notes: tuple[str, ...] = ()


def read_events(path: Path) -> EventLog:
    """Read an event log; an event of a kind that is not known is kept as text.

    Parameters
    ----------
    path
        CSV with a header row, or JSON Lines with one object a line.

    Raises
    ------
    BadFileError
        Naming the line, what was expected and what was found.
    """
    try:
        # Line by line: the text of a long log is many times as large as its events.
        with path.open(encoding="utf-8-sig", errors="replace", newline=None) as file:
            first = next((line.strip() for line in file if line.strip()), "")
            file.seek(0)
            if not first:
                raise BadFileError(path, "the event log is empty")
            rows = _json_rows(path, file) if first.startswith("{") else _csv_rows(path, file)
            found = _limited(path, ((number, *_event(path, number, row)) for number, row in rows))
    except OSError as error:
        if isinstance(error, BadFileError):
            raise
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    if not found:
        raise BadFileError(path, "the event log holds no events")
    events = [event for _, event, _ in found]
    notes = []
    unknown = [(number, kind) for number, _, kind in found if kind]
    if unknown:
        number, kind = unknown[0]
        known = ", ".join(KINDS)
        if len(unknown) == len(found):
            raise BadFileError(path, f"expected an event of {known}, found {kind!r}", where=f"line {number}")
        notes.append(
            f"{path.name}, line {number}: {kind!r} is none of {known}; kept as text"
            + (f", as are {len(unknown) - 1} more" if len(unknown) > 1 else "")
        )
    back = next((k for k in range(1, len(events)) if events[k].time_s < events[k - 1].time_s), None)
    if back is not None:
        notes.append(f"{path.name}, line {found[back][0]}: earlier than the event before it; the log was put in order")
    return EventLog(tuple(sorted(events, key=lambda event: event.time_s)), tuple(notes))


def _limited(path: Path, found: Iterable[tuple[int, Event, str]]) -> list[tuple[int, Event, str]]:
    kept = list(itertools.islice(found, _MOST_EVENTS + 1))
    if len(kept) > _MOST_EVENTS:
        raise BadFileError(
            path, f"holds more than {counted(_MOST_EVENTS, 'event')}", remedy="split it, as the captures are"
        )
    return kept


def _json_rows(path: Path, lines: Iterable[str]) -> Iterator[tuple[int, dict[str, Any]]]:
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            row = json.loads(line)
        except (ValueError, RecursionError) as error:
            words = error.msg if isinstance(error, json.JSONDecodeError) else str(error)
            raise BadFileError(path, f"expected a JSON object: {words}", where=f"line {number}") from error
        if not isinstance(row, dict):
            raise BadFileError(path, f"expected a JSON object, found {line[:40]!r}", where=f"line {number}")
        yield number, row


def _csv_rows(path: Path, lines: Iterable[str]) -> Iterator[tuple[int, dict[str, Any]]]:
    # A target that boots may write NUL, which no table of text holds.
    texts = (line.replace("\0", _REPLACED) for line in lines)
    skipped, heading = next((number, line) for number, line in enumerate(texts) if line.strip())
    delimiter = next((sign for sign in (";", "\t") if sign in heading), ",")
    reader = csv.reader(itertools.chain((heading,), texts), delimiter=delimiter)
    header = [cell.strip() for cell in next(reader)]
    for needed in ("time_s", "event"):
        if needed not in header:
            raise BadFileError(
                path,
                f"expected the header time_s,event,name,value, found {heading.strip()[:60]!r}",
                where=f"line {skipped + 1}",
            )
    while True:
        try:
            row = next(reader, None)
        except csv.Error as error:
            raise BadFileError(
                path, f"expected a row of cells: {error}", where=f"line {skipped + reader.line_num}"
            ) from error
        if row is None:
            return
        number = skipped + reader.line_num
        if not any(cell.strip() for cell in row):
            continue
        if len(row) > len(header):
            raise BadFileError(
                path, f"expected {counted(len(header), 'column')}, found {len(row)}", where=f"line {number}"
            )
        cells = dict(zip(header, row, strict=False))
        if delimiter != ",":
            cells["time_s"] = cells.get("time_s", "").replace(",", ".")
        yield number, cells


def _event(path: Path, number: int, row: dict[str, Any]) -> tuple[Event, str]:
    """Return a row's event, and its kind if that is not known."""
    where = f"line {number}"
    try:
        time_s = float(row.get("time_s", ""))
    except (TypeError, ValueError, OverflowError):
        time_s = math.nan
    if not math.isfinite(time_s):
        raise BadFileError(path, f"expected time_s in seconds, found {row.get('time_s')!r}", where=where)
    kind = str(row.get("event", "")).strip()
    name, value = (_text(row.get("name")), _text(row.get("value")))
    if not kind:
        raise BadFileError(path, f"expected an event of {', '.join(KINDS)}, found none", where=where)
    if kind not in KINDS:
        return Event(time_s, "log", f"{kind} {name}".strip(), value), kind
    return Event(time_s, kind, name, value), ""


def _text(cell: object) -> str:
    # The same few names come again and again: each is kept once.
    return "" if cell is None else sys.intern(str(cell).replace("\0", _REPLACED).strip())
