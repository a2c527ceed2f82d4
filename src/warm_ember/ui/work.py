"""Background work: a request goes to a thread, the answer comes back by signal, stale answers are dropped."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, QThreadPool, QTimer, Signal

from warm_ember.errors import Cancelled
from warm_ember.signal.series import Progress, ShouldStop

log = logging.getLogger(__name__)

_SHOWN_AFTER_MS = 100

Work = Callable[[ShouldStop, Progress], Any]


@dataclass
class _Job:
    number: int
    what: str
    stop: threading.Event
    then: Callable[[Any], None]
    failed: Callable[[Exception], None]
    quiet: bool


class Jobs(QObject):
    """Run work off the interface thread, at most one piece per subject.

    A new piece of work on a subject stops the old one, whose answer is dropped. For each piece exactly one of `then`
    and `failed` is called on the interface thread, and neither when it was stopped.
    """

    shown = Signal(str)
    progressed = Signal(float)
    hidden = Signal()
    _answered = Signal(str, int, object, object)
    _progress_made = Signal(str, int, float)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(2)
        self._jobs: dict[str, _Job] = {}
        self._count = 0
        self._visible = False
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_SHOWN_AFTER_MS)
        self._timer.timeout.connect(self._show)
        self._answered.connect(self._on_answered)
        self._progress_made.connect(self._on_progress)

    def run(
        self,
        subject: str,
        what: str,
        work: Work,
        then: Callable[[Any], None],
        failed: Callable[[Exception], None],
        *,
        quiet: bool = False,
    ) -> None:
        """Begin a piece of work.

        Parameters
        ----------
        subject
            What it is about; earlier work on the same subject is stopped.
        what
            Shown while it runs for over 100 ms: ``"importing night.csv"``.
        work
            Called in a thread with `should_stop` and `progress`.
        then, failed
            Called on the interface thread with the result or the exception.
        quiet
            Never show it.
        """
        self.stop(subject)
        self._count += 1
        job = _Job(self._count, what, threading.Event(), then, failed, quiet)
        self._jobs[subject] = job
        self._pool.start(lambda: self._in_thread(subject, job, work))
        if not quiet and not self._visible and not self._timer.isActive():
            self._timer.start()

    def _in_thread(self, subject: str, job: _Job, work: Work) -> None:
        result: Any = None
        error: Exception | None = None
        try:
            if job.stop.is_set():
                raise Cancelled("stopped")
            result = work(job.stop.is_set, lambda share: self._progress_made.emit(subject, job.number, share))
        except Exception as caught:  # noqa: BLE001 - the thread's boundary: it is reported on the other side
            error = caught
        try:
            self._answered.emit(subject, job.number, result, error)
        except RuntimeError:  # the window is gone, nobody waits for the answer
            log.debug("an answer about %s came after the end", subject)

    def _on_answered(self, subject: str, number: int, result: Any, error: Exception | None) -> None:
        job = self._jobs.get(subject)
        if job is None or job.number != number:
            return
        del self._jobs[subject]
        self._hide_when_idle()
        if error is None:
            job.then(result)
        else:
            job.failed(error)

    def _on_progress(self, subject: str, number: int, share: float) -> None:
        job = self._jobs.get(subject)
        if job is not None and job.number == number and self._visible:
            self.progressed.emit(share)

    def _show(self) -> None:
        loud = [job for job in self._jobs.values() if not job.quiet]
        if loud:
            self._visible = True
            self.shown.emit(loud[0].what)

    def _hide_when_idle(self) -> None:
        if any(not job.quiet for job in self._jobs.values()):
            return
        self._timer.stop()
        if self._visible:
            self._visible = False
            self.hidden.emit()

    @property
    def is_busy(self) -> bool:
        """Whether anything runs."""
        return bool(self._jobs)

    def has(self, subject: str) -> bool:
        """Return whether a piece of work on a subject runs or waits for a thread."""
        return subject in self._jobs

    def stop(self, subject: str) -> None:
        """Stop the work on a subject; its answer is dropped."""
        job = self._jobs.pop(subject, None)
        if job is not None:
            job.stop.set()
            self._hide_when_idle()

    def stop_all(self) -> None:
        """Stop everything."""
        for subject in list(self._jobs):
            self.stop(subject)

    def close(self) -> None:
        """Stop everything and wait for the threads."""
        self.stop_all()
        self._timer.stop()
        self._pool.waitForDone()
