"""What lanes show of a capture, read by a thread: a slow disk holds up no one who pans."""

from __future__ import annotations

import logging
import math
import threading
import time
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, TypeVar

from PySide6.QtCore import QObject, QThreadPool, QTimer, Signal

log = logging.getLogger(__name__)

Value = TypeVar("Value")


@dataclass(eq=False)
class _Request:
    extent: Hashable
    read: Callable[[], Any]
    done: threading.Event = field(default_factory=threading.Event)
    value: Any = None


class WindowReader(QObject):
    """Read what lanes show in a thread.

    A read that is quick, as nearly all are, is waited for, so that nothing is painted twice. What takes longer is
    painted when it has come, and until then what was read last.

    Attributes
    ----------
    patience_s
        How long all that is painted at a time waits together, well below the length of a frame.

    Signals
    -------
    arrived
        Something came that was not waited for.
    """

    arrived = Signal()
    patience_s = 8e-3
    _answered = Signal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)  # what is read next to each other lies next to each other
        self._held: dict[Hashable, tuple[Hashable, Any]] = {}
        self._asked: dict[Hashable, _Request] = {}
        self._until_s: float | None = None
        self._answered.connect(self._on_answered)

    def read(self, subject: Hashable, extent: Hashable, read: Callable[[], Value]) -> Value | None:
        """Return what was read of a subject: of this extent, else of the one before, else nothing.

        Parameters
        ----------
        subject
            What is read: a channel. Only the latest extent of it that was asked for is read.
        extent
            Which part of it, and how finely.
        read
            Reads it, in a thread.
        """
        extent_held, last = self._held.get(subject, (None, None))
        value: Value | None = last
        if extent_held == extent and subject in self._held:
            return value
        request = self._asked.get(subject)
        if request is None or request.extent != extent:
            request = self._asked[subject] = _Request(extent, read)
            asked = request
            self._pool.start(lambda: self._in_thread(subject, asked))
        if request.done.wait(self._patience_left_s()):
            self._take(subject, request)
            value = request.value
        return value

    def forget(self) -> None:
        """Drop what was read: another capture comes."""
        self._held.clear()
        self._asked.clear()

    @contextmanager
    def waiting(self) -> Iterator[None]:
        """Wait for all that is read, for a picture that is made once."""
        usual_s, self.patience_s, self._until_s = self.patience_s, math.inf, None
        try:
            yield
        finally:
            self.patience_s, self._until_s = usual_s, None

    def _patience_left_s(self) -> float | None:
        if math.isinf(self.patience_s):
            return None
        now_s = time.monotonic()
        if self._until_s is None:
            self._until_s = now_s + self.patience_s
            QTimer.singleShot(0, self, self._end_turn)
        return max(0.0, self._until_s - now_s)

    def _end_turn(self) -> None:
        self._until_s = None

    def _in_thread(self, subject: Hashable, request: _Request) -> None:
        try:
            if self._asked.get(subject) is request:
                request.value = request.read()
        except Exception as error:  # noqa: BLE001 - the thread's boundary: the lane stays empty
            log.info("a lane could not be read: %s", error)  # a damaged capture was reported before: by its results
        finally:
            request.done.set()
        try:
            self._answered.emit(subject, request)
        except RuntimeError:  # the window is gone, nobody waits for the answer
            log.debug("a lane was read after the end")

    def _take(self, subject: Hashable, request: _Request) -> None:
        if self._asked.get(subject) is request:
            del self._asked[subject]
            self._held[subject] = (request.extent, request.value)

    def _on_answered(self, subject: Hashable, request: _Request) -> None:
        if self._asked.get(subject) is request:
            self._take(subject, request)
            self.arrived.emit()
