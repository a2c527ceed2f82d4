"""What all pages share: the session, its results, and the way edits are sent."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal

from warm_ember.errors import Cancelled, WarmEmberError
from warm_ember.model.project import Edit, Project
from warm_ember.session.page_links import Known
from warm_ember.session.session import Session
from warm_ember.ui.work import Jobs, Work

if TYPE_CHECKING:
    from warm_ember.model.finding import Finding
    from warm_ember.session.importing import ImportRequest
    from warm_ember.session.new_capture import ImportReport
    from warm_ember.session.records import Progress, QualityReport, ShouldStop
    from warm_ember.session.run_results import RunResults
    from warm_ember.session.tuning_results import PlanResults
    from warm_ember.session.wake_results import WakesShown


log = logging.getLogger(__name__)

_AUTOSAVE_MS = 800


@dataclass(frozen=True)
class _OtherRuns:
    """What is known of all runs: the average of each, and all results as far as they are looked at."""

    averages_a: dict[str, float]
    results: dict[str, RunResults]


class ProjectController(QObject):
    """The session on the interface's side.

    Signals
    -------
    session_changed
        Another project was opened.
    project_changed
        The project's value changed: an edit, an undo, an import.
    results_changed
        Results of the current run are there, or gone (None).
    runs_changed
        The averages of all runs are there, and while somebody looks at them all else of them.
    quality_changed
        What is wrong with the current run's capture is known, or not yet (None).
    wakes_changed, plan_changed
        The current run's wakes, and what the plan makes of it, are known, or not yet (None).
    recomputing
        Whether results are out of date and being computed.
    troubled
        An expected failure, as a message for the user.
    saved_changed
        Whether the file holds the project.
    """

    session_changed = Signal()
    project_changed = Signal()
    results_changed = Signal(object)
    runs_changed = Signal()
    quality_changed = Signal(object)
    wakes_changed = Signal(object)
    plan_changed = Signal(object)
    recomputing = Signal(int)
    troubled = Signal(str)
    noted = Signal(str)
    saved_changed = Signal()
    closing = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.jobs = Jobs(self)
        self.session: Session | None = None
        self.results: RunResults | None = None
        self.all_results: dict[str, RunResults] = {}
        self.averages_a: dict[str, float] = {}
        self.quality: QualityReport | None = None
        self.wakes: WakesShown | None = None
        self.plan: PlanResults | None = None
        self._viewers: set[object] = set()
        # One project is closed, and the next is about to be shown.
        self.is_between = False
        self._autosave = QTimer(self)
        self._autosave.setSingleShot(True)
        self._autosave.setInterval(_AUTOSAVE_MS)
        self._autosave.timeout.connect(self.save)

    @property
    def project(self) -> Project:
        """The project's value; an empty one while none is open."""
        return self.session.project if self.session is not None else Project()

    @property
    def project_folder(self) -> Path:
        """Where the open project lies; the working folder while none is open."""
        return self.session.folder.path if self.session is not None else Path()

    def set_session(self, session: Session | None) -> None:
        """Show another project."""
        self.close_session()
        self.session = session
        self.results, self.all_results, self.averages_a = None, {}, {}
        self._forget_analyses()
        self.results_changed.emit(None)  # nothing may be painted from captures that are closed now
        self.session_changed.emit()
        self._on_project_changed()

    def apply(self, edit: Edit, what: str) -> None:
        """Send an edit."""
        if self.session is None:
            return
        before = self.session.project
        self.session.apply(edit, what)
        if self.session.project is not before:
            self._on_project_changed()
            self._autosave.start()

    def undo(self) -> None:
        """Take the last edit back."""
        if self.session is not None and self.session.undo() is not None:
            self._on_project_changed()
            self._autosave.start()

    def redo(self) -> None:
        """Do the last undone edit again."""
        if self.session is not None and self.session.redo() is not None:
            self._on_project_changed()
            self._autosave.start()

    def save(self) -> None:
        """Write the project now."""
        self._autosave.stop()
        if self.session is None or self.session.is_saved:
            return
        try:
            has_more = self.session.save()
        except WarmEmberError as error:
            self.troubled.emit(error.one_line)
        else:
            if has_more:
                self._on_others()
        self.saved_changed.emit()

    def take_in_others(self) -> None:
        """Show what other programs changed in the project meanwhile."""
        if self.session is None:
            return
        try:
            has_more = self.session.take_in_others()
        except WarmEmberError as error:
            self.troubled.emit(error.one_line)
            return
        if has_more:
            self._on_others()

    def _on_others(self) -> None:
        self.noted.emit("Another program changed this project meanwhile; its edits and yours are both kept.")
        self._on_project_changed()

    def select_run(self, name: str) -> None:
        """Make another run the current one."""
        if self.session is not None and name != self.session.current and self.session.project.run(name):
            self.session.current = name
            self.results = None
            self._forget_analyses()
            self.results_changed.emit(None)
            self._on_project_changed()

    def _on_project_changed(self) -> None:
        self.project_changed.emit()
        self.saved_changed.emit()
        self._compute()

    def _compute(self) -> None:
        session = self.session
        if session is None or not session.current:
            self.jobs.stop("results")
            self.jobs.stop("runs")
            self.results, self.all_results, self.averages_a = None, {}, {}
            self._forget_analyses()
            self.results_changed.emit(None)
            self.runs_changed.emit()
            self.recomputing.emit(0)
            return
        project, name = session.project, session.current
        self.recomputing.emit(1)
        self.jobs.run(
            "results",
            f"reading {name}",
            lambda should_stop, _progress: session.results.run(project, name, should_stop),
            self._on_results,
            self._on_results_failed,
        )

    def _on_results_failed(self, error: Exception) -> None:
        # What is shown belongs to a project as it was before: nothing is better than figures of that.
        self.results = None
        self.recomputing.emit(0)
        self._forget_analyses()
        self.results_changed.emit(None)
        self.report_failure(error)

    def _on_results(self, results: RunResults) -> None:
        self.results = results
        self.recomputing.emit(0)
        self.results_changed.emit(results)
        session = self.session
        if session is None:
            return
        project, name = session.project, results.run.name
        self.jobs.run(
            "quality",
            f"looking for faults in {name}",
            lambda should_stop, _progress: session.results.quality(project, name, should_stop),
            self._set_quality,
            self.report_failure,
            quiet=True,
        )
        self.work(
            "wakes",
            f"finding the wakes of {name}",
            lambda should_stop, _progress: session.wakes.shown(project, name, None, should_stop),
            self._set_wakes,
        )
        self.work(
            "plan",
            f"working out the plan of {name}",
            lambda should_stop, _progress: session.tuning.plan(project, name, should_stop),
            self._set_plan,
        )
        self._read_runs()

    def show_runs(self, viewer: object, *, wanted: bool) -> None:
        """Return whether somebody looks at all runs: until then no more than their averages is worked out."""
        was_wanted = bool(self._viewers)
        self._viewers = (self._viewers - {viewer}) | ({viewer} if wanted else set())
        if not was_wanted and wanted and self.results is not None:
            self._read_runs()

    @property
    def known(self) -> Known:
        """What is known of the project and of the run that is shown."""
        found = self.findings or ()
        return Known(self.project, self.results, found, self.wakes, self.plan, self.averages_a)

    def _read_runs(self) -> None:
        session = self.session
        if session is None:
            return
        project, names, whole = session.project, tuple(run.name for run in session.project.rungs), bool(self._viewers)

        def read(should_stop: ShouldStop, progress: Progress) -> _OtherRuns:
            found = _OtherRuns({}, {})
            for index, name in enumerate(names):
                try:
                    found.averages_a[name] = session.results.load(project, name, should_stop).mean_a
                    if whole:
                        found.results[name] = session.results.run(project, name, should_stop)
                except Cancelled:
                    raise
                except WarmEmberError as error:
                    log.info("run %s left out: %s", name, error)
                progress((index + 1) / len(names))
            return found

        self.jobs.run("runs", "reading the other runs", read, self._on_other_runs, self.report_failure)

    @property
    def findings(self) -> tuple[Finding, ...] | None:
        """What is wrong with the current run's capture; None while that is not known."""
        return self.quality.findings if self.quality is not None else None

    def _set_quality(self, quality: QualityReport | None) -> None:
        self.quality = quality
        self.quality_changed.emit(quality)

    def _set_wakes(self, wakes: WakesShown | None) -> None:
        self.wakes = wakes
        self.wakes_changed.emit(wakes)

    def _set_plan(self, plan: PlanResults | None) -> None:
        self.plan = plan
        self.plan_changed.emit(plan)

    def _forget_analyses(self) -> None:
        for subject in ("quality", "wakes", "plan"):
            self.jobs.stop(subject)
        self._set_quality(None)
        self._set_wakes(None)
        self._set_plan(None)

    def work(self, subject: str, what: str, work: Work, then: Callable[[Any], None]) -> None:
        """Do a piece of work in the background; what goes wrong with it is told by `troubled`."""
        self.jobs.run(subject, what, work, then, self.report_failure)

    def adopt(self, report: ImportReport, adopting: Callable[[Session, ImportReport], None]) -> None:
        """Make a capture that was written a run of the project and show it."""
        if self.session is None:
            return
        try:
            adopting(self.session, report)
        except WarmEmberError as error:
            self.report_failure(error)
            return
        notes = "; ".join(report.notes)
        self.noted.emit(f"{report.name} is there{': ' + notes if notes else ''}")
        self.show_new_run()

    def _on_other_runs(self, found: _OtherRuns) -> None:
        self.all_results, self.averages_a = found.results, found.averages_a
        self.runs_changed.emit()

    def report_failure(self, error: Exception) -> None:
        """Say what went wrong with a piece of work: in words where it was to be expected, else it stands in the log."""
        if isinstance(error, WarmEmberError):
            self.troubled.emit(error.one_line)
        else:
            log.error("a computation failed", exc_info=error)
            self.troubled.emit("Something went wrong inside the program; the log has the details.")

    def import_file(self, request: ImportRequest) -> None:
        """Import a file in the background and make it the current run."""
        session = self.session
        if session is None:
            return
        from warm_ember.session.importing import import_file
        from warm_ember.session.new_capture import adopt

        self.work(
            f"import {request.file}",
            f"importing {request.file.name}",
            lambda should_stop, progress: import_file(session, request, should_stop=should_stop, progress=progress),
            lambda report: self.adopt(report, adopt),
        )

    def open(self, path: Path) -> bool:
        """Open a project; what is wrong with it is told by `troubled`."""
        try:
            session = Session.open(path)
        except WarmEmberError as error:
            self.troubled.emit(error.one_line)
            return False
        self.set_session(session)
        return True

    def make_demo(self, path: Path) -> None:
        """Make the demo project in the background, or open it when it is there."""
        from warm_ember.session.demo import make_demo

        self.work(
            "demo",
            "recording the demo's five runs",
            lambda should_stop, progress: make_demo(path, should_stop=should_stop, progress=progress),
            self.set_session,
        )

    def begin_untitled(self, source: str = "") -> bool:
        """Begin a project that has no name yet; what goes wrong is told by `troubled`."""
        from warm_ember.session.untitled import begin_untitled

        try:
            session = begin_untitled(source)
        except WarmEmberError as error:
            self.troubled.emit(error.one_line)
            return False
        self.set_session(session)
        return True

    def save_under(self, path: Path) -> None:
        """Give the project another place, in the background, and go on there."""
        session = self.session
        if session is None:
            return
        from warm_ember.session.untitled import save_under

        self.is_between = True
        self.set_session(None)

        def done(_nothing: object) -> None:
            self.is_between = False
            self.set_session(session)
            self.noted.emit(f"The project is saved at {path}")

        def failed(error: Exception) -> None:
            self.is_between = False
            self.set_session(session)
            self.report_failure(error)

        self.jobs.run(
            "save as", f"saving as {path.name}", lambda _stop, _progress: save_under(session, path), done, failed
        )

    def drop_untitled(self) -> None:
        """Close a project without a name that has nothing in it, and forget it."""
        from warm_ember.session.recent import forget
        from warm_ember.session.untitled import discard_untitled

        session = self.session
        if session is not None and not session.project.runs:
            self.is_between = True
            self.set_session(None)
            self.is_between = False
            discard_untitled(session)
            if not session.folder.exists:
                forget(str(session.folder.path.resolve()))
            self.session_changed.emit()

    def show_new_run(self) -> None:
        """Show the run that was just added to the project."""
        self.results = None
        self._forget_analyses()
        self._on_project_changed()

    def close_session(self) -> None:
        """Save and close what is open."""
        self.closing.emit()
        self.save()
        self.jobs.stop_all()
        if self.session is not None:
            session, self.session = self.session, None
            self.jobs.close()
            session.close()

    def close(self) -> None:
        """Save, stop all work, close."""
        self.close_session()
        self.jobs.close()
