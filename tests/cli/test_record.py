"""``record`` and ``bench`` as programs."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import msgspec
import numpy as np
import pytest

from bench.fake_instrument import FakeInstrument
from warm_ember.session import edits
from warm_ember.session.session import Session

VALUES = np.linspace(1e-6, 1e-2, 2000, dtype=np.float32)


@pytest.fixture
def served() -> Iterator[tuple[str, str]]:
    """A simulated bench in a process of its own, ten times as fast: its address and its console's."""
    process = subprocess.Popen(
        [sys.executable, "-m", "warm_ember", "bench", "--port", "0", "--firmware", "r4", "--speed", "10",
         "--report-after", "8"],
        stdout=subprocess.PIPE, text=True, env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)},
    )  # fmt: skip
    assert process.stdout is not None
    lines = [process.stdout.readline().split() for _ in range(3)]
    yield lines[1][1], lines[2][1]
    process.send_signal(signal.SIGTERM)
    assert process.wait(20) == 128 + signal.SIGTERM
    process.stdout.close()


def test_the_way_from_the_bench_to_the_ledger(command, tmp_path: Path, served) -> None:
    resource, console = served
    code, out, err = command(
        "record", tmp_path / "p", "--from", resource, "--console", console, "--duration", 30, "--interval", "1e-4",
        "--voltage", 3, "--limit", 1, "--name", "first", "--firmware", "r4", "--json",
    )  # fmt: skip
    assert (code, err) == (0, "")
    told = json.loads(out)
    assert (told["capture"], told["samples"], told["missing"], told["duration_s"]) == ("first", 300_000, 0, 30.0)
    code, out, _ = command("states", tmp_path / "p", "first", "--json")
    states = {row["name"]: row for row in json.loads(out)["states"]}
    assert states["Transmit"]["dwell_s"] == pytest.approx(8.90, abs=0.05)
    assert states["Transmit"]["mean_a"] == pytest.approx(0.127, rel=0.02)
    with Session.open(tmp_path / "p") as session:
        info = session.capture("first").info
        assert (info.firmware, info.supply_v, info.sample_interval_s) == ("r4", 3.0, 1e-4)
        assert session.capture("first").voltage is not None


def test_exactly_as_many_samples_as_were_asked_for(command, tmp_path: Path) -> None:
    with FakeInstrument(VALUES, np.full(2000, 3.0, np.float32)) as fake:
        code, _, err = command(
            "record", tmp_path / "p", "--from", fake.address, "--duration", 1.5, "--interval", 1e-3, "--name", "a"
        )
    assert (code, err) == (0, "")
    assert not fake.is_on
    with Session.open(tmp_path / "p") as session:
        np.testing.assert_array_equal(session.capture("a").current.read(0, 5000), VALUES[:1500])


def test_an_instruments_fault_exits_2_names_it_and_keeps_what_came(command, tmp_path: Path) -> None:
    with FakeInstrument(VALUES[:700], VALUES[:700]) as fake:
        code, out, err = command(
            "record", tmp_path / "p", "--from", fake.address, "--duration", 2, "--interval", 1e-3, "--name", "a",
            "--timeout", 2,
        )  # fmt: skip
    assert (code, out) == (2, "")
    assert err.count("\n") == 1
    assert fake.address in err
    assert "700 samples kept as 'a'" in err
    assert not fake.is_on
    with Session.open(tmp_path / "p") as session:
        np.testing.assert_array_equal(session.capture("a").current.read(0, 5000), VALUES[:700])


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("--from", "TCPIP::127.0.0.1::1::SOCKET", "--duration", 1), "no instrument answers"),
        (("--from", "x", "--duration", 0), "one interval"),
        (("--from", "x", "--duration", -1), "one interval"),
        (("--from", "x", "--duration", 1, "--interval", 0), "above 0 s"),
        (("--from", "x", "--duration", 1, "--voltage", "-3"), "0 V or above"),
        (("--from", "x", "--duration", 1, "--limit", 0), "above 0 A"),
        (("--from", "x", "--duration", "nan"), "one interval"),
        (("--from", "x"), "--duration is missing"),
        (("--duration", 1), "no instrument"),
        (("--from", "x", "--recipe", "nowhere.json"), "no recipe"),
        (("--from", "x", "--duration", 1, "--name", "a/b"), "no capture name"),
        (("--from", "x", "--duration", 1, "--timeout", 0), "--timeout"),
    ],
)
def test_bad_usage_leaves_nothing_behind(command, tmp_path: Path, arguments, words: str) -> None:
    code, out, err = command("record", tmp_path / "p", "--name", "a", *arguments)
    assert (code, out) == (2, "")
    assert err.count("\n") == 1
    assert words in err
    assert not (tmp_path / "p").exists()


def test_the_projects_guard_cannot_be_exceeded(command, tmp_path: Path) -> None:
    with Session.open_or_create(tmp_path / "p") as session:
        session.apply(edits.SetFields("bench", {"guard_v": 3.6}), "guard")
        session.save()
    with FakeInstrument(VALUES, VALUES) as fake:
        code, _, err = command("record", tmp_path / "p", "--from", fake.address, "--duration", 1, "--voltage", 5)
        assert code == 2
        assert "above the guard" in err
        assert fake.heard == []


def test_a_recipe_from_a_file(command, tmp_path: Path) -> None:
    recipe = {
        "name": "twice",
        "settings": {"interval_s": 1e-3, "duration_s": 0.5, "voltage_v": 3.0},
        "steps": [{"step": "power"}, {"step": "record"}, {"step": "wait", "seconds": 0.01}, {"step": "record"}],
    }
    (tmp_path / "twice.json").write_text(json.dumps(recipe))
    with FakeInstrument(VALUES, VALUES) as fake:
        code, out, _ = command(
            "record", tmp_path / "p", "--from", fake.address, "--recipe", tmp_path / "twice.json", "--name", "a"
        )
    assert code == 0
    assert out.count("500 samples") == 2
    with Session.open(tmp_path / "p") as session:
        assert [run.name for run in session.project.runs] == ["a", "a 2"]
        known = msgspec.json.decode(session.capture("a").info.recipe)
        assert known["name"] == "twice"
    (tmp_path / "broken.json").write_text('{"name": "x", "steps": [{"step": "dance"}]}')
    code, _, err = command("record", tmp_path / "p", "--from", "x", "--recipe", tmp_path / "broken.json")
    assert code == 2
    assert "this is no recipe" in err


@pytest.mark.parametrize(
    ("arguments", "words"),
    [(("--firmware", "r9"), "r1, r2"), (("--attach", "anvil"), "debugger"), (("--fault", "fire"), "disconnect"),
     (("--speed", 0), "--speed"), (("--port", 99999), "65535")],
)  # fmt: skip
def test_the_bench_says_what_there_is(command, arguments, words: str) -> None:
    code, _, err = command("bench", *arguments)
    assert code == 2
    assert words in err
