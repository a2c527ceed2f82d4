"""Writing behind: a slow disk holds up neither an instrument whose memory runs full, nor who reads a file."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

_MOST_BYTES = 96 << 20


class WriteBehind:
    """Do what is put in one after the other, in a thread of its own; after a failure do nothing more.

    Parameters
    ----------
    most_bytes
        How much may wait; who puts in more waits too.
    name
        Of the thread.
    """

    def __init__(self, most_bytes: int = _MOST_BYTES, name: str = "writing") -> None:
        self._most_bytes = most_bytes
        self._thread = ThreadPoolExecutor(1, thread_name_prefix=name)
        self._waiting: deque[tuple[Future[None], int]] = deque()
        self._waiting_bytes = 0
        self._failed = False

    def put(self, work: Callable[[], object], size: int = 0) -> None:
        """Have something done.

        Parameters
        ----------
        work
            What to do.
        size
            How many bytes it holds until then.

        Raises
        ------
        Exception
            What earlier work raised, once.
        """
        self._waiting.append((self._thread.submit(self._do, work), size))
        self._waiting_bytes += size
        while self._waiting and (self._waiting[0][0].done() or self._waiting_bytes > self._most_bytes):
            self._await_first()

    def drain(self) -> None:
        """Wait until all is done.

        Raises
        ------
        Exception
            What it raised.
        """
        while self._waiting:
            self._await_first()

    def close(self) -> None:
        """Wait until all is done, whatever comes of it, and end the thread."""
        self._thread.shutdown()

    def _await_first(self) -> None:
        done, size = self._waiting.popleft()
        self._waiting_bytes -= size
        done.result()

    def _do(self, work: Callable[[], object]) -> None:
        if self._failed:
            return
        try:
            work()
        except Exception:
            self._failed = True
            raise
