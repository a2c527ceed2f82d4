"""Work that follows something that changes all the time: only the latest request counts, one piece at a time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from warm_ember.ui.work import Jobs, Work


class Latest:
    """Run the latest of many requests, without stopping the one that is being worked on.

    Stopping it, as `Jobs` does, would let nothing come to an end while requests come faster than answers.

    Parameters
    ----------
    jobs
        Where the work is done.
    subject
        What it is about.
    failed
        Called with what goes wrong.
    """

    def __init__(self, jobs: Jobs, subject: str, failed: Callable[[Exception], None]) -> None:
        self._jobs, self._subject, self._failed = jobs, subject, failed
        self._waiting: tuple[Work, Callable[[Any], None]] | None = None

    def run(self, work: Work, then: Callable[[Any], None]) -> None:
        """Do a piece of work as soon as the one before it is done, unless another is asked for until then."""
        self._waiting = (work, then)
        if not self._jobs.has(self._subject):
            self._start()

    def stop(self) -> None:
        """Forget what waits and drop what runs."""
        self._waiting = None
        self._jobs.stop(self._subject)

    def _start(self) -> None:
        if self._waiting is None:
            return
        (work, then), self._waiting = self._waiting, None

        def answered(result: Any) -> None:
            then(result)
            self._start()

        def failed(error: Exception) -> None:
            self._failed(error)
            self._start()

        self._jobs.run(self._subject, "following", work, answered, failed, quiet=True)
