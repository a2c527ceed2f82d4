"""Recording from an instrument into a project."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from warm_ember.bench.byte_stream import is_stream
from warm_ember.errors import BadArgumentError, BadFileError, InstrumentError
from warm_ember.formats.source import check_regular
from warm_ember.library.taken import Recordings, recordings_of
from warm_ember.model.bench import Bench, Recipe, SecondGives, SecondInstrument, SwitchOutput, Take
from warm_ember.model.project import Project as ProjectValue
from warm_ember.session.recording import RecordRequest, adopt_recorded
from warm_ember.session.recording import record as record_into
from warm_ember.units import counted

if TYPE_CHECKING:
    from collections.abc import Callable

    from warm_ember.bench.recorder import Recorded
    from warm_ember.library.project import Project
    from warm_ember.session.session import Session
    from warm_ember.signal.series import ShouldStop

_replace = msgspec.structs.replace


class Wanted(msgspec.Struct, frozen=True, kw_only=True):
    """What is to be recorded; what is left out is as the project, its recipe or the instrument has it.

    Parameters
    ----------
    source
        The instrument, a VISA resource.
    second, second_gives
        An instrument beside it, and what it is there for.
    duration_s, interval_s, voltage_v, limit_a, range_a
        Length, time between samples, voltage and current limit of the source, and the range to stay in. What prints
        lines is recorded to its end without a length.
    name
        Of the capture; the time of day by default.
    recipe
        A recipe of the project, or a file.
    console, firmware
        The target's console, and which build runs on it.
    keep_power, as_is
        Leave the output on afterwards; do not reset or switch anything.
    reconnect_s, timeout_s
        How long to look for a lost link, and how long the instrument may say nothing.
    replace
        Whether an existing capture of that name may go.
    """

    source: str = ""
    second: str = ""
    second_gives: SecondGives = SecondGives.VOLTAGE
    duration_s: float | None = None
    interval_s: float | None = None
    voltage_v: float | None = None
    limit_a: float | None = None
    range_a: float | None = None
    name: str = ""
    recipe: str = ""
    console: str = ""
    firmware: str = ""
    keep_power: bool = False
    as_is: bool = False
    reconnect_s: float = 0.0
    timeout_s: float = 5.0
    replace: bool = False


def check_wanted(wanted: Wanted) -> None:
    """Check what can be checked before anything is opened.

    Raises
    ------
    BadArgumentError
        If a time is impossible, or nothing says how long to record.
    """
    if not 0 < wanted.timeout_s < float("inf") or not 0 <= wanted.reconnect_s < float("inf"):
        raise BadArgumentError("--timeout must be above 0 s and --reconnect 0 s or above")
    if not wanted.recipe and wanted.duration_s is None and not is_stream(wanted.source):
        raise BadArgumentError("--duration is missing: how long, in seconds")


def request_of(project: ProjectValue, wanted: Wanted) -> RecordRequest:
    """Return the request that records what is wanted.

    Raises
    ------
    BadArgumentError, BadFileError
        If there is no such recipe, or its file is none.
    """
    bench = project.bench
    chosen = _recipe(project, wanted)
    given = {name: getattr(wanted, name) for name in ("duration_s", "interval_s", "voltage_v", "limit_a", "range_a")}
    settings = _replace(chosen.settings, **{name: value for name, value in given.items() if value is not None})
    if not wanted.recipe and wanted.duration_s is None and is_stream(wanted.source):
        settings = _replace(settings, duration_s=None)  # to its end
    identity = _replace(bench.identity, firmware=wanted.firmware or bench.identity.firmware)
    return RecordRequest(
        _replace(
            bench,
            resource=wanted.source or bench.resource,
            second=SecondInstrument(wanted.second, wanted.second_gives) if wanted.second else bench.second,
            console=wanted.console or bench.console,
            identity=identity,
        ),
        _replace(chosen, settings=settings),
        wanted.name or datetime.now().astimezone().strftime("run %Y-%m-%d %H.%M.%S"),
        replace=wanted.replace,
        reset=not wanted.as_is,
        keep_power=wanted.keep_power or wanted.as_is,
        reconnect_s=wanted.reconnect_s,
        timeout_s=wanted.timeout_s,
    )


def _recipe(project: ProjectValue, wanted: Wanted) -> Recipe:
    """Return the recipe that was asked for, or the plain one: power on, record."""
    if not wanted.recipe:
        steps = (Take(),) if wanted.as_is else (SwitchOutput(), Take())
        return Recipe("record", _replace(project.bench.settings), steps)
    known = project.bench.recipe(wanted.recipe)
    if known is not None:
        return known
    path = Path(wanted.recipe)
    if not path.exists():
        names = ", ".join(one.name for one in project.bench.recipes) or "none"
        raise BadArgumentError(
            f"there is no recipe {wanted.recipe!r} and no file of that name; the project has: {names}"
        )
    check_regular(path)
    try:
        return msgspec.json.decode(path.read_bytes(), type=Recipe)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise BadFileError(path, f"this is no recipe: {error}", remedy="see docs/formats.md") from error


def record_in(
    session: Session, request: RecordRequest, should_stop: ShouldStop, said: Callable[[str], None]
) -> tuple[Recorded, ...]:
    """Record into an open project; what came becomes its runs, also where the instrument failed.

    Raises
    ------
    InstrumentError
        If the instrument cannot be used at all.
    """
    taken = record_into(session, request, should_stop=should_stop, started=lambda _recorder: None, said=said)
    for recorded in taken:
        adopt_recorded(session, recorded)
    return taken


def check_taken(taken: tuple[Recorded, ...], bench: Bench) -> None:
    """Check that something was recorded, to its end.

    Raises
    ------
    InstrumentError
        If nothing was, or a fault ended it; what came before is kept.
    """
    if not taken:
        raise InstrumentError(bench.resource, "nothing was recorded: it was stopped before the first sample")
    fault = taken[-1].fault
    if fault is not None:
        kept = f"{counted(taken[-1].samples, 'sample')} kept as {taken[-1].name!r}"
        raise InstrumentError(bench.resource, f"{fault.one_line.removeprefix(bench.resource + ': ')}; {kept}")


def record(project: Project, wanted: Wanted, should_stop: ShouldStop) -> Recordings:
    """Record into an open project.

    Raises
    ------
    InstrumentError
        If the instrument fails; what came before is kept as a run.
    """
    check_wanted(wanted)
    request = request_of(project.session.project, wanted)
    taken = record_in(project.session, request, should_stop, lambda _words: None)
    check_taken(taken, request.bench)
    return recordings_of(taken)
