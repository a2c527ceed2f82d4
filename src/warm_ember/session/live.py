"""A recording in progress as a run that grows: what its lanes show and its running figures."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from warm_ember.bench.console import Console
from warm_ember.bench.console_line import ConsoleLine
from warm_ember.bench.patterns import Patterns
from warm_ember.bench.recorder import Recorder
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.placement import UNPLACED, Placement
from warm_ember.signal.band_limit import BandLimited
from warm_ember.signal.bits import LineSeries
from warm_ember.signal.series import Series
from warm_ember.signal.stretch import StretchReading, read_samples, total
from warm_ember.store.recording_file import RecordingFile


@dataclass(frozen=True, eq=False)
class LiveCapture:
    """The channels of a recording, as long as they are at any moment."""

    file: RecordingFile

    @property
    def info(self) -> CaptureInfo:
        """Identity and conditions."""
        return self.file.info

    @property
    def duration_s(self) -> float:
        """Length so far."""
        return self.file.samples * self.file.info.sample_interval_s

    @property
    def current(self) -> Series:
        """Current, A."""
        return self.file.current

    @property
    def voltage(self) -> Series | None:
        """Voltage, V."""
        return self.file.voltage

    @property
    def power(self) -> Series | None:
        """Power is not shown while recording: it would be read twice."""
        return None

    @property
    def lines(self) -> LineSeries | None:
        """Digital lines."""
        return self.file.lines

    @property
    def aux(self) -> Mapping[str, tuple[Series, str]]:
        """Further channels with their units."""
        return dict(self.file.aux)


class LiveRun:
    """A recording as its lanes show it.

    The console's states are placed by when their lines came, the target's own time taken from the fastest of them; the
    finished capture is placed by laying the target's clock on it.

    Parameters
    ----------
    recorder
        What records; its file must be open.
    console, patterns
        Where states come from, and what its lines mean.
    """

    def __init__(self, recorder: Recorder, console: Console | None, patterns: Patterns) -> None:
        assert recorder.file is not None
        self.recorder, self._console, self._patterns = recorder, console, patterns
        self.file = recorder.file
        self.capture = LiveCapture(self.file)
        self._entered: list[tuple[float, str]] = []
        self._heard = 0
        self._fastest_s = np.inf
        self._charges: dict[str, tuple[float, int]] = {}
        self._summed = 0

    def follow(self) -> None:
        """Take in what the console said since the last time."""
        if self._console is None:
            return
        lines, self._heard = self._console.lines_from(self._heard)
        for line in lines:
            event: Event = self._patterns.event(line, self._time_of(line))
            if event.event == "state":
                self._entered.append((event.time_s, event.name))
        self._sum_up()

    def _time_of(self, line: ConsoleLine) -> float:
        """Return when a line was written, by the target's own time and the line that came fastest so far."""
        if line.target_s is None:
            return line.received_s - self.recorder.started_s
        self._fastest_s = min(self._fastest_s, line.received_s - line.target_s)
        return self._fastest_s + line.target_s - self.recorder.started_s

    def _sum_up(self) -> None:
        """Add up the intervals that ended."""
        samples, interval_s = self.capture.current.samples, self.file.info.sample_interval_s
        while self._summed + 1 < len(self._entered):
            (from_s, name), (to_s, _) = self._entered[self._summed], self._entered[self._summed + 1]
            first, last = (min(max(round(time_s / interval_s), 0), samples) for time_s in (from_s, to_s))
            if last >= samples:
                return
            self._summed += 1
            if last > first:
                found = total(self.capture.current, first, last)
                charge, count = self._charges.get(name, (0.0, 0))
                self._charges[name] = (charge + found.total, count + last - first)

    @property
    def placement(self) -> Placement:
        """The states so far."""
        samples, interval_s = max(1, self.capture.current.samples), self.file.info.sample_interval_s
        starts = np.array([round(time_s / interval_s) for time_s, _ in self._entered], dtype=np.int64)
        names = tuple(dict.fromkeys(name for _, name in self._entered))
        index = {name: number for number, name in enumerate(names)}
        states = np.array([UNPLACED] + [index[name] for _, name in self._entered], dtype=np.int64)
        edges = np.concatenate((np.zeros(1, np.int64), np.clip(starts, 0, samples), np.full(1, samples)))
        edges = np.maximum.accumulate(edges)
        kept = np.flatnonzero(np.diff(edges) > 0)
        return Placement(
            names=names,
            edges=np.append(edges[kept], samples),
            state=states[kept],
            how=tuple("console" for _ in names),
        )

    @property
    def current_span_a(self) -> tuple[float, float]:
        """From what its range resolves to an ampere: its currents are still to come."""
        return max(self.file.info.resolution_a or 1e-7, 1e-8), 1.0

    @property
    def state_means(self) -> tuple[tuple[str, float | None], ...]:
        """Each state with its mean current so far, A."""
        return tuple((name, charge / count) for name, (charge, count) in self._charges.items())

    @property
    def limited(self) -> Mapping[str, BandLimited]:
        """No channel is shown with its band limited: that takes what is still to come."""
        return {}

    def reading(self) -> StretchReading | None:
        """Return the reading of all that was recorded; None before the first sample."""
        samples = self.capture.current.samples
        if not samples:
            return None
        return read_samples(self.capture.current, 0, samples, power=None, supply_v=None)

    def latest(self, seconds: float) -> StretchReading | None:
        """Return the reading of the last seconds."""
        samples = self.capture.current.samples
        count = min(samples, max(1, round(seconds / self.file.info.sample_interval_s)))
        return read_samples(self.capture.current, samples - count, samples) if samples else None
