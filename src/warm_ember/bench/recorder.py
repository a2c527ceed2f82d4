"""The recorder: from an instrument's sweep to a recording file, through faults and to a safe end."""

from __future__ import annotations

import logging
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from enum import StrEnum
from functools import partial
from pathlib import Path

import msgspec
import numpy as np

from warm_ember.bench.console import Console, ConsoleFeed
from warm_ember.bench.console_line import ConsoleLine
from warm_ember.bench.description import InstrumentDescription
from warm_ember.bench.patterns import Patterns
from warm_ember.bench.reading_block import ReadingBlock
from warm_ember.bench.station import InstrumentConnection
from warm_ember.errors import InstrumentError, WarmEmberError
from warm_ember.model.bench import BenchSettings
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.correction import Correction
from warm_ember.model.heard import Heard
from warm_ember.signal.corrections import correct
from warm_ember.signal.one_clock import JUST_BEFORE_S, events_of
from warm_ember.signal.series import ShouldStop, never
from warm_ember.store.capture_name import CaptureName
from warm_ember.store.recording_file import RecordingFile
from warm_ember.store.room import not_written, room_left
from warm_ember.store.write_behind import WriteBehind
from warm_ember.units import counted, quantity_text

log = logging.getLogger(__name__)

_POLL_S = 0.04
_FLUSH_S = 0.5
_AGAIN_S = 0.3
_LAST_LINES_S = 1.0
_GAP_PIECE = 1 << 20
_SPARE_BYTES = 64 << 20
_SUMMARY_SHARE = 0.06
_MOST_HEARD = 2_000_000

_NO_PATTERNS = Patterns(())


class Ending(StrEnum):
    """Why a recording ended."""

    DONE = "done"
    STOPPED = "stopped"
    ENDED = "nothing comes any more"
    DISK = "the disk is full"
    FAULT = "a fault"


@dataclass(frozen=True)
class Job:
    """One recording to be made.

    Parameters
    ----------
    path
        Where the capture shall be.
    settings
        Of the instrument; the duration None goes on until it is stopped.
    info
        Identity and conditions; the interval, the start, instrument and range are filled in.
    corrections
        What is taken out of the samples as they come.
    patterns
        What lines of the console mean.
    reconnect_s
        How long a lost link is looked for again; 0 gives up at once.
    spare_bytes
        The recording stops while so much of the disk is left.
    name
        The capture's name where it is taken already; else it is taken with the first sample.
    remarks
        Gives what else is to be known of it when it has ended.
    """

    path: Path
    settings: BenchSettings
    info: CaptureInfo
    corrections: tuple[Correction, ...] = ()
    patterns: Patterns = _NO_PATTERNS
    reconnect_s: float = 0.0
    spare_bytes: int = _SPARE_BYTES
    name: CaptureName | None = None
    remarks: Callable[[], tuple[str, ...]] = tuple


@dataclass(frozen=True)
class Recorded:
    """What came of it.

    Parameters
    ----------
    name
        Of the capture.
    samples, missing
        How many there are, and how many of them nobody took.
    sample_interval_s
        Length of one.
    events, lost_lines
        How many events it holds, and how many lines of the console there was no room for.
    ending, fault
        How it ended, and the fault if there was one.
    gaps
        How often the link was lost.
    remarks
        What else is to be known of it, in words.
    """

    name: str
    samples: int
    missing: int
    sample_interval_s: float
    events: int
    ending: Ending
    fault: WarmEmberError | None = None
    gaps: int = 0
    lost_lines: int = 0
    remarks: tuple[str, ...] = ()


class Recorder:
    """Make one recording; `run` does all of it in the calling thread, the rest may be read from others.

    Parameters
    ----------
    station
        The instrument.
    job
        What to record.
    console
        The target's console, if there is one.

    Attributes
    ----------
    file
        What was recorded so far, as channels that grow; None before the first sample.
    samples
        How many came so far; the file may be a little behind.
    state
        What it does now, in a word or two.
    """

    def __init__(self, station: InstrumentConnection, job: Job, console: Console | None = None) -> None:
        self.station, self.job, self._console = station, job, console
        self.file: RecordingFile | None = None
        self.state = "setting up"
        self.samples = 0
        self.missing = 0
        self.gaps = 0
        self.started_s = time.monotonic()
        self._info = job.info
        self._last_sample_s = 0.0
        self._readings_from_s = 0.0
        self._early: list[ReadingBlock] = []
        self._flushed_s = 0.0
        self._heard: list[Heard] = []
        self._noted = 0
        self._before: list[ConsoleLine] = []
        self._feed: ConsoleFeed | None = console.feed() if console is not None else None
        self._dropped = 0
        self._marks: deque[ConsoleLine] = deque()
        self._writing = WriteBehind()
        interval_s = job.settings.interval_s
        duration_s = job.settings.duration_s
        self.points = round(duration_s / interval_s) if duration_s is not None else None

    def run(self, should_stop: ShouldStop) -> Recorded:
        """Record until the end, until asked to stop, or until a fault that does not pass.

        Raises
        ------
        WarmEmberError
            If nothing was recorded at all; the output is off then.
        """
        fault: WarmEmberError | None = None
        ending = Ending.DONE
        try:
            self.station.instrument.check(self.job.settings)
            self.station.instrument.should_stop = should_stop
            self._start()
            ending = self._record(should_stop)
            self.station.instrument.should_stop = never
            if self.station.instrument.is_in_step:
                self.station.instrument.stop()
            self._writing.drain()
        except WarmEmberError as error:
            fault, ending = error, Ending.FAULT
        except OSError as error:
            fault = not_written(self.job.path, error, "the recording ends here")
            ending = Ending.DISK
        if fault is not None:
            self._make_safe(fault)
        self._writing.close()
        return self._finish(ending, fault)

    def _make_safe(self, fault: WarmEmberError) -> None:
        self.state = "switching off"
        if not isinstance(fault, InstrumentError):
            self.station.make_safe()
        elif not self.station.make_safe():
            log.warning("the output of %s may still be on", self.station.resource)
            fault.args = (f"{fault.args[0]}; it did not confirm that its output is off: make sure of it by hand",)

    def _start(self, resumed: str = "") -> None:
        """Set everything and start the sweep; `resumed` says why there was one before."""
        instrument, settings = self.station.instrument, self.job.settings
        known = instrument.description
        instrument.set_source(settings)
        left = None if self.points is None else self.points - self.samples
        if left is None and not known.endless_points:
            left = known.max_points or 1 << 30
        if left is not None and known.max_points is not None:
            left = min(left, known.max_points)
        instrument.set_sweep(settings, left)
        instrument.start()
        self._sweep_left = left
        self.state = "waiting for the trigger" if settings.trigger.source != "immediate" else "recording"
        now_s = time.monotonic()
        if self.file is not None:
            self._mark_gap(now_s - self._last_sample_s, resumed)
        else:
            self.started_s = now_s
        self._last_sample_s = now_s
        self._readings_from_s = self._length_s

    def _record(self, should_stop: ShouldStop) -> Ending:
        while self.points is None or self.samples < self.points:
            if should_stop():
                return Ending.STOPPED
            try:
                came = self._fetch()
                if not came and self.station.instrument.has_ended:
                    return Ending.DONE if self.points is None else Ending.ENDED
                if self._sweep_left == 0 and (self.points is None or self.samples < self.points):
                    self._start("the next sweep began after {}")
            except InstrumentError as error:
                if should_stop() and self.file is not None:
                    return Ending.STOPPED  # it did not answer in time any more
                self._reconnect(error, should_stop)
                self.station.instrument.should_stop = should_stop
                continue
            if not self._keep_safe():
                return Ending.DISK
            if not came or came < _POLL_S / self.job.settings.interval_s:
                time.sleep(_POLL_S)
        return Ending.DONE

    def _fetch(self) -> int:
        asked_s = time.monotonic()  # what takes its time to answer has not been silent
        piece = self.station.instrument.fetch()
        self._marks.extend(ConsoleLine(time.monotonic(), words, sent=True) for words in self.station.instrument.news)
        count = len(piece.current)
        if not count and piece.readings is not None:
            self._last_sample_s = time.monotonic()
            if self.file is None:
                self._early.append(piece)
            else:
                self._append(piece)
            return 0
        if not count:
            if asked_s - self._last_sample_s > self._patience_s:
                raise InstrumentError(
                    self.station.resource,
                    f"no samples came for {self._patience_s:.0f} s",
                    remedy="is it still recording?",
                    link_lost=True,
                )
            return 0
        now_s = time.monotonic()
        if self.file is None:
            began_s = self.station.instrument.began_s
            if began_s is not None:
                self.started_s = began_s
            elif self.job.settings.trigger.source != "immediate":
                self.started_s = now_s - count * self.job.settings.interval_s
            self._open_file()
            for early in self._early:
                self._append(early)
        self.state = "recording"
        self._last_sample_s = now_s
        if self._sweep_left is not None:
            self._sweep_left = max(0, self._sweep_left - count)
        self._append(piece)
        return count

    @property
    def _patience_s(self) -> float:
        if self.state == "waiting for the trigger":
            return float("inf")
        return self.station.timeout_s + 10 * self.job.settings.interval_s

    def _open_file(self) -> None:
        instrument, settings = self.station.instrument, self.job.settings
        start = datetime.now(UTC).timestamp() - (time.monotonic() - self.started_s)
        known = instrument.description
        self._info = msgspec.structs.replace(
            self.job.info,
            sample_interval_s=settings.interval_s,
            start_utc=datetime.fromtimestamp(start, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z"),
            supply_v=settings.voltage_v if settings.voltage_v is not None else self.job.info.supply_v,
            instrument=instrument.identity,
            range=range_text(known, settings.range_a),
            resolution_a=resolution_of(known, settings.range_a),
            reading_interval_s=instrument.reading_interval_s,
            aperture_s=known.aperture_s if known.mode != "sweep" else None,
            corrections=(*self.job.info.corrections, *(c.sentence for c in self.job.corrections)),
        )
        self.file = RecordingFile(
            self.job.path,
            self._info_with_losses(),  # as far as is known now, for whoever finishes it when this program is killed
            with_voltage="voltage" in instrument.senses,
            line_names=instrument.line_names,
            with_readings=instrument.description.mode != "sweep",
            aux_units=instrument.aux_units,
            name=self.job.name,
        )

    def _append(self, piece: ReadingBlock) -> None:
        if self.points is not None and self.samples + len(piece.current) > self.points:
            piece = piece.first(self.points - self.samples)
        if piece.readings is not None:
            end_s = float("inf") if self.points is None else self.points * self.job.settings.interval_s
            piece = replace(piece, readings=piece.readings.later(self._readings_from_s, end_s))
        self.missing += int(np.isnan(piece.current).sum())
        self.samples += len(piece.current)
        self._writing.put(partial(self._write, piece), piece.nbytes)

    def _write(self, piece: ReadingBlock) -> None:
        assert self.file is not None
        current = piece.current
        if self.job.corrections:
            supply_v = self._info.supply_v
            current = correct(current, piece.voltage, self.job.corrections, supply_v=supply_v).current
        self.file.append(current, piece.voltage, piece.lines, piece.readings, piece.aux)

    def _keep_safe(self) -> bool:
        """Flush twice a second; False when the disk is nearly full."""
        now_s = time.monotonic()
        if self.file is None or now_s - self._flushed_s < _FLUSH_S:
            return True
        self._flushed_s = now_s
        self._hear()
        self._writing.put(partial(self._save, self._heard[self._noted :]))
        self._noted = len(self._heard)
        needed = self.job.spare_bytes + _SUMMARY_SHARE * self.file.bytes_written
        return room_left(self.job.path.parent) > needed

    def _save(self, heard: list[Heard]) -> None:
        """Write down what was fetched and what the console said since the last time, to outlive this program."""
        assert self.file is not None
        for one in heard:
            self.file.note(one)
        self.file.flush()

    def _hear(self) -> None:
        """Take in what the console said; what came before the first sample waits until it is known when that was."""
        lines = self._feed.take() if self._feed is not None else []
        while self._marks:  # another thread may set one meanwhile
            lines.append(self._marks.popleft())
        if self.file is None:
            self._before += lines
            return
        self._take_in([*self._before, *lines])
        self._before = []

    def _take_in(self, lines: list[ConsoleLine]) -> None:
        kept = lines[: max(0, _MOST_HEARD - len(self._heard))]
        self._dropped += len(lines) - len(kept)
        self._heard += [self.job.patterns.heard(line, self.started_s) for line in kept]

    @property
    def lost_lines(self) -> int:
        """How many lines of the console there was no room for."""
        return self._dropped + (self._feed.lost if self._feed is not None else 0)

    def mark(self, text: str) -> None:
        """Remember this moment."""
        self._marks.append(ConsoleLine(time.monotonic(), text, sent=True))

    def _reconnect(self, error: InstrumentError, should_stop: ShouldStop) -> None:
        """Look for the instrument again and go on with a marked gap.

        Raises
        ------
        InstrumentError
            The first error, when it is not there in time.
        """
        if not error.link_lost or not self.job.reconnect_s or should_stop():
            raise error
        log.info("the link was lost: %s", error)
        self.state = "looking for the instrument"
        until_s = time.monotonic() + self.job.reconnect_s
        while time.monotonic() < until_s and not should_stop():
            try:
                self.station.reopen(should_stop)
                instrument = self.station.instrument
                instrument.forget_errors()
                instrument.stop()
                instrument.set_source(self.job.settings)
                instrument.switch(on=True)
                self._start("link lost for {}")
                self.gaps += 1
            except InstrumentError as again:
                log.info("not yet: %s", again)
                time.sleep(_AGAIN_S)
                continue
            return
        raise error

    def _mark_gap(self, seconds: float, why: str) -> None:
        """Put missing samples for the time that nobody recorded, and say why."""
        assert self.file is not None
        missing = max(1, round(seconds / self.job.settings.interval_s))
        if self.points is not None:
            missing = min(missing, self.points - self.samples)
        self._marks.append(ConsoleLine(self._last_sample_s, why.format(f"{seconds:.3g} s"), sent=True))
        while missing > 0:
            count = min(missing, _GAP_PIECE)
            file = self.file
            nothing = ReadingBlock.missing(
                count, with_voltage=file.voltage is not None, with_lines=file.lines is not None, aux=file.aux
            )
            self._append(nothing)
            missing -= count

    def _wait_for_last_lines(self) -> None:
        """Give the console time until the target's own clock is past the recording's end, but not for ever.

        Lines come in order: one that was printed after the end says that all from before it are here. The first may
        itself have been printed a little before the recording, so that what lies between them has to be longer.
        """
        until_s = time.monotonic() + _LAST_LINES_S
        while time.monotonic() < until_s:
            self._hear()
            stamped = [one.target_s for one in self._heard if one.target_s is not None and one.received_s >= 0]
            if stamped and stamped[-1] - stamped[0] >= self._length_s + JUST_BEFORE_S:
                return
            time.sleep(_POLL_S)

    @property
    def _length_s(self) -> float:
        return self.samples * self.job.settings.interval_s

    def _finish(self, ending: Ending, fault: WarmEmberError | None) -> Recorded:
        self.state = "finishing"
        if self.file is None:
            self._end_feed()
            if self.job.name is not None:
                self.job.name.release()
            if fault is not None:
                raise fault
            raise InstrumentError(self.station.resource, "nothing was recorded: it was stopped before the first sample")
        if self._console is not None and ending is Ending.DONE:
            self._wait_for_last_lines()
        self._end_feed()
        events = events_of(self._heard)
        try:
            self.file.finish(self._info_with_losses(), events)
        except OSError as error:
            self.file.leave()
            kept = "what was recorded is kept, and finished by the next command that opens the project"
            raise not_written(self.job.path, error, kept) from error
        self.state = "finished"
        return Recorded(
            name=self.job.path.name.removesuffix(".h5"),
            samples=self.file.samples,
            missing=self.missing,
            sample_interval_s=self.job.settings.interval_s,
            events=len(events),
            ending=ending,
            fault=fault,
            gaps=self.gaps,
            lost_lines=self.lost_lines,
            remarks=self._remarks,
        )

    def _end_feed(self) -> None:
        self._hear()
        if self._console is not None and self._feed is not None:
            self._console.end_feed(self._feed)

    @property
    def _remarks(self) -> tuple[str, ...]:
        return (*self.station.instrument.remarks, *self.job.remarks())

    def _info_with_losses(self) -> CaptureInfo:
        said = list(self._remarks)
        if self.lost_lines:
            said.append(f"{counted(self.lost_lines, 'line')} of the console missing from the log")
        return msgspec.structs.replace(self._info, note="; ".join(filter(None, (self._info.note, *said))))


def range_text(known: InstrumentDescription, range_a: float | None) -> str:
    """Return a range in words."""
    if range_a is not None:
        return str(quantity_text(range_a, "A"))
    if not known.ranges:
        return "automatic"
    ends = (quantity_text(one.full_a, "A") for one in (known.ranges[0], known.ranges[-1]))
    return "automatic, " + " to ".join(map(str, ends))


def resolution_of(known: InstrumentDescription, range_a: float | None) -> float | None:
    """Return the smallest current that is told from zero in a range: its offset or its step; None when not known."""
    one = known.range_for(range_a)
    found = max(one.offset_a, one.step_a) if one is not None else 0.0
    return found or None
