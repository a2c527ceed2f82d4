"""The simulated bench beside the program: a process of its own, so that nothing it does can hold up the window."""

from __future__ import annotations

import re
import subprocess
import sys
import threading
import time
from types import TracebackType
from typing import Self

from warm_ember.errors import InstrumentError
from warm_ember.signal.series import ShouldStop, never

_ADDRESS = re.compile(r"^(instrument|console)\s+(\S+)")
_WAIT_S = 30.0
SUPPLY_V = 3.0
"""What the post is made for."""
GUARD_V = 3.6
"""What it bears."""


class SimulatedBench:
    """A simulated source-measure unit with the trail counter post behind it, on free ports.

    Parameters
    ----------
    firmware
        What runs on the target.
    should_stop
        Polled while it starts.

    Attributes
    ----------
    resource, console
        Where the instrument and the target's console are.

    Raises
    ------
    InstrumentError
        If it does not start.
    """

    def __init__(self, firmware: str = "r5", *, should_stop: ShouldStop = never) -> None:
        self.firmware = firmware
        self.resource = self.console = ""
        command = [sys.executable, "-m", "warm_ember", "bench", "--port", "0", "--console-port", "0"]
        self._process = subprocess.Popen(
            [*command, "--firmware", firmware, "--report-after", "20"],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )
        self._reader = threading.Thread(target=self._read, name="simulated bench", daemon=True)
        self._reader.start()
        until_s = time.monotonic() + _WAIT_S
        while not self.is_ready and self.is_running and time.monotonic() < until_s and not should_stop():
            self._reader.join(0.02)
        if not self.is_ready:
            self.close()
            raise InstrumentError("the simulated bench", "it did not start", remedy="start it with: warm-ember bench")

    def _read(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            found = _ADDRESS.match(line)
            if found and found[1] == "instrument" and not self.resource:
                self.resource = found[2]
            elif found and found[1] == "console":
                self.console = found[2]

    @property
    def is_ready(self) -> bool:
        """Whether both of its addresses are known."""
        return bool(self.resource and self.console)

    @property
    def is_running(self) -> bool:
        """Whether it has not ended."""
        return self._process.poll() is None

    def close(self) -> None:
        """End it."""
        if self.is_running:
            self._process.terminate()
            try:
                self._process.wait(5.0)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
        self._reader.join(5.0)
        if self._process.stdout is not None:
            self._process.stdout.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
