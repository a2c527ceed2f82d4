"""What prints its readings as lines, over a socket, a pseudo-terminal, a pipe and standard input."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import threading
import time
import tty
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.bench.byte_stream import Came
from warm_ember.bench.line_reading import LineReader
from warm_ember.bench.opening import open_source
from warm_ember.model.bench import BenchSettings
from warm_ember.session.session import Session

BOARD = {
    "format": 1,
    "name": "a sense board",
    "mode": "lines",
    "pattern": r"^(?P<time_ms>\d+) (?P<current_ua>[-\d.]+) (?P<voltage_mv>\d+)$",
}


@pytest.fixture
def described(own_settings: None) -> Path:
    """The folder of the user's own descriptions, with one of the board."""
    import platformdirs

    folder = platformdirs.user_config_path("warm-ember") / "instruments"
    folder.mkdir(parents=True)
    (folder / "board.json").write_text(json.dumps(BOARD))
    return folder


@contextmanager
def printing(text: str, *, stays: bool = True) -> Iterator[str]:
    """Print to the first who connects; hang up at once afterwards unless it is to stay."""
    listener = socket.create_server(("127.0.0.1", 0))
    done = threading.Event()

    def serve() -> None:
        line, _ = listener.accept()
        with line:
            try:
                line.sendall(text.encode())
            except OSError:
                return
            if stays:
                done.wait(60)

    thread = threading.Thread(target=serve)
    thread.start()
    try:
        yield f"socket://127.0.0.1:{listener.getsockname()[1]}"
    finally:
        done.set()
        thread.join()
        listener.close()


def board_lines(count: int, *, begin_ms: int = 0, step_ms: int = 10) -> list[str]:
    return [f"{begin_ms + n * step_ms} {100 + n}.5 3300" for n in range(count)]


def kept(project: Path, name: str = "m") -> np.ndarray:
    with Session.open(project) as session:
        current = session.capture(name).current
        return current.read(0, current.samples).astype(np.float64)


def test_a_board_with_a_clock_of_its_own_is_recorded_sample_by_sample(described, tmp_path, command) -> None:
    text = "# sense board 2\r\n" + "".join(f"{line}\r\n" for line in board_lines(400))
    with printing(text) as address:
        code, out, error = command(
            "record", tmp_path / "p", "--from", address, "--duration", 2, "--name", "m", "--json"
        )
    assert (code, error) == (0, "")
    found = json.loads(out)
    assert (found["samples"], found["sample_interval_s"], found["missing"]) == (200, 0.01, 0)
    np.testing.assert_allclose(kept(tmp_path / "p"), (100.5 + np.arange(200)) * 1e-6, rtol=1e-5)
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        assert capture.voltage is not None
        np.testing.assert_allclose(capture.voltage.read(0, 200), 3.3, rtol=1e-6)
        np.testing.assert_allclose(capture.readings.time_s[:5], [0.0, 0.01, 0.02, 0.03, 0.04], atol=1e-9)
        assert "1 line that hold no reading, the first “# sense board 2”" in capture.info.note
        assert capture.info.instrument == f"a sense board, {address}"


@pytest.mark.parametrize(
    ("make", "expected"),
    [
        (lambda n: f"t={n * 20} ms I={n + 1}.25 uA", lambda n: (n + 1.25) * 1e-6),
        (lambda n: f"{n * 0.02:.3f} s, 3.30 V, {n / 10:.1f} mA", lambda n: n * 1e-4),
        (lambda n: f"{n * 20000}us {n * 1e-9:.3e} A", lambda n: n * 1e-9),
    ],
)
def test_times_and_currents_with_units_need_no_description(tmp_path, command, make, expected) -> None:
    with printing("".join(make(n) + "\n" for n in range(120))) as address:
        code, out, error = command(
            "record", tmp_path / "p", "--from", address, "--duration", 2, "--name", "m", "--json"
        )
    assert (code, error) == (0, "")
    assert json.loads(out)["sample_interval_s"] == pytest.approx(0.02)
    np.testing.assert_allclose(kept(tmp_path / "p"), [expected(n) for n in range(100)], rtol=1e-3, atol=1e-12)


def test_a_pipe_is_read_to_its_end_without_a_description(tmp_path, command) -> None:
    """What has no unit is taken as amperes, and that is told."""
    pipe, pause = tmp_path / "pipe", threading.Event()
    os.mkfifo(pipe)

    def write() -> None:
        with pipe.open("w") as into:
            for n in range(50):
                into.write(f"{n * 1e-3:.4f}\n")
                into.flush()
                pause.wait(0.01)
            into.write("0.9")  # the last line is cut off

    writer = threading.Thread(target=write)
    writer.start()
    code, out, error = command(
        "record", tmp_path / "p", "--from", pipe, "--duration", 1e4, "--interval", 1e-6, "--name", "m"
    )
    writer.join()
    assert (code, error) == (0, "")
    assert "taken as A" in out
    assert "ended early: nothing comes any more" in out
    with Session.open(tmp_path / "p") as session:
        np.testing.assert_allclose(session.capture("m").readings.current_a, np.arange(50) * 1e-3, rtol=1e-6)


def test_standard_input_is_read_by_a_program_of_its_own(described, tmp_path) -> None:
    text = "".join(f"{line}\n" for line in board_lines(300))
    record = (sys.executable, "-m", "warm_ember", "record", tmp_path / "p", "--from", "-")
    done = subprocess.run(
        [*record, "--duration", "1.5", "--name", "m"],
        input=text, capture_output=True, text=True, timeout=120, check=False,
    )  # fmt: skip
    assert (done.returncode, done.stderr) == (0, "")
    np.testing.assert_allclose(kept(tmp_path / "p"), (100.5 + np.arange(150)) * 1e-6, rtol=1e-5)


def test_without_a_length_a_pipe_is_recorded_to_its_end(described, tmp_path) -> None:
    text = "".join(f"{line}\n" for line in board_lines(300))
    record = (sys.executable, "-m", "warm_ember", "record", tmp_path / "p", "--from", "-", "--name", "m", "--json")
    done = subprocess.run(record, input=text, capture_output=True, text=True, timeout=120, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    found = json.loads(done.stdout)
    assert (found["samples"], found["ending"]) == (300, "done")  # the last reading holds as long as the others


@pytest.mark.parametrize("stays", [True, False])
def test_as_many_lines_as_are_wanted_are_all_of_it(described, tmp_path, command, stays: bool) -> None:
    """Where the other side hangs up right afterwards, and where it says nothing more."""
    with printing("".join(f"{line}\n" for line in board_lines(200)), stays=stays) as address:
        code, out, error = command(
            "record", tmp_path / "p", "--from", address, "--duration", 2, "--name", "m", "--json"
        )
    assert (code, error) == (0, "")
    assert (json.loads(out)["samples"], json.loads(out)["missing"]) == (200, 0)
    np.testing.assert_allclose(kept(tmp_path / "p"), (100.5 + np.arange(200)) * 1e-6, rtol=1e-5)


def test_a_serial_line_begins_with_a_whole_line(described, tmp_path, command) -> None:
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    stop = threading.Event()

    def write() -> None:
        os.write(ours, b"9 3300\n")  # the end of a line that began before
        for line in board_lines(4000):
            if stop.wait(0.001):
                return
            os.write(ours, line.encode() + b"\n")

    writer = threading.Thread(target=write)
    writer.start()
    code, out, error = command(
        "record", tmp_path / "p", "--from", os.ttyname(theirs), "--duration", 1, "--name", "m", "--json"
    )
    stop.set()
    writer.join()
    os.close(ours)
    os.close(theirs)
    assert (code, error) == (0, "")
    assert json.loads(out)["samples"] == 100
    steps = np.diff(kept(tmp_path / "p"))
    np.testing.assert_allclose(steps, 1e-6, rtol=1e-2)  # none is lost and none comes twice


@pytest.mark.parametrize(
    ("text", "stays", "words"),
    [
        ("", True, "no line came within 0.5 s"),
        ("hello\nworld\n" * 5, True, "no line can be read: expected a current with its unit"),
        ("5 mA\n", True, "only one line came within 0.5 s"),
        ("", False, "it ended before a line came"),
        ("5 mA\n" * 9, False, "its lines came all at once and carry no time"),
        ("7 ms 5 mA\n" * 9, True, "the times in its lines stand still"),
        ("".join(f"{n} ms 5 mA\n" for n in range(50)), False, "it hung up"),
    ],
)  # fmt: skip
def test_what_cannot_be_recorded_is_said(tmp_path, command, text: str, stays: bool, words: str) -> None:
    with printing(text, stays=stays) as address:
        code, out, error = command(
            "record", tmp_path / "p", "--from", address, "--duration", 5, "--name", "m", "--timeout", 0.5
        )
    assert (code, out) == (2, "")
    assert words in error
    assert error.count("\n") == 1
    assert (tmp_path / "p" / "captures" / "m.h5").exists() == ("hung up" in words)


def test_a_flood_of_what_is_no_line_is_refused_at_once(tmp_path, command) -> None:
    listener, stop = socket.create_server(("127.0.0.1", 0)), threading.Event()

    def flood() -> None:
        line, _ = listener.accept()
        with line:
            try:
                while not stop.is_set():
                    line.sendall(b"\xff\x00garbage" * 10_000)
            except OSError:
                return

    thread = threading.Thread(target=flood)
    thread.start()
    code, out, error = command(
        "record", tmp_path / "p", "--from", f"socket://127.0.0.1:{listener.getsockname()[1]}", "--duration", 1
    )
    stop.set()
    thread.join()
    listener.close()
    assert (code, out) == (2, "")
    assert "no line can be read" in error
    assert error.isprintable() or error.rstrip("\n").isprintable()


@pytest.mark.parametrize("address", ["socket://127.0.0.1:1", "socket://nowhere", "/nowhere/tty", "socket://[::1]:1"])
def test_an_address_at_which_nothing_is_says_so(tmp_path, command, address: str) -> None:
    code, out, error = command("record", tmp_path / "p", "--from", address, "--duration", 1)
    assert (code, out) == (2, "")
    assert f"{address}: it cannot be opened" in error


def test_a_recording_begins_when_its_first_line_came_not_when_it_was_looked_at() -> None:
    with printing("".join(f"{10 * n} ms 5 mA\n" for n in range(50))) as address:
        source = open_source(address)
        before_s = time.monotonic()
        source.set_sweep(source.fitted(BenchSettings()), None)
        source.start()
        assert len(source.fetch().current) == 49
        assert source.began_s is not None
        assert source.began_s <= before_s
        source.close()


def test_a_file_is_for_import(tmp_path, command) -> None:
    (tmp_path / "a.txt").write_text("1 mA\n")
    assert "import a file" in command("record", tmp_path / "p", "--from", tmp_path / "a.txt", "--duration", 1)[2]


def test_a_clock_that_is_full_goes_on_and_one_that_begins_again_leaves_a_mark(described, tmp_path, command) -> None:
    full = 1 << 16
    times = [*range(full - 500, full, 10), *range(4, 400, 10), *range(0, 600, 10)]
    text = "".join(f"{ms} 100.0 3300\n" for ms in times)
    with printing(text) as address:
        code, _, error = command("record", tmp_path / "p", "--from", address, "--duration", 1.3, "--name", "m")
    assert (code, error) == (0, "")
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        assert "the clock in the lines was full 1 time" in capture.info.note
        assert "the clock in the lines began again 1 time" in capture.info.note
        steps = np.diff(capture.readings.time_s)
        assert steps.min() > 0
        assert np.abs(steps[:80] - 0.01).max() < 5e-3


@given(st.lists(st.integers(1, 9), min_size=2, max_size=200), st.data())
def test_lines_are_read_the_same_in_whichever_pieces_they_come(steps: list[int], data: st.DataObject) -> None:
    times = np.cumsum(steps)
    text = "".join(f"noise {n}\n{t} {n}.0 3000\n" for n, t in enumerate(times.tolist())).encode()
    reader, at, found = LineReader(str(BOARD["pattern"])), 0, []
    while at < len(text):
        count = data.draw(st.integers(1, 200))
        found.append(reader.read([Came(at * 1e-3, text[at : at + count])]))
        at += count
    np.testing.assert_allclose(np.concatenate([one.time_s for one in found]), times * 1e-3)
    np.testing.assert_allclose(np.concatenate([one.current_a for one in found]), np.arange(len(times)) * 1e-6)
    np.testing.assert_allclose(np.concatenate([one.voltage_v for one in found]), 3.0)
    assert (reader.fitting, reader.others, reader.restarts, reader.wraps) == (len(times), len(times), 0, 0)


@given(st.sampled_from([16, 24, 32]), st.integers(2, 900), st.integers(2, 60))
def test_a_full_clock_of_any_width_goes_on_evenly(bits: int, before: int, step: int) -> None:
    """Property: a counter of so many bits that runs over gives the times of one that does not."""
    raw = (1 << bits) - before * step + np.arange(2 * before) * step
    reader = LineReader(r"(?P<time_us>\d+) (?P<current_a>\S+)")
    text = "".join(f"{t % (1 << bits)} 1\n" for t in raw.tolist()).encode()
    found = reader.read([Came(0.0, text)])
    np.testing.assert_allclose(np.diff(found.time_s), step * 1e-6, rtol=1e-6)
    assert (reader.wraps, reader.restarts) == (1, 0)
