"""Benches to record from, each on its own socket."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import ExitStack
from typing import Any

import pytest

from warm_ember.bench.simulated.faults import Fault
from warm_ember.bench.simulated.firmware import FIRMWARE
from warm_ember.bench.simulated.instrument import Instrument
from warm_ember.bench.simulated.server import BenchServer
from warm_ember.bench.simulated.target import BenchClock, Target

Serve = Callable[..., BenchServer]


@pytest.fixture
def serve() -> Iterator[Serve]:
    """Make benches that are closed at the end."""
    with ExitStack() as benches:

        def make(firmware: str = "r5", *, speed: float = 1.0, fault: Fault | None = None, **target: Any) -> BenchServer:
            build = next(one for one in FIRMWARE if one.name == firmware)
            instrument = Instrument(Target(build, BenchClock(speed), **target))
            return benches.enter_context(BenchServer(instrument, fault=fault))

        yield make


def address(server: BenchServer) -> str:
    return f"TCPIP::127.0.0.1::{server.port}::SOCKET"


def console_address(server: BenchServer) -> str:
    return f"socket://127.0.0.1:{server.console_port}"
