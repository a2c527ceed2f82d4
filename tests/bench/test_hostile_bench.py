"""Instruments and targets that misbehave: they end in time, with the output off and every line kept or counted."""

from __future__ import annotations

import signal
import subprocess
import sys
import threading
import time
import tracemalloc
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bench.benches import Serve, address, console_address
from bench.fake_instrument import FakeInstrument
from warm_ember.bench import keeper
from warm_ember.bench.console import Console, ConsoleFeed
from warm_ember.bench.console_line import ConsoleLine
from warm_ember.bench.description import read_description
from warm_ember.bench.link import Link
from warm_ember.bench.patterns import Patterns
from warm_ember.bench.recorder import Ending, Job, Recorder
from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.bench.station import InstrumentConnection
from warm_ember.errors import BadArgumentError, BadFileError, InstrumentError
from warm_ember.model.bench import BenchSettings, LinePattern
from warm_ember.model.capture import CaptureInfo
from warm_ember.signal.series import never
from warm_ember.store.capture import Capture

SETTINGS = BenchSettings(voltage_v=3.0, limit_a=1.0, interval_s=1e-3, duration_s=600.0)
TRAP = LinePattern(r"^(a+)+$", "state", r"\1")


def recorder_of(server, path: Path, patterns: Patterns | None = None, console: Console | None = None) -> Recorder:
    station = InstrumentConnection(address(server), timeout_s=30.0)
    station.instrument.set_source(SETTINGS)
    station.instrument.switch(on=True)
    return Recorder(station, Job(path, SETTINGS, CaptureInfo(1e-3), patterns=patterns or Patterns(())), console)


def test_an_instrument_that_drips_can_be_stopped_and_is_switched_off(serve: Serve, tmp_path: Path) -> None:
    server = serve(fault=Fault(FaultMode.DRIP, after=40))
    recorder = recorder_of(server, tmp_path / "a.h5")
    began_s = time.monotonic()
    recorded = recorder.run(lambda: server.fault.blocks > 40)
    recorder.station.make_safe()
    recorder.station.close()
    assert recorded.ending is Ending.STOPPED
    assert not server.instrument.is_on
    assert time.monotonic() - began_s < 600.0  # the answer itself would take hours
    with Capture(tmp_path / "a.h5") as kept:
        assert kept.current.samples == recorded.samples > 0


def test_a_whole_answer_has_a_deadline(serve: Serve) -> None:
    server = serve(fault=Fault(FaultMode.DRIP, after=-1))
    link = Link(address(server), timeout_s=1.5)
    with pytest.raises(InstrumentError, match=r"only \d+ bytes of the answer"):
        link.query("*IDN?")
    assert not link.is_in_step
    link.close()


def test_a_block_longer_than_any_is_not_taken(serve: Serve, tmp_path: Path) -> None:
    server = serve(fault=Fault(FaultMode.HUGE, after=40))
    recorder = recorder_of(server, tmp_path / "a.h5")
    tracemalloc.start()
    recorded = recorder.run(never)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    recorder.station.close()
    assert "268435456 bytes is longer" in recorded.fault.one_line
    assert peak < 64 << 20
    assert not server.instrument.is_on


@given(st.text(alphabet="a!", max_size=2000))
def test_no_pattern_holds_a_line_up(text: str) -> None:
    event = Patterns([TRAP]).event(ConsoleLine(0.0, text), 0.0)
    assert (event.event == "state") is (text.strip("a") == "" and text != "")


def test_a_pattern_of_the_worst_kind_does_not_stop_a_recording(serve: Serve, tmp_path: Path) -> None:
    server = serve()
    console = Console(console_address(server))
    recorder = recorder_of(server, tmp_path / "a.h5", Patterns([TRAP]), console)
    asked = threading.Event()

    def say() -> None:
        while recorder.samples < 300 and not asked.wait(0.01):
            pass
        server._say("a" * 60 + "!")
        asked.wait(0.3)
        asked.set()

    saying = threading.Thread(target=say)
    saying.start()
    recorded = recorder.run(asked.is_set)
    saying.join()
    recorder.station.close()
    console.close()
    assert recorded.ending is Ending.STOPPED
    with Capture(tmp_path / "a.h5") as kept:
        assert ("a" * 60 + "!") in {event.name for event in kept.events}


@pytest.mark.parametrize("pattern", ["(?=a)b", r"(a)\1", "(", "[z-a]"])
def test_a_pattern_that_needs_backtracking_is_refused_with_the_reason(pattern: str) -> None:
    with pytest.raises(BadArgumentError, match="no regular expression that can be used"):
        Patterns([LinePattern(pattern, "state", "x")])


def test_every_line_reaches_the_recording_however_fast_they_come() -> None:
    """Another thread speaks without pause; what there is no room for is counted."""
    feed, said = ConsoleFeed(), 60_000
    heard: list[ConsoleLine] = []

    def speak() -> None:
        for number in range(said):
            feed.put(ConsoleLine(float(number), f"state {number}"))

    speaking = threading.Thread(target=speak)
    speaking.start()
    while speaking.is_alive():
        heard += feed.take()
    heard += feed.take()
    assert [line.received_s for line in heard] == list(range(said))
    assert feed.lost == 0
    small = ConsoleFeed(most=10)
    for number in range(25):
        small.put(ConsoleLine(float(number), "x"))
    assert (len(small.take()), small.lost) == (10, 15)


def test_a_reader_of_the_console_goes_on_where_it_stopped(serve: Serve) -> None:
    server = serve()
    console = Console(console_address(server))
    stop = threading.Event()
    feed = console.feed()

    def speak() -> None:
        for number in range(3000):
            console._take(ConsoleLine(0.0, f"n {number}"))
        stop.set()

    speaking = threading.Thread(target=speak)
    speaking.start()
    cursor, texts = 0, []
    while not stop.is_set():
        lines, cursor = console.lines_from(cursor)
        texts += [line.text for line in lines]
    speaking.join()
    lines, cursor = console.lines_from(cursor)
    texts += [line.text for line in lines]
    wanted = [f"n {number}" for number in range(3000)]
    assert [text for text in texts if text.startswith("n ")] == wanted
    assert [line.text for line in feed.take() if line.text.startswith("n ")] == wanted
    console.end_feed(feed)
    console.close()


def test_lost_lines_stand_in_the_capture(serve: Serve, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("warm_ember.bench.recorder._MOST_HEARD", 3)
    server = serve(speed=20.0)
    console = Console(console_address(server))
    recorder = recorder_of(server, tmp_path / "a.h5", console=console)
    recorded = recorder.run(lambda: recorder.samples > 10_000 and recorder.lost_lines > 0)
    recorder.station.close()
    console.close()
    assert recorded.lost_lines > 0
    with Capture(tmp_path / "a.h5") as kept:
        assert f"{recorded.lost_lines} lines of the console missing" in kept.info.note


def test_the_keeper_switches_off_when_nobody_told_it_to_rest() -> None:
    with FakeInstrument(np.zeros(10, np.float32)) as fake:
        fake.is_on = True
        words = [sys.executable, "-m", "warm_ember.bench.keeper", fake.address, "ABORt", "OUTPut 0"]
        told = subprocess.Popen(words, stdin=subprocess.PIPE, env={"PYTHONPATH": ":".join(sys.path)})
        told.communicate(b"done\n")
        assert fake.is_on
        killed = subprocess.Popen(words, stdin=subprocess.PIPE, env={"PYTHONPATH": ":".join(sys.path)})
        assert killed.stdin is not None
        killed.send_signal(signal.SIGCONT)
        killed.stdin.close()
        assert killed.wait(30) == 0
        assert not fake.is_on
        assert fake.heard[-3:-1] == ["ABORt", "OUTPut 0"]


def test_the_keeper_gives_up_on_nobody(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(keeper, "_TRY_FOR_S", 0.2)
    assert not keeper.switch_off("TCPIP::127.0.0.1::1::SOCKET", ["OUTPut 0"])


@pytest.mark.parametrize(
    ("content", "words"),
    [
        ('{"format": 1, "name": "x", "commands": {"voltage": "V {value:1000000000}"}}', "more than a command"),
        ('{"format": 1, "name": "x", "commands": {"voltage": "' + "V" * 300 + '"}}', "more than a command"),
        (
            '{"format": 1, "name": "x", "sense": ["current", "lines"], "commands": {"fetch_lines": "F?"},'
            ' "line_names": ' + str([f"D{k}" for k in range(25)]).replace("'", '"') + "}",
            "24 of them",
        ),
    ],
)
def test_a_description_that_asks_too_much_is_refused(tmp_path: Path, content: str, words: str) -> None:
    (tmp_path / "a.json").write_text(content)
    with pytest.raises(BadFileError, match=words):
        read_description(tmp_path / "a.json")
