"""Recordings in progress: readable while they grow, and after whatever ended them."""

from __future__ import annotations

import contextlib
import errno
import os
import signal
import subprocess
import sys
import tempfile
import textwrap
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.heard import Heard
from warm_ember.signal.bits import BitPyramidBuilder, reduce_bits
from warm_ember.signal.envelope import envelope
from warm_ember.signal.one_clock import events_of
from warm_ember.signal.pyramid import PyramidBuilder, build_pyramid
from warm_ember.signal.stretch import read_stretch
from warm_ember.store.capture import Capture
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.store.interrupted_recording import NothingRecordedError, interrupted, recover
from warm_ember.store.recording_file import RecordingFile, discard, name_of

INFO = CaptureInfo(1e-4, supply_v=3.0, firmware="r5")


def made(samples: int, seed: int = 0) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    random = np.random.default_rng(seed)
    current = random.lognormal(-10, 2, samples).astype(np.float32)
    current[random.random(samples) < 0.01] = np.nan
    return current, (3.0 - current).astype(np.float32), random.integers(0, 32, samples).astype(np.uint8)


@given(st.lists(st.integers(0, 40_000), min_size=1, max_size=12))
def test_blocks_can_be_read_at_every_level_while_they_grow(pieces: list[int]) -> None:
    current, _, bits = made(sum(pieces))
    builder, lines, taken = PyramidBuilder(), BitPyramidBuilder(), 0
    for count in pieces:
        builder.append(current[taken : taken + count])
        lines.append(bits[taken : taken + count])
        taken += count
        whole = build_pyramid(current[:taken])
        for level, size in enumerate(builder.sizes):
            blocks = builder.blocks(level, 0, -(-taken // size))
            assert len(blocks) == -(-taken // size)
            if level < len(whole.levels):
                for field in ("min", "max", "count"):
                    np.testing.assert_array_equal(blocks[field], whole.levels[level][field])
                np.testing.assert_allclose(blocks["sum"], whole.levels[level]["sum"], rtol=1e-9)
            middle = len(blocks) // 2
            np.testing.assert_array_equal(builder.blocks(level, middle, len(blocks))["count"], blocks["count"][middle:])
        assert (lines.base() == reduce_bits(bits[:taken])).all()


def test_a_finished_recording_is_a_capture_like_any_other(tmp_path: Path) -> None:
    current, voltage, lines = made(70_000)
    path = tmp_path / "a.h5"
    recording = RecordingFile(path, INFO, with_voltage=True, line_names=("A", "B", "C", "D", "E"))
    for first in range(0, 70_000, 9_999):
        piece = slice(first, first + 9_999)
        recording.append(current[piece], voltage[piece], lines[piece])
        recording.flush()
        live = read_stretch(recording.current, 0.0, recording.samples * 1e-4)
        assert live.charge_c == pytest.approx(np.nansum(current[: recording.samples], dtype=float) * 1e-4)
    drawn = envelope(recording.current, 0.0, 7.0, 300)
    recording.finish(INFO, (Event(1.0, "state", "x"),))
    assert sorted(found.name for found in tmp_path.iterdir()) == ["a.h5"]
    with Capture(path) as capture:
        np.testing.assert_array_equal(capture.current.read(0, 70_000), current)
        np.testing.assert_array_equal(capture.lines.read(0, 70_000), lines)
        assert capture.events == (Event(1.0, "state", "x"),)
        assert capture.info == INFO
        after = envelope(capture.current, 0.0, 7.0, 300)
        np.testing.assert_array_equal(after.high, drawn.high)
        assert capture.whole().energy_j == pytest.approx(np.nansum(current * voltage, dtype=float) * 1e-4, rel=1e-5)
    assert not recording.lines.read(0, 10).any()
    assert np.isnan(recording.current.read(0, 10)).all()  # closed: whoever still draws gets nothing, not an error


WRITER = """
    import sys
    from pathlib import Path
    import numpy as np
    from warm_ember.model.capture import CaptureInfo
    from warm_ember.model.heard import Heard
    from warm_ember.store.recording_file import RecordingFile
    recording = RecordingFile(Path(sys.argv[1]), CaptureInfo(1e-4), with_voltage=True, line_names=("A",))
    recording.note(Heard(0.5, "state", "Deep sleep"))
    for turn in range(10**6):
        piece = np.arange(turn * 1000, turn * 1000 + 1000, dtype=np.float32)
        recording.append(piece, piece, np.full(1000, turn % 2, np.uint8))
        if turn % 10 == 9:
            recording.flush()
            print(recording.samples, flush=True)
"""


@pytest.mark.parametrize("turns", [1, 7, 40])
def test_a_killed_program_keeps_all_that_was_flushed(tmp_path: Path, turns: int) -> None:
    path = tmp_path / "night.h5"
    writer = subprocess.Popen(
        [sys.executable, "-c", textwrap.dedent(WRITER), str(path)], stdout=subprocess.PIPE, text=True, env=os.environ
        | {"PYTHONPATH": os.pathsep.join(sys.path)},
    )  # fmt: skip
    assert writer.stdout is not None
    flushed = [int(writer.stdout.readline()) for _ in range(turns)][-1]
    assert interrupted(tmp_path) == ()  # it is still being written
    writer.send_signal(signal.SIGKILL)
    writer.wait()
    writer.stdout.close()
    (partial,) = interrupted(tmp_path)
    assert name_of(partial) == "night"
    samples = recover(partial, path)
    assert samples >= flushed
    with Capture(path) as capture:
        assert capture.current.samples == samples
        np.testing.assert_array_equal(capture.current.read(0, samples), np.arange(samples, dtype=np.float32))
        np.testing.assert_array_equal(capture.lines.read(0, samples), np.arange(samples) // 1000 % 2)
        assert capture.events == (Event(0.5, "state", "Deep sleep"),)
    assert sorted(found.name for found in tmp_path.iterdir()) == ["night.h5"]


def test_what_holds_nothing_is_told_apart_from_what_cannot_be_read(tmp_path: Path) -> None:
    RecordingFile(tmp_path / "a.h5", INFO).leave()
    (tmp_path / ".b.h5.recording").write_bytes(b"no file of ours")
    empty, unreadable = interrupted(tmp_path)
    with pytest.raises(NothingRecordedError, match="before its first sample"):
        recover(empty, tmp_path / "x.h5")
    with pytest.raises(BadFileError, match="it stays as it is"):
        recover(unreadable, tmp_path / "x.h5")
    assert unreadable.read_bytes() == b"no file of ours"
    for partial in interrupted(tmp_path):
        discard(partial)
    assert list(tmp_path.iterdir()) == []


def test_two_cannot_record_the_same_capture(tmp_path: Path) -> None:
    first = RecordingFile(tmp_path / "a.h5", INFO)
    first.note(Heard(0.5, "state", "Deep sleep"))
    log = (tmp_path / ".a.h5.recording.log").read_bytes()
    for second in (lambda: RecordingFile(tmp_path / "a.h5", INFO), lambda: CaptureWriter(tmp_path / "a.h5")):
        with pytest.raises(BadArgumentError, match="another program is writing"):
            second()
    assert (tmp_path / ".a.h5.recording.log").read_bytes() == log
    first.discard()
    assert list(tmp_path.iterdir()) == []


def test_an_interrupted_recording_keeps_its_name(tmp_path: Path) -> None:
    first = RecordingFile(tmp_path / "a.h5", INFO)
    first.append(np.ones(10, dtype=np.float32))
    first.leave()
    with pytest.raises(BadArgumentError, match="interrupted recording has the name 'a'"):
        RecordingFile(tmp_path / "a.h5", INFO)
    (partial,) = interrupted(tmp_path)
    assert recover(partial, tmp_path / "a.h5") == 10
    with Capture(tmp_path / "a.h5") as capture:
        assert "interrupted" in capture.info.note
    with pytest.raises(BadArgumentError, match="there already is a capture 'a'"):
        RecordingFile(tmp_path / "a.h5", INFO)


@given(st.lists(st.tuples(st.floats(-5, 50), st.booleans()), min_size=1, max_size=30))
def test_what_is_recovered_has_the_events_of_what_is_finished(lines: list[tuple[float, bool]]) -> None:
    """One clock: a line of the console counts the same whether the recording was finished or recovered."""
    heard = [
        Heard(received_s, "state", f"s{number}", 1000.0 + received_s if stamped else None)
        for number, (received_s, stamped) in enumerate(lines)
    ]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.h5"
        recording = RecordingFile(path, INFO)
        recording.append(np.ones(10, dtype=np.float32))
        for one in heard:
            recording.note(one)
        recording.leave()
        recover(*interrupted(Path(folder)), path)
        with Capture(path) as capture:
            assert capture.events == events_of(heard)


@pytest.mark.parametrize("point", range(14))
def test_a_disk_that_is_full_while_a_recording_finishes_loses_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, point: int
) -> None:
    current, voltage, lines = made(40_000)
    path = tmp_path / "a.h5"
    recording = RecordingFile(path, INFO, with_voltage=True, line_names=("A", "B", "C", "D", "E"))
    recording.append(current, voltage, lines)
    recording.flush()
    count = 0

    def failing(call):
        def instead(*arguments, **named):
            nonlocal count
            count += 1
            if count == point + 1:
                raise OSError(errno.ENOSPC, "No space left on device")
            return call(*arguments, **named)

        return instead

    for name in ("pwrite", "write", "fsync", "unlink", "utime"):
        monkeypatch.setattr(os, name, failing(getattr(os, name)))
    monkeypatch.setattr(Path, "replace", failing(Path.replace))
    with contextlib.suppress(OSError):
        recording.finish(INFO, (Event(1.0, "state", "x"),))
    monkeypatch.undo()
    recording.leave()
    for partial in interrupted(tmp_path):
        recover(partial, path if not path.exists() else tmp_path / "b.h5")
    kept = [found for found in tmp_path.iterdir() if not found.name.startswith(".warm-ember-")]
    assert len(kept) == 1
    with Capture(kept[0]) as capture:
        np.testing.assert_array_equal(capture.current.read(0, 40_000), current)
        np.testing.assert_array_equal(capture.lines.read(0, 40_000), lines)
