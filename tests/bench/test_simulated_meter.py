"""The simulated meter and board: what is recorded from them is what the simulated target drew."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest

from bench.benches import address
from warm_ember.bench.discovery import find_instruments
from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.bench.simulated.firmware import FIRMWARE
from warm_ember.bench.simulated.instrument import SimulatedInstrument
from warm_ember.bench.simulated.meter import SimulatedMeter
from warm_ember.bench.simulated.server import BenchServer
from warm_ember.bench.simulated.target import BenchClock, Target
from warm_ember.session.session import Session


@contextmanager
def bench(
    *, meter: bool = False, mode: FaultMode = FaultMode.NONE, after: int = 1, **fault: float
) -> Iterator[BenchServer]:
    build = next(one for one in FIRMWARE if one.name == "r3")
    target, failing = Target(build, BenchClock()), Fault(mode, after, **fault)
    instrument = SimulatedMeter(target, fault=failing) if meter else SimulatedInstrument(target)
    with BenchServer(instrument, fault=failing) as server:
        yield server


def powered(server: BenchServer) -> None:
    for message in ("VOLT 3", "CURR:LIM 1", "OUTP ON"):
        server.instrument.run(message)


def record(command, project: Path, source: str, seconds: float, *more: object) -> dict[str, object]:
    code, out, error = command(
        "record", project, "--from", source, "--duration", seconds, "--name", "m", "--json", *more
    )
    assert (code, error) == (0, "")
    return json.loads(out)


def test_the_meter_powers_the_target_and_reads_its_sleep(tmp_path: Path, command) -> None:
    with bench(meter=True) as server:
        found = record(command, tmp_path / "p", address(server), 3, "--voltage", 3, "--limit", 1)
        assert not server.instrument.is_on
    assert (found["samples"], found["sample_interval_s"]) == (60, 0.05)
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        assert capture.info.aperture_s == 0.02
        assert capture.info.instrument.startswith("Warm Ember,Simulated meter")
        # The leak of this firmware: about 0.7 mA asleep, whatever else goes on after power-on.
        assert 5e-4 < float(np.nanmin(capture.readings.current_a)) < 1e-3


@pytest.mark.parametrize("over", ["socket", "serial"])
def test_the_board_prints_what_the_target_draws(tmp_path: Path, command, over: str) -> None:
    with bench() as server:
        powered(server)
        port = server.print_lines(100)
        source = f"socket://127.0.0.1:{port}" if over == "socket" else server.lines_path
        found = record(command, tmp_path / "p", source, 2)
    assert (found["samples"], found["sample_interval_s"], found["missing"]) == (200, 0.01, 0)
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        assert 5e-4 < float(np.nanmin(capture.readings.current_a)) < 1e-3
        np.testing.assert_allclose(np.diff(capture.readings.time_s), 0.01, atol=1e-9)


def test_what_prints_is_found_by_what_it_prints() -> None:
    with bench() as server:
        powered(server)
        port = server.print_lines(100)
        known = (f"ASRL{server.lines_path}::INSTR", f"socket://127.0.0.1:{port}", "/nowhere/tty", "-")
        found = {one.resource: one.identity for one in find_instruments(known, timeout_s=3.0)}
    assert set(found) >= {server.lines_path, f"socket://127.0.0.1:{port}"}
    assert "/nowhere/tty" not in found
    for source in (server.lines_path, f"socket://127.0.0.1:{port}"):
        assert re.fullmatch(r"something that prints “\d+ ms, [\d.]+ uA”", found[source])


@pytest.mark.parametrize(
    ("mode", "words"),
    [
        (FaultMode.LOST_LINES, ""),
        (FaultMode.HALF_LINES, "lines that hold no reading"),
        (FaultMode.OVERRANGE, "lines that hold no reading"),
        (FaultMode.RESTART_CLOCK, "the clock in the lines began again 1 time"),
    ],
)
def test_lines_that_go_wrong_are_told_and_the_others_kept(tmp_path: Path, command, mode: FaultMode, words: str) -> None:
    with bench(mode=mode, after=3) as server:
        powered(server)
        source = f"socket://127.0.0.1:{server.print_lines(100)}"
        found = record(command, tmp_path / "p", source, 2)
    assert found["samples"] == 200
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        assert words in capture.info.note
        steps = np.diff(capture.readings.time_s)
        assert steps.min() > 0
        assert np.median(steps) == pytest.approx(0.01)
        if mode is not FaultMode.RESTART_CLOCK:
            assert np.isclose(steps, 0.02).sum() >= 4  # the place of a line that is not there


@pytest.mark.parametrize("mode", [FaultMode.LATE, FaultMode.OVERRANGE])
def test_readings_that_go_wrong_are_missing(tmp_path: Path, command, mode: FaultMode) -> None:
    with bench(meter=True, mode=mode, delay_s=0.9) as server:
        found = record(command, tmp_path / "p", address(server), 4, "--voltage", 3, "--limit", 1)
    assert found["samples"] == 80
    assert found["missing"] >= 1
    with Session.open(tmp_path / "p") as session:
        readings = session.capture("m").readings
        assert np.isnan(readings.current_a).any() == (mode is FaultMode.OVERRANGE)
