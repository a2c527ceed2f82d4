"""Running a sweep from the window: in a worker, with its progress, its questions and its end brought to the screen."""

from __future__ import annotations

import threading
import time
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt, Signal

from warm_ember.model.project import Run
from warm_ember.model.sweep import SweepRecipe
from warm_ember.session.session import Session
from warm_ember.session.sweep_recipes import kept_sweeps, progress_in
from warm_ember.session.sweep_results import SweepResult, sweep_result, with_course
from warm_ember.session.sweeping import SweepTold, adopt_point, run_sweep
from warm_ember.ui.project_controller import ProjectController

if TYPE_CHECKING:
    from warm_ember.session.records import ShouldStop, SweepProgress

_STEP_S = 0.1
_RUN, _READ = "sweep", "sweep result"


class SweepController(QObject):
    """The sweeps of the open project.

    Signals
    -------
    changed
        What is known of the shown sweep: its result; None where there is none.
    said
        What is being done, in words; empty at the end.
    asked
        What a person is to do, in words; empty when that is over.
    """

    changed = Signal(object)
    said = Signal(str)
    asked = Signal(str)
    _progressed = Signal(object)
    _recorded = Signal(object, object)

    def __init__(self, controller: ProjectController) -> None:
        super().__init__(controller)
        self._controller = controller
        self.is_running = False
        self.names: tuple[tuple[str, Path], ...] = ()
        self._answer, self._stopping = threading.Event(), threading.Event()
        controller.session_changed.connect(self._on_session)
        # From the worker to the interface thread, in which the project is edited.
        self._progressed.connect(self.show_progress, Qt.ConnectionType.QueuedConnection)
        self._recorded.connect(self._on_recorded, Qt.ConnectionType.QueuedConnection)

    def open_latest(self) -> None:
        """Show the sweep of the project that was measured last."""
        session = self._controller.session
        self.names = kept_sweeps(session) if session is not None else ()
        if session is None or not self.names:
            self.changed.emit(None)
            return
        self.open(self.names[0][1])

    def open(self, path: Path) -> None:
        """Show a sweep of the project."""
        session = self._controller.session
        if session is None:
            return

        def work(should_stop: ShouldStop, _progress: object) -> SweepResult:
            return with_course(session, sweep_result(session, progress_in(path)), should_stop)

        self._controller.work(_READ, "reading the sweep", work, self.changed.emit)

    def show_progress(self, progress: SweepProgress) -> None:
        """Show what is known so far."""
        session = self._controller.session
        if session is None or not progress.recordings:
            return

        def work(should_stop: ShouldStop, _progress: object) -> SweepResult:
            return with_course(session, sweep_result(session, progress), should_stop)

        self._controller.work(_READ, "learning from the sweep", work, self.changed.emit)

    def run(self, recipe: SweepRecipe, resource: str) -> None:
        """Run a sweep, or go on with it."""
        session = self._controller.session
        if session is None or self.is_running:
            return
        self.is_running = True
        self._stopping.clear()
        stopping = self._stopping
        told = SweepTold(ask=self._ask, said=self.said.emit, changed=self._progressed.emit, adopt=self._recorded.emit)

        def work(should_stop: ShouldStop, _progress: object) -> SweepProgress:
            return run_sweep(session, recipe, resource, lambda: should_stop() or stopping.is_set(), told)

        self._controller.jobs.run(_RUN, "sweeping", work, self._on_done, self._on_failed)
        self.said.emit("starting")

    def stop(self) -> None:
        """Stop after the output is off; what was measured is kept."""
        self._stopping.set()  # and not the work itself: its end is wanted

    def _on_session(self) -> None:
        self.is_running, self.names = False, ()  # what ran was stopped with the project it ran in

    def answer(self) -> None:
        """Say that what was asked for is done."""
        self._answer.set()

    def _ask(self, words: str, seconds: float, should_stop: ShouldStop) -> bool:
        self._answer.clear()
        self.asked.emit(words)
        until_s = time.monotonic() + seconds
        try:
            while time.monotonic() < until_s and not should_stop():
                if self._answer.wait(_STEP_S):
                    return True
            return False
        finally:
            self.asked.emit("")

    def _on_recorded(self, session: Session, run: Run) -> None:
        if session is self._controller.session:
            adopt_point(session, run)
            self._controller.project_changed.emit()

    def _on_done(self, progress: SweepProgress) -> None:
        self.is_running = False
        self.said.emit("")
        session = self._controller.session
        self.names = kept_sweeps(session) if session is not None else ()
        self._controller.noted.emit(f"The sweep ended: {progress.ended}.")
        self.show_progress(progress)

    def _on_failed(self, error: Exception) -> None:
        self.is_running = False
        self.said.emit("")
        self._controller.report_failure(error)
