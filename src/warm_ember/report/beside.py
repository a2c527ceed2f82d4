"""What a copy of this process computes while this one goes on."""

from __future__ import annotations

import logging
import multiprocessing
import signal
import threading
from collections.abc import Callable
from multiprocessing.connection import Connection
from types import TracebackType
from typing import Generic, Self, TypeVar

T = TypeVar("T")

log = logging.getLogger(__name__)


class Beside(Generic[T]):
    """Work that goes on beside this process from now on; use it as a context.

    A copy of this process does it, which has loaded all that this one has. Of a program with several threads no copy
    is made, as it would have their locks and not the threads that open them: there the work is done here, when its
    result is wanted. So it is where the copy did not get to an end.

    Parameters
    ----------
    work
        What is to be computed: it returns what can be pickled, and changes nothing that is needed afterwards.
    """

    def __init__(self, work: Callable[[], T]) -> None:
        self._work = work
        self._copy = None
        if threading.active_count() > 1 or "fork" not in multiprocessing.get_all_start_methods():
            return
        making = multiprocessing.get_context("fork")
        self._answer, told = making.Pipe(duplex=False)
        self._copy = making.Process(target=_tell, args=(work, told), daemon=True)
        try:
            self._copy.start()
        except OSError as error:
            log.info("no process can be started beside this one (%s)", error)
            self._copy = None
        told.close()

    def result(self) -> T:
        """Return what was computed.

        Raises
        ------
        WarmEmberError
            What the work raises.
        """
        if self._copy is not None:
            try:
                found: T = self._answer.recv()
            except (EOFError, OSError):
                log.info("what was computed beside is computed again here: the process has ended")
            else:
                return found
        return self._work()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._copy is not None:
            self._answer.close()
            self._copy.kill()
            self._copy.join()


def _tell(work: Callable[[], T], told: Connection) -> None:
    # Who stops the program stops it; the copy is ended with it and says nothing.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        told.send(work())
    except Exception:  # whatever it is, it comes again where the result is wanted
        log.info("what is computed beside came to no end", exc_info=True)
