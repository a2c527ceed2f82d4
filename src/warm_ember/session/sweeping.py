"""A sweep in a project: settings are measured one after the other, where the answer is decided, until it is sure."""

from __future__ import annotations

import logging
import math
import time
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

import msgspec
import numpy as np

from warm_ember.bench.console import Console
from warm_ember.bench.patterns import Patterns, compile_expression
from warm_ember.bench.recorder import Ending, Job, Recorded, Recorder
from warm_ember.bench.sweep_bench import Ask, SetState, SweepBench
from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.model.bench import Bench, BenchSettings, Recipe
from warm_ember.model.figure import Bound, Figure
from warm_ember.model.project import Run, RunKind
from warm_ember.model.sweep import (
    Search,
    Setting,
    SweepRecipe,
    SweepStop,
    check_sweep,
    value_text,
)
from warm_ember.session.new_capture import make_folders, remove_folders
from warm_ember.session.recording import check_settings, corrections_of, info_of
from warm_ember.session.session import Session
from warm_ember.session.sweep_results import bounds_of, is_met, means_of, refused_of
from warm_ember.signal.series import ShouldStop
from warm_ember.signal.stretch import StretchReading, read_stretch
from warm_ember.store.capture import Capture
from warm_ember.store.capture_name import CaptureName
from warm_ember.store.recording_file import take_name
from warm_ember.store.sweep_journal import (
    LeftOut,
    SweepJournal,
    SweepProgress,
    SweepRecording,
)
from warm_ember.tuning.sweep.search import SAME, first_settings, next_settings, standing
from warm_ember.units import counted, percent_text, quantity_text

log = logging.getLogger(__name__)

_TRIES = 3
_AGAIN_S = 3.0
_STEP_S = 0.05
_SILENT_AT_MOST = 2
_CENTIGRADE = "°C"


@dataclass(frozen=True)
class SweepTold:
    """Who is told of a sweep as it goes.

    Parameters
    ----------
    ask
        Asks a person to set a value.
    said
        Called with what is being done, in words.
    changed
        Called with the progress after each recording.
    started
        Called with each recorder before it runs.
    adopt
        Makes a recording a run of the project, in whichever thread the project is edited.
    """

    ask: Ask
    said: Callable[[str], None] = lambda _words: None
    changed: Callable[[SweepProgress], None] = lambda _progress: None
    started: Callable[[Recorder], None] = lambda _recorder: None
    adopt: Callable[[Session, Run], None] = lambda session, run: adopt_point(session, run)


def adopt_point(session: Session, run: Run) -> None:
    """Make a recording of a sweep a run of the project, and save it; the run that is shown stays.

    Raises
    ------
    ProjectError
        If the project cannot be written.
    """
    current = session.current
    session.add_run(run)
    session.current = current or session.current
    session.save()


def sweep_bench_of(session: Session, recipe: SweepRecipe, resource: str) -> Bench:
    """Return the bench that a sweep runs on, checked.

    Raises
    ------
    BadArgumentError
        If the recipe, its settings or an expression are impossible, or there is no instrument.
    """
    check_sweep(recipe)
    bench = session.project.bench
    bench = msgspec.structs.replace(bench, resource=resource or bench.resource, console=recipe.console or bench.console)
    if not bench.resource:
        raise BadArgumentError("no instrument: give its address, such as TCPIP::127.0.0.1::5025::SOCKET")
    check_settings(msgspec.structs.replace(recipe.settings, duration_s=recipe.record_s), bench)
    for expression in (recipe.reboot, *(one.confirm for one in recipe.parameters)):
        compile_expression(expression)
    return bench


def run_sweep(
    session: Session, recipe: SweepRecipe, resource: str, should_stop: ShouldStop, told: SweepTold
) -> SweepProgress:
    """Measure what is not measured yet, and return what there is then; the output is off at every end.

    Raises
    ------
    BadArgumentError
        If the sweep is impossible; nothing was switched on then.
    InstrumentError
        If the instrument or the console is lost for good; what was measured is kept.
    ProjectError
        If another program runs this sweep, or the project cannot be written.
    """
    bench = sweep_bench_of(session, recipe, resource)
    journal = SweepJournal(session.folder.path, recipe)
    made = make_folders(session.folder.captures)
    made = [*make_folders(journal.path.parent), *made]  # innermost first, as they are removed
    try:
        with journal.held():
            run = _SweepRun(session, bench, journal, should_stop, told)
            if run.wanted():
                run.go()
            return run.finished()
    finally:
        remove_folders(made)  # those that nothing came into


def why_not(reading: StretchReading, mean: Figure) -> str:
    """Return why a recording does not count, in words; empty where it does."""
    if mean.value is None or (mean.value <= 0 and mean.bound is not Bound.BELOW):
        return "nothing above 0 was measured"
    if reading.max_a is not None and reading.coverage < 1:
        # What is missing may have been as high as anything that was seen.
        times = max(reading.max_a / mean.value - 1, 1.0) if mean.value > 0 else math.inf
        if (1 - reading.coverage) * times > SAME:
            return f"{percent_text(1 - reading.coverage)} of the samples are missing"
    return ""


def over_limit(capture: Capture, stop: SweepStop) -> str:
    """Return which limit a recording exceeds at any moment, in words; empty where it exceeds none."""
    highest_a = capture.reading(0.0, capture.duration_s).max_a
    if stop.limit_a is not None and highest_a is not None and highest_a > stop.limit_a:
        most = quantity_text(stop.limit_a, "A")
        return f"{capture.name} reached {quantity_text(highest_a, 'A')}, above the limit of {most}"
    for name, (channel, unit) in capture.aux.items():
        if stop.limit_c is None or unit != _CENTIGRADE:
            continue
        highest_c = read_stretch(channel, 0.0, capture.duration_s).max_a
        if highest_c is not None and highest_c > stop.limit_c:
            return f"{name} reached {highest_c:.1f} °C in {capture.name}, above the limit of {stop.limit_c:g} °C"
    return ""


class _SweepRun:
    def __init__(
        self, session: Session, bench: Bench, journal: SweepJournal, should_stop: ShouldStop, told: SweepTold
    ) -> None:
        self._session, self._bench, self._journal, self._told = session, bench, journal, told
        self.progress = journal.read()
        again = tuple(one for one in self.progress.left_out if one.is_refused)  # what did not answer may do so now
        self.progress = msgspec.structs.replace(self.progress, left_out=again)
        self._recipe = self.progress.recipe
        self._asked_to_stop = should_stop
        self._since_s, self._spent_s = time.monotonic(), self.progress.spent_s
        self._silent = 0
        self._ended = ""
        if not self.progress.begun_utc:
            begun_utc = datetime.now(UTC).isoformat(timespec="seconds")
            self.progress = msgspec.structs.replace(self.progress, begun_utc=begun_utc)

    def _should_stop(self) -> bool:
        return self._asked_to_stop() or self._is_late

    @property
    def _is_late(self) -> bool:
        most = self._recipe.stop.hours
        return most is not None and self._spent_s + time.monotonic() - self._since_s >= most * 3600

    def _note(self, **changed: object) -> None:
        spent_s = self._spent_s + time.monotonic() - self._since_s
        self.progress = msgspec.structs.replace(self.progress, spent_s=spent_s, **changed)
        self._journal.write(self.progress)
        self._told.changed(self.progress)

    def wanted(self) -> list[Setting]:
        """Return the recordings to be made next, each as its setting, in an order by chance; none at the end."""
        if self._is_enough():
            return []
        means, refused = means_of(self.progress), refused_of(self.progress)
        bounded = frozenset(bounds_of(self.progress))
        missing = self._missing(first_settings(self._recipe), refused)
        while not missing and means and self._recipe.search is Search.ADAPTIVE:
            some = next_settings(self._recipe, standing(self._recipe, means, refused, bounded))
            if not some:
                break
            missing = self._missing(some, refused)
        order = np.random.default_rng((self._recipe.seed, len(self.progress.recordings))).permutation(len(missing))
        return [missing[at] for at in order.tolist()]

    def _is_enough(self) -> bool:
        return self._recipe.stop.met and is_met(self._session, self.progress)

    def _missing(self, settings: Iterable[Setting], refused: frozenset[Setting]) -> list[Setting]:
        done = Counter(one.setting for one in self.progress.recordings)
        return [one for one in settings if one not in refused for _ in range(self._recipe.repeats - done[one])]

    def go(self) -> None:
        """Measure until nothing is wanted, or something ends it."""
        console = Console(self._bench.console, baud=self._bench.baud) if self._bench.console else None
        try:
            with SweepBench(
                self._bench,
                self._recipe,
                console,
                self._job_of,
                ask=self._told.ask,
                said=self._told.said,
                started=self._told.started,
            ) as bench:
                while not self._ended and (wanted := self.wanted()):
                    for setting in wanted:
                        if self._should_stop() or self._ended:
                            break
                        if self._is_enough():
                            break
                        if setting not in refused_of(self.progress):
                            self._measure(bench, setting)
                    if self._should_stop():
                        break
        finally:
            if console is not None:
                console.close()

    def finished(self) -> SweepProgress:
        """Return the progress with the words for its end."""
        ended = self._ended
        if not ended and self._is_late:
            ended = f"the {self._recipe.stop.hours:g} h are over"
        elif not ended and self._asked_to_stop():
            ended = "stopped"
        elif not ended and self._is_enough():
            ended = "the target is met"
        elif not ended and self.progress.recordings and not means_of(self.progress):
            ended = "no setting was within what the instrument measures"
        self._note(ended=ended or "done")
        return self.progress

    def _measure(self, bench: SweepBench, setting: Setting) -> None:
        """Make one recording of a setting; what fails is tried again, and left out in the end."""
        reason, is_lost = "", False
        for number in range(_TRIES):
            if self._should_stop():
                return
            try:
                if is_lost:
                    bench.reopen(self._should_stop)
                is_lost = False
                reason = self._try(bench, setting)
            except InstrumentError as error:
                if number == _TRIES - 1:
                    raise InstrumentError(error.resource, self._lost(error)) from error
                log.warning("try %d of %s: %s", number + 1, setting, error)
                self._told.said(f"{error.one_line}; trying again")
                is_lost = True
                self._pause()
                continue
            if not reason or self._ended:
                return
            log.info("try %d of %s: %s", number + 1, setting, reason)
        self._leave_out(setting, f"{reason}, in each of {_TRIES} tries", is_refused=False)

    def _pause(self) -> None:
        until_s = time.monotonic() + _AGAIN_S
        while time.monotonic() < until_s and not self._should_stop():
            time.sleep(_STEP_S)

    def _lost(self, error: InstrumentError) -> str:
        done, grid = len({one.setting for one in self.progress.recordings}), len(self._recipe.grid())
        return f"{error.problem}; {done} of {counted(grid, 'setting')} measured, and the same sweep goes on there"

    def _try(self, bench: SweepBench, setting: Setting) -> str:
        """Set and record once; return why it does not count, empty where it does or is settled otherwise."""
        answer = bench.set_all(setting, self._should_stop)
        if answer.state is SetState.STOPPED:
            return ""
        if answer.state is not SetState.SET:
            self._leave_out(setting, answer.words, is_refused=answer.state is SetState.REFUSED)
            self._silent = self._silent + 1 if answer.state is SetState.SILENT else 0
            if self._silent >= _SILENT_AT_MOST:
                self._ended = f"nothing answers any more: {answer.words}"
            return ""
        self._silent = 0
        period_s = self._recipe.period_s(setting) or 0.0
        seconds = max(self._recipe.record_s, period_s)
        words = ", ".join(map(value_text, setting))
        self._told.said(f"recording {words}")
        name = self._take_name()
        try:
            recorded, has_rebooted = bench.record(name, seconds, self._should_stop)
        finally:
            name.release()
        if recorded.ending is not Ending.DONE or has_rebooted:
            self._session.folder.capture_path(recorded.name).unlink(missing_ok=True)  # it is made whole the next time
        if recorded.ending is Ending.STOPPED:
            return ""
        if recorded.fault is not None and isinstance(recorded.fault, InstrumentError):
            raise recorded.fault
        if recorded.ending is not Ending.DONE:
            return f"the recording ended early: {recorded.ending.value}"
        if has_rebooted:
            return "the target started anew while it was recorded"
        return self._take_in(setting, recorded, period_s)

    def _take_in(self, setting: Setting, recorded: Recorded, period_s: float) -> str:
        session = self._session
        session.forget_capture(recorded.name)
        capture = session.capture(recorded.name)
        to_s = capture.duration_s
        if period_s > 0:
            to_s = max(math.floor(capture.duration_s / period_s * (1 + 1e-9)), 1) * period_s
        reading = capture.reading(0.0, min(to_s, capture.duration_s))
        mean = session.results.stretch_mean(session.project, recorded.name, reading)
        spoilt = why_not(reading, mean)
        if spoilt:
            session.forget_capture(recorded.name)
            capture.path.unlink(missing_ok=True)  # it is made anew
            return spoilt
        self._ended = over_limit(capture, self._recipe.stop)
        title = ", ".join(
            f"{one.name} {value_text(value)}" for one, value in zip(self._recipe.parameters, setting, strict=True)
        )
        self._told.adopt(session, Run(recorded.name, title, "", RunKind.POINT))
        mean_a, least_a = float(mean.value or 0.0), session.results.limits(session.project, recorded.name).least_a
        made = SweepRecording(setting, recorded.name, mean_a, 0.0, float(reading.to_s), mean.bound, least_a)
        self._note(recordings=(*self.progress.recordings, made))
        return ""

    def _leave_out(self, setting: Setting, reason: str, *, is_refused: bool) -> None:
        self._note(left_out=(*self.progress.left_out, LeftOut(setting, is_refused, reason)))

    def _take_name(self) -> CaptureName:
        number = len(self.progress.recordings) + 1
        path = self._session.folder.capture_path(f"sweep {self._journal.name} {number:03d}")
        return take_name(path, replace=True)

    def _job_of(self, name: CaptureName, settings: BenchSettings) -> Job:
        bench = self._bench
        return Job(
            path=name.path,
            name=name,
            settings=settings,
            info=info_of(bench, Recipe(f"sweep {self._journal.name}", settings)),
            corrections=corrections_of(bench),
            patterns=Patterns(bench.patterns),
        )
