"""Benches to record from, each on its own socket."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import ExitStack
from typing import Any

import pytest

from warm_ember.bench.simulated.faults import Fault
from warm_ember.bench.simulated.firmware import FIRMWARE
from warm_ember.bench.simulated.instrument import SimulatedInstrument
from warm_ember.bench.simulated.server import BenchServer
from warm_ember.bench.simulated.target import BenchClock, Target

Serve = Callable[..., BenchServer]


class AskedClock(BenchClock):
    """A bench's time that goes on by a step each time its samples are asked for, and stands still between.

    What a recording is then made of depends on what was asked, not on how busy the machine is.
    """

    def __init__(self, step_s: float) -> None:
        super().__init__()
        self._step_s, self._now_s = step_s, 0.0

    @property
    def now_s(self) -> float:
        return self._now_s

    def wait(self, time_s: float) -> None:
        """Let some time pass."""
        self._now_s += time_s

    def follow(self, instrument: SimulatedInstrument) -> None:
        """Go on with the questions to an instrument."""
        run = instrument.run

        def asked(message: str) -> bytes | None:
            if message.upper().startswith("FETC") and "CURR" in message.upper():
                self.wait(self._step_s)
            return run(message)

        instrument.run = asked  # type: ignore[method-assign]


@pytest.fixture
def serve() -> Iterator[Serve]:
    """Make benches that are closed at the end."""
    with ExitStack() as benches:

        def make(
            firmware: str = "r5",
            *,
            speed: float = 1.0,
            clock: AskedClock | None = None,
            fault: Fault | None = None,
            **target: Any,
        ) -> BenchServer:
            build = next(one for one in FIRMWARE if one.name == firmware)
            instrument = SimulatedInstrument(Target(build, clock or BenchClock(speed), **target))
            if clock is not None:
                clock.follow(instrument)
            return benches.enter_context(BenchServer(instrument, fault=fault))

        yield make


def address(server: BenchServer) -> str:
    return f"TCPIP::127.0.0.1::{server.port}::SOCKET"


def console_address(server: BenchServer) -> str:
    return f"socket://127.0.0.1:{server.console_port}"
