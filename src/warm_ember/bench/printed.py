"""Something that prints its readings as lines: a sense board, a logger, another program."""

from __future__ import annotations

import contextlib
import time
from dataclasses import dataclass, field

import msgspec
import numpy as np

from warm_ember.bench.byte_stream import ByteStream
from warm_ember.bench.description import InstrumentDescription
from warm_ember.bench.line_reading import LineReader, LineReadings
from warm_ember.bench.reading_block import ReadingBlock
from warm_ember.bench.reading_grid import ReadingGrid
from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.model.arrays import Floats
from warm_ember.model.bench import BenchSettings, TriggerSource
from warm_ember.signal.series import ShouldStop, never
from warm_ember.signal.time_grid import inspect_times, nice_interval
from warm_ember.units import counted

_ENOUGH, _LOOK_S, _POLL_S = 200, 1.0, 0.01
_LEAST = 2
_ROUND = 0.05
_SHORTEST_S = 1e-6
_SILENT, _SILENT_S = 2.5, 0.3
"""After so many usual steps, and so long, without a line the last reading is taken to have held for one."""
_MOST_LOOKED_AT = 1 << 20


@dataclass(eq=False)
class _Attempt:
    """What comes first, read by one of the descriptions."""

    description: InstrumentDescription
    reader: LineReader
    found: list[LineReadings] = field(default_factory=list)

    def readings(self) -> LineReadings:
        """Return all that was read."""
        volts = [one.voltage_v for one in self.found if one.voltage_v is not None]
        return LineReadings(
            np.concatenate([one.time_s for one in self.found]),
            np.concatenate([one.current_a for one in self.found]),
            np.concatenate(volts) if volts else None,
        )


class PrintedInstrument:
    """What prints lines; see `warm_ember.bench.source.Source` for what it does.

    Parameters
    ----------
    stream
        The open stream; it is closed with the instrument.
    descriptions
        Those of what prints lines, the likeliest first: the first of those that most lines fit is taken.
    timeout_s
        How long it may say nothing.

    Raises
    ------
    InstrumentError
        If no line comes, or none that can be read.
    """

    line_names: tuple[str, ...] = ()
    off_messages: tuple[str, ...] = ()
    is_in_step = True
    is_waited_with = False

    def __init__(
        self,
        stream: ByteStream,
        descriptions: tuple[InstrumentDescription, ...],
        *,
        timeout_s: float = 5.0,
        should_stop: ShouldStop = never,
    ) -> None:
        self._stream, self._timeout_s, self.should_stop = stream, timeout_s, should_stop
        self.began_s: float | None = None
        self._grid: ReadingGrid | None = None
        self._interval_s = 0.0
        self._lost_told = 0
        self._is_finished = False
        self._came_s = time.monotonic()
        if descriptions[0].start:
            stream.send(descriptions[0].start)
        best = self._look(descriptions)
        self.description, self._reader = best.description, best.reader
        if not self._reader.fitting:
            self._refuse(best.reader)
        self._first = best.readings()
        self._usual_s = self._usual_step_s(self._first.time_s)
        self.identity = f"{self.description.name}, {stream.address}"

    def _look(self, descriptions: tuple[InstrumentDescription, ...]) -> _Attempt:
        """Read what comes first by each description: enough to tell what it is, and how often."""
        attempts = [
            _Attempt(one, LineReader(one.pattern, begins_anywhere=self._stream.begins_anywhere)) for one in descriptions
        ]
        begin_s, looked_at = time.monotonic(), 0
        first_s: float | None = None
        while not self.should_stop():
            came = self._stream.take()
            looked_at += sum(len(one.data) for one in came)
            for attempt in attempts:
                attempt.found.append(attempt.reader.read(came))
            fitting = max(attempt.reader.fitting for attempt in attempts)
            now_s = time.monotonic()
            first_s = now_s if fitting and first_s is None else first_s
            seen_s = 0.0 if first_s is None else now_s - first_s
            if self._stream.has_ended or fitting >= _ENOUGH or (fitting > _LEAST and seen_s > _LOOK_S):
                break
            if now_s - begin_s > self._timeout_s or looked_at > _MOST_LOOKED_AT:
                break
            time.sleep(_POLL_S)
        return max(attempts, key=lambda attempt: attempt.reader.fitting)

    def _refuse(self, reader: LineReader) -> None:
        if reader.unknown:
            shown = reader.unknown[0][:60]
            raise InstrumentError(
                self._stream.address,
                f"no line can be read: expected a current with its unit, such as “12.5 mA”, found “{shown}”",
                remedy="describe what it prints by a pattern, see docs/formats.md",
            )
        if self._stream.has_ended:
            raise InstrumentError(self._stream.address, "it ended before a line came that can be read", link_lost=True)
        raise InstrumentError(
            self._stream.address,
            f"no line came within {self._timeout_s:g} s",
            remedy="does it print on its own schedule, and at this rate (baud)?",
            link_lost=True,
        )

    def _usual_step_s(self, times_s: Floats) -> float:
        if len(times_s) < _LEAST:
            raise InstrumentError(
                self._stream.address,
                f"only one line came within {self._timeout_s:g} s: how often it prints is not known",
                remedy="allow it more time (--timeout)",
            )
        if not self._reader.has_time:  # lines come in bunches: only how many came in all tells how often
            usual_s = float(times_s[-1] - times_s[0]) / (len(times_s) - 1)
            if usual_s < _SHORTEST_S:
                raise InstrumentError(
                    self._stream.address,
                    "its lines came all at once and carry no time: how far apart they are is not known",
                    remedy="print a time with each, such as “20 ms 1.5 mA”, or import them as a file",
                )
            return usual_s
        try:
            kind = inspect_times(times_s)
        except BadArgumentError as error:
            raise InstrumentError(self._stream.address, f"the times in its lines stand still ({error})") from error
        return kind.interval_s

    @property
    def aux_units(self) -> dict[str, str]:
        """It measures nothing else."""
        return {}

    @property
    def reading_interval_s(self) -> float:
        """How long it is from one reading to the next."""
        return self._usual_s

    @property
    def senses(self) -> tuple[str, ...]:
        """What it measures."""
        return ("current", "voltage") if self._reader.has_voltage else ("current",)

    def fitted(self, settings: BenchSettings) -> BenchSettings:
        """Return the settings with its own interval where they ask for a shorter one."""
        own_s = nice_interval(self._usual_s, 1, _ROUND * self._usual_s)
        return msgspec.structs.replace(settings, interval_s=max(settings.interval_s, own_s))

    def check(self, settings: BenchSettings) -> None:
        """Check settings.

        Raises
        ------
        BadArgumentError
            If one is impossible.
        """
        if settings.trigger.source is not TriggerSource.IMMEDIATE:
            raise BadArgumentError(f"{self.description.name} prints on its own schedule: it can wait for no trigger")

    def reset(self) -> None:
        """Do nothing: it has no settings."""

    def forget_errors(self) -> None:
        """Do nothing: it tells none."""

    def set_source(self, settings: BenchSettings) -> None:
        """Do nothing: what powers the target is not part of it."""

    def set_sweep(self, settings: BenchSettings, points: int | None) -> None:
        """Set the interval of the samples that are made of its readings."""
        self._interval_s = settings.interval_s

    def switch(self, *, on: bool) -> None:
        """Do nothing: it has no output."""

    def start(self) -> None:
        """Begin with what came since it was opened, else with what comes from now on; all that a pipe holds counts."""
        self._grid, self.began_s = ReadingGrid(self._interval_s, self._usual_s), None
        if self.is_waited_with and not self._stream.is_wanted_whole:
            self._reader.read(self._stream.take())
            self._reader.first_came_s = None
            self._first = LineReadings(np.empty(0), np.empty(0), None)

    def stop(self) -> None:
        """Tell it to end, where it can be told."""
        if self.description.stop:
            self._stream.send(self.description.stop)

    def fetch(self) -> ReadingBlock:
        """Return the samples that the lines complete which came since the last fetch.

        Raises
        ------
        InstrumentError
            If it hung up.
        """
        assert self._grid is not None
        found, self._first = self._first, LineReadings(np.empty(0), np.empty(0), None)
        if not len(found.time_s):
            has_ended = self._stream.has_ended
            came = self._stream.take()
            found = self._reader.read(came)
            self._came_s = time.monotonic() if came else self._came_s
            is_silent = time.monotonic() - self._came_s > max(_SILENT * self._usual_s, _SILENT_S)
            if not came and (has_ended or is_silent):
                last = self._grid.finish(with_voltage=self._reader.has_voltage)
                if len(last.current):
                    return last
            self._is_finished = has_ended and not came
            if not came and has_ended and not self._stream.is_wanted_whole:
                raise InstrumentError(
                    self._stream.address, "it hung up", remedy="check the cable and that it runs", link_lost=True
                )
        if len(found.time_s) and self.began_s is None:
            self.began_s = self._reader.first_came_s if self._reader.has_time else float(found.time_s[0])
        return self._grid.add(found.time_s, found.current_a, self._voltage(found))

    def _voltage(self, found: LineReadings) -> Floats | None:
        if not self._reader.has_voltage:
            return None
        return np.empty(0) if found.voltage_v is None else found.voltage_v

    @property
    def has_ended(self) -> bool:
        """Whether a pipe, or standard input, holds nothing more."""
        return self._stream.is_wanted_whole and self._is_finished

    @property
    def news(self) -> tuple[str, ...]:
        """What happened since this was last asked, and belongs beside the samples."""
        found = ["the clock in the lines began again"] * len(self._reader.restarted_at)
        self._reader.restarted_at = []
        if self._stream.lost_bytes > self._lost_told:
            found.append(f"{counted(self._stream.lost_bytes - self._lost_told, 'byte')} came too fast and were lost")
            self._lost_told = self._stream.lost_bytes
        return tuple(found)

    @property
    def remarks(self) -> tuple[str, ...]:
        """What is to be known of a recording when it has ended."""
        reader, found = self._reader, [f"lines read as {self.description.name}"]
        if reader.others:
            found.append(f"{counted(reader.others, 'line')} that hold no reading, the first “{reader.unknown[0][:60]}”")
        if reader.wraps:
            found.append(f"the clock in the lines was full {counted(reader.wraps, 'time')}")
        if reader.restarts:
            found.append(f"the clock in the lines began again {counted(reader.restarts, 'time')}")
        if self._stream.lost_bytes:
            found.append(f"{counted(self._stream.lost_bytes, 'byte')} came too fast and were lost")
        return tuple(found)

    def make_safe(self, *, within_s: float = 0.8) -> bool:
        """Tell it to end; it has no output that could stay on."""
        with contextlib.suppress(InstrumentError):  # nothing of it is switched on
            self.stop()
        return True

    def close(self) -> None:
        """Hang up."""
        self._stream.close()
