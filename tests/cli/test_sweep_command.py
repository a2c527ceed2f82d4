"""``warm-ember sweep``: as other programs call it, killed once and gone on with."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from bench.benches import AskedClock, Serve, address, console_address, serve

__all__ = ["serve"]


def command(project: Path, recipe: Path, *more: str) -> list[str]:
    return [sys.executable, "-m", "warm_ember", "sweep", str(project), "--recipe", str(recipe), *more]


def written(tmp_path: Path, console: str, **changed: object) -> Path:
    path = tmp_path / "recipe.json"
    interval = {"name": "interval", "values": [60, 90, 120], "send": "interval {value}", "confirm": "^ok"}
    recipe = {
        "parameters": [interval | {"latency_per_value": 1}],
        "repeats": 2,
        "record_s": 120,
        "console": console,
        "settings": {"voltage_v": 3.0, "limit_a": 0.5, "interval_s": 2e-3},
        "goal": {"max_latency_s": 100},
        "search": "grid",
        "prepare": ["passers off"],
    }
    path.write_text(json.dumps(recipe | changed))
    return path


def test_it_is_killed_and_goes_on(serve: Serve, tmp_path: Path) -> None:
    bench = serve(clock=AskedClock(20.0))
    recipe, project = written(tmp_path, console_address(bench)), tmp_path / "post"
    asked = command(project, recipe, "--from", address(bench), "--json")
    first = subprocess.Popen(asked, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    while not any((project / "sweeps").glob("*.json")):  # after the first recording
        assert first.poll() is None, first.communicate()
        time.sleep(0.05)
    first.kill()
    first.communicate()
    until_s = time.monotonic() + 30
    while bench.instrument.is_on:  # who watches over it switches it off
        assert time.monotonic() < until_s
        time.sleep(0.05)
    before = {path.name: path.stat().st_mtime_ns for path in (project / "captures").glob("*.h5")}
    done = subprocess.run(asked, capture_output=True, check=True)
    found = json.loads(done.stdout)
    assert set(found) >= {"points", "fits", "chosen", "measured", "of"}
    assert (found["measured"], found["of"]) == (3, 3)
    captures = [name for point in found["points"] for name in point["captures"]]
    assert len(set(captures)) == len(captures) == 6
    assert all((project / "captures" / f"{name}.h5").exists() for name in captures)
    after = {path.name: path.stat().st_mtime_ns for path in (project / "captures").glob("*.h5")}
    assert before.items() <= after.items()
    assert found["chosen"]["values"] == {"interval": 90}
    assert found["chosen"]["life_h_low"] < found["chosen"]["life_h"] < found["chosen"]["life_h_high"]
    (fit,) = found["fits"]
    assert fit["charge_c_low"] <= fit["charge_c"] <= fit["charge_c_high"]
    for point in found["points"]:
        assert point["state"] == "measured"
        assert {"grade", "bound", "mean_a_low", "mean_a_high"} <= set(point)
        reading = ["stretch", str(project), point["captures"][0], "--from", "0", "--to", "60", "--json"]
        one = subprocess.run([sys.executable, "-m", "warm_ember", *reading], capture_output=True, check=True)
        assert json.loads(one.stdout)["mean_a"] > 0


def test_a_signal_ends_it_safely(serve: Serve, tmp_path: Path) -> None:
    bench = serve(clock=AskedClock(0.02))  # a recording would take hours
    recipe, project = written(tmp_path, console_address(bench), record_s=36_000), tmp_path / "post"
    running = subprocess.Popen(
        command(project, recipe, "--from", address(bench)), stdout=subprocess.PIPE, stderr=subprocess.PIPE
    )
    while not bench.instrument.is_on:
        assert running.poll() is None, running.communicate()
        time.sleep(0.05)
    running.send_signal(signal.SIGTERM)
    _, said = running.communicate(timeout=60)
    assert running.returncode == 143
    assert said.decode().count("\n") == 1
    assert "the output is off" in said.decode()
    assert not bench.instrument.is_on


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"parameters": []}, "one parameter at least"),
        ({"repeats": 1}, "console cannot be opened"),
        ({"settings": {"voltage_v": -1}}, "the voltage must be"),
    ],
)
def test_what_is_wrong_is_one_line_and_leaves_nothing(tmp_path: Path, changed: dict[str, object], words: str) -> None:
    recipe = written(tmp_path, "socket://127.0.0.1:1", **changed)
    asked = command(tmp_path / "post", recipe, "--from", "TCPIP::127.0.0.1::1::SOCKET")
    done = subprocess.run(asked, capture_output=True, env=os.environ, check=False)
    assert done.returncode == 2
    assert done.stderr.decode().count("\n") == 1
    assert words in done.stderr.decode()
    assert not (tmp_path / "post").exists()
