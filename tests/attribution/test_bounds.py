"""What an instrument could not tell is a bound, in each figure that rests on it."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

RATE_HZ = 1e3


def wakes(random: np.random.Generator, floor_a: float, noise_a: float, work_a: float = 5e-3) -> np.ndarray:
    time_s = np.arange(round(60 * RATE_HZ)) / RATE_HZ
    made = np.where(time_s % 3.0 < 0.1, work_a * (1 + 0.01 * random.standard_normal(len(time_s))), floor_a)
    return made + noise_a * random.standard_normal(len(time_s))


def asked(tmp_path: Path, command, values: np.ndarray) -> dict[str, dict]:
    values.astype("<f4").tofile(tmp_path / "c.f32")
    assert command("import", tmp_path / "p", tmp_path / "c.f32", "--rate", RATE_HZ, "--supply", "3")[0] == 0
    found = {one: json.loads(command(one, tmp_path / "p", "c", "--json")[1]) for one in ("states", "findings")}
    found["life"] = json.loads(command("life", tmp_path / "p", "--json")[1])
    found["low"] = min(found["states"]["states"], key=lambda state: state["mean_a"])
    found["high"] = max(found["states"]["states"], key=lambda state: state["mean_a"])
    return found


@pytest.mark.parametrize("floor_a", [5e-8, 2e-7])
@pytest.mark.parametrize(
    ("noise_a", "offset_a", "step_a"),
    [(1e-6, 0.0, 0.0), (2e-8, -5e-7, 0.0), (0.0, 0.0, 1e-6), (3e-7, 0.0, 1e-6)],
    ids=["noise", "offset", "step", "step and noise"],
)
def test_a_floor_that_is_not_resolved_is_below_a_bound_that_holds(
    tmp_path, command, random, floor_a: float, noise_a: float, offset_a: float, step_a: float
) -> None:
    values = wakes(random, floor_a, noise_a) + offset_a
    found = asked(tmp_path, command, np.rint(values / step_a) * step_a if step_a else values)
    low = found["low"]
    assert (low["grade"], low["bound"]) == ("bounded", "below")
    assert low["mean_a_low"] <= floor_a <= low["mean_a_high"]
    assert "below" in command("states", tmp_path / "p", "c")[1]
    assert any(one["kind"] == "below-resolution" for one in found["findings"]["findings"])
    asleep = json.loads(command("stretch", tmp_path / "p", "c", "--from", 1, "--to", 2, "--json")[1])
    assert (asleep["grade"], asleep["bound"]) == ("bounded", "below")
    assert asleep["mean_a_high"] >= floor_a
    whole = json.loads(command("stretch", tmp_path / "p", "c", "--from", 0, "--to", 60, "--json")[1])
    assert (whole["grade"], whole["bound"]) == ("measured", None)
    wakes_found = json.loads(command("wakes", tmp_path / "p", "c", "--json")[1])
    assert wakes_found["floor_a_high"] >= floor_a
    assert {one["bound"] for one in wakes_found["idle"]} == {"below"}
    assert {one["bound"] for one in wakes_found["sources"]} == {None}
    assert (found["high"]["grade"], found["high"]["bound"]) == ("measured", None)


def test_a_resolved_floor_is_a_measurement(tmp_path, command, random) -> None:
    found = asked(tmp_path, command, wakes(random, 8e-6, 5e-7))
    assert (found["low"]["grade"], found["low"]["bound"]) == ("measured", None)
    assert found["low"]["mean_a_low"] <= 8e-6 <= found["low"]["mean_a_high"]
    assert (found["life"]["bound"], found["states"]["bound"]) == (None, None)


def test_what_was_clipped_is_at_least_and_the_life_at_most_that(tmp_path, command, random) -> None:
    found = asked(tmp_path, command, np.minimum(wakes(random, 8e-6, 2e-7), 4.5e-3))
    assert (found["high"]["grade"], found["high"]["bound"], found["high"]["mean_a_high"]) == (
        "bounded",
        "at_least",
        None,
    )
    assert (found["states"]["grade"], found["states"]["bound"]) == ("bounded", "at_least")
    assert found["life"]["bound"] == "at_most"
    assert found["life"]["weakest"]["grade"] in ("bounded", "entered", "assumed")
    assert "at most" in command("life", tmp_path / "p")[1]
    stretch = json.loads(command("stretch", tmp_path / "p", "c", "--from", 2.9, "--to", 3.5, "--json")[1])
    assert (stretch["grade"], stretch["bound"]) == ("bounded", "at_least")
    asleep = json.loads(command("stretch", tmp_path / "p", "c", "--from", 1, "--to", 2, "--json")[1])
    assert (asleep["grade"], asleep["bound"]) == ("measured", None)
    (source,) = json.loads(command("wakes", tmp_path / "p", "c", "--json")[1])["sources"]
    assert (source["grade"], source["bound"]) == ("bounded", "at_least")
    assert source["charge_c_mean_low"] <= source["charge_c_mean"]
    assert source["charge_c_mean_high"] is None


def test_a_change_to_what_was_clipped_is_at_least_that(tmp_path, command, random) -> None:
    for name, most_a, work_a in (("one", 9e-3, 2e-3), ("other", 4.5e-3, 5e-3)):
        np.minimum(wakes(random, 8e-6, 2e-7, work_a), most_a).astype("<f4").tofile(tmp_path / f"{name}.f32")
        assert command("import", tmp_path / "p", tmp_path / f"{name}.f32", "--rate", RATE_HZ)[0] == 0
    found = json.loads(command("compare", tmp_path / "p", "one", "other", "--json")[1])
    for one in (found["mean_a"], found["sources"][0]):
        assert (one["grade"], one["bound"], one["change_a_high"], one["real"]) == ("bounded", "at_least", None, True)
    back = json.loads(command("compare", tmp_path / "p", "other", "one", "--json")[1])["mean_a"]
    assert (back["bound"], back["change_a_low"], back["real"]) == ("at_most", None, True)
