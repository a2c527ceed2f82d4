"""What the simulated scope saves is read by import as what the simulated target drew."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from warm_ember.bench.simulated.firmware import FIRMWARE
from warm_ember.bench.simulated.scope import GAIN, LENGTH_S, RATE_HZ, SHUNT_OHM, scope_record
from warm_ember.session.session import Session


@pytest.mark.parametrize("firmware", [FIRMWARE[0], FIRMWARE[4]], ids=lambda one: one.name)
def test_what_a_scope_saves_across_a_shunt_is_imported(firmware, tmp_path: Path, command) -> None:
    path, project = tmp_path / "scope.csv", tmp_path / "post"
    code, out, _ = command("bench", "--scope", path, "--firmware", firmware.name)
    assert code == 0
    told = out.splitlines()[-1].removeprefix("import it with ").split()
    code, _, error = command("import", project, path)
    assert code == 2
    assert "--current-column, and with --shunt" in error
    assert command("import", project, path, *told)[0] == 0
    truth = scope_record(firmware).true_current
    with Session.open(project) as session:
        capture = session.capture("scope")
        current = capture.current.read(0, capture.current.samples).astype(np.float64)
        assert capture.current.interval_s == pytest.approx(1 / RATE_HZ, rel=1e-9)
        assert len(current) == len(truth) == round(LENGTH_S * RATE_HZ)
        step_a = np.diff(np.unique(np.round(current, 6))).min()
        assert step_a == pytest.approx(0.005 / (SHUNT_OHM * GAIN))
        assert current.mean() == pytest.approx(truth.mean(), rel=2e-3)  # its own noise spreads the steps
        assert np.abs(current - truth).max() < 4 * step_a
        assert capture.voltage is not None
        rail_v = capture.voltage.read(0, capture.voltage.samples)
        assert rail_v.mean() == pytest.approx(3.0 - 0.6 * truth.mean(), abs=2e-3)
