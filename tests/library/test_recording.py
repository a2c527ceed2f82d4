"""Recording from a script, as the command does it."""

from __future__ import annotations

from pathlib import Path

import pytest

import warm_ember
from bench.benches import AskedClock, Serve, address, serve
from warm_ember.errors import BadArgumentError, InstrumentError

__all__ = ["serve"]


def test_a_script_records_into_a_project_and_reads_what_came(serve: Serve, tmp_path: Path) -> None:
    server = serve("r5", clock=AskedClock(0.25), report_at_s=1000.0)
    taken = warm_ember.record(
        tmp_path / "lab", address(server), 4.0, interval_s=2e-4, voltage_v=3.0, name="first", firmware="r5"
    )
    assert (taken.capture, taken.samples, taken.missing, taken.ending) == ("first", 20_000, 0, "done")
    assert [one.capture for one in taken.captures] == ["first"]
    assert taken.table().column("samples").to_pylist() == [20_000]
    with warm_ember.open_project(tmp_path / "lab") as project:
        assert project.runs["first"].stretch(0.0, 4.0).energy_j is not None
        again = warm_ember.record(project, address(server), 1.0, voltage_v=3.0, name="second")
        assert list(project.runs) == ["first", "second"]
        assert project.runs["second"].duration_s == pytest.approx(again.duration_s)
        with pytest.raises(BadArgumentError, match="already"):
            warm_ember.record(project, address(server), 1.0, voltage_v=3.0, name="first")


def test_what_cannot_be_recorded_is_told_before_anything_is_made(tmp_path: Path) -> None:
    with pytest.raises(BadArgumentError, match="how long"):
        warm_ember.record(tmp_path / "lab", "TCPIP::127.0.0.1::1::SOCKET")
    with pytest.raises(TypeError, match="volts"):
        warm_ember.record(tmp_path / "lab", "TCPIP::127.0.0.1::1::SOCKET", 1.0, volts=3.0)
    with pytest.raises(InstrumentError, match=r"127\.0\.0\.1"):
        warm_ember.record(tmp_path / "lab", "TCPIP::127.0.0.1::1::SOCKET", 1.0, voltage_v=3.0)
    assert not (tmp_path / "lab" / "captures").exists()
