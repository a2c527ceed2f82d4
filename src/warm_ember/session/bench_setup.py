"""What is known and worked out of the bench before anything is recorded: what it adds, its zero, a planned capture.

The pure functions of the bench that a page or a command asks with what the project knows stand here under one roof;
what talks to an instrument or a console is opened here too.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

from warm_ember.bench.console import Console
from warm_ember.bench.description import InstrumentDescription, description_for, known_descriptions
from warm_ember.bench.discovery import find_instruments
from warm_ember.bench.patterns import Patterns, compile_pattern
from warm_ember.bench.planning import Expectation, plan_capture
from warm_ember.bench.recipe_text import steps_from_text, text_of_steps
from warm_ember.bench.station import InstrumentConnection
from warm_ember.bench.wiring import added_by, at_target
from warm_ember.bench.zero import STAGES, Level, read_level, tool_load, zero_from
from warm_ember.model.bench import Bench
from warm_ember.signal.series import Progress, Series, ShouldStop
from warm_ember.signal.stretch import StretchReading, read_stretch
from warm_ember.store.recording_file import name_of
from warm_ember.store.room import room_left

__all__ = [
    "STAGES",
    "Console",
    "Expectation",
    "Level",
    "Patterns",
    "added_by",
    "at_target",
    "compile_pattern",
    "find_instruments",
    "name_of",
    "plan_capture",
    "steps_from_text",
    "text_of_steps",
    "tool_load",
    "zero_from",
]


def describe(identity: str) -> InstrumentDescription:
    """Return how an instrument is spoken to, by what it answers to ``*IDN?``.

    Raises
    ------
    BadFileError
        If a description that the user wrote cannot be read.
    """
    return description_for(identity, known_descriptions())


def open_console(bench: Bench, address: str, heard: Callable[[object], None]) -> Console:
    """Open the console at an address; `heard` is called with each `ConsoleLine`, in the console's thread.

    Raises
    ------
    InstrumentError
        If it cannot be opened.
    """
    return Console(address, baud=bench.baud, on_line=heard)


def read_zero(bench: Bench, should_stop: ShouldStop, progress: Progress) -> Level:
    """Read what the instrument of a bench shows as it is wired now, at a range of its own choice.

    Raises
    ------
    InstrumentError
        If it does not answer, or answers something else.
    Cancelled
        If `should_stop` answered yes.
    """
    settings = msgspec.structs.replace(bench.settings, range_a=None)
    connection = InstrumentConnection(bench.resource, guard_v=bench.guard_v)
    try:
        connection.instrument.reset()
        return read_level(connection, settings, should_stop=should_stop, progress=progress)
    finally:
        connection.close()


def read_live(current: Series, from_s: float, to_s: float) -> StretchReading:
    """Read a stretch of a recording in progress, as far as it goes."""
    return read_stretch(current, from_s, min(to_s, current.samples * current.interval_s))


def room_beside(folder: Path) -> int:
    """Return how many bytes are left on the disk of a folder that may not exist yet."""
    return room_left(next(one for one in (folder, *folder.parents) if one.is_dir()))
