"""Files of odd sizes and shapes: read in bounded memory, or refused at once in one line."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import textwrap
from pathlib import Path

import numpy as np
import pytest

from warm_ember.session.session import Session
from warm_ember.signal import time_grid

# `ru_maxrss` would carry the memory of the tests' own process over into a program it starts;
# the high-water mark of the address space begins anew with the program.
MEASURED = """
    import re, sys
    from pathlib import Path
    from warm_ember.cli.app import run
    code = run(sys.argv[1:])
    peak_kb = re.search(r"VmHWM:\\s+(\\d+) kB", Path("/proc/self/status").read_text())[1]
    print(code, int(peak_kb) >> 10)
"""
MOST_MB = 600


def in_process(*arguments: object) -> tuple[int, int, str]:
    """Run a command in a process of its own: exit code, most memory in MB, stderr."""
    done = subprocess.run(
        [sys.executable, "-c", textwrap.dedent(MEASURED), *map(str, arguments)],
        capture_output=True,
        text=True,
        check=False,
        env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)},
    )
    code, megabytes = done.stdout.split()[-2:]
    return int(code), int(megabytes), done.stderr


def with_gap(path: Path, seconds: float, interval_s: float, column: str = "0.001") -> Path:
    rows = [f"{k * interval_s:.7f},{column}" for k in range(3000)]
    rows += [f"{seconds + k * interval_s:.7f},{column}" for k in range(3000)]
    path.write_text("time_s,current_a\n" + "\n".join(rows) + "\n")
    return path


def test_a_long_gap_is_filled_in_bounded_memory(tmp_path: Path) -> None:
    path = with_gap(tmp_path / "gap.csv", 120.0, 1e-6)
    code, megabytes, err = in_process("import", tmp_path / "p", path)
    assert (code, err) == (0, "")
    assert megabytes < MOST_MB
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("gap")
        assert capture.current.samples == 120_003_000
        whole = capture.whole()
        assert whole.charge_c == pytest.approx(6000 * 1e-6 * 1e-3, rel=1e-6)
        assert whole.coverage == pytest.approx(6000 / 120_003_000)


def test_irregular_times_over_a_long_span_are_resampled_in_bounded_memory(tmp_path: Path) -> None:
    random = np.random.default_rng(3)
    times = np.cumsum(random.choice([1e-5, 3e-5, 4e-3, 0.5], 2000, p=[0.4, 0.3, 0.2, 0.1]))
    rows = "\n".join(f"{time_s:.6f},0.002" for time_s in times)
    (tmp_path / "a.csv").write_text("time_s,current_a\n" + rows + "\n")
    code, megabytes, _ = in_process("import", tmp_path / "p", tmp_path / "a.csv")
    assert code == 0
    assert megabytes < MOST_MB
    with Session.open(tmp_path / "p") as session:
        assert session.capture("a").whole().mean_a == pytest.approx(2e-3, rel=1e-6)


@pytest.mark.parametrize("gaps_hold", [False, True])
@pytest.mark.parametrize("piece", [1, 7, 64, 1 << 20])
def test_a_gap_is_the_same_in_pieces_of_any_length(
    monkeypatch: pytest.MonkeyPatch, gaps_hold: bool, piece: int
) -> None:

    times = np.r_[np.arange(50), 90 + np.arange(60), 151 + np.arange(3)] * 0.1
    values = np.arange(len(times), dtype=float)

    def placed() -> np.ndarray:
        grid = time_grid.RegularTimes(time_grid.inspect_times(times[:50]), 0.1, holds=gaps_hold)
        parts = [
            one[0] for k in range(0, len(times), 30) for one in grid.place(times[k : k + 30], [values[k : k + 30]])
        ]
        return np.concatenate(parts)

    whole = placed()
    monkeypatch.setattr(time_grid, "_PIECE", piece)
    np.testing.assert_array_equal(placed(), whole)
    assert np.isnan(whole).any() is not gaps_hold or gaps_hold


@pytest.mark.parametrize("order", ["C", "F"])
@pytest.mark.parametrize("turned", [False, True])
def test_an_array_of_two_long_rows_is_two_columns(tmp_path: Path, command, order: str, turned: bool) -> None:
    table = np.stack([np.arange(2_000_000) * 1e-3, np.full(2_000_000, 5e-3)], axis=0 if turned else 1)
    np.save(tmp_path / "a.npy", np.asarray(table, order=order))
    code, out, err = command("import", tmp_path / "p", tmp_path / "a.npy", "--json")
    assert (code, err) == (0, "")
    told = json.loads(out)
    assert (told["samples"], told["sample_interval_s"]) == (2_000_000, 1e-3)
    assert any("rows of 2000000 numbers taken as columns" in note for note in told["assumed"]) is turned
    with Session.open(tmp_path / "p") as session:
        assert session.capture("a").whole().mean_a == pytest.approx(5e-3, rel=1e-6)


def test_more_lines_than_a_capture_holds_are_kept_as_channels_and_told(tmp_path: Path, command) -> None:
    header = ",".join(["time_s", "current_a", *(f"d{k}" for k in range(40))])
    rows = [",".join([f"{k / 100:.2f}", "0.001", *(str((k >> b) & 1) for b in range(40))]) for k in range(300)]
    (tmp_path / "wide.csv").write_text("\n".join([header, *rows]) + "\n")
    code, out, _ = command("import", tmp_path / "p", tmp_path / "wide.csv", "--json")
    assert code == 0
    assert any("columns of 0 and 1 kept as channels: d32" in note for note in json.loads(out)["assumed"])
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("wide")
        assert capture.lines is not None
        assert (len(capture.lines.names), len(capture.aux)) == (32, 8)
    assert [path.name for path in (tmp_path / "p" / "captures").iterdir()] == ["wide.h5"]


def test_boot_garbage_in_a_log_is_kept_as_far_as_it_is_text(tmp_path: Path, command) -> None:
    np.full(1000, 1e-3, np.float32).tofile(tmp_path / "a.f32")
    (tmp_path / "log.csv").write_bytes(b"time_s,event,name,value\n0,log,boot\0\0 \x1b[2J now,\n0.5,state,Count,\n")
    code, _, err = command(
        "import", tmp_path / "p", tmp_path / "a.f32", "--rate", 1000, "--events", tmp_path / "log.csv"
    )
    assert (code, err) == (0, "")
    code, out, _ = command("states", tmp_path / "p", "a")
    assert "\x1b" not in out
    assert "\0" not in out


def test_a_line_of_any_length_is_read_or_refused(tmp_path: Path, command) -> None:
    np.full(1000, 1e-3, np.float32).tofile(tmp_path / "a.f32")
    long = "x" * 200_000
    (tmp_path / "log.jsonl").write_text(json.dumps({"time_s": 0.1, "event": "log", "name": long}) + "\n")
    (tmp_path / "log.csv").write_text(f"time_s,event,name,value\n0.1,log,{long},\n")
    for name in ("log.jsonl", "log.csv"):
        code, _, err = command(
            "import", tmp_path / name.replace(".", ""), tmp_path / "a.f32", "--rate", 1000, "--events", tmp_path / name
        )
        assert (code, err) == (0, "")
    for content in (f'"{long}\n', f"{long},{long}\n", json.dumps({"a": long})):
        (tmp_path / "table.csv").write_text(content)
        code, _, err = command("import", tmp_path / "q", tmp_path / "table.csv")
        assert (code, err.count("\n")) == (2, 1)
        assert "a bug" not in err


@pytest.mark.parametrize("place", ["file", "--events", "--lines", "--trace", "--itm"])
def test_a_pipe_is_no_file(tmp_path: Path, command, place: str) -> None:
    np.full(1000, 1e-3, np.float32).tofile(tmp_path / "a.f32")
    os.mkfifo(tmp_path / "pipe")
    current = tmp_path / ("pipe" if place == "file" else "a.f32")
    more = () if place == "file" else (place, tmp_path / "pipe")
    code, _, err = command("import", tmp_path / "p", current, "--rate", 1000, *more)
    assert code == 2
    assert "found a pipe" in err
    assert not (tmp_path / "p").exists()


def test_an_array_that_python_2_wrote_is_read_without_a_word(tmp_path: Path, command) -> None:
    header = b"{'descr': '<f4', 'fortran_order': False, 'shape': (500L, 2L), }".ljust(117) + b"\n"
    values = np.column_stack([np.arange(500) * 1e-3, np.full(500, 2e-3)]).astype("<f4")
    (tmp_path / "a.npy").write_bytes(b"\x93NUMPY\x01\x00\x76\x00" + header + values.tobytes())
    code, _, err = command("import", tmp_path / "p", tmp_path / "a.npy", "--json")
    assert (code, err) == (0, "")
    with Session.open(tmp_path / "p") as session:
        assert session.capture("a").whole().mean_a == pytest.approx(2e-3)
        assert session.capture("a").current.interval_s == pytest.approx(1e-3)


@pytest.mark.parametrize("name", ["zeros.f32", "zeros.npy"])
def test_a_terabyte_of_zeros_is_refused_at_once(tmp_path: Path, command, name: str) -> None:
    path = tmp_path / name
    if name.endswith(".npy"):
        np.save(path, np.zeros(1, np.float32))
        head = path.read_bytes()[:128].replace(b"(1,)", b"(250000000000,)").replace(b" " * 11, b"", 1)
        path.write_bytes(head.ljust(128, b" ")[:127] + b"\n")
    with path.open("ab") as file:
        file.truncate(10**12 + 128)
    code, out, err = command("import", tmp_path / "p", path, "--rate", 1000)
    assert (code, out, err.count("\n")) == (2, "", 1)
    assert "at most are possible" in err or "MB are left" in err
    assert not (tmp_path / "p").exists()


def test_a_table_without_a_current_is_refused_with_its_columns(tmp_path: Path, command) -> None:
    (tmp_path / "a.csv").write_text("time_s,pressure,humidity\n0,1,2\n1,2,3\n2,3,4\n")
    code, _, err = command("import", tmp_path / "p", tmp_path / "a.csv")
    assert code == 2
    assert "pressure, humidity" in err


def test_a_disk_that_is_nearly_full_is_told_and_nothing_is_left(tmp_path: Path) -> None:
    """A limit on the size of files is met at the same writes as a full disk, and needs no disk of its own."""
    np.full(3_000_000, 1e-3, np.float32).tofile(tmp_path / "a.f32")
    limit = "import resource, signal; signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
    limit += "resource.setrlimit(resource.RLIMIT_FSIZE, (2_000_000, resource.RLIM_INFINITY))\n"
    done = subprocess.run(
        [sys.executable, "-c", limit + textwrap.dedent(MEASURED), "import", tmp_path / "p", tmp_path / "a.f32",
         "--rate", "1000"],
        capture_output=True, text=True, check=False, env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)},
    )  # fmt: skip
    assert done.returncode == 0
    assert done.stdout.startswith("2 ")
    assert done.stderr.count("\n") == 1
    assert "nothing was imported" in done.stderr
    assert not (tmp_path / "p").exists()
