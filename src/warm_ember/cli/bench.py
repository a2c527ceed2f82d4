"""``warm-ember bench``: the simulated bench."""

from __future__ import annotations

import math
import sys
import threading
from collections.abc import Collection
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.cli.output import print_lines
from warm_ember.errors import BadArgumentError
from warm_ember.units import quantity_text

if TYPE_CHECKING:
    from warm_ember.bench.simulated.firmware import Firmware
    from warm_ember.bench.simulated.played import PlayedBattery

PORT = 5025
"""IANA: scpi-raw."""


def bench(
    port: Annotated[int, typer.Option(metavar="N", help="SCPI port; 0 picks a free one.")] = PORT,
    firmware: Annotated[str, typer.Option(metavar="NAME", help="What runs on the target: r1 to r5.")] = "r5",
    console_port: Annotated[
        int, typer.Option(metavar="N", help="Port of the target's console; 0 picks a free one.")
    ] = 0,
    host: Annotated[str, typer.Option(metavar="ADDRESS", help="Address to listen on.")] = "127.0.0.1",
    serial: Annotated[bool, typer.Option("--serial", help="Offer a serial line as well.")] = False,
    hislip: Annotated[bool, typer.Option("--hislip", help="Offer HiSLIP as well.")] = False,
    meter: Annotated[
        bool, typer.Option("--meter", help="Be a meter that answers one reading at a time, without sweeps.")
    ] = False,
    lines: Annotated[
        float, typer.Option(metavar="HZ", help="Print readings as lines as well, so many a second; with the power on.")
    ] = 0.0,
    lines_port: Annotated[int, typer.Option(metavar="N", help="Port of these lines; 0 picks a free one.")] = 0,
    speed: Annotated[float, typer.Option(metavar="FACTOR", help="How many times faster than the wall clock.")] = 1.0,
    seed: Annotated[int, typer.Option(metavar="N", help="Same seed, same target.")] = 1,
    report_after: Annotated[float, typer.Option(metavar="S", help="Seconds from power-on to the first report.")] = 60.0,
    attach: Annotated[
        list[str] | None, typer.Option(metavar="PART", help="Add this load to the rail; repeatable.")
    ] = None,
    battery: Annotated[
        Path | None,
        typer.Option(metavar="TABLE", help="Play a battery, as export writes it, instead of a fixed voltage."),
    ] = None,
    drawn: Annotated[float, typer.Option(metavar="C", help="Charge already drawn from that battery.")] = 0.0,
    drain: Annotated[float, typer.Option(metavar="FACTOR", help="How many times faster than real it drains.")] = 1.0,
    scope: Annotated[
        Path | None,
        typer.Option(metavar="FILE.csv", help="Write what a scope across a shunt saves of a report, and end."),
    ] = None,
    fault: Annotated[str, typer.Option(metavar="MODE", help="Fail on purpose: " + ", ".join(FaultMode))] = "none",
    fault_after: Annotated[int, typer.Option(metavar="N", help="Number of sample blocks before the fault.")] = 5,
) -> None:
    """Serve a simulated source-measure unit with a simulated target behind it, until interrupted."""
    from warm_ember.bench.simulated.attachments import ATTACHMENTS
    from warm_ember.bench.simulated.firmware import FIRMWARE
    from warm_ember.bench.simulated.instrument import SimulatedInstrument
    from warm_ember.bench.simulated.meter import SimulatedMeter
    from warm_ember.bench.simulated.server import BenchServer
    from warm_ember.bench.simulated.target import BenchClock, Target

    known = {one.name: one for one in FIRMWARE}
    _among("firmware", known, firmware)
    _among("part", [one.name for one in ATTACHMENTS], *(attach or ()))
    _among("fault", list(FaultMode), fault)
    if not 0 < speed <= 1000:
        raise BadArgumentError(f"--speed must be above 0 and at most 1000, found {speed:g}")
    if not 0 <= lines <= 1000:
        raise BadArgumentError(f"--lines must be at most 1000 a second, found {lines:g}")
    if not all(0 <= one <= 65535 for one in (port, console_port, lines_port)):
        raise BadArgumentError("a port is a number from 0 to 65535")
    if not (0 <= drawn < math.inf and 0 < drain < math.inf):
        raise BadArgumentError(f"--drawn must be 0 or more and --drain above 0, found {drawn:g} and {drain:g}")
    if scope is not None:
        _write_scope(known[firmware], scope, seed)
        return
    played = None if battery is None else _played(battery, drawn, drain)
    target = Target(known[firmware], BenchClock(speed), seed=seed, report_at_s=report_after)
    for name in attach or ():
        target.attach(name, attached=True)
    failing = Fault(FaultMode(fault), fault_after)
    instrument = SimulatedMeter(target, played, fault=failing) if meter else SimulatedInstrument(target, played)
    server = BenchServer(
        instrument,
        port=port,
        console_port=console_port,
        host=host,
        fault=failing,
    )
    about = [f"simulated bench with firmware {firmware}: {known[firmware].title}"]
    if battery is not None:
        about.append(f"battery     {battery.name}, {quantity_text(drawn, 'C')} drawn before")
    with server:
        about.append(f"instrument  TCPIP::{host}::{server.port}::SOCKET")
        about.append(f"console     socket://{host}:{server.console_port}")
        if serial:
            about.append(f"instrument  ASRL{server.open_serial()}::INSTR")
        if hislip:
            about.append(f"instrument  TCPIP::{host}::hislip0,{server.open_hislip()}::INSTR")
        if lines:
            for message in ("VOLT 3", "CURR:LIM 1", "OUTP ON"):
                instrument.run(message)
            about.append(f"lines       socket://{host}:{server.print_lines(lines, lines_port)}")
            about.append(f"lines       {server.lines_path}")
        print_lines(about)
        sys.stdout.flush()
        threading.Event().wait()  # until a signal


def _write_scope(firmware: Firmware, path: Path, seed: int) -> None:
    """Write what a scope saves, and tell how it is imported."""
    from warm_ember.bench.simulated.scope import GAIN, SHUNT_OHM, scope_record
    from warm_ember.store.new_file import write_new
    from warm_ember.store.room import not_written

    text = "".join(f"{line}\n" for line in scope_record(firmware, seed=seed).lines())
    try:
        write_new(path, text.encode())
    except OSError as error:
        raise not_written(path, error, "nothing was kept") from error
    print_lines(
        [
            f"{path}: CH1 is the amplifier across a shunt in the supply, CH2 the rail",
            f"import it with --current-column CH1 --shunt {SHUNT_OHM:g} --gain {GAIN:g} --voltage-column CH2",
        ]
    )


def _played(battery: Path, drawn_c: float, drain: float) -> PlayedBattery:
    from warm_ember.bench.simulated.played import PlayedBattery
    from warm_ember.formats.battery_table import read_battery_table

    table = read_battery_table(battery)
    return PlayedBattery(table.drawn_c, table.open_v, table.resistance_ohm, drawn_c, drain)


def _among(what: str, known: Collection[str], *names: str) -> None:
    """Check that there is something of each name."""
    for name in names:
        if name not in known:
            raise BadArgumentError(f"there is no {what} {name!r}; there are: {', '.join(known)}")
