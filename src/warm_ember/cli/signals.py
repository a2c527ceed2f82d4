"""Signals that end the program: everything is put in order first, and the exit code says which it was."""

from __future__ import annotations

import contextlib
import signal
import threading
from collections.abc import Callable, Iterator
from types import FrameType

SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


class Stopped(BaseException):
    """A signal asked the program to end; no handler of errors may take it for one.

    Parameters
    ----------
    number
        Which signal.
    """

    def __init__(self, number: int) -> None:
        self.number = number
        super().__init__(f"stopped by {signal.Signals(number).name}")

    @property
    def exit_code(self) -> int:
        """The exit code, as a shell gives it to a program that a signal ended."""
        return 128 + self.number


@contextlib.contextmanager
def _handled(handle: Callable[[int, FrameType | None], None]) -> Iterator[None]:
    """Handle the signals that end the program, but not one that it was started to ignore, as `nohup` does."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = {}
    for number in SIGNALS:
        if signal.getsignal(number) is not signal.SIG_IGN:
            before[number] = signal.signal(number, handle)
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


@contextlib.contextmanager
def raised() -> Iterator[None]:
    """Let a signal end what is being done as an exception, so that nothing is left behind."""

    def handle(number: int, _frame: FrameType | None) -> None:
        raise Stopped(number)

    with _handled(handle):
        yield


class Asked:
    """Whether a signal asked for an end; a second one does not wait for it.

    Attributes
    ----------
    number
        Of the first signal; None before.
    """

    def __init__(self) -> None:
        self.number: int | None = None

    def __call__(self) -> bool:
        """Return whether it did: a `ShouldStop`."""
        return self.number is not None

    @contextlib.contextmanager
    def listening(self) -> Iterator[None]:
        """Take signals as requests."""

        def handle(number: int, _frame: FrameType | None) -> None:
            if self.number is not None:
                raise Stopped(number)
            self.number = number

        with _handled(handle):
            yield
