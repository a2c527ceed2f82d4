"""A kernel trace alone as a capture: its time axis and its log, and no current at all."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec
import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.formats.kernel_trace import KernelTrace, read_kernel_trace
from warm_ember.formats.source import SourceBlock
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.program import ProgramTrace
from warm_ember.signal.series import CHUNK_SAMPLES, Progress, ShouldStop

_INTERVAL_S, _MOST_SAMPLES = 1e-5, 1 << 27


class KernelTraceSource:
    """A trace as a source of samples that are all missing; time 0 is its first line.

    Parameters
    ----------
    path
        The file.
    """

    with_voltage = False
    line_names: tuple[str, ...] = ()
    start_utc = ""
    length: int | None = None
    info: CaptureInfo | None = None
    program: ProgramTrace | None = None

    def __init__(self, path: Path) -> None:
        self._path = path
        self._names: tuple[str, ...] = ()
        self._trace: KernelTrace | None = None
        self.aux_units: dict[str, str] = {}
        self.events: tuple[Event, ...] = ()
        self.first_time_s = 0.0
        self.interval_s = _INTERVAL_S

    def name_states(self, names: tuple[str, ...]) -> None:
        """Return what the idle states are called, by number."""
        self._names, self._trace = names, None

    @property
    def notes(self) -> tuple[str, ...]:
        """What was assumed."""
        found = self._trace.notes if self._trace is not None else ()
        return (*found, "the trace comes without a current: time 0 is its first line, and charges are unknown")

    def pieces(self, should_stop: ShouldStop, progress: Progress) -> Iterator[SourceBlock]:
        """Yield missing samples as long as the trace lasts.

        Raises
        ------
        BadFileError
            If the trace cannot be read.
        Cancelled
            If `should_stop` answered yes.
        """
        self._trace = trace = read_kernel_trace(self._path, self._names, should_stop)
        self.first_time_s = trace.first_s
        self.events = tuple(msgspec.structs.replace(e, time_s=e.time_s - trace.first_s) for e in trace.events)
        length_s = max(trace.last_s - trace.first_s, _INTERVAL_S)
        while length_s / self.interval_s > _MOST_SAMPLES:
            self.interval_s *= 10
        left = total = int(np.ceil(length_s / self.interval_s)) + 1
        while left > 0:
            if should_stop():
                raise Cancelled("stopped")
            count = min(left, CHUNK_SAMPLES)
            yield SourceBlock(np.full(count, np.nan, dtype=np.float32))
            left -= count
            progress(1 - left / total)
