"""Two instruments at once: each by its own clock, joined while they record, with what is not known of it said."""

from __future__ import annotations

import contextlib
import json
import re
import socket
import threading
import time
from pathlib import Path

import numpy as np
import pytest

from bench.clocked_peer import WORLD_OHM, ClockedPeer, ClockedVoltmeter, World
from bench.fake_meter import FakeMeter
from warm_ember.model.bench import Bench, BenchSettings, Recipe, SecondGives, SecondInstrument, SwitchOutput, Take
from warm_ember.session.recording import RecordRequest
from warm_ember.session.recording import record as record_into
from warm_ember.session.session import Session
from warm_ember.units import parse_duration

RATE_HZ = 1000.0


def record(command, project: Path, first: str, second: str, gives: str, seconds: float, *more: object) -> dict:
    code, out, error = command(
        "record", project, "--from", first, "--with", second, "--with-as", gives, "--duration", seconds,
        "--interval", 1 / RATE_HZ, "--name", "m", "--timeout", 1, "--json", *more,
    )  # fmt: skip
    assert (code, error) == (0, ""), error
    return json.loads(out)


def test_the_voltage_of_a_second_instrument_is_laid_on_by_what_both_see(tmp_path: Path, command) -> None:
    world = World(3)
    with (
        ClockedPeer(world.current_a, 1) as meter,
        ClockedVoltmeter(world.voltage_v, 2, late_s=0.04, fast=200e-6, noise=1e-3) as voltmeter,
    ):
        found = record(command, tmp_path / "p", meter.address, voltmeter.address, "voltage", 12, "--voltage", 3)
        assert not voltmeter.is_on
        assert not any("VOLT" in word and "FETC" not in word.upper() for word in voltmeter.heard)
    assert found["samples"] == 12 * RATE_HZ
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        current = capture.current.read(0, capture.current.samples).astype(np.float64)
        assert capture.voltage is not None
        volts = capture.voltage.read(0, capture.voltage.samples).astype(np.float64)
        note = capture.info.note
    assert "Any Maker,Clocked,1,1; voltage: Any Maker,Clocked,2,1" in capture.info.instrument
    told = re.search(
        r"what both saw change, within ([^;]+); before ([^ ]+ s) by when they began, ([^ ]+ m?s) off", note
    )
    assert told is not None, note
    within_s = parse_duration(told[1])
    assert within_s < 0.012
    assert 0.02 < parse_duration(told[3]) < 0.2
    wrong = np.abs(volts - (3.0 - WORLD_OHM * current)) > 0.02
    laid = round(parse_duration(told[2]) * RATE_HZ) + 10
    assert np.isnan(volts).mean() < 0.1
    # Before, it is late by what nobody knows of; then a change is off by a sample or two at most.
    changes = np.count_nonzero(np.abs(np.diff(current[laid:])) > 0.01)
    assert changes > 0
    assert np.count_nonzero(wrong[laid:]) <= (2.5 + 2 * within_s * RATE_HZ) * changes
    assert np.count_nonzero(wrong[:laid]) > 20 * np.count_nonzero(np.abs(np.diff(current[:laid])) > 0.01)


def test_a_coarser_range_is_joined_where_the_finer_one_is_at_its_end(tmp_path: Path, command) -> None:
    world = World(4)
    with (
        ClockedPeer(lambda s: np.minimum(world.current_a(s), 0.0101), 1, noise=1e-6) as fine,
        ClockedPeer(world.current_a, 2, noise=3e-4) as coarse,
    ):
        code, _, error = command(
            "record", tmp_path / "p", "--from", fine.address, "--with", coarse.address, "--with-as", "range",
            "--duration", 1,
        )  # fmt: skip
        assert code == 2
        assert "say which range the first is in" in error
        record(command, tmp_path / "p", fine.address, coarse.address, "range", 6, "--range", 0.01)
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        current = capture.current.read(0, capture.current.samples)
        kept = {name: series.read(0, series.samples) for name, (series, unit) in capture.aux.items() if unit == "A"}
    assert set(kept) == {"finer range", "coarser range"}
    assert float(np.nanmax(kept["finer range"])) < 0.0102 < 0.05 < float(np.nanmax(current))
    asleep = kept["finer range"] < 0.005
    np.testing.assert_array_equal(current[asleep], kept["finer range"][asleep])
    assert np.std(current[asleep]) < 5e-6


def test_a_meter_gives_the_voltage_by_when_it_answered_and_what_is_lost_is_told(tmp_path: Path, command) -> None:
    world = World(5)
    with (
        ClockedPeer(world.current_a, 1) as meter,
        FakeMeter(lambda number: f"{2.5 + 0.01 * number:+.4E} V" if number < 20 else "what?") as voltmeter,
    ):
        found = record(command, tmp_path / "p", meter.address, voltmeter.address, "voltage", 4)
    assert found["samples"] == 4 * RATE_HZ
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        assert capture.voltage is not None
        volts = capture.voltage.read(0, capture.voltage.samples)
        note = capture.info.note
        marks = [event.name for event in capture.events if event.event == "mark"]
    assert "laid on by when they began" in note
    assert "voltage lost: " in note
    assert "expected volts" in note
    assert any("voltage lost" in mark for mark in marks)
    assert np.nanmin(volts) >= 2.5
    assert (np.diff(volts[~np.isnan(volts)]) >= 0).all()
    assert np.isnan(volts[-200:]).all()


def test_a_board_that_prints_gets_its_voltage_from_a_sweep(tmp_path: Path, command) -> None:
    with (
        ClockedVoltmeter(lambda s: 3.0 + 0.0 * s, 2) as voltmeter,
        socket.create_server(("127.0.0.1", 0)) as listener,
    ):
        ended = threading.Event()

        def serve() -> None:
            line, _ = listener.accept()
            began_s = time.monotonic()
            with line, contextlib.suppress(OSError):
                while not ended.wait(0.01):
                    line.sendall(f"{1e3 * (time.monotonic() - began_s):.1f} ms 1.25 mA\n".encode())

        thread = threading.Thread(target=serve)
        thread.start()
        board = f"socket://127.0.0.1:{listener.getsockname()[1]}"
        found = record(command, tmp_path / "p", board, voltmeter.address, "voltage", 2)
        ended.set()
        thread.join()
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        assert capture.voltage is not None
        volts = capture.voltage.read(0, capture.voltage.samples)
        current = capture.current.read(0, capture.current.samples)
    assert found["samples"] == len(current) == len(volts)
    assert np.nanmean(current) == pytest.approx(1.25e-3, rel=1e-6)
    assert np.nanmean(volts) == pytest.approx(3.0, abs=1e-4)
    assert np.isnan(volts).mean() < 0.2


@pytest.mark.parametrize("gives", ["voltage", "current"])
def test_a_second_one_that_is_not_there_is_told_before_anything_is_switched_on(tmp_path, command, gives) -> None:
    world = World(6)
    with ClockedPeer(world.current_a, 1) as meter:
        nobody = "TCPIP::127.0.0.1::9::SOCKET"
        code, _, error = command(
            "record", tmp_path / "p", "--from", meter.address, "--with", nobody, "--with-as", gives, "--duration", 1
        )
        assert code == 2
        assert "127.0.0.1::9" in error
        assert not meter.is_on
        assert not any(word.startswith("OUTP") and word.endswith("1") for word in meter.heard)


def test_two_boards_are_recorded_at_the_same_time_for_a_fair_comparison(tmp_path: Path, command) -> None:
    with (
        ClockedPeer(World(8).current_a, 1) as one,
        ClockedPeer(World(9, high_a=0.05).current_a, 2) as other,
    ):
        found = record(command, tmp_path / "p", one.address, other.address, "board", 2, "--voltage", 3)
        assert not one.is_on
        assert not other.is_on
        for peer in (one, other):
            assert "OUTPut 1" in peer.heard
            assert "SOURce:VOLTage 3" in peer.heard
    assert found["capture"] == "m"
    assert [each["capture"] for each in found["captures"]] == ["m other board", "m"]
    with Session.open(tmp_path / "p") as session:
        assert {run.name for run in session.project.runs} == {"m", "m other board"}
        captures = [session.capture(name) for name in ("m", "m other board")]
        notes = [capture.info.note for capture in captures]
        peaks = [capture.whole().max_a for capture in captures]
        lengths = [capture.current.samples for capture in captures]
    assert lengths == [2 * RATE_HZ] * 2
    assert peaks[0] > 0.06 > peaks[1]
    apart = [re.search(r"at the same time as ([a-z ]+), which began (\S+ \S+) (later|earlier)", note) for note in notes]
    assert [told[1] for told in apart] == ["m other board", "m"]
    assert parse_duration(apart[0][2]) < 0.5
    assert {told[3] for told in apart} == {"later", "earlier"}


def test_nothing_is_switched_on_before_both_boards_are_ready(tmp_path: Path, command) -> None:
    with ClockedPeer(World(8).current_a, 1) as meter:
        code, _, error = command(
            "record", tmp_path / "p", "--from", meter.address, "--with", "TCPIP::127.0.0.1::9::SOCKET",
            "--with-as", "board", "--duration", 1,
        )  # fmt: skip
        assert code == 2
        assert "127.0.0.1::9" in error
        assert "OUTPut 1" not in meter.heard
    assert not list((tmp_path / "p").rglob("*.h5"))


def test_how_they_lie_is_written_down_before_the_end_for_whoever_recovers_it(tmp_path: Path) -> None:
    world, recorders, notes = World(3), [], []
    (tmp_path / "p" / "captures").mkdir(parents=True)

    def stop() -> bool:
        files = [recorder.file for recorder in recorders if recorder.file is not None]
        notes.extend(file.info.note for file in files)
        return bool(files)

    with (
        ClockedPeer(world.current_a, 1) as meter,
        ClockedPeer(world.current_a, 2) as other,
        Session.open_or_create(tmp_path / "p") as session,
    ):
        bench = Bench(meter.address, SecondInstrument(other.address, SecondGives.CURRENT))
        recipe = Recipe("r", BenchSettings(interval_s=1e-3, duration_s=60.0), (SwitchOutput(), Take()))
        request = RecordRequest(bench, recipe, "m", timeout_s=1.0)
        taken = record_into(session, request, should_stop=stop, started=recorders.append)
    assert "another current of Any Maker,Clocked,2,1 laid on by when they began" in notes[0]
    assert taken[0].ending == "stopped"
