"""Two boards recorded at the same time, each by its own instrument: nothing begins before both are ready."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial

from warm_ember.bench.recorder import Recorded, Recorder
from warm_ember.errors import InstrumentError
from warm_ember.signal.series import ShouldStop
from warm_ember.units import duration_text

_READY_S = 120.0
_BOARDS = 2


@dataclass(eq=False)
class Board:
    """One of the two.

    Parameters
    ----------
    name
        What its capture is called, for the other's remarks.
    resource
        The address of its instrument.
    run
        Records it, given what ends the recording, what is called before the first step, and before each recording.
    """

    name: str
    resource: str
    run: Callable[[ShouldStop, Callable[[], None], Callable[[Recorder], None]], tuple[Recorded, ...]]
    recorder: Recorder | None = None
    taken: tuple[Recorded, ...] = ()
    fault: Exception | None = None


@dataclass(eq=False)
class TwoBoards:
    """Record two boards side by side.

    Parameters
    ----------
    first, second
        The boards; the first one's recording is in the thread that calls.
    """

    first: Board
    second: Board
    _together: threading.Barrier = field(default_factory=lambda: threading.Barrier(_BOARDS))

    def record(self, should_stop: ShouldStop) -> tuple[Recorded, ...]:
        """Record both, and return what came of the second, then of the first: the last is the one that was asked for.

        Raises
        ------
        WarmEmberError
            If one of them cannot be recorded; nothing was switched on then, or all is off again.
        """
        beside = threading.Thread(target=partial(self._do, self.second, should_stop), name="second board")
        beside.start()
        self._do(self.first, should_stop)
        beside.join()
        taken = (*self.second.taken, *self.first.taken)
        faults = [one.fault for one in (self.first, self.second) if one.fault is not None]
        if faults and not taken:
            raise next((one for one in faults if not isinstance(one, _OtherNotReadyError)), faults[0])
        return taken

    def _do(self, board: Board, should_stop: ShouldStop) -> None:
        def wait() -> None:
            try:
                self._together.wait(_READY_S)
            except threading.BrokenBarrierError:
                if not should_stop():
                    raise _OtherNotReadyError(board.resource, "the other board's instrument was not ready") from None

        def started(recorder: Recorder) -> None:
            board.recorder = recorder
            wait()

        try:
            board.taken = board.run(should_stop, wait, started)
        except Exception as error:  # noqa: BLE001 - the thread's boundary: it is raised on the other side
            board.fault = error
        if board.fault is not None or any(one.fault is not None for one in board.taken):
            self._together.abort()  # the other one waits no longer

    def remarks_of(self, board: Board) -> tuple[str, ...]:
        """Return what is to be known of a board's recording: which other one was made, and when it began."""
        other = self.second if board is self.first else self.first
        if board.recorder is None or other.recorder is None:
            return ()
        later_s = other.recorder.started_s - board.recorder.started_s
        when = f"{duration_text(abs(later_s), 2)} {'later' if later_s >= 0 else 'earlier'}"
        return (f"recorded at the same time as {other.name}, which began {when}",)


class _OtherNotReadyError(InstrumentError):
    """Nothing is wrong with this one."""
