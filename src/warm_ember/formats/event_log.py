"""The target's event log: CSV or JSON Lines with ``time_s,event,name,value``."""

from __future__ import annotations

import csv
import json
import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from warm_ember.errors import BadFileError
from warm_ember.model.capture import Event

KINDS = ("state", "wake", "sleep", "mark", "sync", "log")


def read_events(path: Path) -> tuple[Event, ...]:
    """Read an event log.

    Parameters
    ----------
    path
        CSV with a header row, or JSON Lines with one object a line.

    Returns
    -------
    tuple of Event
        In the order of their times, in the target's clock.

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
    events = [_event(path, number, row) for number, row in rows]
    if not events:
        raise BadFileError(path, "the event log holds no events")
    return tuple(sorted(events, key=lambda event: event.time_s))


def _json_rows(path: Path, lines: list[str]) -> Iterator[tuple[int, dict[str, Any]]]:
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            row = json.loads(line)
        except json.JSONDecodeError as error:
            raise BadFileError(path, f"expected a JSON object: {error.msg}", where=f"line {number}") from error
        if not isinstance(row, dict):
            raise BadFileError(path, f"expected a JSON object, found {line[:40]!r}", where=f"line {number}")
        yield number, row


def _csv_rows(path: Path, lines: list[str]) -> Iterator[tuple[int, dict[str, Any]]]:
    start = next(index for index, line in enumerate(lines) if line.strip())
    delimiter = next((sign for sign in (";", "\t") if sign in lines[start]), ",")
    reader = csv.reader(lines[start:], delimiter=delimiter)
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


def _event(path: Path, number: int, row: dict[str, Any]) -> Event:
    where = f"line {number}"
    try:
        time_s = float(row.get("time_s", ""))
    except (TypeError, ValueError):
        time_s = math.nan
    if not math.isfinite(time_s):
        raise BadFileError(path, f"expected time_s in seconds, found {row.get('time_s')!r}", where=where)
    kind = str(row.get("event", "")).strip()
    if kind not in KINDS:
        raise BadFileError(path, f"expected an event of {', '.join(KINDS)}, found {kind!r}", where=where)
    name, value = row.get("name"), row.get("value")
    return Event(time_s, kind, "" if name is None else str(name).strip(), "" if value is None else str(value).strip())
