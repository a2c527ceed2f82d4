"""Printed lines to readings: by a pattern, with the times that they carry or those at which they came."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from warm_ember.bench.byte_stream import Came
from warm_ember.bench.description import PATTERN_UNITS
from warm_ember.bench.patterns import compile_expression
from warm_ember.model.arrays import Floats

_LONGEST_LINE = 1 << 12
_WRAPS = (1 << 16, 1 << 24, 1 << 31, 1 << 32)
_LIKE_BEFORE, _SMOOTHED = 100.0, 0.1
_KEPT_UNKNOWN = 3


@dataclass(frozen=True, eq=False)
class LineReadings:
    """Readings of some lines.

    Parameters
    ----------
    time_s, current_a, voltage_v
        Shape ``(n,)``; times never fall. The voltage is None where the pattern has none.
    """

    time_s: Floats
    current_a: Floats
    voltage_v: Floats | None


class LineReader:
    """Read lines as they come.

    Parameters
    ----------
    pattern
        With groups by the names of `PATTERN_UNITS`.
    begins_anywhere
        Whether the first line may be the end of one that began before: it is left out.

    Attributes
    ----------
    fitting, others
        How many lines fitted the pattern, and how many did not.
    first_came_s
        When the first line came that fitted, by this computer's monotonic clock; None before it, or to be set to None.
    unknown
        The first of those that did not.
    wraps, restarts
        How often the clock in the lines began again from 0 because it was full, and for no such reason.
    restarted_at
        The first readings after a restart since they were last taken, as indices into the last `LineReadings`.
    """

    def __init__(self, pattern: str, *, begins_anywhere: bool = False) -> None:
        # Of bytes: there is no text to be counted through for each line.
        self._expression = compile_expression(pattern.encode())
        groups = {name.decode(): number for name, number in self._expression.groupindex.items()}
        self._groups = {
            what: [
                (groups[name], factor)
                for name, (of, factor) in PATTERN_UNITS.items()
                if (of, name in groups) == (what, True)
            ]
            for what in ("current", "voltage", "time")
        }
        self.has_voltage, self.has_time = bool(self._groups["voltage"]), bool(self._groups["time"])
        self._rest, self._skips_first = b"", begins_anywhere
        self._raw_offset_s = 0.0
        self._last_s = math.nan
        self._last_came_s = math.nan
        self._usual_s = 0.0
        self.fitting = self.others = self.wraps = self.restarts = 0
        self.first_came_s: float | None = None
        self.unknown: list[str] = []
        self.restarted_at: list[int] = []

    def read(self, came: list[Came]) -> LineReadings:
        """Return the readings of the lines that what came completes."""
        times: list[float] = []
        currents: list[float] = []
        voltages: list[float] = []
        self.restarted_at = []
        for moment_s, data in came:
            *lines, self._rest = (self._rest + data).split(b"\n")
            if len(self._rest) > _LONGEST_LINE:
                lines, self._rest = [*lines, self._rest], b""
            if lines and self._skips_first:
                lines, self._skips_first = lines[1:], False
            begin = len(times)
            for line in lines:
                self._line(line, times, currents, voltages, moment_s)
            if not self.has_time:
                self._spread(times, begin, moment_s)
        return LineReadings(np.array(times), np.array(currents), np.array(voltages) if self.has_voltage else None)

    def _line(
        self, line: bytes, times: list[float], currents: list[float], voltages: list[float], moment_s: float
    ) -> None:
        line = line.strip(b"\r\0 \t")
        found = self._expression.search(line)
        values = None if found is None else self._values(found, line)
        if values is None:
            if line:
                self.others += 1
                if len(self.unknown) < _KEPT_UNKNOWN:
                    text = line.decode("utf-8", "replace")
                    self.unknown.append("".join(c if c.isprintable() else "·" for c in text))
            return
        current_a, voltage_v, time_s, unit_s = values
        if self.has_time:
            time_s = self._unwrapped(time_s, unit_s, moment_s, len(times))
        self.fitting += 1
        self.first_came_s = moment_s if self.first_came_s is None else self.first_came_s
        times.append(time_s)
        currents.append(current_a)
        voltages.append(voltage_v)

    def _values(self, found: Any, line: bytes) -> tuple[float, float, float, float] | None:
        """Return current, voltage, time and the time's unit; None where current or time is missing or no number."""
        try:
            current_a, _ = self._number("current", found, line)
            time_s, unit_s = self._number("time", found, line) if self.has_time else (0.0, 1.0)
        except ValueError:
            return None
        try:
            voltage_v, _ = self._number("voltage", found, line)
        except ValueError:
            voltage_v = math.nan
        if not math.isfinite(time_s):
            return None
        return current_a if math.isfinite(current_a) else math.nan, voltage_v, time_s, unit_s

    def _number(self, what: str, found: Any, line: bytes) -> tuple[float, float]:
        """Return what a line holds, and its unit."""
        for group, factor in self._groups[what]:
            begin, end = found.span(group)
            if begin >= 0:
                return float(line[begin:end]) * factor, factor
        raise ValueError(what)

    def _unwrapped(self, time_s: float, unit_s: float, moment_s: float, index: int) -> float:
        """Return a time that goes on where the clock of the lines began again."""
        since_s = 0.0 if math.isnan(self._last_came_s) else moment_s - self._last_came_s
        at_s = time_s + self._raw_offset_s
        if at_s < self._last_s:
            at_s = self._begun_again(time_s, unit_s, since_s, index)
        elif self._last_s < at_s:
            step_s = at_s - self._last_s
            self._usual_s += (step_s - self._usual_s) * (_SMOOTHED if self._usual_s else 1.0)
        self._last_s, self._last_came_s = at_s, moment_s
        return at_s

    def _begun_again(self, time_s: float, unit_s: float, since_s: float, index: int) -> float:
        back_s = self._last_s - (time_s + self._raw_offset_s)
        if back_s <= 3 * self._usual_s:
            return self._last_s  # a line out of order
        for full in _WRAPS:
            forth_s = full * unit_s - back_s
            if 0 <= forth_s <= _LIKE_BEFORE * self._usual_s + since_s:
                self.wraps += 1
                self._raw_offset_s += full * unit_s
                return time_s + self._raw_offset_s
        self.restarts += 1
        self.restarted_at.append(index)
        at_s = self._last_s + max(since_s, self._usual_s)
        self._raw_offset_s = at_s - time_s
        return at_s

    def _spread(self, times: list[float], begin: int, moment_s: float) -> None:
        """Spread lines that came at once over the time since those before."""
        count = len(times) - begin
        if not count:
            return
        since_s = moment_s if math.isnan(self._last_came_s) else self._last_came_s
        step_s = (moment_s - since_s) / count
        times[begin:] = [since_s + (n + 1) * step_s for n in range(count)]
        self._last_came_s = moment_s
