"""The target's event log: CSV or JSON Lines with ``time_s,event,name,value``."""

from __future__ import annotations

import csv
import json
import math
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from warm_ember.errors import BadFileError
from warm_ember.model.capture import Event

_REPLACED = "\N{REPLACEMENT CHARACTER}"
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
        text = path.read_bytes().decode("utf-8-sig", "replace")
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    lines = text.splitlines()
    first = next((line.strip() for line in lines if line.strip()), "")
    if not first:
        raise BadFileError(path, "the event log is empty")
    rows = _json_rows(path, lines) if first.startswith("{") else _csv_rows(path, lines)
    found = [(number, *_event(path, number, row)) for number, row in rows]
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


def _json_rows(path: Path, lines: list[str]) -> Iterator[tuple[int, dict[str, Any]]]:
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


def _csv_rows(path: Path, lines: list[str]) -> Iterator[tuple[int, dict[str, Any]]]:
    start = next(index for index, line in enumerate(lines) if line.strip())
    delimiter = next((sign for sign in (";", "\t") if sign in lines[start]), ",")
    csv.field_size_limit(max(csv.field_size_limit(), max(map(len, lines)) + 1))
    # A target that boots may write NUL, which no table of text holds.
    reader = csv.reader((line.replace("\0", _REPLACED) for line in lines[start:]), delimiter=delimiter)
    header = [cell.strip() for cell in next(reader)]
    for needed in ("time_s", "event"):
        if needed not in header:
            raise BadFileError(
                path,
                f"expected the header time_s,event,name,value, found {lines[start][:60]!r}",
                where=f"line {start + 1}",
            )
    for row in reader:
        number = start + reader.line_num
        if not any(cell.strip() for cell in row):
            continue
        if len(row) > len(header):
            raise BadFileError(path, f"expected {len(header)} columns, found {len(row)}", where=f"line {number}")
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
    return "" if cell is None else str(cell).replace("\0", _REPLACED).strip()
