"""``warm-ember record``: from an instrument into a new capture."""

from __future__ import annotations

import sys
from datetime import datetime
from pathlib import Path
from typing import Annotated, TypeVar

import msgspec
import typer

from warm_ember.bench.recorder import Recorded, Recorder
from warm_ember.cli.arguments import JsonOption, ProjectArgument
from warm_ember.cli.output import print_json, print_line
from warm_ember.cli.project import open_project, say
from warm_ember.cli.signals import Asked, Stopped
from warm_ember.errors import BadArgumentError, BadFileError, InstrumentError
from warm_ember.formats.source import check_regular
from warm_ember.model.bench import Bench, Recipe, SwitchOutput, Take
from warm_ember.model.project import Project
from warm_ember.session.recording import RecordRequest, adopt_recorded, record
from warm_ember.session.session import Session
from warm_ember.units import counted, duration_text

replace = msgspec.structs.replace

T = TypeVar("T", bound=msgspec.Struct)


def record_(
    project: ProjectArgument,
    source: Annotated[str, typer.Option("--from", metavar="VISA", help="TCPIP::host::port::SOCKET or ASRL…")] = "",
    duration: Annotated[float | None, typer.Option(metavar="S", help="Length of the recording.")] = None,
    interval: Annotated[float | None, typer.Option(metavar="S", help="Between samples.")] = None,
    voltage: Annotated[float | None, typer.Option(metavar="V", help="Of the source.")] = None,
    limit: Annotated[float | None, typer.Option(metavar="A", help="Current limit of the source.")] = None,
    current_range: Annotated[float | None, typer.Option("--range", metavar="A", help="Stay in this range.")] = None,
    name: Annotated[str, typer.Option(help="Name of the capture; the time of day by default.")] = "",
    recipe: Annotated[str, typer.Option(metavar="NAME|FILE.json", help="A recipe of the project, or a file.")] = "",
    console: Annotated[str, typer.Option(metavar="DEVICE|socket://HOST:PORT", help="The target's console.")] = "",
    firmware: Annotated[str, typer.Option(help="Which build runs on the target.")] = "",
    keep_power: Annotated[bool, typer.Option("--keep-power", help="Leave the output on afterwards.")] = False,
    as_is: Annotated[bool, typer.Option("--as-is", help="Do not reset or switch: the target keeps running.")] = False,
    reconnect: Annotated[float, typer.Option(metavar="S", help="How long to look for a lost link.")] = 0.0,
    timeout: Annotated[float, typer.Option(metavar="S", help="How long the instrument may say nothing.")] = 5.0,
    overwrite: Annotated[bool, typer.Option("--replace", help="Replace a capture of that name.")] = False,
    json: JsonOption = False,
) -> int:
    """Record from an instrument into PROJECT; an instrument's fault ends it and keeps what came."""
    if not 0 < timeout < float("inf") or not 0 <= reconnect < float("inf"):
        raise BadArgumentError("--timeout must be above 0 s and --reconnect 0 s or above")
    if not recipe and duration is None:
        raise BadArgumentError("--duration is missing: how long, in seconds")
    session = open_project(project, create=True)
    try:
        bench = session.project.bench
        chosen = _recipe(session.project, recipe, as_is=as_is)
        settings = _changed(
            chosen.settings,
            duration_s=duration,
            interval_s=interval,
            voltage_v=voltage,
            limit_a=limit,
            range_a=current_range,
        )
        identity = _changed(bench.identity, firmware=firmware or None)
        bench = replace(bench, resource=source or bench.resource, console=console or bench.console, identity=identity)
        request = RecordRequest(
            bench,
            replace(chosen, settings=settings),
            name or datetime.now().astimezone().strftime("run %Y-%m-%d %H.%M.%S"),
            replace=overwrite,
            reset=not as_is,
            keep_power=keep_power or as_is,
            reconnect_s=reconnect,
            timeout_s=timeout,
        )
        asked = Asked()
        with asked.listening():
            taken = _record(session, request, asked, quiet=json)
            for recorded in taken:
                adopt_recorded(session, recorded)
    finally:
        session.close()
    _report(taken, bench, json=json)
    if asked.number is None:
        return 0
    return _say_stopped(Stopped(asked.number), request, taken[-1])


def _recipe(project: Project, wanted: str, *, as_is: bool) -> Recipe:
    """Return the recipe that was asked for, or the plain one: power on, record."""
    if not wanted:
        steps = (Take(),) if as_is else (SwitchOutput(), Take())
        return Recipe("record", replace(project.bench.settings), steps)
    known = project.bench.recipe(wanted)
    if known is not None:
        return known
    path = Path(wanted)
    if not path.exists():
        names = ", ".join(one.name for one in project.bench.recipes) or "none"
        raise BadArgumentError(f"there is no recipe {wanted!r} and no file of that name; the project has: {names}")
    check_regular(path)
    try:
        return msgspec.json.decode(path.read_bytes(), type=Recipe)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise BadFileError(path, f"this is no recipe: {error}", remedy="see docs/formats.md") from error


def _changed(value: T, **changes: object) -> T:
    return replace(value, **{name: change for name, change in changes.items() if change is not None})


def _record(session: Session, request: RecordRequest, asked: Asked, *, quiet: bool) -> tuple[Recorded, ...]:
    """Record; the first signal ends it and keeps what came."""
    tell = (lambda _words: None) if quiet else _say
    try:
        return record(session, request, should_stop=asked, started=_ignore, said=tell)
    except InstrumentError:
        if asked.number is not None:
            raise Stopped(asked.number) from None  # before its first sample
        raise


def _say(words: str) -> None:
    if sys.stdout.isatty():
        print_line(words)


def _ignore(_recorder: Recorder) -> None:
    pass


def _report(taken: tuple[Recorded, ...], bench: Bench, *, json: bool) -> None:
    if not taken:
        raise InstrumentError(bench.resource, "nothing was recorded: it was stopped before the first sample")
    fault = taken[-1].fault
    if fault is not None:
        kept = f"{counted(taken[-1].samples, 'sample')} kept as {taken[-1].name!r}"
        raise InstrumentError(bench.resource, f"{fault.one_line.removeprefix(bench.resource + ': ')}; {kept}")
    if json:
        print_json({"captures": [_json(one) for one in taken]} | _json(taken[-1]))
        return
    for one in taken:
        length = duration_text(one.samples * one.sample_interval_s)
        print_line(
            f"{one.name}: {counted(one.samples, 'sample')}, {length}, {one.missing} missing, "
            f"{counted(one.events, 'event')}"
        )
        if one.lost_lines:
            print_line(f"  {counted(one.lost_lines, 'line')} of the console came too fast: missing from the log")
        if one.ending != "done":
            print_line(f"  ended early: {one.ending.value}")


def _say_stopped(stopped: Stopped, request: RecordRequest, last: Recorded) -> int:
    output = "as it was" if not request.reset else "left on" if request.keep_power else "off"
    say(f"{stopped}: the output is {output}, {counted(last.samples, 'sample')} kept as {last.name!r}")
    return stopped.exit_code


def _json(one: Recorded) -> dict[str, object]:
    return {
        "capture": one.name,
        "samples": one.samples,
        "missing": one.missing,
        "sample_interval_s": one.sample_interval_s,
        "duration_s": one.samples * one.sample_interval_s,
        "events": one.events,
        "lost_lines": one.lost_lines,
        "ending": one.ending.value,
    }
