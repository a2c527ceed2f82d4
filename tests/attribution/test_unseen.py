"""What comes too seldom to be in a capture: said, and part of the life where somebody asks."""

from __future__ import annotations

import json
import math

import numpy as np
import pytest

RATE_HZ, LENGTH_S = 500.0, 120.0


@pytest.fixture
def imported(tmp_path, command, random):
    time_s = np.arange(round(LENGTH_S * RATE_HZ)) / RATE_HZ
    values = np.where(time_s % 4.0 < 0.1, 6e-3, 7e-6) + 1e-7 * random.standard_normal(len(time_s))
    values.astype("<f4").tofile(tmp_path / "c.f32")
    assert command("import", tmp_path / "p", tmp_path / "c.f32", "--rate", RATE_HZ, "--supply", "3")[0] == 0
    return tmp_path / "p"


def test_a_life_says_what_its_capture_cannot_tell(imported, command) -> None:
    found = json.loads(command("life", imported, "--json")[1])
    unseen = found["unseen"]
    # Of a Poisson process with just that interval one capture in ten shows nothing.
    assert math.exp(-LENGTH_S / unseen["interval_s"]) == pytest.approx(0.1, rel=0.05)
    assert unseen["charge_c"] == pytest.approx(0.1 * 6e-3, rel=0.05)
    # Next to no self-discharge: the life is as long as the average is low.
    higher = 1 + unseen["charge_c"] / unseen["interval_s"] / found["mean_a"]
    assert unseen["life_h"] == pytest.approx(found["life_h"] / higher, rel=0.02)
    assert "rarer than once in 52.1 s may not be in it" in command("life", imported)[1]


def test_where_asked_the_unseen_is_in_the_band(imported, command) -> None:
    found = json.loads(command("life", imported, "--json")[1])
    asked = json.loads(command("life", imported, "--unseen", 0.05, "--json")[1])
    assert asked["weakest"]["what"] == "rate of what was not seen"
    assert asked["mean_a"] > found["mean_a"]
    assert asked["life_h_p10"] < 0.6 * found["life_h_p10"]
    # As likely as not it hardly ever comes.
    assert asked["life_h_p90"] == pytest.approx(found["life_h_p90"], rel=0.1)


@pytest.mark.parametrize("charge", ["0", "-1", "nan"])
def test_it_takes_something(imported, command, charge: str) -> None:
    code, _, message = command("life", imported, f"--unseen={charge}")
    assert code == 2
    assert "more than 0 C" in message


def test_activities_say_what_happens_how_often(tmp_path, imported, command) -> None:
    file = tmp_path / "a.json"
    file.write_text('{"base_a": 1e-5, "activities": []}')
    code, _, message = command("life", imported, "--activities", file, "--unseen", 0.05)
    assert code == 2
    assert "--unseen" in message
