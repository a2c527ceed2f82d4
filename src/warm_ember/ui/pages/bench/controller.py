"""The bench in the window: its console, its recording, its zero, each off the interface thread."""

from __future__ import annotations

import logging
import sys
import threading
from datetime import datetime
from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import QCoreApplication, QObject, Signal

from warm_ember.errors import WarmEmberError
from warm_ember.model.bench import Bench, Recipe, SwitchOutput, Take
from warm_ember.session.bench_setup import Patterns, describe, find_instruments, open_console, read_zero
from warm_ember.session.edits import SetFields
from warm_ember.session.live import LiveRun
from warm_ember.session.new_capture import free_name
from warm_ember.session.pace import prints_by_itself
from warm_ember.session.recording import RecordRequest, adopt_recorded, check_request, record
from warm_ember.session.session import Session
from warm_ember.session.simulated_bench import GUARD_V, SUPPLY_V, SimulatedBench
from warm_ember.ui.project_controller import ProjectController
from warm_ember.units import counted

if TYPE_CHECKING:
    from warm_ember.session.records import (
        Console,
        DiscoveredInstrument,
        InstrumentDescription,
        Recorded,
        Recorder,
        Stage,
    )


log = logging.getLogger(__name__)

_RECONNECT_S = 60.0
_TURN_S = 0.5e-3
_USUAL_TURN_S = sys.getswitchinterval()


class BenchController(QObject):
    """What the Bench page works with.

    Signals
    -------
    changed
        A recording began or ended, the console was opened or closed, an instrument was found.
    line_came
        A `ConsoleLine`.
    said
        What the recording does now, in words.
    zeroed
        ``(stage name, Level)``.
    """

    changed = Signal()
    line_came = Signal(object)
    said = Signal(str)
    zeroed = Signal(str, object)
    _began = Signal(object)
    _ended = Signal(object, object)

    def __init__(self, controller: ProjectController) -> None:
        super().__init__(controller)
        self.controller = controller
        self.console: Console | None = None
        self.live: LiveRun | None = None
        self.recorder: Recorder | None = None
        self.found: tuple[DiscoveredInstrument, ...] = ()
        self.description: InstrumentDescription | None = None
        self.simulated: SimulatedBench | None = None
        self._thread: threading.Thread | None = None
        self._stop = threading.Event()
        self._session: Session | None = None
        self._title = ""
        self._began.connect(self._on_began)
        self._ended.connect(self._on_ended)
        controller.closing.connect(self.close)

    @property
    def bench(self) -> Bench:
        """The bench of the open project."""
        return self.controller.project.bench

    def change(self, what: str, **fields: object) -> None:
        """Send an edit of the bench."""
        self.controller.apply(SetFields("bench", fields), what)

    def change_settings(self, what: str, **fields: object) -> None:
        """Send an edit of what the instrument is set to."""
        self.change(what, settings=msgspec.structs.replace(self.bench.settings, **fields))

    @property
    def is_recording(self) -> bool:
        """Whether a recipe runs."""
        return self._thread is not None

    def open_console(self, address: str) -> None:
        """Open the console at an address and remember it; an empty one closes it."""
        self.close_console()
        self.change("console", console=address)
        if address:
            try:
                self.console = open_console(self.bench, address, self.line_came.emit)
            except WarmEmberError as error:
                self.controller.troubled.emit(error.one_line)
        self.changed.emit()

    def close_console(self) -> None:
        """Close the console."""
        if self.console is not None:
            console, self.console = self.console, None
            console.close()
            self.changed.emit()

    def send(self, text: str) -> None:
        """Send a line to the target."""
        if self.console is None:
            self.controller.troubled.emit("No console is open: enter its address first, such as /dev/ttyUSB0.")
            return
        try:
            self.console.send(text)
        except WarmEmberError as error:
            self.controller.troubled.emit(error.one_line)

    def use_simulated(self) -> None:
        """Start the simulated bench in the background, and speak with it and its target's console from now on."""

        def done(simulated: SimulatedBench) -> None:
            if self.simulated is not None:
                self.simulated.close()
            self.simulated = simulated
            bench = self.bench
            self.change("instrument", resource=simulated.resource, guard_v=bench.guard_v or GUARD_V)
            if bench.settings.voltage_v is None:
                self.change_settings("voltage", voltage_v=SUPPLY_V)
            self.open_console(simulated.console)
            self.find()

        self.controller.work(
            "simulated bench",
            "starting the simulated bench",
            lambda should_stop, _progress: SimulatedBench(should_stop=should_stop),
            done,
        )

    def find(self) -> None:
        """Look for instruments in the background."""
        known = tuple(dict.fromkeys((self.bench.resource, *(one.resource for one in self.found))))

        def done(found: tuple[DiscoveredInstrument, ...]) -> None:
            self.found = found
            names = "; ".join(f"{one.identity} at {one.resource}" for one in found)
            self.controller.noted.emit(f"Found {names}" if found else "No instrument answers; enter its address.")
            if found and not self.bench.resource:
                self.change("instrument", resource=found[0].resource)
            self.look_up()
            self.changed.emit()

        self.controller.work(
            "find instruments",
            "asking who is there",
            lambda should_stop, progress: find_instruments(known, should_stop=should_stop, progress=progress),
            done,
        )

    def look_up(self) -> None:
        """Look up what is known of the instrument that the project names."""
        identity = next((one.identity for one in self.found if one.resource == self.bench.resource), "")
        if identity and not prints_by_itself(self.bench):
            try:
                self.description = describe(identity)
            except WarmEmberError as error:
                self.controller.troubled.emit(error.one_line)

    def start(self, name: str = "", recipe: Recipe | None = None, title: str = "") -> bool:
        """Start recording by a recipe, or by the settings alone; answer whether it began."""
        session = self.controller.session
        if session is None or self.is_recording:
            return False
        recipe = recipe or Recipe("record", self.bench.settings, (SwitchOutput(), Take()))
        wanted = name or datetime.now().astimezone().strftime("run %Y-%m-%d %H.%M")
        request = RecordRequest(self.bench, recipe, free_name(session, wanted), reconnect_s=_RECONNECT_S)
        try:
            check_request(session, request)
        except WarmEmberError as error:
            self.controller.troubled.emit(error.one_line)
            return False
        self._session, self._title = session, title
        self._stop = threading.Event()
        self._thread = threading.Thread(target=lambda: self._run(session, request), name="recording")
        # The recorder and the drawing hand the interpreter to each other many times a frame: at 1 MS/s the usual
        # 5 ms per turn cost every second frame.
        sys.setswitchinterval(_TURN_S)
        self._thread.start()
        self.changed.emit()
        return True

    def _run(self, session: Session, request: RecordRequest) -> None:
        taken: tuple[Recorded, ...] = ()
        error: Exception | None = None
        try:
            taken = record(
                session,
                request,
                should_stop=self._stop.is_set,
                console=self.console,
                started=self._began.emit,
                said=self.said.emit,
            )
        except Exception as caught:  # noqa: BLE001 - the thread's boundary: it is reported on the other side
            error = caught
        self._ended.emit(taken, error)

    def _on_began(self, recorder: Recorder) -> None:
        self.recorder, self.live = recorder, None
        self.changed.emit()

    def live_run(self) -> LiveRun | None:
        """Return the recording as a run that grows; None before its first sample."""
        recorder = self.recorder
        if self.live is None and recorder is not None and recorder.file is not None:
            self.live = LiveRun(recorder, self.console, Patterns(self.bench.patterns))
        return self.live

    def stop(self) -> None:
        """End the recording; what was recorded is kept."""
        self._stop.set()

    def mark(self, text: str = "here") -> None:
        """Mark this moment in the recording."""
        if self.recorder is not None:
            self.recorder.mark(text)
            self.controller.noted.emit("This moment is marked.")

    def _on_ended(self, taken: tuple[Recorded, ...], error: Exception | None) -> None:
        thread, self._thread = self._thread, None
        if thread is not None:
            thread.join()
        sys.setswitchinterval(_USUAL_TURN_S)
        self.recorder, self.live = None, None
        session = self._session
        for recorded in taken:
            if session is not None:
                self._adopt(session, recorded)
        fault = error or next((one.fault for one in taken if one.fault is not None), None)
        if isinstance(fault, WarmEmberError):
            self.controller.troubled.emit(fault.one_line + (f"; {taken[-1].name} is kept" if taken else ""))
        elif fault is not None:
            log.error("the recording failed", exc_info=fault)
            self.controller.troubled.emit("Something went wrong inside the program; the log has the details.")
        self.changed.emit()
        if session is not None and session is self.controller.session and taken:
            self.controller.show_new_run()

    def _adopt(self, session: Session, recorded: Recorded) -> None:
        try:
            adopt_recorded(session, recorded, title=self._title)
        except WarmEmberError as error:
            self.controller.troubled.emit(error.one_line)
        missing = f", {counted(recorded.missing, 'sample')} missing" if recorded.missing else ", none missing"
        said = "; ".join((recorded.ending.value, *recorded.remarks))
        self.controller.noted.emit(f"{recorded.name}: {counted(recorded.samples, 'sample')}{missing}; {said}")

    def read_zero(self, stage: Stage) -> None:
        """Measure the set-up's own reading in the background."""
        bench = self.bench
        self.controller.work(
            "zero",
            f"reading with {stage.name}",
            lambda should_stop, progress: read_zero(bench, should_stop, progress),
            lambda level: self.zeroed.emit(stage.name, level),
        )

    def close(self) -> None:
        """End the recording and keep it, and close the console."""
        self._stop.set()
        thread = self._thread
        if thread is not None:
            thread.join()
            # Its answer waits in the queue of this thread: take it before the session is closed.
            QCoreApplication.sendPostedEvents(self)
        self.close_console()
        if self.simulated is not None:
            simulated, self.simulated = self.simulated, None
            simulated.close()
