"""The bench as the project knows it: what is connected, how it is recorded, and what the set-up adds."""

from __future__ import annotations

from enum import StrEnum

import msgspec

from warm_ember.model.figure import Grade


class TriggerSource(StrEnum):
    """What starts a recording."""

    IMMEDIATE = "immediate"
    LEVEL = "level"
    LINE = "line"


class Trigger(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a recording waits for.

    Parameters
    ----------
    source
        Nothing, a level of the current, or a digital line.
    level_a
        The level.
    line
        The line's name.
    rising
        The slope.
    before_s
        How much of what came before belongs to the recording.
    """

    source: TriggerSource = TriggerSource.IMMEDIATE
    level_a: float = 1e-3
    line: str = ""
    rising: bool = True
    before_s: float = 0.0


class BenchSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What source and instrument are set to.

    Parameters
    ----------
    voltage_v, limit_a
        Of the source; None leaves it as it is.
    range_a
        Range of the current; None lets the instrument choose.
    interval_s
        Between samples.
    duration_s
        Length of a recording; None goes on until it is stopped.
    trigger
        What starts it.
    """

    voltage_v: float | None = None
    limit_a: float | None = None
    range_a: float | None = None
    interval_s: float = 1e-4
    duration_s: float | None = 60.0
    trigger: Trigger = Trigger()


class SwitchOutput(msgspec.Struct, frozen=True, tag="power", tag_field="step", forbid_unknown_fields=True):
    """Switch the output, or with `cycle` off and on again."""

    on: bool = True
    cycle: bool = False


class WaitFor(msgspec.Struct, frozen=True, tag="wait", tag_field="step", forbid_unknown_fields=True):
    """Wait for a text on the console (a regular expression), or some time when there is none."""

    text: str = ""
    seconds: float = 30.0


class Send(msgspec.Struct, frozen=True, tag="send", tag_field="step", forbid_unknown_fields=True):
    """Send a command to the target's console."""

    text: str


class Take(msgspec.Struct, frozen=True, tag="record", tag_field="step", forbid_unknown_fields=True):
    """Record for some time into a capture of its own; None for as long as the settings say."""

    seconds: float | None = None
    name: str = ""


Step = SwitchOutput | WaitFor | Send | Take


class Recipe(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A sequence that is run by one key, with the settings it is run with."""

    name: str
    settings: BenchSettings = BenchSettings()
    steps: tuple[Step, ...] = (SwitchOutput(), Take())


class Attached(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Something that hangs on the rail beside the target.

    Parameters
    ----------
    name, detail
        What it is.
    current_a
        What it draws whatever the voltage.
    ohm
        What it is across the rail; None for none.
    subtracted
        Whether it is taken out of what is recorded.
    present
        Whether it is plugged in now.
    grade
        Where the figure comes from.
    """

    name: str
    current_a: float = 0.0
    ohm: float | None = None
    detail: str = ""
    subtracted: bool = False
    present: bool = True
    grade: Grade = Grade.ENTERED

    def draws_a(self, voltage_v: float) -> float:
        """Return what it draws at a voltage."""
        return self.current_a + (voltage_v / self.ohm if self.ohm else 0.0)


class Zero(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the set-up itself reads and draws, from recordings without the target.

    Parameters
    ----------
    offset_a, offset_error_a
        What the instrument reads with open leads, and its standard error.
    load_a, load_error_a
        What hangs on the rail without the target; None when that was not recorded.
    set_utc
        When, as ISO 8601 text.
    subtracted
        Whether the offset is taken out of what is recorded.
    """

    offset_a: float
    offset_error_a: float = 0.0
    load_a: float | None = None
    load_error_a: float = 0.0
    set_utc: str = ""
    subtracted: bool = True


class Check(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A link to plug or unplug before recording, and whether that was done."""

    text: str
    done: bool = False


class Identity(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is recorded: it goes into every capture."""

    target: str = ""
    board: str = ""
    firmware: str = ""
    options: str = ""
    temperature_c: float | None = None
    indicators: str = ""


class LinePattern(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    r"""How a line of the console becomes an event.

    Parameters
    ----------
    pattern
        A regular expression that is searched for in the line.
    event
        ``state``, ``wake``, ``sleep``, ``mark`` or ``sync``.
    name
        What the event names; ``\1`` and ``\g<word>`` stand for groups of the pattern.
    """

    pattern: str
    event: str
    name: str


DEFAULT_PATTERNS = (
    LinePattern(r"^state (.+)$", "state", r"\1"),
    LinePattern(r"^wake (.+)$", "wake", r"\1"),
    LinePattern(r"^sleep (.+)$", "sleep", r"\1"),
    LinePattern(r"^sync (.+)$", "sync", r"\1"),
)

DEFAULT_CHECKS = tuple(
    Check(text)
    for text in (
        "debugger unplugged",
        "serial bridge unplugged, or powered from the rail it measures",
        "one ground only",
        "no meter or probe on the rail",
        "indicators as in the field",
    )
)


class SecondGives(StrEnum):
    """What a second instrument is there for."""

    VOLTAGE = "voltage"
    RANGE = "coarser range"
    CURRENT = "another current"
    BOARD = "another board"


class SecondInstrument(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An instrument beside the first.

    Parameters
    ----------
    resource
        Its address; empty for none.
    gives
        What it is there for: the target's voltage, the same current where the first one is at the end of its range,
        another current that is kept beside the first, or another board, which becomes a capture of its own.
    """

    resource: str = ""
    gives: SecondGives = SecondGives.VOLTAGE


class Bench(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The bench of a project.

    Parameters
    ----------
    resource
        VISA resource of the instrument.
    second
        An instrument beside it.
    console
        The target's console: a serial device or a ``socket://host:port``; empty for none.
    baud
        Of a serial device.
    guard_v
        No voltage above this is ever sent to the source; None for no guard.
    settings
        For the record key.
    identity
        What is recorded.
    burden_ohm
        Resistance in series between source and target.
    capacitance_f
        On the board, behind the burden.
    attached
        What hangs on the rail.
    zero
        The set-up's own reading.
    checks
        Links to plug and unplug before.
    patterns
        How lines of the console become events.
    recipes
        Saved sequences.
    """

    resource: str = ""
    second: SecondInstrument = SecondInstrument()
    console: str = ""
    baud: int = 115200
    guard_v: float | None = None
    settings: BenchSettings = BenchSettings()
    identity: Identity = Identity()
    burden_ohm: float | None = None
    capacitance_f: float | None = None
    attached: tuple[Attached, ...] = ()
    zero: Zero | None = None
    checks: tuple[Check, ...] = DEFAULT_CHECKS
    patterns: tuple[LinePattern, ...] = DEFAULT_PATTERNS
    recipes: tuple[Recipe, ...] = ()

    def recipe(self, name: str) -> Recipe | None:
        """Return the recipe of that name, or None."""
        return next((recipe for recipe in self.recipes if recipe.name == name), None)
