"""Opening an instrument at its address, as what it is: it takes sweeps, is asked for each reading, or prints lines."""

from __future__ import annotations

from warm_ember.bench.byte_stream import ByteStream, is_stream
from warm_ember.bench.description import InstrumentDescription, description_for, known_descriptions
from warm_ember.bench.instrument import Instrument, identify
from warm_ember.bench.link import Link
from warm_ember.bench.polled import PolledMeter
from warm_ember.bench.printed import PrintedInstrument
from warm_ember.bench.scpi_errors import parse_error
from warm_ember.bench.source import Source
from warm_ember.signal.series import ShouldStop, never

_UNDEFINED_HEADER = -113
"""SCPI-1999 volume 2, 21.8.9: a command that the device does not know."""


def open_source(
    resource: str,
    *,
    timeout_s: float = 5.0,
    guard_v: float | None = None,
    should_stop: ShouldStop = never,
    reads_volts: bool = False,
) -> Source:
    """Open whatever gives readings at an address: an instrument, or something that prints lines.

    Parameters
    ----------
    resource
        The address.
    timeout_s
        How long it may say nothing.
    guard_v
        No voltage above this is sent.
    should_stop
        Polled while it is waited for.
    reads_volts
        Whether a meter that answers one reading at a time is set to measure a voltage.

    Raises
    ------
    InstrumentError
        If nobody answers there, or nothing that can be read.
    BadFileError
        If a description file of the user cannot be read.
    """
    if not is_stream(resource):
        found = open_instrument(resource, timeout_s=timeout_s, guard_v=guard_v, should_stop=should_stop)
        if reads_volts and isinstance(found, PolledMeter):
            found.reads_volts = True
        return found
    printing = tuple(one for one in known_descriptions() if one.mode == "lines")
    stream = ByteStream(resource, baud=printing[0].baud)
    try:
        return PrintedInstrument(stream, printing, timeout_s=timeout_s, should_stop=should_stop)
    except BaseException:
        stream.close()
        raise


def open_instrument(
    resource: str, *, timeout_s: float = 5.0, guard_v: float | None = None, should_stop: ShouldStop = never
) -> Instrument:
    """Open an instrument by its address.

    Raises
    ------
    InstrumentError
        If nobody answers there, or nobody who says who it is.
    BadFileError
        If a description file of the user cannot be read.
    """
    descriptions = known_descriptions()
    link = Link(resource, timeout_s=timeout_s, should_stop=should_stop)
    try:
        return instrument_on(link, descriptions, guard_v=guard_v)
    except BaseException:
        link.close()
        raise


def instrument_on(
    link: Link, descriptions: tuple[InstrumentDescription, ...], *, guard_v: float | None = None
) -> Instrument:
    """Return the instrument at the other end of a link.

    Raises
    ------
    InstrumentError
        If it does not say who it is.
    """
    identity = identify(link)
    description = description_for(identity, descriptions)
    meter = next((one for one in descriptions if not one.identity and one.mode == "polled"), None)
    is_any = not description.identity and description.mode == "sweep"
    if is_any and meter is not None and not _knows_sweeps(link, description):
        description = meter
    kind = PolledMeter if description.mode == "polled" else Instrument
    return kind(link, identity, description, guard_v=guard_v)


def _knows_sweeps(link: Link, description: InstrumentDescription) -> bool:
    """Return whether an instrument of which nothing is known takes the command for the length of a sweep.

    One that does not says so in its error queue; one that says nothing is taken at its word.
    """
    commands = description.commands
    link.write(commands.clear)
    link.write(commands.points.format(points=2))
    error = parse_error(link.query(commands.error))
    return error is None or error[0] != _UNDEFINED_HEADER
