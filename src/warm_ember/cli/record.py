"""``warm-ember record``: from an instrument into a new capture."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import JsonOption, ProjectArgument
from warm_ember.cli.output import print_json, print_line
from warm_ember.cli.project import open_project, say
from warm_ember.cli.signals import Asked, Stopped
from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.units import counted, duration_text

if TYPE_CHECKING:
    from warm_ember.bench.recorder import Recorded
    from warm_ember.session.recording import RecordRequest
    from warm_ember.session.session import Session

SECOND = {"voltage": "VOLTAGE", "range": "RANGE", "current": "CURRENT", "board": "BOARD"}
"""What a second instrument is there for (`SecondGives`), by what is written on the command line."""


def record_(
    project: ProjectArgument,
    source: Annotated[str, typer.Option("--from", metavar="VISA", help="TCPIP::host::port::SOCKET or ASRL…")] = "",
    second: Annotated[str, typer.Option("--with", metavar="VISA", help="A second instrument, at the same time.")] = "",
    gives: Annotated[
        str, typer.Option("--with-as", metavar="WHAT", help="What it gives: " + ", ".join(SECOND))
    ] = "voltage",
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
    if gives not in SECOND:
        raise BadArgumentError(f"--with-as must be one of {', '.join(SECOND)}, found {gives!r}")
    from warm_ember.library.recording import Wanted, check_taken, check_wanted, request_of
    from warm_ember.library.taken import recordings_of
    from warm_ember.model.bench import SecondGives

    wanted = Wanted(
        source=source,
        second=second,
        second_gives=SecondGives[SECOND[gives]],
        duration_s=duration,
        interval_s=interval,
        voltage_v=voltage,
        limit_a=limit,
        range_a=current_range,
        name=name,
        recipe=recipe,
        console=console,
        firmware=firmware,
        keep_power=keep_power,
        as_is=as_is,
        reconnect_s=reconnect,
        timeout_s=timeout,
        replace=overwrite,
    )
    check_wanted(wanted)
    with open_project(project, create=True) as opened:
        request, asked = request_of(opened.session.project, wanted), Asked()
        with asked.listening():
            taken = _record(opened.session, request, asked, quiet=json)
    check_taken(taken, request.bench)
    if json:
        print_json(recordings_of(taken).as_json())
    else:
        _report(taken)
    if asked.number is None:
        return 0
    return _say_stopped(Stopped(asked.number), request, taken[-1])


def _record(session: Session, request: RecordRequest, asked: Asked, *, quiet: bool) -> tuple[Recorded, ...]:
    """Record; the first signal ends it and keeps what came."""
    from warm_ember.library.recording import record_in

    tell = (lambda _words: None) if quiet else _say
    try:
        return record_in(session, request, asked, tell)
    except InstrumentError:
        if asked.number is not None:
            raise Stopped(asked.number) from None  # before its first sample
        raise


def _say(words: str) -> None:
    if sys.stdout.isatty():
        print_line(words)


def _report(taken: tuple[Recorded, ...]) -> None:
    for one in taken:
        length = duration_text(one.samples * one.sample_interval_s)
        print_line(
            f"{one.name}: {counted(one.samples, 'sample')}, {length}, {one.missing} missing, "
            f"{counted(one.events, 'event')}"
        )
        if one.lost_lines:
            print_line(f"  {counted(one.lost_lines, 'line')} of the console came too fast: missing from the log")
        for remark in one.remarks:
            print_line(f"  {remark}")
        if one.ending != "done":
            print_line(f"  ended early: {one.ending.value}")


def _say_stopped(stopped: Stopped, request: RecordRequest, last: Recorded) -> int:
    output = "as it was" if not request.reset else "left on" if request.keep_power else "off"
    say(f"{stopped}: the output is {output}, {counted(last.samples, 'sample')} kept as {last.name!r}")
    return stopped.exit_code
