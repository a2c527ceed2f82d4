"""Run a piece of work in a process of its own and end it, or fill its disk, at one of its writes.

The process is traced with ptrace(2): each system call that changes files in a folder is counted, by number and not by
chance, so that a fault can be tried at every one of them. Linux alone; a full disk is played on x86-64 alone, where the
tracer knows how to put another answer in the place of a call's own.
"""

from __future__ import annotations

import ctypes
import errno
import os
import platform
import signal
import struct
import sys
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

_TRACEME, _SYSCALL, _GETREGS, _SETREGS, _SETOPTIONS, _GET_INFO = 0, 24, 12, 13, 0x4200, 0x420E
_SYSGOOD, _FORKS, _EXIT_KILL = 0x1, 0x2 | 0x4 | 0x8, 0x100000
_OPTIONS = _SYSGOOD | _FORKS | _EXIT_KILL
_WALL = 0x40000000
_ENTRY, _EXIT = 1, 2
_INFO = struct.Struct("<B3xI2Q8Q")
_ORIG_RAX, _RAX = 15, 10
_REGISTERS = 27
_CREATE = 0o100
_NUMBERS = {
    "x86_64": {
        1: "write", 18: "pwrite64", 20: "writev", 74: "fsync", 75: "fdatasync", 76: "truncate", 77: "ftruncate",
        82: "rename", 83: "mkdir", 84: "rmdir", 86: "link", 87: "unlink", 2: "open", 257: "openat", 263: "unlinkat",
        264: "renameat", 258: "mkdirat", 280: "utimensat", 285: "fallocate", 296: "pwritev", 316: "renameat2",
        326: "copy_file_range", 40: "sendfile",
    },
    "aarch64": {
        64: "write", 68: "pwrite64", 66: "writev", 82: "fsync", 83: "fdatasync", 45: "truncate", 46: "ftruncate",
        34: "mkdirat", 35: "unlinkat", 38: "renameat", 37: "linkat", 56: "openat", 88: "utimensat", 47: "fallocate",
        70: "pwritev", 276: "renameat2", 285: "copy_file_range", 71: "sendfile",
    },
}  # fmt: skip
_BY_DESCRIPTOR = frozenset({"write", "pwrite64", "writev", "fsync", "fdatasync", "ftruncate", "fallocate", "pwritev"})
_TAKES_ROOM = frozenset({"write", "pwrite64", "writev", "pwritev", "ftruncate", "fallocate", "mkdir", "mkdirat", "open",
                         "openat", "copy_file_range", "sendfile", "fsync"})  # fmt: skip

_libc = ctypes.CDLL(None, use_errno=True)
_libc.ptrace.argtypes = (ctypes.c_long, ctypes.c_long, ctypes.c_void_p, ctypes.c_void_p)
_libc.ptrace.restype = ctypes.c_long


class Fault(StrEnum):
    """What happens at a write: nothing, the program is killed, or the disk is full from then on."""

    NONE = "none"
    KILL = "kill -9"
    FULL = "full disk"


@dataclass(frozen=True)
class Traced:
    """What became of a traced piece of work.

    Parameters
    ----------
    writes
        How many calls that change files it made.
    exit_code
        Its own; negative when a signal ended it.
    call
        The call at which the fault came; empty when the work was done before.
    """

    writes: int
    exit_code: int
    call: str = ""


def can_trace() -> bool:
    """Answer whether this machine lets a process trace its children."""
    if sys.platform != "linux" or platform.machine() not in _NUMBERS:
        return False
    try:
        return traced(lambda: None, Path("/nowhere")).exit_code == 0
    except OSError:
        return False


def can_fill() -> bool:
    """Answer whether a full disk can be played here."""
    return platform.machine() == "x86_64"


def _ptrace(request: int, process: int, address: int = 0, data: object = None) -> int:
    result = int(_libc.ptrace(request, process, address, data))
    if result < 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))
    return result


def traced(work: Callable[[], None], folder: Path, fault: Fault = Fault.NONE, point: int = 0) -> Traced:
    """Run work in a forked process.

    Parameters
    ----------
    work
        What to do; an exception ends the process with 3.
    folder
        Calls that change files elsewhere do not count.
    fault, point
        What happens, before which of the counted calls, from 0.
    """
    sys.stdout.flush()
    sys.stderr.flush()
    child = os.fork()
    if not child:
        _be_traced(work)
    return _Tracer(child, folder, fault, point).run()


def _be_traced(work: Callable[[], None]) -> None:
    code = 3
    try:
        sys.dont_write_bytecode = True
        _ptrace(_TRACEME, 0)
        os.kill(os.getpid(), signal.SIGSTOP)
        work()
        code = 0
    except BaseException as error:  # noqa: BLE001 - the process's boundary
        os.environ["FAULT_ERROR"] = f"{type(error).__name__}: {error}"
    finally:
        os._exit(code)


class _Tracer:
    def __init__(self, child: int, folder: Path, fault: Fault, point: int) -> None:
        self._child, self._folder, self._fault, self._point = child, f"{folder.resolve()}/", fault, point
        self._names = _NUMBERS[platform.machine()]
        self._writes = 0
        self._call = ""
        self._refused: set[int] = set()

    def run(self) -> Traced:
        os.waitpid(self._child, _WALL)
        _ptrace(_SETOPTIONS, self._child, 0, _OPTIONS)
        _ptrace(_SYSCALL, self._child)
        while True:
            process, status = os.waitpid(-1, _WALL)
            if os.WIFEXITED(status) or os.WIFSIGNALED(status):
                if process == self._child:
                    return Traced(self._writes, os.waitstatus_to_exitcode(status), self._call)
                continue
            pass_on = 0
            stop = os.WSTOPSIG(status)
            if stop == signal.SIGTRAP | 0x80:
                if self._on_call(process):
                    os.kill(self._child, signal.SIGKILL)
            elif stop not in (signal.SIGTRAP, signal.SIGSTOP):
                pass_on = stop
            try:
                _ptrace(_SYSCALL, process, 0, pass_on)
            except ProcessLookupError:
                continue  # it was killed meanwhile

    def _on_call(self, process: int) -> bool:
        """Look at a call as it begins or ends; True when the process is to be killed now."""
        info = ctypes.create_string_buffer(_INFO.size)
        try:
            _ptrace(_GET_INFO, process, _INFO.size, info)
        except ProcessLookupError:
            return False
        kind, _, _, _, number, *arguments = _INFO.unpack(info.raw)
        if kind == _EXIT and process in self._refused:
            self._refused.discard(process)
            self._answer(process, _RAX, -errno.ENOSPC)
        if kind != _ENTRY:
            return False
        name = self._names.get(number, "")
        if not name or not self._counts(name, process, arguments):
            return False
        self._writes += 1
        if self._fault is Fault.NONE or self._writes - 1 < self._point:
            return False
        if self._writes - 1 == self._point:
            self._call = name
        if self._fault is Fault.KILL:
            return self._writes - 1 == self._point
        if name in _TAKES_ROOM:
            self._refused.add(process)
            self._answer(process, _ORIG_RAX, -1)
        return False

    def _counts(self, name: str, process: int, arguments: list[int]) -> bool:
        if (name == "open" and not arguments[1] & _CREATE) or (name == "openat" and not arguments[2] & _CREATE):
            return False
        try:
            if name in _BY_DESCRIPTOR or name in ("copy_file_range", "sendfile"):
                descriptor = arguments[{"copy_file_range": 2}.get(name, 0)]
                return str(Path(f"/proc/{process}/fd/{descriptor}").readlink()).startswith(self._folder)
            place = 1 if name.endswith("at") or name == "renameat2" else 0
            if not arguments[place]:  # utimensat on an open file
                return str(Path(f"/proc/{process}/fd/{arguments[0]}").readlink()).startswith(self._folder)
            return self._text(process, arguments[place]).startswith(self._folder)
        except OSError:
            return False

    def _text(self, process: int, address: int) -> str:
        with open(f"/proc/{process}/mem", "rb", buffering=0) as memory:  # noqa: PTH123 - a file that is no file
            memory.seek(address)
            return os.fsdecode(memory.read(4096).split(b"\0")[0])

    def _answer(self, process: int, register: int, value: int) -> None:
        registers = (ctypes.c_ulonglong * _REGISTERS)()
        _ptrace(_GETREGS, process, 0, registers)
        registers[register] = value & 0xFFFFFFFFFFFFFFFF
        _ptrace(_SETREGS, process, 0, registers)
