"""Bringing a foreign file into the project."""

from __future__ import annotations

import logging
from contextlib import closing
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from warm_ember.attribution.clock import TIMED_EVENTS, align, misfit_words
from warm_ember.errors import BadArgumentError, BadFileError, Cancelled, ProjectError
from warm_ember.formats.cpuidle import read_cpuidle
from warm_ember.formats.event_log import EventLog, read_events
from warm_ember.formats.itm import ItmStream, read_itm
from warm_ember.formats.kernel_source import KernelTraceSource
from warm_ember.formats.kernel_trace import KernelTrace, is_kernel_trace, read_kernel_trace
from warm_ember.formats.registry import open_source
from warm_ember.formats.source import ImportOptions, Source, check_regular
from warm_ember.formats.symbols import read_functions
from warm_ember.formats.vcd import VcdFile, sampled
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.program import Function, ProgramTrace
from warm_ember.model.wakes import SleepMode
from warm_ember.session.new_capture import ImportReport, make_folders, new_capture_path, remove_folders
from warm_ember.session.session import Session
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import Progress, ShouldStop, ignore_progress, never
from warm_ember.store.capture import Capture
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.store.layout import MOST_SAMPLES
from warm_ember.store.room import not_written, room_left
from warm_ember.units import counted, duration_text

log = logging.getLogger(__name__)


_COVERS = 0.9


@dataclass(frozen=True)
class ImportRequest:
    """What to import and what the user said about it.

    Parameters
    ----------
    file
        The current.
    options
        How to read it.
    name
        Name of the capture; the file's without ending when empty.
    events_file
        The target's log.
    lines_file
        The digital lines as a value change dump; they take the place of digital columns.
    wanted_lines
        Which of its lines to take; all that there is room for when empty.
    trace_file, elf_file
        An Arm trace stream with samples of the program counter, and the program that ran.
    kernel_file, cpuidle_folder
        Linux kernel trace text, and a saved ``cpuidle`` folder; one that lies beside the trace is taken by default.
    trace_clock_hz
        Ticks per second of the stream's time stamps; found from its length when None.
    supply_v
        Supply voltage for energies.
    replace
        Whether an existing capture of that name may go.
    """

    file: Path
    options: ImportOptions = field(default_factory=ImportOptions)
    name: str = ""
    events_file: Path | None = None
    lines_file: Path | None = None
    supply_v: float | None = None
    replace: bool = False
    trace_file: Path | None = None
    elf_file: Path | None = None
    trace_clock_hz: float | None = None
    kernel_file: Path | None = None
    cpuidle_folder: Path | None = None
    wanted_lines: tuple[str, ...] = ()


def import_file(
    session: Session,
    request: ImportRequest,
    *,
    should_stop: ShouldStop = never,
    progress: Progress = ignore_progress,
) -> ImportReport:
    """Read a foreign file into a new capture of the project; the project itself is left to `adopt`.

    Raises
    ------
    BadArgumentError
        If the name is impossible or taken.
    BadFileError
        If a file cannot be read; nothing is left behind then.
    ProjectError
        If the project folder cannot be written.
    Cancelled
        If `should_stop` answered yes.
    """
    name = request.name or request.file.stem
    path = new_capture_path(session, name, replace=request.replace)
    if request.supply_v is not None and not 0 < request.supply_v < float("inf"):
        raise BadArgumentError(f"--supply must be above 0 V, found {request.supply_v}")
    if request.wanted_lines and request.lines_file is None:
        raise BadArgumentError("--line chooses among the lines of a value change dump: give one with --lines")
    if request.elf_file is not None and request.trace_file is None:
        raise BadArgumentError("--elf gives names to a trace stream: give the stream with --itm too")
    if request.trace_clock_hz is not None and not 0 < request.trace_clock_hz < float("inf"):
        raise BadArgumentError(f"--itm-clock must be above 0 Hz, found {request.trace_clock_hz}")
    for file in (request.file, request.events_file, request.lines_file, request.trace_file, request.elf_file):
        if file is not None:
            check_regular(file)
    if request.kernel_file is not None:
        check_regular(request.kernel_file)
    program = _read_program(request, should_stop)
    modes = _idle_states(request)
    kernel = None
    if request.kernel_file is not None:
        kernel = read_kernel_trace(request.kernel_file, tuple(mode.name for mode in modes), should_stop)
    source = open_source(request.file, request.options)
    if isinstance(source, KernelTraceSource):
        source.name_states(tuple(mode.name for mode in modes))
    vcd = VcdFile(request.lines_file, request.wanted_lines) if request.lines_file is not None else None
    log_file = read_events(request.events_file) if request.events_file is not None else EventLog(source.events)
    made_folders = make_folders(path.parent)
    try:
        importing = _Import(request, name, path, source, vcd, log_file, program, kernel)
        report = importing.run(should_stop, progress)
        misfit = _misfit(path, should_stop) if report.events else ()
        return replace(report, sleep_modes=modes, notes=(*report.notes, *misfit))
    except OSError as error:
        remove_folders(made_folders)
        if isinstance(error, BadFileError | ProjectError):
            raise
        raise not_written(path, error, "nothing was imported") from error
    except BaseException:
        remove_folders(made_folders)
        raise


def _misfit(path: Path, should_stop: ShouldStop) -> tuple[str, ...]:
    """Say that the log of a new capture does not fit it, if so."""
    with closing(Capture(path)) as capture:
        if capture.whole().mean_a is None or not any(event.event in TIMED_EVENTS for event in capture.events):
            return ()
        try:
            alignment = align(capture, lambda: find_levels(capture.current, should_stop=should_stop))
        except Cancelled:  # the capture is whole
            return ()
    if not alignment.is_unusable:
        return ()
    if alignment.is_ambiguous:
        return (f"the log places nothing: it fits as well when it is shifted by {abs(alignment.rival_s or 0.0):.3g} s",)
    return (f"the log places nothing: {misfit_words(alignment)}",)


def _idle_states(request: ImportRequest) -> tuple[SleepMode, ...]:
    """Return the idle states of the folder that was given, or that lies beside the trace."""
    if request.cpuidle_folder is not None:
        return read_cpuidle(request.cpuidle_folder)
    beside = (request.kernel_file or request.file).parent / "cpuidle"
    if (request.kernel_file is not None or _is_trace(request.file)) and beside.is_dir():
        return read_cpuidle(beside)
    return ()


def _is_trace(path: Path) -> bool:
    try:
        with path.open("rb") as file:
            return is_kernel_trace(file.read(4096))
    except OSError:
        return False


@dataclass(frozen=True, eq=False)
class _Program:
    """What was read of the program that ran."""

    stream: ItmStream
    functions: tuple[Function, ...]
    notes: tuple[str, ...]

    def laid_on(self, duration_s: float, clock_hz: float | None) -> tuple[ProgramTrace, tuple[str, ...]]:
        times_s, words = self.stream.times_s(duration_s, clock_hz)
        covered_s = float(times_s[-1] - times_s[0]) if len(times_s) else 0.0
        less: tuple[str, ...] = ()
        if covered_s < _COVERS * duration_s:
            told = f"the trace stream covers {duration_text(covered_s)} of {duration_text(duration_s)}"
            less = (f"{told}: of the rest nothing is known; check --itm-clock, and that it is this capture's stream",)
        notes = (*self.stream.notes, words, *less, *self.notes)
        return ProgramTrace(times_s, self.stream.addresses, self.functions), notes


def _read_program(request: ImportRequest, should_stop: ShouldStop) -> _Program | None:
    if request.trace_file is None:
        return None
    functions: tuple[Function, ...] = ()
    notes: tuple[str, ...] = ("no ELF file was given: functions are shown by address",)
    if request.elf_file is not None:
        functions, notes = read_functions(request.elf_file)
    return _Program(read_itm(request.trace_file, should_stop), functions, notes)


@dataclass(frozen=True)
class _Import:
    """One import: all that is read, and where it goes."""

    request: ImportRequest
    name: str
    path: Path
    source: Source
    vcd: VcdFile | None
    log: EventLog
    program: _Program | None
    kernel: KernelTrace | None

    def run(self, should_stop: ShouldStop, progress: Progress) -> ImportReport:
        source, vcd = self.source, self.vcd
        notes: tuple[str, ...] = ()
        names = source.line_names if vcd is None else vcd.names
        if source.length is not None:
            self._check_room(source.length, 1 + source.with_voltage + bool(names) + len(source.aux_units))
        with CaptureWriter(
            self.path,
            replace=self.request.replace,
            with_voltage=source.with_voltage,
            line_names=names,
            aux_units=source.aux_units,
        ) as writer:
            for piece in source.pieces(should_stop, progress):
                lines = piece.lines if vcd is None else None
                writer.append(piece.current, voltage=piece.voltage, lines=lines, aux=piece.aux)
            if not writer.samples:
                raise BadFileError(self.request.file, "there are no samples")
            if vcd is not None:
                for bits in sampled(vcd, writer.samples, source.interval_s, should_stop):
                    writer.append_lines(bits)
                notes = tuple(vcd.notes)
                if source.line_names:
                    notes += (f"digital columns left out for those of {vcd.path.name}",)
            trace = source.program
            if self.program is not None:
                trace, said = self.program.laid_on(writer.samples * source.interval_s, self.request.trace_clock_hz)
                notes += said
            events = self.log.events or source.events
            if self.kernel is not None:
                events, notes = (*events, *self.kernel.events), (*notes, *self.kernel.notes)
            replaced = self.path.exists()
            writer.finish(self._info(), events, trace)
            notes = (*source.notes, *self.log.notes, *notes)
            return ImportReport(self.name, writer.samples, source.interval_s, len(events), notes, replaced=replaced)

    def _check_room(self, samples: int, channels: int) -> None:
        """Refuse at once what cannot end well."""
        file = self.request.file
        if samples > MOST_SAMPLES:
            raise BadFileError(file, f"holds {counted(samples, 'sample')}, {MOST_SAMPLES:.4g} at most are possible")
        needed, left = 4 * samples * channels, room_left(self.path.parent)
        if needed > left:
            words = f"needs {needed / 1e6:.4g} MB, {left / 1e6:.4g} MB are left: nothing was imported"
            raise ProjectError(self.path, words, remedy="make room and try again")

    def _info(self) -> CaptureInfo:
        request, source = self.request, self.source
        corrections: tuple[str, ...] = ()
        if request.options.shunt_ohm is not None:
            options = request.options
            shunt = f"{options.shunt_ohm:g} ohm, gain {options.gain:g}, offset {options.offset_v:g} V"
            corrections = (f"current from the voltage across {shunt}",)
        known = source.info
        if known is not None:
            supply_v = request.supply_v if request.supply_v is not None else known.supply_v
            return msgspec.structs.replace(known, sample_interval_s=source.interval_s, supply_v=supply_v)
        return CaptureInfo(
            sample_interval_s=source.interval_s,
            start_utc=source.start_utc,
            first_time_s=source.first_time_s,
            supply_v=request.supply_v,
            note=f"imported from {request.file.name} on {datetime.now(UTC):%Y-%m-%d}",
            corrections=corrections,
        )
