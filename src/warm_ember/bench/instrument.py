"""An instrument that sources and measures, by its description: settings, output, sweeps."""

from __future__ import annotations

import logging
from typing import Self

import numpy as np

from warm_ember.bench.description import InstrumentDescription
from warm_ember.bench.link import NOBODY_THERE, Link
from warm_ember.bench.reading_block import ReadingBlock
from warm_ember.bench.scpi_errors import error_words, parse_error
from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.model.arrays import Samples
from warm_ember.model.bench import BenchSettings, Trigger, TriggerSource
from warm_ember.signal.series import ShouldStop, never
from warm_ember.units import quantity_text

log = logging.getLogger(__name__)

_MISSING = np.float32(9.0e37)
_MOST_ERRORS = 20
_AUX = "aux/"


class Instrument:
    """An instrument that answers.

    Parameters
    ----------
    link
        The open line; it is closed with the instrument.
    identity
        Its answer to ``*IDN?``.
    description
        What is known of its make.
    guard_v
        No voltage above this is sent; None for no guard.
    """

    def __init__(
        self,
        link: Link,
        identity: str,
        description: InstrumentDescription,
        *,
        guard_v: float | None = None,
    ) -> None:
        self.link, self.identity, self.description, self.guard_v = link, identity, description, guard_v
        self.commands = self.description.commands
        self._further = {f"{_AUX}{one.aux}": one for one in description.further}
        self._senses: list[str] = [one for one in description.sense if isinstance(one, str)] + list(self._further)
        self._waiting: dict[str, list[Samples]] = {}

    began_s: float | None = None
    """The moment of the first sample by this computer's monotonic clock, where the instrument's own is not known."""
    has_ended = False
    """Whether nothing comes any more, without that being a fault."""

    is_waited_with = False
    reading_interval_s: float | None = None
    news: tuple[str, ...] = ()

    @property
    def remarks(self) -> tuple[str, ...]:
        """What is to be known of a recording when it has ended."""
        return ()

    @property
    def should_stop(self) -> ShouldStop:
        """Polled while an answer is waited for."""
        return self.link.should_stop

    @should_stop.setter
    def should_stop(self, should_stop: ShouldStop) -> None:
        self.link.should_stop = should_stop

    @property
    def is_in_step(self) -> bool:
        """Whether all answers that were asked for have come whole."""
        return self.link.is_in_step

    def fitted(self, settings: BenchSettings) -> BenchSettings:
        """Return settings as it can keep them: those that are beyond it are told by `check`."""
        return settings

    @property
    def senses(self) -> tuple[str, ...]:
        """What it measures: ``current``, perhaps ``voltage`` and ``lines``."""
        return tuple(self._senses)

    @property
    def aux_units(self) -> dict[str, str]:
        """The units of what it measures beside current, voltage and lines, by name."""
        return {one.aux: one.unit for name, one in self._further.items() if name in self._senses}

    @property
    def line_names(self) -> tuple[str, ...]:
        """Names of its digital lines."""
        return self.description.line_names if "lines" in self._senses else ()

    def check(self, settings: BenchSettings) -> None:
        """Check settings before anything is sent.

        Raises
        ------
        BadArgumentError
            If one is beyond the project's guard or what the instrument can do.
        """
        known = self.description
        _check_voltage(settings.voltage_v, self.guard_v, known.max_voltage_v)
        if settings.limit_a is not None and not 0 < settings.limit_a <= (known.max_current_a or np.inf):
            raise BadArgumentError(
                f"the current limit must be above 0 and at most {quantity_text(known.max_current_a or 0, 'A')}, "
                f"found {quantity_text(settings.limit_a, 'A')}"
            )
        shortest, longest = known.interval_s or (0.0, np.inf)
        if not (settings.interval_s > 0 and shortest * 0.999 <= settings.interval_s <= longest):
            raise BadArgumentError(
                f"{known.name} takes samples every {shortest:g} to {longest:g} s, not {settings.interval_s:g} s"
            )
        if settings.duration_s is not None and not settings.duration_s >= settings.interval_s:
            raise BadArgumentError(f"a recording must last one interval at least, found {settings.duration_s:g} s")
        _check_trigger(settings.trigger, known)

    def reset(self) -> None:
        """Bring it into the state that it has after being switched on."""
        self._step(self.commands.clear)
        self._step(self.commands.reset)
        if self.commands.complete:
            self.link.query(self.commands.complete)

    def forget_errors(self) -> None:
        """Empty its error queue."""
        self._step(self.commands.clear)

    def set_source(self, settings: BenchSettings) -> None:
        """Set voltage and current limit.

        Raises
        ------
        BadArgumentError
            If the voltage is above the guard.
        InstrumentError
            If it refuses.
        """
        _check_voltage(settings.voltage_v, self.guard_v, self.description.max_voltage_v)
        if settings.limit_a is not None:
            self._step(self.commands.limit.format(value=settings.limit_a))
        if settings.voltage_v is not None:
            self._step(self.commands.voltage.format(value=settings.voltage_v))

    def set_sweep(self, settings: BenchSettings, points: int | None) -> None:
        """Set range, interval, length and trigger; None points for a sweep without end."""
        commands, trigger = self.commands, settings.trigger
        if settings.range_a is not None:
            self._step(commands.range.format(value=settings.range_a))
        else:
            self._step(commands.range_auto)
        self._step(self.description.format_command)
        self._step(commands.interval.format(value=settings.interval_s))
        self._step(commands.points.format(points=points if points is not None else self.description.endless_points))
        if trigger.source is TriggerSource.IMMEDIATE:
            self._step(commands.trigger_immediate)
        else:
            if trigger.source is TriggerSource.LEVEL:
                self._step(commands.trigger_level)
                self._step(commands.level.format(value=trigger.level_a))
            else:
                line = self.description.line_names.index(trigger.line)
                self._step(commands.trigger_line.format(line=line))
            self._step(commands.slope.format(slope="POSitive" if trigger.rising else "NEGative"))
        if commands.before_points:
            self._step(commands.before_points.format(points=round(trigger.before_s / settings.interval_s)))

    def switch(self, *, on: bool) -> None:
        """Switch the output."""
        self._step(self.commands.output.format(on=int(on)))

    def start(self) -> None:
        """Start the sweep, or let it wait for its trigger."""
        self._waiting = {name: [] for name in self._senses}
        self._step(self.commands.start)

    def stop(self) -> None:
        """Stop the sweep."""
        self._step(self.commands.stop)

    def fetch(self) -> ReadingBlock:
        """Return the samples that came since the last fetch, as far as there are of all channels.

        Raises
        ------
        InstrumentError
            If the link is lost, what comes is no block, or the instrument reports an error.
        """
        fresh = 0
        for name in tuple(self._senses):
            values = self._fetch_channel(name)
            if values is not None:
                fresh += len(values)
                self._waiting[name].append(values)
        if not fresh:
            self.raise_errors(self.commands.fetch_current)
        joined = {name: np.concatenate(self._waiting[name] or [np.empty(0, np.float32)]) for name in self._senses}
        count = min(len(values) for values in joined.values())
        self._waiting = {name: [values[count:]] for name, values in joined.items()}
        lines = joined.get("lines")
        return ReadingBlock(
            _measured(joined["current"][:count]),
            _measured(joined["voltage"][:count]) if "voltage" in joined else None,
            None if lines is None else np.nan_to_num(_measured(lines[:count])).astype(_bits_for(self.line_names)),
            aux={name.removeprefix(_AUX): _measured(joined[name][:count]) for name in joined if name in self._further},
        )

    def _fetch_channel(self, name: str) -> Samples | None:
        message = self._further[name].fetch if name in self._further else getattr(self.commands, f"fetch_{name}")
        kind = self.description.sample_kind
        try:
            return self.link.query_numbers(message) if kind is None else self.link.query_block(message, kind=kind)
        except InstrumentError as error:
            reason = self._reason_for(error, message)
            # Some make measures no voltage: it says so in its error queue when asked for the first time.
            if name == "current" or self._waiting[name] or reason is error:
                raise reason from error
            log.info("%s does not measure %s", self.link.resource, name)
            self._senses.remove(name)
            return None

    def _reason_for(self, error: InstrumentError, message: str) -> InstrumentError:
        """Return why there was no answer, when the instrument itself can say it."""
        if not error.link_lost:
            return error
        try:
            self.raise_errors(message)
        except InstrumentError as told:
            return error if told.link_lost or told.problem.startswith("expected") else told
        return error

    def _step(self, message: str) -> None:
        if message:
            self.link.write(message)
            self.raise_errors(message)

    def raise_errors(self, message: str) -> None:
        """Read the error queue until it is empty.

        Raises
        ------
        InstrumentError
            If there was something in it.
        """
        if not self.commands.error:
            return
        found = []
        for _ in range(_MOST_ERRORS):
            answer = self.link.query(self.commands.error)
            error = parse_error(answer)
            if error is None:
                raise InstrumentError(self.link.resource, f"expected an error number, found “{answer[:60]}”")
            if error[0] == 0:
                break
            found.append(error_words(*error))
        if found:
            raise InstrumentError(self.link.resource, f"after “{message}”: {'; '.join(dict.fromkeys(found))}")

    @property
    def off_messages(self) -> tuple[str, ...]:
        """What stops a sweep and switches the output off."""
        return tuple(filter(None, (self.commands.stop, self.commands.output.format(on=0))))

    def make_safe(self, *, within_s: float = 0.8) -> bool:
        """Stop and switch the output off, whatever happens on the way; answer whether it took the commands.

        Over a link that waits for the rest of an answer it is told all the same, but cannot say that it heard.
        """
        was_in_step, self.link.should_stop = self.link.is_in_step, never
        try:
            for message in self.off_messages:
                self.link.write(message)
            if not was_in_step or not self.commands.error:
                return was_in_step
            self.link.query(self.commands.error, within_s=within_s)
        except InstrumentError:
            log.warning("%s could not be told to switch its output off", self.link.resource)
            return False
        return True

    def close(self) -> None:
        """Hang up."""
        self.link.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def identify(link: Link) -> str:
    """Return who is at the other end of a link.

    Raises
    ------
    InstrumentError
        If nobody answers, or nobody who says who it is.
    """
    try:
        identity = link.query("*IDN?")
    except InstrumentError as error:
        if not error.link_lost:
            raise
        # A refused connection shows only now, when something is asked of it.
        raise InstrumentError(
            link.resource, f"no instrument answers there ({error.problem})", remedy=NOBODY_THERE, link_lost=True
        ) from error
    if identity.count(",") < 1:
        raise InstrumentError(
            link.resource,
            f"expected maker, model, number and version after “*IDN?”, found “{identity[:60]}”",
            remedy="is this an SCPI instrument?",
        )
    return identity


def _measured(values: Samples) -> Samples:
    """Return values with what stands for “not measured” and “out of range” as NaN: SCPI-1999 volume 1, 7.2.1.5."""
    with np.errstate(invalid="ignore"):
        return np.where(np.abs(values) < _MISSING, values, np.float32(np.nan))


def _bits_for(names: tuple[str, ...]) -> type[np.unsignedinteger]:
    return np.uint8 if len(names) <= 8 else np.uint16 if len(names) <= 16 else np.uint32


def _check_voltage(voltage_v: float | None, guard_v: float | None, most_v: float | None) -> None:
    if voltage_v is None:
        return
    if not 0 <= voltage_v < np.inf:
        raise BadArgumentError(f"expected a voltage of 0 V or above, found {voltage_v:g} V")
    if guard_v is not None and voltage_v > guard_v * (1 + 1e-9):
        raise BadArgumentError(
            f"{voltage_v:g} V is above the guard of this project, {guard_v:g} V: nothing was switched on; "
            "change the guard on the Bench page if the target tolerates it"
        )
    if most_v is not None and voltage_v > most_v * (1 + 1e-9):
        raise BadArgumentError(f"{voltage_v:g} V is above the {most_v:g} V that the instrument can do")


def _check_trigger(trigger: Trigger, known: InstrumentDescription) -> None:
    if trigger.before_s < 0:
        raise BadArgumentError(f"the time before the trigger must be 0 or above, found {trigger.before_s:g} s")
    if trigger.source is TriggerSource.LINE and trigger.line not in known.line_names:
        lines = ", ".join(known.line_names) or "none"
        raise BadArgumentError(f"the trigger waits for the line “{trigger.line}”; the instrument has: {lines}")
    if trigger.before_s and not known.commands.before_points:
        raise BadArgumentError(f"{known.name} keeps nothing from before the trigger")
