"""``warm-ember import``: bring a foreign file into a project."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import JsonOption, ProjectArgument
from warm_ember.cli.output import print_json, print_line, print_lines
from warm_ember.cli.project import open_project
from warm_ember.errors import BadArgumentError
from warm_ember.units import counted, duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.new_capture import ImportReport

_DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t", "bar": "|", "space": " ", "\\t": "\t"}
_DECIMALS = {"point": ".", "comma": ","}


def _sign(word: str | None, known: dict[str, str], option: str) -> str | None:
    """Return the sign that an option gives, as the sign or as its name."""
    if word is None or word in known.values():
        return word
    if word.casefold() in known:
        return known[word.casefold()]
    raise BadArgumentError(f"{option} must be one of {', '.join(known)}, found {word!r}")


def import_(
    project: ProjectArgument,
    file: Annotated[Path, typer.Argument(metavar="FILE", help="Text, raw binary, NumPy, Parquet, HDF5, kernel trace.")],
    name: Annotated[str, typer.Option(help="Name of the capture; the file's by default.")] = "",
    rate: Annotated[float | None, typer.Option(metavar="HZ", help="Samples per second.")] = None,
    unit: Annotated[str | None, typer.Option(metavar="A|mA|uA|nA", help="Unit of the current.")] = None,
    current_column: Annotated[str | None, typer.Option(metavar="C", help="Header name or number from 1.")] = None,
    time_column: Annotated[str | None, typer.Option(metavar="C", help="Header name or number from 1.")] = None,
    voltage_column: Annotated[str | None, typer.Option(metavar="C", help="Header name or number from 1.")] = None,
    supply: Annotated[float | None, typer.Option(metavar="V", help="Supply voltage, for energies.")] = None,
    shunt: Annotated[float | None, typer.Option(metavar="OHM", help="The column is the voltage across it.")] = None,
    gain: Annotated[float, typer.Option(metavar="G", help="Of the amplifier behind the shunt.")] = 1.0,
    offset: Annotated[float, typer.Option(metavar="V", help="Of the amplifier's output.")] = 0.0,
    sample_format: Annotated[str | None, typer.Option("--format", metavar="f32|f64|i16", help="Of raw binary.")] = None,
    scale: Annotated[float | None, typer.Option(metavar="A_PER_COUNT", help="Of raw binary.")] = None,
    delimiter: Annotated[str | None, typer.Option(metavar="SIGN", help="Between columns; 'tab' for a tab.")] = None,
    decimal: Annotated[str | None, typer.Option(metavar="point|comma", help="Decimal sign.")] = None,
    dates: Annotated[
        str | None,
        typer.Option(metavar="day-first|month-first", help="Order of day and month where dates are ambiguous."),
    ] = None,
    reading: Annotated[str | None, typer.Option(metavar="NAME", help="Read it as this reading says.")] = None,
    lines: Annotated[Path | None, typer.Option(metavar="FILE.vcd", help="Digital lines.")] = None,
    line: Annotated[list[str] | None, typer.Option("--line", metavar="NAME", help="Only this one.")] = None,
    events: Annotated[Path | None, typer.Option(metavar="FILE", help="The target's event log.")] = None,
    trace: Annotated[Path | None, typer.Option(metavar="FILE", help="Linux kernel trace text.")] = None,
    cpuidle: Annotated[Path | None, typer.Option(metavar="DIR", help="Saved cpuidle folder of a CPU.")] = None,
    itm: Annotated[Path | None, typer.Option(metavar="FILE", help="Arm trace stream with program samples.")] = None,
    elf: Annotated[Path | None, typer.Option(metavar="FILE", help="The program that ran, for the stream.")] = None,
    itm_clock: Annotated[float | None, typer.Option(metavar="HZ", help="Of the stream's time stamps.")] = None,
    replace: Annotated[bool, typer.Option("--replace", help="Replace a capture of that name.")] = False,
    json: JsonOption = False,
) -> None:
    """Import FILE into PROJECT as a capture; say what was assumed."""
    from warm_ember.formats.reading import load
    from warm_ember.formats.source import ImportOptions
    from warm_ember.session.importing import ImportRequest, import_file
    from warm_ember.session.new_capture import adopt

    options = ImportOptions(
        rate_hz=rate,
        unit=unit,
        current_column=current_column,
        time_column=time_column,
        voltage_column=voltage_column,
        shunt_ohm=shunt,
        gain=gain,
        offset_v=offset,
        sample_format=sample_format,
        scale_a=scale,
        delimiter=_sign(delimiter, _DELIMITERS, "--delimiter"),
        decimal=_sign(decimal, _DECIMALS, "--decimal"),
        dates=dates,
    )
    if reading is not None:
        options = load(reading).applied_to(options)
    request = ImportRequest(
        file, options, name, events, lines, supply, replace, itm, elf, itm_clock, trace, cpuidle, tuple(line or ())
    )
    with open_project(project, create=True) as opened:
        report = import_file(opened.session, request)
        adopt(opened.session, report)
    _say(report, json=json)


def _say(report: ImportReport, *, json: bool) -> None:
    if json:
        from warm_ember.library.taken import imported_of

        print_json(imported_of(report).as_json())
        return
    rate_text = quantity_text(1 / report.sample_interval_s, "S/s")
    print_line(f"{report.name}: {counted(report.samples, 'sample')}, {duration_text(report.duration_s)} at {rate_text}")
    print_lines(f"  {note}" for note in report.notes)
