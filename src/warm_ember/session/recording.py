"""Recording into the project: from the bench that the project knows to a new run."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

import msgspec

from warm_ember.bench.console import Console
from warm_ember.bench.patterns import Patterns
from warm_ember.bench.recipe_run import RecipeRun
from warm_ember.bench.recorder import Job, Recorded, Recorder
from warm_ember.errors import BadArgumentError
from warm_ember.model.bench import Bench, BenchSettings, Recipe, SecondGives, SecondInstrument
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.correction import Correction, InputResistance, KnownLoad, Scaling
from warm_ember.model.project import Run
from warm_ember.session.new_capture import free_name, make_folders, new_capture_path, remove_folders
from warm_ember.session.session import Session
from warm_ember.session.two_boards import Board, TwoBoards
from warm_ember.signal.series import ShouldStop
from warm_ember.store.capture_name import CaptureName
from warm_ember.store.recording_file import take_name
from warm_ember.store.room import not_written

log = logging.getLogger(__name__)

OTHER_BOARD = "other board"
"""Stands behind the name of a capture that is made at the same time."""


def corrections_of(bench: Bench) -> tuple[Correction, ...]:
    """Return what is taken out of each sample: the zero, and what hangs on the rail and is to be subtracted."""
    found: list[Correction] = []
    if bench.zero is not None and bench.zero.subtracted:
        found.append(Scaling(1.0, bench.zero.offset_a, "the instrument's reading with open leads"))
    for one in bench.attached:
        if one.subtracted and one.present:
            if one.current_a:
                found.append(KnownLoad(one.current_a, one.name))
            if one.ohm:
                found.append(InputResistance(one.ohm, one.name))
    return tuple(found)


def info_of(bench: Bench, recipe: Recipe) -> CaptureInfo:
    """Return what a recording remembers of bench, target and recipe."""
    identity = bench.identity
    return CaptureInfo(
        sample_interval_s=recipe.settings.interval_s,
        firmware=identity.firmware,
        temperature_c=identity.temperature_c,
        target=identity.target,
        board=identity.board,
        options=identity.options,
        indicators=identity.indicators,
        attached=tuple(one.name for one in bench.attached if one.present),
        checked=tuple(check.text for check in bench.checks if check.done),
        recipe=msgspec.json.encode(recipe).decode(),
    )


@dataclass(frozen=True)
class RecordRequest:
    """What to record.

    Parameters
    ----------
    bench
        Address, console, guard, what hangs on the rail.
    recipe
        The steps and their settings.
    name
        Of the capture; several get a number after it.
    replace
        Whether an existing capture of that name may go.
    reset
        Whether the instrument is reset before.
    keep_power
        Whether the output stays on afterwards.
    reconnect_s, timeout_s
        How long a lost link is looked for, and how long the instrument may say nothing.
    """

    bench: Bench
    recipe: Recipe
    name: str
    replace: bool = False
    reset: bool = True
    keep_power: bool = False
    reconnect_s: float = 0.0
    timeout_s: float = 5.0


def check_request(session: Session, request: RecordRequest) -> None:
    """Check what can be checked before anything is switched on.

    Raises
    ------
    BadArgumentError
        If name, settings or a pattern are impossible, or a capture of that name exists.
    """
    new_capture_path(session, request.name, replace=request.replace)
    check_settings(request.recipe.settings, request.bench)
    if not request.bench.resource:
        raise BadArgumentError("no instrument: give its address, such as TCPIP::127.0.0.1::5025::SOCKET")
    Patterns(request.bench.patterns)


def check_settings(settings: BenchSettings, bench: Bench) -> None:
    """Check settings against the project's guard and common sense.

    Raises
    ------
    BadArgumentError
        If one is impossible.
    """
    finite = float("inf")
    if not 0 < settings.interval_s < finite:
        raise BadArgumentError(f"the interval must be above 0 s, found {settings.interval_s:g} s")
    if settings.duration_s is not None and not settings.interval_s <= settings.duration_s < finite:
        raise BadArgumentError(f"the length must be one interval at least, found {settings.duration_s:g} s")
    if settings.limit_a is not None and not 0 < settings.limit_a < finite:
        raise BadArgumentError(f"the current limit must be above 0 A, found {settings.limit_a:g} A")
    voltage_v, guard_v = settings.voltage_v, bench.guard_v
    if voltage_v is not None and not 0 <= voltage_v < finite:
        raise BadArgumentError(f"the voltage must be 0 V or above, found {voltage_v:g} V")
    if voltage_v is not None and guard_v is not None and voltage_v > guard_v:
        raise BadArgumentError(
            f"{voltage_v:g} V is above the guard of this project, {guard_v:g} V: nothing was switched on"
        )


def record(
    session: Session,
    request: RecordRequest,
    *,
    should_stop: ShouldStop,
    console: Console | None = None,
    started: Callable[[Recorder], None] = lambda _recorder: None,
    said: Callable[[str], None] = lambda _words: None,
) -> tuple[Recorded, ...]:
    """Run a recipe on the bench; the project itself is left to `adopt_recorded`.

    Parameters
    ----------
    session, request
        Where to, and what.
    should_stop
        Polled; what was recorded until then is kept.
    console
        The open console; opened here when the bench has one and None is given.
    started
        Called with each recorder before it runs, in this thread.
    said
        Called with what is being done, in words.

    Raises
    ------
    BadArgumentError
        If the request is impossible; nothing was switched on then.
    InstrumentError
        If a fault left nothing to keep; the output is off then.
    ProjectError
        If the project folder cannot be written.
    """
    check_request(session, request)
    captures = session.folder.captures
    made = make_folders(captures)
    own = console is None and bool(request.bench.console)
    names = _Names(session, request)
    try:
        names.take_first()
        if own:
            console = Console(request.bench.console, baud=request.bench.baud)

        if _other_board(request.bench) is not None:
            return _record_two(session, request, names, console, should_stop, started=started, said=said)
        return _run(request, names, console, should_stop, started=started, said=said)
    finally:
        if own and console is not None:
            console.close()
        names.release()
        remove_folders(made)


def _run(
    request: RecordRequest,
    names: Callable[[str], CaptureName],
    console: Console | None,
    should_stop: ShouldStop,
    *,
    started: Callable[[Recorder], None],
    said: Callable[[str], None],
    opened: Callable[[], None] = lambda: None,
    remarks: Callable[[], tuple[str, ...]] = tuple,
) -> tuple[Recorded, ...]:
    """Run the recipe of a request on its bench."""

    def job_of(name: CaptureName, settings: BenchSettings) -> Job:
        return Job(
            path=name.path,
            name=name,
            settings=settings,
            info=info_of(request.bench, request.recipe),
            corrections=corrections_of(request.bench),
            patterns=Patterns(request.bench.patterns),
            reconnect_s=request.reconnect_s,
            remarks=remarks,
        )

    run = RecipeRun(request.bench, request.recipe, console, job_of, started, said, opened)
    return run.run(names, should_stop, reset=request.reset, keep_power=request.keep_power, timeout_s=request.timeout_s)


def _other_board(bench: Bench) -> Bench | None:
    """Return the bench of another board that is recorded at the same time; None where there is none."""
    second = bench.second
    if not second.resource or second.gives is not SecondGives.BOARD:
        return None
    # What is subtracted was measured on the first one's leads, and its console is another.
    return msgspec.structs.replace(
        bench,
        resource=second.resource,
        second=SecondInstrument(),
        console="",
        attached=(),
        zero=None,
        identity=msgspec.structs.replace(bench.identity, board=""),
    )


def _record_two(
    session: Session,
    request: RecordRequest,
    names: Callable[[str], CaptureName],
    console: Console | None,
    should_stop: ShouldStop,
    *,
    started: Callable[[Recorder], None],
    said: Callable[[str], None],
) -> tuple[Recorded, ...]:
    """Record two boards at the same time by one recipe; what is told as it goes is told of the first."""
    bench = _other_board(request.bench)
    assert bench is not None
    beside = replace(request, bench=bench, name=free_name(session, f"{request.name} {OTHER_BOARD}"), replace=False)
    others = _Names(session, beside)
    others.take_first()

    def first(stop: ShouldStop, opened: Callable[[], None], begun: Callable[[Recorder], None]) -> tuple[Recorded, ...]:
        def both_begun(recorder: Recorder) -> None:
            started(recorder)
            begun(recorder)

        tell = partial(two.remarks_of, two.first)
        return _run(request, names, console, stop, started=both_begun, said=said, opened=opened, remarks=tell)

    def second(stop: ShouldStop, opened: Callable[[], None], begun: Callable[[Recorder], None]) -> tuple[Recorded, ...]:
        tell = partial(two.remarks_of, two.second)
        return _run(beside, others, None, stop, started=begun, said=_say_nothing, opened=opened, remarks=tell)

    two = TwoBoards(
        Board(request.name, request.bench.resource, first), Board(beside.name, beside.bench.resource, second)
    )
    try:
        return two.record(should_stop)
    finally:
        others.release()


def _say_nothing(_words: str) -> None:
    """Leave what the second board's recipe does untold: it is the same as the first one's."""


class _Names:
    """The names of the captures of one run of a recipe, taken before anything is switched on or as they come."""

    def __init__(self, session: Session, request: RecordRequest) -> None:
        self._session, self._request = session, request
        self._first: CaptureName | None = None

    def take_first(self) -> None:
        """Take the name that was asked for."""
        path = self._session.folder.capture_path(self._request.name)
        try:
            self._first = take_name(path, replace=self._request.replace)
        except OSError as error:
            raise not_written(path, error, "nothing was recorded") from error

    def release(self) -> None:
        """Give up what no recording took over."""
        if self._first is not None:
            self._first.release()

    def __call__(self, wanted: str) -> CaptureName:
        if not wanted and self._first is not None:
            first, self._first = self._first, None
            return first
        base = f"{self._request.name} {wanted}".strip()
        while True:
            path = self._session.folder.capture_path(free_name(self._session, base))
            try:
                return take_name(path)
            except BadArgumentError:
                base = f"{base} again"  # another program took it just now, or was interrupted with it


def adopt_recorded(session: Session, recorded: Recorded, *, title: str = "", changed: str = "") -> None:
    """Make a recording a run of the project and save the project.

    Raises
    ------
    ProjectError
        If the project cannot be written.
    """
    session.forget_capture(recorded.name)
    session.add_run(Run(recorded.name, title, changed))
    session.save()
