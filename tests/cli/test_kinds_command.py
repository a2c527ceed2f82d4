"""Kinds on the command line, from captures that have nothing but a current."""

from __future__ import annotations

import csv
import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from made_bursts import MadeKind, render

from warm_ember.session.session import Session

SENSOR = MadeKind(((3e-3, 0.03), (7e-3, 0.01)), "timer", 10.0, 1e-4, 0.01, 0.02, 2e-3)
RADIO = MadeKind(((4e-3, 0.4), (60e-3, 0.8), (9e-3, 0.4)), "timer", 60.0, 0.0, 0.01, 0.02, 5e-3)


def imported(command, project: Path, name: str, *kinds: MadeKind, seed: int = 2) -> np.ndarray:
    """Import a capture of 200 s without anything but a current."""
    made = render(np.random.default_rng(seed), kinds, 4.2e-6, 0.2e-6, 200.0, 5e3)
    values = made.current.read(0, made.current.samples)
    file = project.parent / f"{name}.f32"
    values.tofile(file)
    code, _, err = command("import", project, file, "--name", name, "--format", "f32", "--rate", 5000, "--supply", 3)
    assert (code, err) == (0, "")
    return values


def asked(command, *arguments: object) -> dict:
    code, out, err = command(*arguments, "--json")
    assert (code, err) == (0, "")
    return json.loads(out)


@pytest.fixture
def project(tmp_path: Path, command) -> Path:
    imported(command, tmp_path / "p", "one", SENSOR, RADIO)
    return tmp_path / "p"


def test_the_answer_is_that_of_the_contract_and_closes(command, project: Path) -> None:
    found = asked(command, "kinds", project, "one")
    assert {"capture", "floor_a", "floor_a_low", "floor_a_high", "kinds", "mixed", "unsorted"} <= set(found)
    assert [kind["kind"] for kind in found["kinds"]] == ["kind A", "kind B"]
    radio, sensor = found["kinds"]
    wanted = {"kind", "count", "rate_per_h", "period_s", "jitter_s", "awake_s_mean", "charge_c_mean", "charge_c_low",
              "charge_c_high", "peak_a", "levels_a", "added_a", "grade", "bound"}  # fmt: skip
    assert wanted <= set(radio)
    assert radio["period_s"] == pytest.approx(60.0, rel=2e-3)
    assert sensor["period_s"] == pytest.approx(10.0, rel=2e-3)
    assert sensor["charge_c_low"] <= sensor["charge_c_mean"] <= sensor["charge_c_high"]
    assert found["floor_a"] == pytest.approx(4.2e-6, rel=0.01)
    mean_a = asked(command, "stretch", project, "one", "--from", 0, "--to", 200)["mean_a"]
    added_a = sum(kind["added_a"] for kind in found["kinds"]) + found["unsorted_a"]
    assert found["floor_a"] + added_a == pytest.approx(mean_a, rel=1e-6)
    wakes = asked(command, "wakes", project, "one")
    assert {row["source"]: row["count"] for row in wakes["sources"]} == {
        "kind A": radio["count"],
        "kind B": sensor["count"],
    }
    assert [row["mode"] for row in wakes["idle"]] == ["sleep"]
    assert asked(command, "findings", project, "one")["findings"] == []


def test_what_lasts_longer_than_any_wake_is_told_with_what_it_adds(command, tmp_path: Path) -> None:
    made = render(np.random.default_rng(3), (SENSOR, RADIO), 4.2e-6, 0.2e-6, 200.0, 5e3)
    values = made.current.read(0, made.current.samples).copy()
    values[300_000:600_000] += np.float32(2e-3)
    values.tofile(tmp_path / "idles.f32")
    command("import", tmp_path / "p", tmp_path / "idles.f32", "--name", "one", "--format", "f32", "--rate", 5000)
    found = asked(command, "kinds", tmp_path / "p", "one")
    (stay,) = found["stays"]
    assert (stay["from_s"], stay["to_s"]) == pytest.approx((60.0, 120.0), abs=0.1)
    assert stay["level_a"] == pytest.approx(2.004e-3, rel=0.01)
    parts = (*found["kinds"], stay)
    added_a = sum(part["added_a"] for part in parts) + found["unsorted_a"]
    assert found["floor_a"] + added_a == pytest.approx(float(values.mean(dtype=np.float64)), rel=1e-6)
    assert [kind["charge_c_mean"] > 0 for kind in found["kinds"]] == [True, True]
    words = command("kinds", tmp_path / "p", "one")[1]
    assert "60.0 s at 2.00 mA, longer than any wake" in words
    assert "and 60.0 s at 2.00 mA left out" in words or "; 60.0 s at 2.00 mA left out" in words


def test_words_and_tables_say_the_same(command, project: Path, tmp_path: Path) -> None:
    code, out, _ = command("kinds", project, "one")
    assert code == 0
    assert "every 60.0 s" in out
    assert "every 10.0 s" in out
    assert "reproduces the capture's" in out
    target = tmp_path / "kinds.csv"
    assert command("export", project, "one", "kinds", "-o", target)[0] == 0
    rows = list(csv.DictReader(target.read_text().splitlines()))
    found = asked(command, "kinds", project, "one")["kinds"]
    assert [row["kind"] for row in rows] == [kind["kind"] for kind in found]
    assert [float(row["charge_c"]) for row in rows] == pytest.approx([kind["charge_c_mean"] for kind in found])


def test_the_model_is_taken_and_its_life_is_that_of_the_kinds(command, project: Path) -> None:
    found = asked(command, "kinds", project, "one", "--model")
    session = Session.open(project)
    assert [activity.name for activity in session.project.activities] == ["kind A", "kind B"]
    assert [kind.letter for kind in session.project.wake_kinds] == ["A", "B"]
    session.close()
    radio, sensor = found["kinds"]
    by_hand_a = (
        found["floor_a"] + radio["charge_c_mean"] / radio["period_s"] + sensor["charge_c_mean"] / sensor["period_s"]
    )
    assert asked(command, "life", project)["mean_a"] == pytest.approx(by_hand_a, rel=5e-3)


def test_a_changed_firmware_is_compared_kind_by_kind(command, project: Path) -> None:
    cheaper = replace(RADIO, steps=((4e-3, 0.4), (45e-3, 0.8), (9e-3, 0.4)))
    imported(command, project, "two", replace(SENSOR, period_s=20.0), cheaper, seed=7)
    found = {one["kind"]: one for one in asked(command, "compare", project, "one", "two")["kinds"]}
    assert "−" in found["kind A"]["words"]
    assert "came every 10.0 s" in found["kind B"]["words"]
    assert found["kind B"]["after"]["period_s"] == pytest.approx(20.0, rel=2e-3)
    new = MadeKind(((25e-3, 0.02),), "timer", 7.0, 0.0, 0.01, 0.0, 0.0)
    imported(command, project, "three", SENSOR, new, seed=8)
    words = " ".join(one["words"] for one in asked(command, "compare", project, "one", "three")["kinds"])
    assert "kind A is gone" in words
    assert "kind C is new" in words


@pytest.mark.parametrize("values", [np.zeros(2000), np.full(2000, 3e-6), np.full(2000, np.nan)])
def test_a_capture_without_wakes_has_no_kinds(command, tmp_path: Path, values) -> None:
    file = tmp_path / "flat.f32"
    values.astype(np.float32).tofile(file)
    assert command("import", tmp_path / "p", file, "--name", "flat", "--format", "f32", "--rate", 100)[0] == 0
    found = asked(command, "kinds", tmp_path / "p", "flat")
    assert (found["kinds"], found["mixed"], found["unsorted"]) == ([], 0, 0)
    assert command("kinds", tmp_path / "p", "none")[0] == 2
