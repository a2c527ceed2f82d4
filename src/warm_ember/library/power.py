"""Recordings of a test: begun and ended by a ``with`` block, and asked for their figures afterwards."""

from __future__ import annotations

import contextlib
import dataclasses
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

import msgspec

from warm_ember.errors import BadArgumentError, InstrumentError, WarmEmberError
from warm_ember.library.gate import Check, Gate
from warm_ember.library.project import Project, Run
from warm_ember.library.record import Record
from warm_ember.library.recording import Wanted, check_taken, request_of
from warm_ember.library.stretch import Stretch
from warm_ember.session.new_capture import free_name
from warm_ember.session.recording import RecordRequest, adopt_recorded, record
from warm_ember.session.simulated_bench import SUPPLY_V, SimulatedBench
from warm_ember.units import interval_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.bench.recorder import Recorded, Recorder

SIMULATED = "simulated"
_LOOK_S = 0.01


class PowerBench:
    """The instrument of a run of tests, and the project that keeps what comes of it.

    Parameters
    ----------
    source
        A VISA resource, or ``simulated`` for the bench that ships, with a firmware after a colon.
    folder
        The project; made when there is none.
    console
        The target's console.
    interval_s, voltage_v, limit_a
        Settings; the project's own where they are None.
    """

    def __init__(
        self,
        source: str,
        folder: Path,
        *,
        console: str = "",
        interval_s: float | None = None,
        voltage_v: float | None = None,
        limit_a: float | None = None,
    ) -> None:
        self._stack = contextlib.ExitStack()
        with contextlib.ExitStack() as opening:
            name, _, firmware = source.partition(":")
            if name == SIMULATED:
                simulated = opening.enter_context(SimulatedBench(firmware or "r5"))
                source, console = simulated.resource, simulated.console
                voltage_v = SUPPLY_V if voltage_v is None else voltage_v
            self.project = opening.enter_context(Project.open(folder, create=True))
            self.wanted = Wanted(
                source=source, console=console, interval_s=interval_s, voltage_v=voltage_v, limit_a=limit_a
            )
            self._stack = opening.pop_all()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stack.close()


class MeasuredFloat(float):
    """A figure that shows its 90 % interval where a test fails by it; it computes as the number that it is.

    Attributes
    ----------
    low, high
        Ends of the interval; None where nothing is known of the spread.
    words
        The figure with its interval.
    """

    low: float | None
    high: float | None
    words: str

    def __new__(cls, value: float, unit: str, low: float | None = None, high: float | None = None) -> Self:
        """Return a number with its interval."""
        one = super().__new__(cls, value)
        one.low, one.high = low, high
        reach = interval_text(low, high, unit) if low is not None and high is not None else ""
        one.words = f"{quantity_text(value, unit)} ({f'90 %: {reach}' if reach else 'spread unknown'})"
        return one

    def __repr__(self) -> str:
        return f"{float(self)!r} [{self.words}]"


class Figures:
    """The fields of an answer, its figures with their intervals."""

    def __init__(self, of: Record, title: str) -> None:
        self._of, self._title = of, title

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):
            raise AttributeError(name)
        value = getattr(self._of, name)
        if not isinstance(value, float):
            return value
        low, high = (getattr(self._of, f"{name}_{end}", None) for end in ("low", "high"))
        unit = {"a": "A", "c": "C", "j": "J", "s": "s"}.get(name.rpartition("_")[2], "")
        return MeasuredFloat(value, unit, low, high)

    def __repr__(self) -> str:
        return f"<{self._title}>"


class GateVerdict:
    """A gate's answer as a test asks for it: true where no limit was missed.

    A test that does not look at a verdict that failed fails all the same.
    """

    def __init__(self, found: Gate, path: Path) -> None:
        self._found, self._path = found, path
        self.was_seen = False

    def __bool__(self) -> bool:
        self.was_seen = True
        return self._found.passed

    @property
    def passed(self) -> bool:
        """Whether no limit was missed."""
        return bool(self)

    @property
    def outcome(self) -> str:
        """Return ``pass``, ``fail`` or ``undecided``."""
        self.was_seen = True
        return self._found.outcome

    @property
    def checks(self) -> tuple[Check, ...]:
        """All limits with what was measured."""
        self.was_seen = True
        return self._found.checks

    @property
    def failures(self) -> tuple[Check, ...]:
        """Those that were missed."""
        return self._found.failures

    @property
    def words(self) -> str:
        """The limits that were missed, and where the capture is kept."""
        told = [f"{check.name}: {check.text}" for check in self._found.failures] or [self._found.outcome]
        return "\n".join((*told, f"the capture is {self._path}"))

    def __repr__(self) -> str:
        return f"<gate: {self.words}>"


def _endless(request: RecordRequest) -> RecordRequest:
    """Return a request that goes on until it is stopped, whatever length the project's recordings have."""
    settings = msgspec.structs.replace(request.recipe.settings, duration_s=None)
    return dataclasses.replace(request, recipe=msgspec.structs.replace(request.recipe, settings=settings))


class PowerRecording:
    """One recording of a test: it runs as long as its ``with`` block, and has its figures afterwards."""

    def __init__(
        self,
        bench: PowerBench,
        name: str,
        record_property: Callable[[str, object], None],
        verdicts: list[GateVerdict],
    ) -> None:
        self._project, self._record_property, self._verdicts = bench.project, record_property, verdicts
        self.name = free_name(bench.project.session, name)
        wanted = msgspec.structs.replace(bench.wanted, name=self.name)
        self._request = _endless(request_of(bench.project.session.project, wanted))
        self._recorder: Recorder | None = None
        self._taken: tuple[Recorded, ...] = ()
        self._trouble: BaseException | None = None
        self._stop, self._ended = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._record, name=f"recording {self.name}", daemon=True)

    def __repr__(self) -> str:
        return f"<recording {self.name!r}: {self.path}>"

    @property
    def path(self) -> Path:
        """Where the capture is kept."""
        return self._project.session.folder.capture_path(self.name)

    @property
    def is_kept(self) -> bool:
        """Whether there is a capture of it, also where a fault ended it."""
        return self.path.exists()

    def wait(self, duration_s: float) -> None:
        """Let so much more be recorded, by the instrument's time.

        Raises
        ------
        InstrumentError
            If the recording ends before.
        """
        until_s = self._recorded_s + duration_s
        while self._recorded_s < until_s:
            if self._ended.wait(_LOOK_S):
                self._check()
                raise InstrumentError(self._request.bench.resource, f"it ended {self._recorded_s:g} s after its start")

    @property
    def _recorded_s(self) -> float:
        recorder = self._recorder
        if recorder is None or recorder.file is None:
            return 0.0
        return recorder.samples * float(recorder.file.current.interval_s)

    def _record(self) -> None:
        def started(recorder: Recorder) -> None:
            self._recorder = recorder

        try:
            self._taken = record(self._project.session, self._request, should_stop=self._stop.is_set, started=started)
        except BaseException as trouble:  # noqa: BLE001 - it is raised again where the test waits for it
            self._trouble = trouble
        finally:
            self._ended.set()

    def begin(self) -> None:
        """Start, and return when the first samples have come.

        Raises
        ------
        WarmEmberError
            If it cannot be started.
        """
        self._thread.start()
        while not self._recorded_s and not self._ended.wait(_LOOK_S):
            pass
        if not self._recorded_s:
            self._thread.join()
            self._check()

    def end(self) -> None:
        """End it and keep what came, as a run of the project.

        Raises
        ------
        InstrumentError
            If a fault had ended it before.
        """
        self._stop.set()
        self._thread.join()
        for one in self._taken:
            adopt_recorded(self._project.session, one)
        self._check()
        for name in ("mean_a", "mean_a_low", "mean_a_high", "charge_c", "energy_j"):
            self._told(name, getattr(self._whole, name))
        self._record_property(f"{self.name}.capture", str(self.path))

    def _check(self) -> None:
        if self._trouble is not None:
            raise self._trouble
        check_taken(self._taken, self._request.bench)

    def _told(self, name: str, value: float | None) -> None:
        if value is not None:
            self._record_property(f"{self.name}.{name}", repr(float(value)))

    @property
    def run(self) -> Run:
        """The run, with all that can be asked of it."""
        return self._project.runs[self.name]

    @property
    def _whole(self) -> Stretch:
        if not self._ended.is_set():
            raise BadArgumentError(f"the recording {self.name!r} has its figures when its block has ended")
        run = self.run
        whole, states = run.stretch(0.0, run.duration_s), run.states()
        if whole.mean_a_low is not None:
            return whole
        return msgspec.structs.replace(whole, mean_a_low=states.mean_a_low, mean_a_high=states.mean_a_high)

    @property
    def mean_a(self) -> MeasuredFloat:
        """The average over all that was recorded."""
        whole = self._whole
        if whole.mean_a is None:
            raise InstrumentError(self._request.bench.resource, f"nothing of {self.path} was measured")
        return MeasuredFloat(whole.mean_a, "A", whole.mean_a_low, whole.mean_a_high)

    @property
    def charge_c(self) -> MeasuredFloat:
        """The charge that was drawn; its interval is as wide as the average's."""
        whole = self._whole
        length_s = whole.charge_c / whole.mean_a if whole.mean_a else 0.0
        low, high = (None if end is None else end * length_s for end in (whole.mean_a_low, whole.mean_a_high))
        return MeasuredFloat(whole.charge_c, "C", low, high)

    @property
    def energy_j(self) -> float | None:
        """The energy; None where no voltage is known."""
        return self._whole.energy_j

    @property
    def max_a(self) -> float | None:
        """The largest sample."""
        return self._whole.max_a

    @property
    def duration_s(self) -> float:
        """How long it is."""
        return self._whole.to_s

    @property
    def coverage(self) -> float:
        """The share of it that was measured."""
        return self._whole.coverage

    def state(self, name: str) -> Figures:
        """Return the figures of a state.

        Raises
        ------
        BadArgumentError
            If the recording has none of that name, naming those that it has.
        """
        found = self.run.states()[name]
        for figure in ("mean_a", "mean_a_low", "mean_a_high", "charge_c"):
            self._told(f"{name}.{figure}", getattr(found, figure))
        return Figures(found, f"{name} in {self.path}")

    def source(self, name: str) -> Figures:
        """Return the figures of a wake source.

        Raises
        ------
        BadArgumentError
            If there is none of that name.
        """
        found = self.run.wakes()[name]
        for figure in ("charge_c_mean", "added_a", "rate_per_h"):
            self._told(f"{name}.{figure}", getattr(found, figure))
        return Figures(found, f"wakes by {name} in {self.path}")

    def gate(self, limits: Path | str, baseline: str = "") -> GateVerdict:
        """Compare the recording with a limits file, and with an earlier run of the project.

        Raises
        ------
        BadFileError
            If the limits cannot be read, or name what the recording does not have.
        """
        verdict = GateVerdict(self._project.gate(limits, self.name, baseline), self.path)
        self._verdicts.append(verdict)
        return verdict

    @property
    def words(self) -> str:
        """The average with its interval, and where the capture is kept."""
        return f"{self.name}: average {self.mean_a.words}, kept as {self.path}"


class Power:
    """What the fixture ``power`` gives: recordings from the bench of this run of tests."""

    def __init__(
        self, bench: PowerBench, record_property: Callable[[str, object], None], tell: Callable[[str], None]
    ) -> None:
        self._bench, self._record_property, self._tell = bench, record_property, tell
        self._verdicts: list[GateVerdict] = []

    @property
    def project(self) -> Project:
        """The project that keeps the recordings."""
        return self._bench.project

    @contextlib.contextmanager
    def recording(self, name: str = "recording") -> Iterator[PowerRecording]:
        """Record while the block runs; an earlier capture of that name stays, this one gets a number then.

        Raises
        ------
        InstrumentError
            If the instrument fails; what came before is kept.
        """
        one = PowerRecording(self._bench, name, self._record_property, self._verdicts)
        one.begin()
        try:
            yield one
        except BaseException:
            with contextlib.suppress(WarmEmberError):  # what the test itself met comes first
                one.end()
            if one.is_kept:
                self._tell(one.words)
            raise
        try:
            one.end()
        finally:
            self._tell(one.words if one.is_kept else f"{one.name}: nothing was recorded")

    def unseen_failures(self) -> str:
        """Return what gates failed whose verdict nothing in the test looked at."""
        return "\n".join(one.words for one in self._verdicts if not one.was_seen and one.failures)
