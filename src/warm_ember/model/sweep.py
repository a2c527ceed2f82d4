"""A sweep: which values are tried, how they are set, how long is measured, and what is wanted of the best of them."""

from __future__ import annotations

import itertools
import math
from enum import StrEnum

import msgspec

from warm_ember.errors import BadArgumentError
from warm_ember.model.bench import BenchSettings

Value = float | str
Setting = tuple[Value, ...]
"""One value of each parameter, in the order of the parameters."""

_MOST_SETTINGS = 10_000


def _says_period(words: str) -> bool:
    return any(word in words for word in ("interval", "period"))


class Spread(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename={"first": "from", "last": "to"}):
    """Values from one to another, in equal steps or equal ratios.

    Parameters
    ----------
    first, last
        The ends.
    steps
        How many values.
    log
        Whether neighbours have one ratio.
    """

    first: float
    last: float
    steps: int
    log: bool = False

    def values(self) -> tuple[float, ...]:
        """Return the values, with four digits."""
        share = [step / (self.steps - 1) for step in range(self.steps)]
        if self.log:
            found = [self.first * (self.last / self.first) ** one for one in share]
        else:
            found = [self.first + (self.last - self.first) * one for one in share]
        return tuple(float(f"{one:.4g}") for one in found)


class SetBy(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a value is set where it is not by a line to the console: by a command of the user's, or by a person.

    Parameters
    ----------
    run
        A command that is run without a shell; ``{value}`` is put in.
    ask
        What a person is asked to do.
    """

    run: str = ""
    ask: str = ""


class SweepParameter(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is varied.

    Parameters
    ----------
    name
        What it is called.
    values
        Numbers or words, each once; or a `Spread`.
    send
        The line to the console, with ``{value}`` for the value, or another way to set it.
    confirm
        A regular expression that a line of the console must match, or what the command prints; empty where nothing
        confirms.
    settle_s
        How long the target settles afterwards.
    latency_per_value
        How much later it answers for each unit of the value, s.
    unit
        Of the values, for who reads them.
    now
        The value that the target has today; the first one by default.
    is_period
        Whether the values are seconds between events, so that a mean is taken over whole ones; by default where name or
        line speak of an interval or a period.
    """

    name: str
    values: tuple[Value, ...] | Spread
    send: str | SetBy = ""
    confirm: str = ""
    settle_s: float = 0.0
    latency_per_value: float = 0.0
    unit: str = ""
    now: Value | None = None
    is_period: bool | None = None

    @property
    def has_periods(self) -> bool:
        """Whether the values are seconds between events."""
        words = f"{self.name} {self.send if isinstance(self.send, str) else ''}".lower()
        return self.is_number and (_says_period(words) if self.is_period is None else self.is_period)

    @property
    def steps(self) -> tuple[Value, ...]:
        """The values one by one."""
        return self.values.values() if isinstance(self.values, Spread) else self.values

    @property
    def is_number(self) -> bool:
        """Whether all values are numbers."""
        return not any(isinstance(one, str) for one in self.steps)


class SweepLimit(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What must not be exceeded, in proportion to values: counts lost by a reset, memory, an error.

    Parameters
    ----------
    what
        What it is.
    per_value
        How much each unit of a parameter's value makes of it, by the parameter's name.
    at_most
        The limit.
    """

    what: str
    per_value: dict[str, float]
    at_most: float


class SweepGoal(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is wanted of the best setting.

    Parameters
    ----------
    min_months
        The life that it is to reach.
    max_latency_s
        The longest time until it answers.
    retry_s
        How much of that an answer that needs a second try may take: it is added to the latency of each setting.
    limits
        What else must not be exceeded.
    """

    min_months: float | None = None
    max_latency_s: float | None = None
    retry_s: float = 0.0
    limits: tuple[SweepLimit, ...] = ()


class SweepStop(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """When the series ends early.

    Parameters
    ----------
    hours
        After so long.
    limit_a
        When a sample is above this current: something is wrong with the target.
    limit_c
        When a further channel in °C is above this.
    chance
        When the best setting is so sure; see ``chance_best``.
    met
        When a setting surely lives as long as wanted, whether another is better or not: as soon as the lower end of its
        90 % interval does.
    """

    hours: float | None = None
    limit_a: float | None = None
    limit_c: float | None = None
    chance: float = 0.95
    met: bool = False


class Search(StrEnum):
    """Which settings are measured: all, or where the answer is decided."""

    ADAPTIVE = "adaptive"
    GRID = "grid"


class SweepRecipe(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A whole sweep.

    Parameters
    ----------
    parameters
        One or more; all combinations of their values are the grid.
    repeats
        How often each setting is recorded.
    record_s
        How long each recording takes.
    console
        The target's console.
    settings
        Of source and instrument; the length is `record_s`.
    goal, stop
        What is wanted, and when it ends early.
    search, seed
        Which settings are measured, and the order by chance.
    activities
        Activities of the project's battery that the sweep does not cover and that are added to each average.
    answer_s
        How long the target may take to confirm, and a person 120 times that to do as asked.
    reboot
        A regular expression of what the console says when the target starts anew.
    prepare
        Lines that are sent to the console before anything is set, and again when the target has started anew.
    note
        What else tells this sweep from another one, such as the build: with another note all is measured anew.
    """

    parameters: tuple[SweepParameter, ...]
    repeats: int = 3
    record_s: float = 60.0
    console: str = ""
    settings: BenchSettings = BenchSettings()
    goal: SweepGoal = SweepGoal()
    stop: SweepStop = SweepStop()
    search: Search = Search.ADAPTIVE
    seed: int = 1
    activities: tuple[str, ...] = ()
    answer_s: float = 5.0
    reboot: str = "^boot"
    prepare: tuple[str, ...] = ()
    note: str = ""

    def grid(self) -> tuple[Setting, ...]:
        """Return all settings, the last parameter changing fastest."""
        return tuple(itertools.product(*(one.steps for one in self.parameters)))

    def period_s(self, setting: Setting) -> float | None:
        """Return the seconds between events of a setting; None where no parameter says it."""
        found = [
            float(value)
            for one, value in zip(self.parameters, setting, strict=True)
            if one.has_periods and not isinstance(value, str) and value > 0
        ]
        return found[0] if found else None

    def latency_s(self, setting: Setting) -> float:
        """Return how late a setting answers."""
        return self.goal.retry_s + self._sum({one.name: one.latency_per_value for one in self.parameters}, setting)

    def _sum(self, per_value: dict[str, float], setting: Setting) -> float:
        named = zip(self.parameters, setting, strict=True)
        return sum(per_value.get(one.name, 0.0) * value for one, value in named if not isinstance(value, str))

    def why_not(self, setting: Setting) -> str:
        """Return why a setting is not allowed, as far as its values tell; empty where it is."""
        most_s, latency_s = self.goal.max_latency_s, self.latency_s(setting)
        if most_s is not None and latency_s > most_s * (1 + 1e-12):
            return f"answers after {latency_s:g} s, later than {most_s:g} s"
        for limit in self.goal.limits:
            found = self._sum(limit.per_value, setting)
            if found > limit.at_most * (1 + 1e-12):
                return f"{limit.what}: {found:g}, more than {limit.at_most:g}"
        return ""

    def now(self) -> Setting:
        """Return the setting that the target has today."""
        return tuple(one.steps[0] if one.now is None else one.now for one in self.parameters)


def check_sweep(recipe: SweepRecipe) -> None:
    """Check that a sweep can be done.

    Raises
    ------
    BadArgumentError
        Naming what cannot.
    """
    if not recipe.parameters:
        raise BadArgumentError("a sweep needs one parameter at least")
    names = [one.name for one in recipe.parameters]
    if len(set(names)) < len(names) or not all(names):
        raise BadArgumentError("each parameter of a sweep needs a name of its own")
    for one in recipe.parameters:
        _check_parameter(one)
    if math.prod(len(one.steps) for one in recipe.parameters) > _MOST_SETTINGS:
        raise BadArgumentError(f"the grid has more than {_MOST_SETTINGS:,} settings")
    if not 1 <= recipe.repeats <= 1000:
        raise BadArgumentError(f"repeats must be from 1 to 1000, found {recipe.repeats}")
    for name, value in (("record_s", recipe.record_s), ("answer_s", recipe.answer_s)):
        if not 0 < value < math.inf:
            raise BadArgumentError(f"{name} must be above 0, found {value:g}")
    if not recipe.console and (recipe.prepare or any(isinstance(one.send, str) for one in recipe.parameters)):
        raise BadArgumentError("values are sent to the target's console: give its address as console")
    if recipe.stop.met and recipe.goal.min_months is None:
        raise BadArgumentError("to stop when the target is met, say in the goal which life that is: min_months")
    for limit in recipe.goal.limits:
        unknown = set(limit.per_value) - set(names)
        if unknown:
            raise BadArgumentError(f"the limit {limit.what!r} speaks of {min(unknown)!r}, which is no parameter")


def _check_parameter(one: SweepParameter) -> None:
    where = f"parameter {one.name!r}"
    if isinstance(one.values, Spread):
        spread = one.values
        if not 2 <= spread.steps <= 1000 or not (math.isfinite(spread.first) and math.isfinite(spread.last)):
            raise BadArgumentError(f"{where}: from, to and steps (2 to 1000) must be numbers")
        if spread.log and not (spread.first > 0 and spread.last > 0):
            raise BadArgumentError(f"{where}: equal ratios need values above 0")
    steps = one.steps
    if not steps or len(set(steps)) < len(steps):
        raise BadArgumentError(f"{where}: expected values that differ from each other, one at least")
    if any(not math.isfinite(value) for value in steps if not isinstance(value, str)):
        raise BadArgumentError(f"{where}: a value is not finite")
    send = one.send
    if isinstance(send, SetBy) and bool(send.run) == bool(send.ask):
        raise BadArgumentError(f"{where}: give either run or ask, or a line to send")
    words = send if isinstance(send, str) else send.run or send.ask
    if "{value}" not in words:
        raise BadArgumentError(f"{where}: {words!r} does not say where the value goes: write {{value}}")
    if not 0 <= one.settle_s < math.inf or not math.isfinite(one.latency_per_value):
        raise BadArgumentError(f"{where}: settle_s must be 0 or more, latency_per_value a number")


def value_text(value: Value) -> str:
    """Return a value as it is sent.

    Examples
    --------
    >>> value_text(600.0), value_text(2.5), value_text("deep")
    ('600', '2.5', 'deep')
    """
    return value if isinstance(value, str) else f"{value:.12g}"
