"""Trying a description on the real thing: each command is sent once, and what came back is told."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from warm_ember.bench.byte_stream import ByteStream
from warm_ember.bench.description import InstrumentDescription
from warm_ember.bench.instrument import identify
from warm_ember.bench.link import Link
from warm_ember.bench.patterns import compile_expression
from warm_ember.bench.scpi_errors import error_words, parse_error
from warm_ember.errors import InstrumentError
from warm_ember.model.arrays import Samples
from warm_ember.model.bench import BenchSettings
from warm_ember.signal.series import Progress, ShouldStop, ignore_progress, never
from warm_ember.units import counted, quantity_text

_ANSWER_S = 2.0
_LISTEN_S = 3.0
_POLL_S = 0.02
_SWEEP_POINTS = 50
_SWEEP_WAIT_S = 0.3
_READINGS = 4
_SHOWN = 60
_MOST_ERRORS = 8
_LINES_SHOWN = 6
_BEFORE = (
    "clear", "error", "reset", "complete", "output", "voltage", "limit", "range", "range_auto", "data_format",
    "interval", "before_points", "trigger_line", "trigger_level", "level", "slope", "trigger_immediate", "points",
    "start",
)  # fmt: skip
"""What is sent before anything is measured, in an order in which one may follow the other."""


@dataclass(frozen=True)
class TriedCommand:
    """One command and what came of it.

    Parameters
    ----------
    name
        Its name in the description; ``identity`` for the question who it is, ``line`` for a line that came by itself.
    sent
        What was sent.
    answer
        What came back, in words.
    is_fine
        Whether that is what was hoped for.
    """

    name: str
    sent: str
    answer: str
    is_fine: bool = True


@dataclass(frozen=True)
class TriedInstrument:
    """A description as it was tried.

    Parameters
    ----------
    identity
        What it answers to ``*IDN?``; empty for what prints by itself.
    commands
        In the order in which they were tried.
    max_rate_hz
        How often one that is asked for each reading answered; None for others.
    """

    identity: str
    commands: tuple[TriedCommand, ...]
    max_rate_hz: float | None = None


def try_description(
    resource: str,
    description: InstrumentDescription,
    settings: BenchSettings,
    *,
    guard_v: float | None = None,
    should_stop: ShouldStop = never,
    progress: Progress = ignore_progress,
) -> TriedInstrument:
    """Send each command of a description once, with the output off all the time.

    Parameters
    ----------
    resource
        The address.
    description
        What is tried.
    settings
        Of the bench: voltage, limit, range and interval are set to these.
    guard_v
        No voltage above this is sent.
    should_stop, progress
        Polled and told between commands.

    Raises
    ------
    InstrumentError
        If nobody is there.
    """
    if description.mode == "lines":
        return TriedInstrument("", tuple(_listened(resource, description, should_stop)))
    attempt = _Attempt(Link(resource, timeout_s=_ANSWER_S, should_stop=should_stop), description, settings, guard_v)
    try:
        commands = tuple(attempt.commands(should_stop, progress))
        return TriedInstrument(attempt.identity, commands, attempt.max_rate_hz)
    finally:
        attempt.link.close()


@dataclass
class _Attempt:
    link: Link
    description: InstrumentDescription
    settings: BenchSettings
    guard_v: float | None
    identity: str = ""
    max_rate_hz: float | None = None
    tells_errors: bool = True

    def commands(self, should_stop: ShouldStop, progress: Progress) -> Iterator[TriedCommand]:
        """Yield what came of each command."""
        self.identity = identify(self.link)
        yield self._identified()
        messages = list(self._messages())
        for number, (name, message) in enumerate(messages):
            if should_stop():
                return
            yield self._tried(name, message)
            progress((number + 1) / len(messages))

    def _identified(self) -> TriedCommand:
        expression = self.description.identity
        fits = not expression or compile_expression(expression).search(self.identity) is not None
        words = self.identity if fits else f"{self.identity}: “{expression}” does not fit that"
        return TriedCommand("identity", "*IDN?", words, fits)

    def _messages(self) -> Iterator[tuple[str, str]]:
        """Yield each command that is sent, by its name, in an order in which one may follow the other."""
        commands, settings, known = self.description.commands, self.settings, self.description
        voltage_v = settings.voltage_v if settings.voltage_v is not None else 0.0
        may = self.guard_v is None or voltage_v <= self.guard_v
        value = {
            "output": commands.output.format(on=0),
            "voltage": commands.voltage.format(value=voltage_v) if may else "",
            "limit": commands.limit.format(value=settings.limit_a) if settings.limit_a is not None else "",
            "range": commands.range.format(value=self._range_a),
            "data_format": known.format_command if known.mode == "sweep" else "",
            "interval": commands.interval.format(value=self._interval_s),
            "before_points": commands.before_points.format(points=1),
            "trigger_line": commands.trigger_line.format(line=0) if known.line_names else "",
            "level": commands.level.format(value=settings.trigger.level_a),
            "slope": commands.slope.format(slope="POSitive"),
            "points": commands.points.format(points=_SWEEP_POINTS),
        }
        measured = ["read", "read_voltage"]
        if known.mode == "sweep":
            measured = [f"fetch_{one}" for one in ("current", "voltage", "lines") if one in known.sense]
        for name in (*_BEFORE, *measured):
            message = value.get(name, getattr(commands, name))
            if message:
                yield name, message
        if known.mode == "sweep":
            yield from ((one.aux, one.fetch) for one in known.further)
        if commands.stop:
            yield "stop", commands.stop

    @property
    def _range_a(self) -> float:
        ranges = self.description.ranges
        return self.settings.range_a or (ranges[-1].full_a if ranges else 1e-2)

    @property
    def _interval_s(self) -> float:
        shortest, longest = self.description.interval_s or (0.0, math.inf)
        return min(max(self.settings.interval_s, shortest), longest)

    def _tried(self, name: str, message: str) -> TriedCommand:
        try:
            words = self._answer(name, message)
        except InstrumentError as error:
            if not self.link.is_in_step:  # what has not come may come yet, and would be taken for the next answer
                self.link.close()
                self.link = Link(self.link.resource, timeout_s=_ANSWER_S, should_stop=self.link.should_stop)
            return TriedCommand(name, message, f"{error.problem}{self._told_errors()}", is_fine=False)
        told = self._told_errors()
        return TriedCommand(name, message, f"{words}{told}", is_fine=not told)

    def _answer(self, name: str, message: str) -> str:
        if name == "error":
            return self._error_queue(message)
        if name == "read":
            return self._readings(message)
        if name.startswith("fetch_") or name in [one.aux for one in self.description.further]:
            return self._samples(message, self._unit_of(name))
        if message.endswith("?"):
            return f"“{self.link.query(message)[:_SHOWN]}”"
        self.link.write(message)
        return "taken"

    def _error_queue(self, message: str) -> str:
        try:
            answer = self.link.query(message)
        except InstrumentError:
            self.tells_errors = False
            raise
        if parse_error(answer) is None:
            self.tells_errors = False
            raise InstrumentError(self.link.resource, f"expected an error number, found “{answer[:_SHOWN]}”")
        return f"“{answer[:_SHOWN]}”"

    def _told_errors(self) -> str:
        """Return what stands in the error queue, in words that follow others; empty where nothing does."""
        if not self.tells_errors or not self.description.commands.error:
            return ""
        found = []
        for _ in range(_MOST_ERRORS):
            try:
                error = parse_error(self.link.query(self.description.commands.error))
            except InstrumentError:
                break
            if error is None or error.number == 0:
                break
            found.append(error_words(*error))
        return f": {'; '.join(dict.fromkeys(found))}" if found else ""

    def _unit_of(self, name: str) -> str:
        units = {"fetch_current": "A", "fetch_voltage": "V"} | {one.aux: one.unit for one in self.description.further}
        return units.get(name, "")

    def _samples(self, message: str, unit: str) -> str:
        """Fetch until something came of the sweep."""
        until_s = time.monotonic() + _ANSWER_S
        while True:
            values = self._fetched(message)
            if len(values) or time.monotonic() > until_s:
                break
            time.sleep(_SWEEP_WAIT_S)
        if not len(values):
            raise InstrumentError(self.link.resource, "no samples came")
        return f"{counted(len(values), 'sample')}, the first {quantity_text(float(values[0]), unit)}"

    def _fetched(self, message: str) -> Samples:
        kind = self.description.sample_kind
        return self.link.query_numbers(message) if kind is None else self.link.query_block(message, kind=kind)

    def _readings(self, message: str) -> str:
        moments, answers = [time.monotonic()], []
        for _ in range(_READINGS):
            answers.append(self.link.query(message))
            moments.append(time.monotonic())
        slowest_s = max(b - a for a, b in pairwise(moments))
        self.max_rate_hz = float(f"{1 / slowest_s:.2g}") if slowest_s > 0 else None
        rate = f", {quantity_text(1 / slowest_s, 'Hz', 2)}" if slowest_s > 0 else ""
        return f"“{answers[0][:_SHOWN]}”{rate}"


def _listened(resource: str, description: InstrumentDescription, should_stop: ShouldStop) -> Iterator[TriedCommand]:
    """Yield the first lines that come by themselves, and what is read in each."""
    expression = compile_expression(description.pattern)
    stream = ByteStream(resource, baud=description.baud)
    try:
        if description.start:
            stream.send(description.start)
            yield TriedCommand("start", description.start, "sent")
        until_s, data, shown, is_part = time.monotonic() + _LISTEN_S, b"", 0, stream.begins_anywhere
        while shown < _LINES_SHOWN and time.monotonic() < until_s and not should_stop():
            came = stream.take()
            *lines, data = (data + b"".join(one.data for one in came)).split(b"\n")
            if is_part and lines:
                lines, is_part = lines[1:], False
            for text in filter(None, (line.decode("utf-8", "replace").strip() for line in lines)):
                shown += 1
                if shown <= _LINES_SHOWN:
                    yield _line(text, expression.search(text))
            if stream.has_ended and not came:
                break
            time.sleep(_POLL_S)
        if not shown:
            yield TriedCommand("line", "", f"no line came within {_LISTEN_S:g} s", is_fine=False)
        if description.stop:
            stream.send(description.stop)
            yield TriedCommand("stop", description.stop, "sent")
    finally:
        stream.close()


def _line(text: str, found: Any) -> TriedCommand:
    groups = {} if found is None else {name: value for name, value in found.groupdict().items() if value}
    shown = "".join(c if c.isprintable() else "·" for c in text)[:_SHOWN]
    if not groups:
        return TriedCommand("line", shown, "does not fit the pattern", is_fine=False)
    return TriedCommand("line", shown, ", ".join(f"{name} {groups[name]}" for name in sorted(groups)))
