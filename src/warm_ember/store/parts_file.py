"""Files of parts: JSON that anybody can write."""

from __future__ import annotations

import json
import math
from importlib import resources
from pathlib import Path

import msgspec

from warm_ember.errors import BadFileError
from warm_ember.model.parts import PartLibrary
from warm_ember.store.new_file import write_new

PARTS_FORMAT = 1


def read_parts_file(path: Path) -> PartLibrary:
    """Read a file of parts and of what they need of each other.

    Raises
    ------
    BadFileError
        If it cannot be read, is of a newer format, names a part or mode twice or not at all, or holds a current that is
        no number.
    """
    try:
        return _library(path, path.read_bytes())
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error


def write_parts_file(path: Path, library: PartLibrary) -> None:
    """Write a file of parts that `read_parts_file` reads; what was there stays whole until it is written.

    Raises
    ------
    BadFileError
        If it cannot be written.
    """
    content = json.dumps(msgspec.to_builtins(library), indent=1, ensure_ascii=False) + "\n"
    try:
        write_new(path, content.encode("utf-8"))
    except OSError as error:
        raise BadFileError(path, f"cannot be written: {error.strerror or error}") from error


def shipped_parts() -> PartLibrary:
    """Return the made-up parts of the demo device, and their rules."""
    file = resources.files("warm_ember.store") / "parts" / "trail_counter.json"
    return _library(Path(file.name), file.read_bytes())


def _library(path: Path, content: bytes) -> PartLibrary:
    try:
        found = msgspec.json.decode(content, type=PartLibrary)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise BadFileError(path, f"this is no file of parts: {error}", remedy="see docs/formats.md") from error
    problem = _problem(found)
    if problem:
        raise BadFileError(path, problem, remedy="see docs/formats.md")
    return found


def _problem(found: PartLibrary) -> str:
    if found.format > PARTS_FORMAT:
        return f"format {found.format} is newer than {PARTS_FORMAT}"
    names = [part.name for part in found.parts]
    for part in found.parts:
        modes = [mode.name for mode in part.modes]
        if not part.name.strip() or "+" in part.name or names.count(part.name) > 1:
            return f"a part needs a name of its own without “+”, found {part.name!r}"
        if not modes or len(set(modes)) < len(modes) or not all(mode.strip() and "+" not in mode for mode in modes):
            return f"{part.name} needs modes, each with a name of its own without “+”"
        for mode in part.modes:
            if not (math.isfinite(mode.current_a) and mode.tolerance >= 0):
                return f"{part.name} {mode.name} needs a current in A and a tolerance of at least 0"
    known = {part.name: {mode.name for mode in part.modes} for part in found.parts}
    for rule in found.rules:
        for one in (rule.when, *rule.needs, *rule.excludes):
            if one.part not in known or not set(one.modes) <= known[one.part]:
                where = f" in {' or '.join(one.modes)}" if one.modes else ""
                return f"a rule speaks of {one.part}{where}, which no part of this file is"
    return ""
