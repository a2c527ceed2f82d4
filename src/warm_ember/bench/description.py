"""What differs between makes of instruments: a small JSON file for each, which a user can write.

Without a file that knows the instrument by its answer to ``*IDN?`` the generic one is used: the commands of SCPI-1999
alone. A user's own files lie in the folder ``instruments`` of the program's configuration.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from importlib import resources
from pathlib import Path
from typing import Literal

import msgspec

from warm_ember.bench.patterns import compile_expression
from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.places import settings_folder
from warm_ember.units import counted

FORMAT = 1
MOST_LINES = 24
"""A bit field travels as a float32, which holds so many bits exactly."""
GENERIC = "generic-source-measure-unit.json"
GENERIC_METER = "generic-polled-meter.json"
GENERIC_LINES = (
    "generic-printed-time-and-current.json", "generic-printed-current.json", "generic-printed-number.json",
)  # fmt: skip


_LONGEST_COMMAND, _LONGEST_NAME = 200, 60
_WIDE = re.compile(r"\{[^}]*\d{3}")


PATTERN_UNITS = {
    "current_a": ("current", 1.0), "current_ma": ("current", 1e-3), "current_ua": ("current", 1e-6),
    "current_na": ("current", 1e-9), "voltage_v": ("voltage", 1.0), "voltage_mv": ("voltage", 1e-3),
    "time_s": ("time", 1.0), "time_ms": ("time", 1e-3), "time_us": ("time", 1e-6),
}  # fmt: skip
"""What a group of a pattern is, and in which unit."""
_WITHOUT_SOURCE = dict.fromkeys(
    ("voltage", "limit", "output", "range", "interval", "points", "data_format", "trigger_immediate", "trigger_level",
     "level", "slope", "start", "stop", "fetch_current", "fetch_voltage"), "",
)  # fmt: skip
"""A meter that is asked for each reading has no source and no sweeps, unless its description says so."""


class RangeDescription(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A range: full scale, noise (rms at a rate), offset and step, A; and the resistance of its shunt, Ω."""

    full_a: float
    noise_a: float = 0.0
    noise_at_hz: float = 1e4
    offset_a: float = 0.0
    step_a: float = 0.0
    shunt_ohm: float = 0.0


_FORMATS = {"real32": "FORMat REAL,32", "real64": "FORMat REAL,64", "ascii": "FORMat ASCii"}


class Commands(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is sent for each step; braces stand for the value. An empty one is not sent.

    What asks for the format of the samples is by default what the standard says for it.

    SCPI-1999 volume 2: SOURce, SENSe:SWEep, TRIGger, INITiate, FETCh, FORMat, OUTPut.
    """

    reset: str = "*RST"
    clear: str = "*CLS"
    complete: str = "*OPC?"
    error: str = "SYSTem:ERRor?"
    voltage: str = "SOURce:VOLTage {value:.9G}"
    limit: str = "SOURce:CURRent:LIMit {value:.9G}"
    output: str = "OUTPut {on}"
    range: str = "SENSe:CURRent:RANGe {value:.9G}"
    range_auto: str = ""
    interval: str = "SENSe:SWEep:TINTerval {value:.9G}"
    points: str = "SENSe:SWEep:POINts {points}"
    before_points: str = ""
    data_format: str | None = None
    trigger_immediate: str = "TRIGger:SOURce IMMediate"
    trigger_level: str = "TRIGger:SOURce INTernal"
    trigger_line: str = ""
    level: str = "TRIGger:LEVel {value:.9G}"
    slope: str = "TRIGger:SLOPe {slope}"
    start: str = "INITiate"
    stop: str = "ABORt"
    fetch_current: str = "FETCh:ARRay:CURRent?"
    fetch_voltage: str = "FETCh:ARRay:VOLTage?"
    fetch_lines: str = ""
    read: str = "READ?"
    read_voltage: str = ""


class FurtherChannel(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What an instrument measures beside current and voltage: its name, what fetches it, and its unit."""

    aux: str
    fetch: str
    unit: str = ""


class InstrumentDescription(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An instrument.

    Parameters
    ----------
    format
        Of the file: 1.
    name
        What it is called.
    identity
        A regular expression that its answer to ``*IDN?`` matches; empty for any.
    max_voltage_v, max_current_a
        What it can be set to; None when not known.
    interval_s
        Shortest and longest time between samples; None when not known.
    max_points
        The longest sweep; None for no limit. Longer recordings take several, with a marked gap between.
    endless_points
        What is sent instead of a number of points for a sweep without end; empty when it knows none.
    data_format
        How samples come: blocks of float32 or float64, or text.
    byte_order
        Of the samples in blocks.
    mode
        Whether it takes sweeps, is asked for each reading, or prints lines on its own.
    max_rate_hz
        Of what is asked for each reading: how many it gives in a second; None is tried out.
    aperture_s
        How long it looks for a reading; None when not known.
    pattern
        Of what prints lines: a regular expression with the names of `PATTERN_UNITS` for what they hold.
    start, stop
        What is sent to it, so that it begins and ends; empty for nothing.
    baud
        Of a serial line.
    sense
        What it measures of ``current``, ``voltage``, ``lines``, and further channels.
    line_names
        Its digital lines, the first is number 0.
    ranges
        Of the current, lowest first.
    burden_ohm
        Resistance between source and target.
    commands
        What is sent.
    """

    format: int
    name: str
    identity: str = ""
    max_voltage_v: float | None = None
    max_current_a: float | None = None
    interval_s: tuple[float, float] | None = None
    max_points: int | None = None
    endless_points: str = ""
    data_format: Literal["real32", "real64", "ascii"] = "real32"
    byte_order: Literal["big", "little"] = "big"
    mode: Literal["sweep", "polled", "lines"] = "sweep"
    max_rate_hz: float | None = None
    aperture_s: float | None = None
    pattern: str = ""
    start: str = ""
    stop: str = ""
    baud: int = 115200
    sense: tuple[Literal["current", "voltage", "lines"] | FurtherChannel, ...] = ("current",)
    line_names: tuple[str, ...] = ()
    ranges: tuple[RangeDescription, ...] = ()
    burden_ohm: float | None = None
    commands: Commands = Commands()

    @property
    def further(self) -> tuple[FurtherChannel, ...]:
        """What it measures beside current, voltage and lines."""
        return tuple(one for one in self.sense if isinstance(one, FurtherChannel))

    @property
    def format_command(self) -> str:
        """What asks for the format of the samples."""
        own = self.commands.data_format
        return _FORMATS[self.data_format] if own is None else own

    @property
    def sample_kind(self) -> str | None:
        """NumPy's name of a number in a block of samples; None for text."""
        if self.data_format == "ascii":
            return None
        return (">" if self.byte_order == "big" else "<") + ("f8" if self.data_format == "real64" else "f4")

    def range_for(self, range_a: float | None) -> RangeDescription | None:
        """Return the range that a setting selects; the lowest, which resolves most, when it changes automatically."""
        if not self.ranges:
            return None
        if range_a is None:
            return self.ranges[0]
        return next((one for one in self.ranges if one.full_a >= range_a * 0.999), self.ranges[-1])


def read_description(path: Path) -> InstrumentDescription:
    """Read an instrument description file.

    Raises
    ------
    BadFileError
        If it is no such file; the message names the key.
    """
    try:
        found = description_from(msgspec.json.decode(path.read_bytes()))
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise BadFileError(path, f"this is no instrument description: {error}", remedy="see docs/formats.md") from error
    problem = check_description(found)
    if problem:
        raise BadFileError(path, problem, remedy="see docs/formats.md")
    return found


def description_from(fields: object) -> InstrumentDescription:
    """Return a description from the fields of its file.

    Raises
    ------
    msgspec.ValidationError
        If they are no description.
    """
    if isinstance(fields, dict) and fields.get("mode") == "polled":
        commands = fields.get("commands", {})
        fields = fields | {"commands": _WITHOUT_SOURCE | commands if isinstance(commands, dict) else commands}
    return msgspec.convert(fields, InstrumentDescription)


def check_description(found: InstrumentDescription) -> str:
    """Return what is wrong with a description, in words; empty where nothing is."""
    problem = _problem_of_mode(found)
    if problem:
        return problem
    if found.format != FORMAT:
        return f"expected format {FORMAT}, found {found.format}"
    if "current" not in found.sense:
        return 'expected "current" in sense'
    if "lines" in found.sense and not (found.line_names and found.commands.fetch_lines):
        return 'sense has "lines", but line_names or commands.fetch_lines is missing'
    if len(found.line_names) > MOST_LINES:
        return f"{counted(len(found.line_names), 'line')}: REAL,32 carries {MOST_LINES} of them exactly"
    if found.interval_s is not None and not 0 < found.interval_s[0] <= found.interval_s[1]:
        return f"expected the shortest and the longest interval, found {found.interval_s}"
    if any(one.full_a >= other.full_a for one, other in zip(found.ranges, found.ranges[1:], strict=False)):
        return "expected the ranges with the lowest first"
    try:
        compile_expression(found.identity)
        for template in filter(None, msgspec.structs.astuple(found.commands)):
            if len(template) > _LONGEST_COMMAND or _WIDE.search(template):
                raise ValueError(f"“{template[:40]}” would send more than a command")
            template.format(value=1.0, points=1, on=1, slope="POSitive", line=0)
    except BadArgumentError as error:
        return f"identity: {error}"
    except (KeyError, IndexError, ValueError) as error:
        return f"a command has braces that stand for nothing: {error}"
    return ""


def _problem_of_mode(found: InstrumentDescription) -> str:
    if found.max_rate_hz is not None and not 0 < found.max_rate_hz < float("inf"):
        return f"expected max_rate_hz above 0, found {found.max_rate_hz:g}"
    if found.aperture_s is not None and not 0 < found.aperture_s < float("inf"):
        return f"expected aperture_s above 0, found {found.aperture_s:g}"
    further = [one.aux for one in found.further]
    odd = [name for name in further if not name.strip() or "/" in name or not name.isprintable()]
    odd += [name for name in further if len(name) > _LONGEST_NAME or further.count(name) > 1]
    if odd:
        return f"sense: expected a name of its own for each further channel, found {odd[0]!r}"
    if any(not one.fetch or len(one.fetch) > _LONGEST_COMMAND for one in found.further):
        return 'sense: a further channel needs "fetch", a command'
    if found.mode != "sweep" and found.further:
        return "sense: further channels come with sweeps only"
    if found.mode == "polled" and not found.commands.read:
        return 'mode "polled" needs commands.read'
    if found.mode != "lines":
        return ""
    try:
        names = set(compile_expression(found.pattern).groupindex)
    except BadArgumentError as error:
        return f"pattern: {error}"
    unknown = sorted(names - set(PATTERN_UNITS))
    if unknown:
        return f"pattern: {unknown[0]!r} is none of {', '.join(PATTERN_UNITS)}"
    if not any(PATTERN_UNITS[name][0] == "current" for name in names):
        return "pattern: expected a group such as (?P<current_ma>...)"
    return ""


def known_descriptions(folders: Iterable[Path] | None = None) -> tuple[InstrumentDescription, ...]:
    """Return all descriptions, a user's own before those that ship, the generic one last.

    Raises
    ------
    BadFileError
        If a user's own cannot be read.
    """
    if folders is None:
        folders = (settings_folder() / "instruments",)
    own = [path for folder in folders if folder.is_dir() for path in sorted(folder.glob("*.json"))]
    with resources.as_file(resources.files("warm_ember.bench") / "instruments") as shipped:
        last = (*GENERIC_LINES, GENERIC_METER, GENERIC)
        paths = [*own, *(path for path in sorted(shipped.glob("*.json")) if path.name not in last)]
        paths += [shipped / name for name in last]
        return tuple(read_description(path) for path in paths)


def description_for(identity: str, known: Iterable[InstrumentDescription]) -> InstrumentDescription:
    """Return the first description whose expression an instrument's answer to ``*IDN?`` matches."""
    known = tuple(one for one in known if one.mode != "lines")
    return next((one for one in known if one.identity and compile_expression(one.identity).search(identity)), known[-1])
