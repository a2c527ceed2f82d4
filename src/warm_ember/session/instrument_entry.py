"""An instrument described by hand: what is entered, its description, what is still missing, and the file it becomes."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec

from warm_ember.bench.description import (
    FORMAT,
    Commands,
    InstrumentDescription,
    RangeDescription,
    check_description,
    description_from,
    known_descriptions,
    read_description,
)
from warm_ember.bench.trying import TriedCommand, TriedInstrument, try_description
from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.places import settings_folder
from warm_ember.store.new_file import write_new
from warm_ember.units import parse_quantity, quantity_text

__all__ = ["COMMAND_WORDS", "TriedCommand", "TriedInstrument", "try_description"]

COMMAND_WORDS = {
    "identity": "who it is",
    "reset": "as after switching on",
    "clear": "empties its error queue",
    "complete": "answers when it is ready",
    "error": "tells its next error",
    "voltage": "voltage of the source",
    "limit": "current limit of the source",
    "output": "switches the output",
    "range": "chooses a range",
    "range_auto": "range of its own choice",
    "interval": "time between samples",
    "points": "length of a sweep",
    "before_points": "samples before the trigger",
    "data_format": "format of the samples",
    "trigger_immediate": "begins at once",
    "trigger_level": "waits for a level",
    "trigger_line": "waits for a line",
    "level": "level of the trigger",
    "slope": "slope of the trigger",
    "start": "begins",
    "stop": "ends",
    "fetch_current": "answers currents",
    "fetch_voltage": "answers voltages",
    "fetch_lines": "answers digital lines",
    "read": "answers one reading",
    "read_voltage": "answers one voltage",
    "line": "line that came",
}
"""What each command does."""

_RANGE_WORDS = {"step": "step_a", "noise": "noise_a", "offset": "offset_a", "shunt": "shunt_ohm"}
_NOT_IN_A_NAME = re.compile(r"[^a-z0-9]+")


def user_folder() -> Path:
    """Return where a user's own descriptions lie."""
    return settings_folder() / "instruments"


def generic_of(mode: str) -> InstrumentDescription:
    """Return the description of an instrument of a kind of which nothing else is known."""
    return [one for one in known_descriptions(()) if one.mode == mode and not one.identity][-1]


def commands_of(description: InstrumentDescription) -> dict[str, str]:
    """Return the commands that an instrument of this kind may need, by name; an empty one is not sent."""
    sent = msgspec.structs.asdict(description.commands)
    del sent["data_format"]  # it follows from how the samples come
    asked = ("read", "read_voltage")
    if description.mode == "lines":
        return {"start": description.start, "stop": description.stop}
    if description.mode == "sweep":
        return {name: text for name, text in sent.items() if name not in asked}
    swept = ("interval", "points", "before_points", "fetch_current", "fetch_voltage", "fetch_lines")
    return {name: text for name, text in sent.items() if name not in swept and not _is_of_trigger(name)}


def _is_of_trigger(name: str) -> bool:
    return name.startswith("trigger_") or name in ("level", "slope")


def read_ranges(text: str) -> tuple[RangeDescription, ...]:
    r"""Read ranges, one a line: ``100 µA, step 10 nA, noise 250 nA, shunt 12 Ω``.

    Raises
    ------
    BadArgumentError
        Saying what was expected, and what was found.

    Examples
    --------
    >>> [one.full_a for one in read_ranges("100 uA, step 10 nA\n1 mA, noise 2 uA, shunt 1 Ω")]
    [0.0001, 0.001]
    """
    found = []
    for line in filter(None, map(str.strip, text.splitlines())):
        full, *rest = (part.strip() for part in line.split(","))
        fields = {}
        for part in rest:
            word, _, value = part.partition(" ")
            if word not in _RANGE_WORDS:
                known = ", ".join(_RANGE_WORDS)
                raise BadArgumentError(f"range “{line}”: expected one of {known}, found “{part}”")
            fields[_RANGE_WORDS[word]] = parse_quantity(value, "Ω" if word == "shunt" else "A")
        found.append(RangeDescription(parse_quantity(full, "A"), **fields))
    return tuple(found)


def text_of_ranges(ranges: tuple[RangeDescription, ...]) -> str:
    """Return ranges as `read_ranges` reads them."""
    lines = []
    for one in ranges:
        parts = [str(quantity_text(one.full_a, "A"))]
        for word, name in _RANGE_WORDS.items():
            value = getattr(one, name)
            if value:
                parts.append(f"{word} {quantity_text(value, 'Ω' if word == 'shunt' else 'A')}")
        lines.append(", ".join(parts))
    return "\n".join(lines)


def described(fields: Mapping[str, Any], commands: Mapping[str, str]) -> InstrumentDescription:
    """Return the description that is entered.

    Parameters
    ----------
    fields
        Those of `InstrumentDescription` that were entered; what is left out is as of its kind.
    commands
        Those that were entered; of what prints lines only ``start`` and ``stop``.

    Raises
    ------
    BadArgumentError
        If it is no description, in words.
    """
    own: dict[str, Any] = {"format": FORMAT, **fields}
    if own.get("mode") == "lines":
        own |= commands
    else:
        of_kind = commands_of(generic_of(str(own.get("mode", "sweep"))))
        own["commands"] = {name: text for name, text in commands.items() if text != of_kind.get(name, "")}
    if not str(own.get("name", "")).strip():
        raise BadArgumentError("give it a name")
    try:
        found = description_from(own)
    except msgspec.ValidationError as error:
        raise BadArgumentError(f"this is no description: {error}") from error
    problem = check_description(found)
    if problem:
        raise BadArgumentError(problem)
    return found


def missing_of(description: InstrumentDescription) -> tuple[str, ...]:
    """Return what is not known of an instrument, and what that leaves open."""
    found = []
    if description.mode != "lines" and not description.identity:
        found.append("which instrument: without an expression for its answer every unknown one is taken for it")
    if not any(one.full_a and (one.step_a or one.noise_a or one.offset_a) for one in description.ranges):
        found.append("its ranges: nothing is known of the smallest current that it tells from none")
    if description.mode == "sweep" and description.interval_s is None:
        found.append("its shortest interval: a recording may ask for one that it refuses")
    if description.mode == "sweep" and not description.endless_points and description.max_points is None:
        found.append("its longest sweep: a longer recording would not be taken in parts")
    if description.mode == "polled" and description.max_rate_hz is None:
        found.append("how often it answers: that is tried before each recording")
    if description.mode == "polled" and description.aperture_s is None:
        found.append("how long it looks for a reading: what lies between two counts as not seen")
    if description.commands.output and description.mode != "lines" and description.max_voltage_v is None:
        found.append("its highest voltage: only the voltage guard holds")
    return tuple(found)


def description_json(description: InstrumentDescription) -> bytes:
    """Return the file of a description: what is other than by default."""
    fields = _own(description, InstrumentDescription(FORMAT, description.name))
    fields["commands"] = _own(description.commands, generic_of(description.mode).commands)
    if not fields["commands"]:
        del fields["commands"]
    ordered = {"format": FORMAT, "name": description.name} | fields
    return msgspec.json.format(msgspec.json.encode(ordered), indent=1) + b"\n"


def _own(value: InstrumentDescription | Commands, usual: InstrumentDescription | Commands) -> dict[str, Any]:
    return {
        name: msgspec.to_builtins(getattr(value, name))
        for name in value.__struct_fields__
        if getattr(value, name) != getattr(usual, name)
    }


def save_description(description: InstrumentDescription) -> Path:
    """Write a description among a user's own, in place of one of the same name, and return the file.

    Raises
    ------
    BadFileError
        If it cannot be written.
    """
    folder = user_folder()
    stem = _NOT_IN_A_NAME.sub("-", description.name.casefold()).strip("-") or "instrument"
    path = folder / f"{stem}.json"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        number = 1
        while path.exists() and _name_in(path) != description.name:
            number += 1
            path = folder / f"{stem}-{number}.json"
        write_new(path, description_json(description))
    except OSError as error:
        raise BadFileError(path, f"cannot be written: {error.strerror or error}") from error
    return path


def _name_in(path: Path) -> str | None:
    try:
        return read_description(path).name
    except BadFileError:
        return None
