"""A project as notebooks, scripts and the command line use it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Self, Unpack

from warm_ember.errors import BadArgumentError, BadFileError

if TYPE_CHECKING:
    from warm_ember.library.comparison import Comparison
    from warm_ember.library.findings import Findings
    from warm_ember.library.gate import Gate
    from warm_ember.library.kinds import Kinds
    from warm_ember.library.life import Life
    from warm_ember.library.states import States
    from warm_ember.library.stretch import Stretch
    from warm_ember.library.taken import ImportChoices, Imported
    from warm_ember.library.wakes import Wakes
    from warm_ember.model.arrays import Samples
    from warm_ember.session.session import Session

# What a command does not need it does not import: a reading answers in half a second, with all of this in one.


class NoSuchRunError(BadFileError, KeyError):
    """A run that the project does not have; the message names those that it has."""

    def __str__(self) -> str:
        return str(self.args[0])


class Run:
    """One capture of a project and what is known of it.

    Everything is computed when it is asked for, and remembered.
    """

    def __init__(self, session: Session, name: str) -> None:
        self._session, self.name = session, name

    def __repr__(self) -> str:
        return f"<run {self.name!r}: {self.duration_s:g} s at {1 / self.sample_interval_s:g} S/s>"

    @property
    def sample_interval_s(self) -> float:
        """Time from one sample to the next."""
        return float(self._session.capture(self.name).current.interval_s)

    @property
    def duration_s(self) -> float:
        """Length of the capture."""
        current = self._session.capture(self.name).current
        return float(current.samples * current.interval_s)

    def stretch(self, from_s: float | None = None, to_s: float | None = None, *, whole_cycles: bool = False) -> Stretch:
        """Read a stretch.

        Parameters
        ----------
        from_s, to_s
            Its ends; they snap to samples and are clamped to the capture.
        whole_cycles
            Take the whole cycles about it, or all that there are when it has no ends.

        Raises
        ------
        BadArgumentError
            If the ends are missing, reversed or outside, or there are no whole cycles.
        """
        from warm_ember.library.stretch import stretch_of

        session, cycles = self._session, None
        if whole_cycles:
            found = session.results.whole_cycles(session.project, self.name, from_s, to_s)
            from_s, to_s, cycles = found.from_s, found.to_s, found.cycles
        if from_s is None or to_s is None:
            raise BadArgumentError("a stretch needs --from and --to, or --whole-cycles")
        reading = session.capture(self.name).reading(from_s, to_s, supply_v=session.project.supply_v)
        return stretch_of(reading, session.results.stretch_mean(session.project, self.name, reading), cycles)

    def samples(self, from_s: float = 0.0, to_s: float | None = None) -> Samples:
        """Read samples of the current.

        Parameters
        ----------
        from_s, to_s
            The stretch; up to the end by default.

        Returns
        -------
        ndarray
            Shape ``(samples,)``, float32, A; NaN is a missing sample.
        """
        from warm_ember.signal.stretch import snap

        current = self._session.capture(self.name).current
        first, last = snap(current, from_s, self.duration_s if to_s is None else to_s)
        return current.read(first, last)

    def states(self) -> States:
        """Return where the charge goes, by state."""
        from warm_ember.library.states import states_of

        session, mean_a = self._session, None
        ledger = session.results.ledger(session.project, self.name)
        cycles = session.results.window(session.project, self.name)
        if cycles.cycles is not None or cycles.left_out:
            mean_a = session.capture(self.name).reading(cycles.from_s, cycles.to_s).mean_a
        return states_of(ledger, cycles, mean_a)

    def wakes(self, slack_s: Mapping[str, float] | None = None) -> Wakes:
        """Return who woke the device, what that cost, and the sleep between.

        Parameters
        ----------
        slack_s
            By how many seconds later a source may wake, by source; the project's own by default.
        """
        from warm_ember.library.wakes import wakes_of

        return wakes_of(self._session.results.wake_ledger(self._session.project, self.name, dict(slack_s or {})))

    def kinds(self) -> Kinds:
        """Return the wakes sorted into kinds from the current alone."""
        from warm_ember.library.kinds import kinds_of

        session, project = self._session, self._session.project
        found = session.results.kinds(project, self.name)
        return kinds_of(self.name, found, session.kinds.ledger(project, self.name))

    def take_kinds(self) -> Kinds:
        """Make the kinds the battery's activities, in place of those there are, save that, and return them."""
        from warm_ember.session.kind_edits import take_model

        session = self._session
        shown = session.kinds.shown(session.project, self.name)
        session.apply(take_model(shown), "take the kinds as the battery's model")
        session.save()
        return self.kinds()

    def findings(self, expected: Path | str | None = None) -> Findings:
        """Return what is wasted, and the measurement faults.

        Parameters
        ----------
        expected
            A file of what states should draw, for this question only.
        """
        from warm_ember.library.findings import findings_of
        from warm_ember.session import edits

        project = self._session.project
        if expected is not None:
            from warm_ember.formats.expected_file import read_expected_file

            project = edits.expect(read_expected_file(Path(expected)))(project)
        return findings_of(self.name, self._session.results.findings(project, self.name))


class Runs(Mapping[str, Run]):
    """The runs of a project by name, in the order made."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def __getitem__(self, name: str) -> Run:
        session = self._session
        if session.project.run(name) is None and not session.folder.capture_path(name).exists():
            known = ", ".join(run.name for run in session.project.runs) or "none yet"
            path = session.folder.capture_path(name)
            raise NoSuchRunError(path, f"there is no capture {name!r}; there are: {known}")
        return Run(session, name)

    def __iter__(self) -> Iterator[str]:
        return (run.name for run in self._session.project.runs)

    def __len__(self) -> int:
        return len(self._session.project.runs)


class Project:
    """An open project; close it, or use it in a ``with`` block.

    Attributes
    ----------
    session
        What the program itself works with: it may change from version to version.
    recovered
        What was finished of recordings that had been interrupted, in words.
    """

    def __init__(self, session: Session, recovered: tuple[str, ...] = ()) -> None:
        self.session, self.recovered = session, recovered

    @classmethod
    def open(cls, path: Path | str, *, create: bool = False) -> Project:
        """Open a project and finish its interrupted recordings; see `warm_ember.open_project`."""
        from warm_ember.session.session import Session

        session = Session.open_or_create(Path(path)) if create else Session.open(Path(path))
        recovered: tuple[str, ...] = ()
        if session.has_interrupted:
            from warm_ember.session.recovering import recover_all  # reading commands rarely need it

            try:
                recovered = tuple(found.sentence for found in recover_all(session))
            except BaseException:
                session.close()
                raise
        return cls(session, recovered)

    @property
    def path(self) -> Path:
        """Where it lies."""
        return self.session.folder.path

    @property
    def runs(self) -> Runs:
        """Its captures by name."""
        return Runs(self.session)

    def __repr__(self) -> str:
        return f"<project {self.session.title!r}: {', '.join(self.runs) or 'no run yet'}>"

    def life(self, run: str = "", *, activities: Path | str | None = None, unseen_c: float | None = None) -> Life:
        """Estimate the battery life.

        Parameters
        ----------
        run
            Of which run; the latest by default.
        activities
            A file of battery and activities, in place of the project's.
        unseen_c
            Allow for something of this charge that comes too seldom to be in the capture.

        Raises
        ------
        BadArgumentError
            If what was entered is impossible, or `unseen_c` of no use.
        ProjectError
            If there is no run.
        """
        from warm_ember.library.life import life_in, life_in_file, life_of

        if activities is not None:
            if unseen_c is not None:
                raise BadArgumentError("--unseen is about a capture, and --activities takes its place")
            return life_of(*life_in_file(Path(activities)))
        return life_of(*life_in(self.session, run, unseen_c))

    def compare(self, before: str, after: str, claim: str = "") -> Comparison:
        """Compare two runs, and check a claim such as ``"half the charge"`` by them."""
        from warm_ember.library.comparison import comparison_of

        session = self.session
        found = session.tuning.compare(session.project, before, after)
        judged = session.tuning.claim(session.project, claim, before, after) if claim else None
        return comparison_of(found, claim, judged)

    def gate(self, limits: Path | str, run: str, baseline: str = "") -> Gate:
        """Compare a run with limits.

        Parameters
        ----------
        limits
            The limits file.
        run, baseline
            The run, and the one that it may not be worse than; ``dataset:ADDRESS`` for the history of a data set.

        Raises
        ------
        BadFileError
            If the limits cannot be read, or name what the run does not have.
        """
        from warm_ember.library.gate import gate_in, gate_of

        return gate_of(gate_in(self.session, Path(limits), run, baseline))

    def import_file(self, file: Path | str, **choices: Unpack[ImportChoices]) -> Imported:
        """Import a file as a new run.

        Parameters
        ----------
        file
            The current, as text, raw binary, NumPy, Parquet, HDF5 or kernel trace.
        choices
            What is known of it, as for ``warm-ember import``; what is left out is found and reported.

        Raises
        ------
        BadFileError
            If the file cannot be read.
        BadArgumentError
            If a choice is impossible, or not known.
        """
        from warm_ember.library.taken import import_request, imported_of
        from warm_ember.session.importing import import_file
        from warm_ember.session.new_capture import adopt

        report = import_file(self.session, import_request(Path(file), choices))
        adopt(self.session, report)
        return imported_of(report)

    def close(self) -> None:
        """Close its captures."""
        self.session.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
