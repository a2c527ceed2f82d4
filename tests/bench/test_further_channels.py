"""What an instrument measures beside current and voltage is recorded with it, sample by sample."""

from __future__ import annotations

import json
from importlib import resources
from pathlib import Path

import numpy as np
import pytest

from bench.benches import AskedClock, Serve, address
from warm_ember.bench.description import read_description
from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.errors import BadFileError
from warm_ember.model.capture import CaptureInfo
from warm_ember.session.session import Session
from warm_ember.store.capture import Capture
from warm_ember.store.interrupted_recording import interrupted, recover
from warm_ember.store.recording_file import RecordingFile

FIELD = {"aux": "field", "fetch": "FETCh:ARRay:FIELd?", "unit": "V"}


@pytest.fixture
def detector(own_settings: None) -> None:
    """The simulated bench described with its radio detector, and with a channel that it does not have."""
    import platformdirs

    folder = platformdirs.user_config_path("warm-ember") / "instruments"
    folder.mkdir(parents=True)
    shipped = resources.files("warm_ember.bench") / "instruments" / "simulated-bench.json"
    described = json.loads(shipped.read_text())
    described["sense"] += [FIELD, {"aux": "humidity", "fetch": "FETCh:ARRay:HUMidity?", "unit": "%"}]
    (folder / "mine.json").write_text(json.dumps(described))


@pytest.mark.parametrize("fault", [None, FaultMode.DISCONNECT])
def test_a_detector_is_high_while_the_target_sends(
    detector: None, serve: Serve, tmp_path: Path, command, fault: FaultMode | None
) -> None:
    failing = Fault(fault, 8) if fault is not None else None
    server = serve("r5", clock=AskedClock(0.25), report_at_s=2.0, fault=failing)
    code, out, error = command(
        *("record", tmp_path / "p", "--from", address(server), "--duration", 8, "--interval", 1e-3),
        *("--voltage", 3, "--limit", 1, "--name", "m", "--reconnect", 30, "--json"),
    )
    assert (code, error) == (0, "")
    assert json.loads(out)["samples"] == 8000
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        assert list(capture.aux) == ["field"]  # what it does not measure it says
        field, unit = capture.aux["field"]
        assert unit == "V"
        values, current = field.read(0, 8000), capture.current.read(0, 8000)
        known = ~np.isnan(current)
        assert known.all() == (fault is None)
        np.testing.assert_array_equal(np.isnan(values), ~known)
        sends = values[known] > 0.5
        assert 0 < sends.sum() < known.sum()
        clear = known & ((current > 0.07) | (current < 0.05))  # beside noise at the edge
        np.testing.assert_array_equal(values[clear] > 0.5, current[clear] > 0.06)


def test_an_interrupted_recording_keeps_its_further_channels(tmp_path: Path) -> None:
    path = tmp_path / "m.h5"
    file = RecordingFile(path, CaptureInfo(0.1), aux_units={"field": "V"})
    current, volts = np.arange(5, dtype=np.float32), np.arange(5, dtype=np.float32) / 10
    file.append(current, aux={"field": volts})
    assert file.aux["field"][1] == "V"
    np.testing.assert_array_equal(file.aux["field"][0].read(1, 4), volts[1:4])
    file.flush()
    file.leave()
    assert recover(interrupted(tmp_path)[0], path) == 5
    with Capture(path) as capture:
        series, unit = capture.aux["field"]
        assert unit == "V"
        np.testing.assert_array_equal(series.read(0, 5), volts)


@pytest.mark.parametrize(
    "sense",
    [
        ["current", {"aux": "", "fetch": "X?"}],
        ["current", {"aux": "a/b", "fetch": "X?"}],
        ["current", {"aux": "a", "fetch": ""}],
        ["current", {"aux": "a", "fetch": "X?"}, {"aux": "a", "fetch": "Y?"}],
        ["current", {"aux": "a" * 61, "fetch": "X?"}],
        ["current", {"aux": "a"}],
        ["current", {"aux": "a", "fetch": "X?", "colour": 1}],
    ],
)
def test_a_wrong_channel_is_told(tmp_path: Path, sense: list[object]) -> None:
    (tmp_path / "d.json").write_text(json.dumps({"format": 1, "name": "x", "sense": sense}))
    with pytest.raises(BadFileError, match=r"sense|aux|fetch|colour"):
        read_description(tmp_path / "d.json")
