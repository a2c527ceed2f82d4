"""The open project: its value, its history, its captures and its results."""

from __future__ import annotations

import logging
import threading
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Self

import msgspec

from warm_ember.errors import BadFileError, ProjectError
from warm_ember.model.project import Edit, Project, Run
from warm_ember.model.wakes import SleepMode
from warm_ember.session.merging import merged
from warm_ember.signal.series import Progress, ShouldStop, ignore_progress, never
from warm_ember.store.capture import Capture
from warm_ember.store.project_folder import ProjectFolder, readable

if TYPE_CHECKING:
    from warm_ember.session.battery_results import BatteryResults
    from warm_ember.session.gate_results import GateResults
    from warm_ember.session.kind_results import KindResults
    from warm_ember.session.quality_results import QualityResults
    from warm_ember.session.results import Results
    from warm_ember.session.run_results import RunResults
    from warm_ember.session.state_results import StateResults
    from warm_ember.session.tuning_results import TuningResults
    from warm_ember.session.wake_results import WakeResults

log = logging.getLogger(__name__)

_HISTORY = 500


@dataclass(frozen=True)
class _Past:
    project: Project
    what: str


class Session:
    """One open project.

    Parameters
    ----------
    folder
        Where it lies.
    project
        Its value.
    """

    def __init__(self, folder: ProjectFolder, project: Project) -> None:
        self.folder = folder
        self.project = project
        self.current: str = project.latest
        self._saved = project
        self._version = folder.version
        self._done: list[_Past] = []
        self._undone: list[_Past] = []
        self._captures: dict[str, Capture] = {}
        self._lock = threading.RLock()

    # What is computed is imported when it is first asked for: half a second that a short reading can do without.

    @cached_property
    def results(self) -> Results:
        """What is computed of each run."""
        from warm_ember.session.results import Results

        return Results(self.capture)

    @cached_property
    def states(self) -> StateResults:
        """What the States page shows beside the ledger."""
        from warm_ember.session.state_results import StateResults

        return StateResults(self.results)

    @cached_property
    def battery(self) -> BatteryResults:
        """What the Battery page shows beside the life."""
        from warm_ember.session.battery_results import BatteryResults

        return BatteryResults(self.results)

    @cached_property
    def wakes(self) -> WakeResults:
        """What the Wakes page shows beside the wake ledger."""
        from warm_ember.session.wake_results import WakeResults

        return WakeResults(self.results)

    @cached_property
    def kinds(self) -> KindResults:
        """What is shown of the kinds of wakes."""
        from warm_ember.session.kind_results import KindResults

        return KindResults(self.results)

    @cached_property
    def quality(self) -> QualityResults:
        """What data quality shows."""
        from warm_ember.session.quality_results import QualityResults

        return QualityResults(self.results)

    @cached_property
    def tuning(self) -> TuningResults:
        """What the Tune page shows."""
        from warm_ember.session.tuning_results import TuningResults

        return TuningResults(self.results)

    @cached_property
    def gate(self) -> GateResults:
        """Runs compared with limits."""
        from warm_ember.session.gate_results import GateResults

        return GateResults(self.results, self.tuning)

    @classmethod
    def open(cls, path: Path) -> Session:
        """Open a project folder.

        Raises
        ------
        ProjectError
            If it holds no readable project.
        """
        folder = ProjectFolder(path)
        project = folder.load()
        folder.tidy()
        return cls(folder, project)

    @classmethod
    def open_or_create(cls, path: Path) -> Session:
        """Open a project folder, or begin a project there that is saved with its first content.

        Raises
        ------
        ProjectError
            If there is something else.
        """
        folder = ProjectFolder(path)
        if folder.exists or (path.exists() and (not path.is_dir() or any(path.iterdir()))):
            return cls.open(path)
        return cls(folder, Project(name=readable(path.resolve().name)))

    @property
    def title(self) -> str:
        """What the project is called."""
        return self.project.name or self.folder.path.name

    @property
    def has_interrupted(self) -> bool:
        """Whether a recording may have been interrupted: see `warm_ember.session.recovering`."""
        return self.folder.has_interrupted

    @property
    def is_saved(self) -> bool:
        """Whether the file holds the project as it is."""
        return self.project is self._saved

    def apply(self, edit: Edit, what: str) -> None:
        """Replace the project by what an edit makes of it, undoably.

        Parameters
        ----------
        edit
            From one project to the next.
        what
            What it does, for the menu: ``"move bracket A"``.
        """
        changed = edit(self.project)
        if changed == self.project:
            return
        self._done = [*self._done[-_HISTORY:], _Past(self.project, what)]
        self._undone = []
        self.project = changed
        self._keep_current()

    def undo(self) -> str | None:
        """Take the last edit back and return what it was."""
        return self._step(self._done, self._undone)

    def redo(self) -> str | None:
        """Do the last undone edit again and return what it was."""
        return self._step(self._undone, self._done)

    def _step(self, source: list[_Past], target: list[_Past]) -> str | None:
        if not source:
            return None
        past = source.pop()
        target.append(_Past(self.project, past.what))
        self.project = past.project
        self._keep_current()
        return past.what

    @property
    def undoable(self) -> str | None:
        """What undo would take back."""
        return self._done[-1].what if self._done else None

    @property
    def redoable(self) -> str | None:
        """What redo would do again."""
        return self._undone[-1].what if self._undone else None

    def _keep_current(self) -> None:
        if self.project.run(self.current) is None:
            self.current = self.project.latest

    def save(self) -> bool:
        """Write the project, together with what other programs changed in it since it was read or saved here.

        Returns
        -------
        bool
            Whether another program had changed it: its edits are part of `project` now, and of what undo leads to.

        Raises
        ------
        ProjectError
            If the folder cannot be written or is no longer there, or what is there now cannot be read; the edits stay
            in this session then.
        """
        mine, base = self.project, self._saved
        found = base

        def put_together(theirs: Project | None) -> Project:
            nonlocal found
            if theirs is None:
                if self._version is not None:
                    raise self._gone()
                return mine
            found = theirs
            return merged(base, mine, theirs)

        if self._version is not None and self.folder.version is None:
            raise self._gone()
        has_more = self._rebase(self.folder.update(put_together), found)
        self._saved, self._version = self.project, self.folder.version
        return has_more

    def _gone(self) -> ProjectError:
        remedy = "open it where it is now; what was edited since then is not saved"
        return ProjectError(self.folder.path, "the project is no longer here: it was moved or removed", remedy=remedy)

    def take_in_others(self) -> bool:
        """Read what other programs changed in the project, and answer whether there was anything.

        Raises
        ------
        ProjectError
            If what is there now cannot be read.
        """
        if self.folder.version in (None, self._version):
            return False
        version, theirs = self.folder.version, self.folder.load()
        together = merged(self._saved, self.project, theirs)
        has_more = self._rebase(together, theirs)
        self._saved, self._version = (self.project if self.project == theirs else theirs), version
        return has_more

    def _rebase(self, together: Project, theirs: Project) -> bool:
        """Put the other side's edits into the project and into all that undo and redo lead to."""
        if together == self.project:
            return False
        base = self._saved
        self._done = [_Past(merged(base, past.project, theirs), past.what) for past in self._done]
        self._undone = [_Past(merged(base, past.project, theirs), past.what) for past in self._undone]
        self.project = together
        self._keep_current()
        return True

    def capture(self, name: str, *, should_stop: ShouldStop = never, progress: Progress = ignore_progress) -> Capture:
        """Return an open capture.

        Raises
        ------
        BadFileError
            If there is none of that name, or it cannot be read.
        """
        with self._lock:
            if name not in self._captures:
                path = self.folder.capture_path(name)
                if not path.exists():
                    known = ", ".join(run.name for run in self.project.runs) or "none yet"
                    raise BadFileError(path, f"there is no capture {name!r}; there are: {known}")
                self._captures[name] = Capture(path, should_stop=should_stop, progress=progress)
            return self._captures[name]

    def run(self, name: str, should_stop: ShouldStop = never) -> RunResults:
        """Compute all results of one run; see `Results.run`."""
        return self.results.run(self.project, name, should_stop)

    def forget_capture(self, name: str) -> None:
        """Close a capture that is about to be replaced, and forget what was computed of it."""
        with self._lock:
            capture = self._captures.pop(name, None)
        if capture is not None:
            capture.close()
            gone = capture.identity
            self.results.graph.forget_captures(lambda identity: identity == gone)

    def add_run(self, run: Run, modes: tuple[SleepMode, ...] = ()) -> None:
        """Add a run to the project, unless it is there, and make it the current one; with it sleep modes it tells of.

        Not an undoable edit, as a file comes with it: earlier and undone values get the run too.
        """

        def added(project: Project) -> Project:
            known = {mode.name for mode in project.sleep_modes}
            more = (*project.sleep_modes, *(mode for mode in modes if mode.name not in known))
            project = msgspec.structs.replace(project, sleep_modes=more)
            if project.run(run.name) is not None:
                return project
            return msgspec.structs.replace(project, runs=(*project.runs, run))

        self.project = added(self.project)
        self._done = [_Past(added(past.project), past.what) for past in self._done]
        self._undone = [_Past(added(past.project), past.what) for past in self._undone]
        self.current = run.name

    def drop_run(self, name: str) -> None:
        """Take a run out of the project and of all that undo and redo lead to: its capture is gone."""

        def dropped(project: Project) -> Project:
            return msgspec.structs.replace(project, runs=tuple(run for run in project.runs if run.name != name))

        self.forget_capture(name)
        self.project = dropped(self.project)
        self._done = [_Past(dropped(past.project), past.what) for past in self._done]
        self._undone = [_Past(dropped(past.project), past.what) for past in self._undone]
        self._keep_current()

    def relocate(self, folder: ProjectFolder) -> None:
        """Go on with the project at another place, which holds it as it is here; edits and undo stay."""
        self.close()
        self.folder, self._version = folder, folder.version

    def close(self) -> None:
        """Close all captures; what was computed of them is forgotten, as it reads on in them."""
        with self._lock:
            for capture in self._captures.values():
                capture.close()
            self._captures.clear()
            for name, attribute in vars(type(self)).items():
                if isinstance(attribute, cached_property):
                    self.__dict__.pop(name, None)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
