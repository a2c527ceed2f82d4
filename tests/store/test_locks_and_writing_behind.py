"""Who may write, what is written behind, and what is said when there is no room."""

from __future__ import annotations

import errno
import os
import subprocess
import sys
import threading
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError
from warm_ember.store.capture_name import CaptureName, is_being_written, lock_path
from warm_ember.store.lock import Lock, locked
from warm_ember.store.room import not_written, room_left
from warm_ember.store.write_behind import WriteBehind

HOLDER = """
import sys
from pathlib import Path
from warm_ember.store.lock import Lock
lock = Lock(Path(sys.argv[1]))
print("held" if lock.take() else "not held", flush=True)
sys.stdin.read(1)
if sys.argv[2] == "release":
    lock.release()
"""


@pytest.fixture
def holder(tmp_path: Path):
    """Another program that holds a lock until it is told to end."""
    running = []

    def start(path: Path, end: str = "release") -> subprocess.Popen[str]:
        program = subprocess.Popen(
            [sys.executable, "-c", HOLDER, str(path), end], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        running.append(program)
        assert program.stdout is not None
        assert program.stdout.readline() == "held\n"
        return program

    yield start
    for program in running:
        program.communicate()


@pytest.mark.parametrize("end", ["release", "just end", "kill"])
def test_a_lock_is_let_go_of_however_its_holder_ends(tmp_path: Path, holder, end: str) -> None:
    path = tmp_path / "it.lock"
    program = holder(path, end)
    mine = Lock(path)
    assert not mine.take()
    assert mine.is_held_by_anyone()
    assert not mine.take_and_release()
    with pytest.raises(TimeoutError, match="held by another program"), locked(path, 0.0):
        pass
    if end == "kill":
        program.kill()
        program.wait()
    else:
        program.communicate("x")
    assert not Lock(path).is_held_by_anyone()
    assert mine.take()
    mine.release()
    assert not path.exists()


def test_a_lock_is_taken_once_and_given_back_once(tmp_path: Path) -> None:
    one, other = Lock(tmp_path / "it.lock"), Lock(tmp_path / "it.lock")
    assert one.take()
    assert not other.take()
    one.release()
    one.release()  # there is nothing left to give back
    assert other.take()
    assert other.is_held_by_anyone()
    other.release()
    with pytest.raises(OSError, match="No such file"):
        Lock(tmp_path / "nowhere" / "it.lock").take()


def test_the_name_of_a_capture_is_taken_by_whoever_is_first(tmp_path: Path, holder) -> None:
    path = tmp_path / "r1.h5"
    holder(lock_path(path))
    assert is_being_written(path)
    with pytest.raises(BadArgumentError, match="another program is writing a capture 'r1'"):
        CaptureName.take(path)


def test_the_name_of_a_capture_that_is_there_goes_only_when_asked(tmp_path: Path) -> None:
    path = tmp_path / "r1.h5"
    path.write_bytes(b"")
    with pytest.raises(BadArgumentError, match="--replace"):
        CaptureName.take(path)
    assert not is_being_written(path)
    name = CaptureName.take(path, replace=True)
    assert is_being_written(path)
    name.release()
    assert not is_being_written(path)
    assert [one.name for one in tmp_path.iterdir()] == ["r1.h5"]


@given(st.lists(st.integers(0, 60), max_size=40), st.integers(1, 100))
def test_all_that_is_written_behind_is_done_in_its_order(sizes: list[int], most: int) -> None:
    behind, done = WriteBehind(most), []
    for at, size in enumerate(sizes):
        behind.put(lambda at=at: done.append(at), size)
    behind.drain()
    assert done == list(range(len(sizes)))
    behind.close()


def test_who_puts_in_too_much_waits() -> None:
    behind, may_go_on, begun = WriteBehind(most_bytes=10), threading.Event(), threading.Event()

    def slow() -> None:
        begun.set()
        may_go_on.wait()

    behind.put(slow, 8)
    assert begun.wait(60)
    waited = threading.Thread(target=lambda: behind.put(lambda: None, 8))
    waited.start()
    waited.join(0.05)
    assert waited.is_alive()  # 16 bytes are more than may wait, however long that takes
    may_go_on.set()
    waited.join(60)
    assert not waited.is_alive()
    behind.drain()
    behind.close()


@given(st.integers(0, 8), st.integers(1, 8))
def test_after_a_failure_nothing_more_is_done_and_it_is_told_once(before: int, after: int) -> None:
    behind, done = WriteBehind(), []

    def fails() -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    told = 0
    for at, work in enumerate([*([lambda: done.append(1)] * before), fails, *([lambda: done.append(2)] * after)]):
        try:
            behind.put(work)
        except OSError:
            told += 1
            assert at >= before
    try:
        behind.drain()
    except OSError:
        told += 1
    behind.drain()
    behind.close()
    assert told == 1
    assert done == [1] * before


@pytest.mark.parametrize(("number", "words", "remedy"), [
    (errno.ENOSPC, "the disk is full", "make room"),
    (errno.EDQUOT, "your quota on this disk is used up", "make room"),
    (errno.EFBIG, "no larger files may be written here", "lift the limit"),
    (errno.EACCES, "Permission denied", ""),
])  # fmt: skip
def test_what_could_not_be_written_says_why_and_what_was_kept(tmp_path, number: int, words: str, remedy: str) -> None:
    path = tmp_path / "not" / "there" / "r1.h5"
    error = not_written(path, OSError(number, os.strerror(number)), "nothing was kept")
    assert str(path) in str(error)
    assert words in str(error)
    assert "nothing was kept" in str(error)
    assert remedy in str(error)


def test_the_room_on_a_disk_is_what_the_system_says(tmp_path: Path) -> None:
    status = os.statvfs(tmp_path)
    assert 0 < room_left(tmp_path) <= status.f_blocks * status.f_frsize
