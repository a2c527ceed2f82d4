"""The part of a capture that stands for the device's life: whole cycles, and no start-up."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from calibration_devices import Stay, quick_capture
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.placing import place
from warm_ember.attribution.window import find_window, within

RATE_HZ, SLEEP_A, WORK_A = 500.0, 5e-6, 8e-3


def device(period_s: float, length_s: float, begins_s: float, first: tuple[Stay, ...] = ()):
    random = np.random.default_rng(7)
    stays, at_s = list(first), begins_s
    while at_s < length_s:
        to_s = min(at_s + 0.2 * period_s, length_s - 2 / RATE_HZ)
        stays.append(Stay("Work", round(at_s, 3), round(to_s, 3), WORK_A, "timer"))
        at_s += period_s
    return quick_capture(stays, length_s, RATE_HZ, random), 0.2 * WORK_A + 0.8 * SLEEP_A


@given(st.floats(2.0, 9.0), st.floats(2.1, 12.0), st.floats(0.0, 0.79), st.booleans())
@settings(max_examples=25)
def test_the_mean_is_that_of_whole_cycles(period_s: float, cycles: float, phase: float, with_log: bool) -> None:
    recording, true_a = device(period_s, cycles * period_s, phase * period_s + 0.05)
    if not with_log:
        recording = replace(recording, events=())
    placement = place(recording)
    window = find_window(recording, placement)
    assert window.cycles == pytest.approx(cycles, abs=1.01)
    assert window.cycle_s == pytest.approx(period_s, rel=0.01)
    found = make_ledger(recording, within(placement, window, 1 / RATE_HZ))
    assert found.mean_a == pytest.approx(true_a, rel=0.04)
    assert sum(row.charge_c for row in found.all_rows) == pytest.approx(found.charge_c, rel=1e-9)


def test_a_start_up_is_left_out_and_said() -> None:
    boot = (Stay("Boot", 0.0, 1.5, 60e-3, "power"),)
    recording, true_a = device(5.0, 60.0, 3.0, boot)
    placement = place(recording)
    window = find_window(recording, placement)
    assert "start-up of 1.50 s" in window.words
    found = make_ledger(recording, within(placement, window, 1 / RATE_HZ))
    assert found.mean_a == pytest.approx(true_a, rel=0.02)
    assert make_ledger(recording, placement).mean_a > 1.5 * true_a


@pytest.mark.parametrize("at_s", [8.7, 31.0, 52.9])
def test_a_rare_happening_between_even_wakes_stays_in_the_window(at_s: float) -> None:
    rare = Stay("Report", at_s, at_s + 0.4, 40e-3, "radio")
    stays = [Stay("Work", t + 0.5, t + 0.6, WORK_A, "timer") for t in np.arange(0.0, 60.0, 3.0)]
    recording = quick_capture(
        sorted([*stays, rare], key=lambda one: one.from_s), 60.0, RATE_HZ, np.random.default_rng(7)
    )
    for one in (recording, replace(recording, events=())):
        placement = place(one)
        window = find_window(one, placement)
        assert window.to_s - window.from_s == pytest.approx(60.0, abs=0.1)
        found = make_ledger(one, within(placement, window, 1 / RATE_HZ))
        assert found.mean_a == pytest.approx((20 * 0.1 * WORK_A + 0.4 * 40e-3) / 60.0, rel=0.02)


def test_where_nothing_repeats_the_whole_capture_stands() -> None:
    recording, _ = device(100.0, 60.0, 20.0)
    window = find_window(recording, place(recording))
    assert (window.from_s, window.to_s, window.cycles, window.left_out) == (0.0, 60.0, None, ())
    assert window.words == "over the whole capture"


def test_the_command_reads_whole_cycles_and_life_says_which(tmp_path, command) -> None:
    recording, true_a = device(4.0, 4.0 * 7.4, 1.0)
    recording.current.read(0, recording.current.samples).astype("<f4").tofile(tmp_path / "c.f32")
    assert command("import", tmp_path / "p", tmp_path / "c.f32", "--rate", RATE_HZ, "--supply", "3")[0] == 0
    import json

    code, out, _ = command("stretch", tmp_path / "p", "c", "--whole-cycles", "--json")
    found = json.loads(out)
    assert (code, found["cycles"]) == (0, 7)
    assert found["cycle_s"] == pytest.approx(4.0, rel=1e-3)
    assert found["mean_a"] == pytest.approx(true_a, rel=0.01)
    states = json.loads(command("states", tmp_path / "p", "c", "--json")[1])
    assert (states["window"]["from_s"], states["window"]["to_s"]) == (0.0, states["duration_s"])
    assert states["whole_cycles"]["mean_a"] == pytest.approx(found["mean_a"], rel=1e-9)
    assert "over the whole capture; 7 whole cycles of 4.00 s" in command("states", tmp_path / "p", "c")[1]
    part = json.loads(command("stretch", tmp_path / "p", "c", "--from", 6, "--to", 15, "--whole-cycles", "--json")[1])
    assert part["to_s"] - part["from_s"] == pytest.approx(part["cycles"] * part["cycle_s"])
    life = json.loads(command("life", tmp_path / "p", "--json")[1])
    assert life["window"]["cycles"] == 7
    assert life["window"]["left_out"]
    assert life["mean_a"] == pytest.approx(true_a, rel=0.01)
    assert "7 whole cycles of 4.00 s" in command("life", tmp_path / "p")[1]
    assert command("stretch", tmp_path / "p", "c")[0] == 2
    np.full(2000, 1e-3, dtype="<f4").tofile(tmp_path / "flat.f32")
    assert command("import", tmp_path / "p", tmp_path / "flat.f32", "--rate", "1000")[0] == 0
    code, out, error = command("stretch", tmp_path / "p", "flat", "--whole-cycles")
    assert (code, out, error.count("\n")) == (2, "", 1)
