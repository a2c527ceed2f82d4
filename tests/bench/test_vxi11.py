"""What comes over VXI-11 is recorded as what comes over a socket, from a peer that is not ours."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from bench.fake_instrument import FakeInstrument
from bench.fake_meter import FakeMeter
from bench.vxi11_peer import Vxi11Peer
from warm_ember.bench.discovery import find_instruments
from warm_ember.bench.link import Link
from warm_ember.errors import InstrumentError
from warm_ember.session.session import Session

COURSE = np.repeat(np.float32([2e-6, 3e-3, 2e-6, 9e-2]), 500)


def record(command, project: Path, source: str, seconds: float, *more: object) -> dict:
    arguments = ("record", project, "--from", source, "--duration", seconds, "--name", "v", "--json", *more)
    code, out, error = command(*arguments)
    assert (code, error) == (0, ""), error
    return json.loads(out)


def test_a_sweep_comes_whole_and_the_output_is_off_afterwards(tmp_path: Path, command) -> None:
    with FakeInstrument(COURSE, np.full(2000, 3.0, np.float32), pieces=(700, 0, 600)) as inside:
        inside.identity = "Any Maker,Model 1,0,1"
        with Vxi11Peer(inside.reply) as peer:
            found = record(command, tmp_path / "p", peer.address, 2, "--interval", 1e-3, "--voltage", 3, "--limit", 1)
            assert not inside.is_on
        assert found["samples"] == 2000
    with Session.open(tmp_path / "p") as session:
        np.testing.assert_array_equal(session.capture("v").current.read(0, 2000), COURSE)


def test_a_meter_is_asked_over_it_and_found(tmp_path: Path, command) -> None:
    with FakeMeter(lambda number: f"{1e-3 + 1e-5 * number:.6E}") as inside, Vxi11Peer(inside.reply) as peer:
        (found,) = find_instruments((peer.address,), timeout_s=2.0)[:1]
        assert (found.resource, found.identity) == (peer.address, "Any Maker,Meter 3,0,1")
        record(command, tmp_path / "p", peer.address, 0.5)
    with Session.open(tmp_path / "p") as session:
        readings = session.capture("v").readings
        assert readings is not None
        steps = np.diff(readings.current_a)
        np.testing.assert_allclose(steps, 1e-5, rtol=0.01)


def test_no_answer_is_told_and_the_link_goes_on() -> None:
    with Vxi11Peer(lambda message: b"there\n" if message == "*IDN?" else None) as peer:
        link = Link(peer.address, timeout_s=0.3)
        with pytest.raises(InstrumentError, match="no answer to “silent\\?”"):
            link.query("silent?")
        assert link.query("*IDN?") == "there"
        link.close()
