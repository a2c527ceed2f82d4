"""Many programs at once on one project, and signals that end a program while it holds an output on."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np

from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.bench.simulated.firmware import FIRMWARE
from warm_ember.bench.simulated.instrument import SimulatedInstrument
from warm_ember.bench.simulated.server import BenchServer
from warm_ember.bench.simulated.target import BenchClock, Target
from warm_ember.formats.source import ImportOptions
from warm_ember.model.wakes import SleepMode
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.new_capture import adopt
from warm_ember.session.recovering import recover_all
from warm_ember.session.session import Session
from warm_ember.store.capture import Capture

Tried = tuple[int, list[str]]

RATE = ImportOptions(rate_hz=1000.0)
PROGRAMS, TURNS = 10, 6
LONGEST_S = 30.0
PATIENCE_S = 2.0


def command(*arguments: object) -> subprocess.Popen[str]:
    """Start the program as a user does."""
    return subprocess.Popen(
        [sys.executable, "-m", "warm_ember", *map(str, arguments)],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path), "PYTHONDONTWRITEBYTECODE": "1"},
        preexec_fn=listen_to_signals,
    )


def listen_to_signals() -> None:
    """Take signals as a program started at a terminal does: in the background of a script some are ignored."""
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_DFL)


def _in_processes(count: int, work: Callable[[int], None]) -> list[int]:
    """Do work in forked processes at once, and return their exit codes."""
    sys.stdout.flush()
    children = []
    for number in range(count):
        child = os.fork()
        if not child:
            code = 1
            try:
                work(number)
                code = 0
            except BaseException as error:  # noqa: BLE001 - the process's boundary
                sys.stderr.write(f"{type(error).__name__}: {error}\n")
            finally:
                os._exit(code)
        children.append(child)
    return [os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) for child in children]


def ten_programs(folder: Path) -> Tried:
    """Let ten programs import and edit in turns; each edit and each capture must be there at the end."""
    project = folder / "p"

    def work(number: int) -> None:
        raw = folder / f"{number}.f32"
        np.full(2000, 1e-3 * (number + 1), np.float32).tofile(raw)
        for turn in range(TURNS):
            with Session.open_or_create(project) as session:
                adopt(session, import_file(session, ImportRequest(raw, RATE, f"run {number} {turn}")))
                mode = SleepMode(f"mode {number} {turn}")
                session.apply(
                    lambda value, mode=mode: msgspec.structs.replace(value, sleep_modes=(*value.sleep_modes, mode)),
                    "mode",
                )
                session.save()

    lost = [f"a program ended with {code}" for code in _in_processes(PROGRAMS, work) if code]
    with Session.open(project) as session:
        runs, modes = {run.name for run in session.project.runs}, {mode.name for mode in session.project.sleep_modes}
        for number in range(PROGRAMS):
            for turn in range(TURNS):
                lost += [f"run {number} {turn}"] if f"run {number} {turn}" not in runs else []
                lost += [f"edit {number} {turn}"] if f"mode {number} {turn}" not in modes else []
        left = [path.name for path in project.rglob(".*") if path.is_file()]
    return PROGRAMS * TURNS * 2, lost + [f"left {name}" for name in left]


def one_name(folder: Path, programs: int = 8, turns: int = 3) -> Tried:
    """Let programs import under one new name: one has it, the others are told."""
    lost = []
    for turn in range(turns):
        project = folder / f"p{turn}"
        Session.open_or_create(project).save()
        for number in range(programs):
            np.full(2_000_000, 1e-3 * (number + 1), np.float32).tofile(folder / f"{number}.f32")
        started = [
            command("import", project, folder / f"{number}.f32", "--rate", 1000, "--name", "one")
            for number in range(programs)
        ]
        told = [(program.communicate()[1], program.returncode) for program in started]
        if sorted(code for _, code in told) != [0] + [2] * (programs - 1):
            lost.append(f"exit codes {sorted(code for _, code in told)}")
        lost += [f"not one line: {words!r}" for words, code in told if code == 2 and words.count("\n") != 1]
        winner = next((number for number, (_, code) in enumerate(told) if code == 0), None)
        with Capture(project / "captures" / "one.h5") as capture:
            if winner is not None and abs(capture.whole().mean_a / (1e-3 * (winner + 1)) - 1) > 1e-6:
                lost.append("the capture is not that of the program which was told so")
    return programs * turns, lost


def six_readers(folder: Path) -> Tried:
    """Let six programs read a touched capture while another holds it."""
    project = folder / "p"
    np.full(3_000_000, 1e-3, np.float32).tofile(folder / "a.f32")
    with Session.open_or_create(project) as session:
        adopt(session, import_file(session, ImportRequest(folder / "a.f32", RATE)))
    lost = []
    for _ in range(3):
        path = project / "captures" / "a.h5"
        path.touch()
        with Capture(path):
            readers = [command("stretch", project, "a", "--from", 0, "--to", 10, "--json") for _ in range(6)]
            for reader in readers:
                out, err = reader.communicate()
                if reader.returncode or '"charge_c":0.01' not in out:
                    lost.append(err or out)
    return 18, lost


def served(fault: Fault | None = None) -> BenchServer:
    """Return a simulated bench in this process."""
    return BenchServer(SimulatedInstrument(Target(FIRMWARE[-1], BenchClock(1.0))), fault=fault)


def wait_for(condition: Callable[[], bool], seconds: float = LONGEST_S) -> float | None:
    """Wait until a condition holds, and return how long that took; None when it never did."""
    began_s = time.monotonic()
    while not condition():
        if time.monotonic() - began_s > seconds:
            return None
        time.sleep(0.01)
    return time.monotonic() - began_s


def end_recording(folder: Path, number: int, fault: FaultMode = FaultMode.NONE) -> tuple[float | None, int, str, int]:
    """Record, end the program by a signal, and look at the output.

    Returns
    -------
    tuple
        After how long the output was off (None: never), the exit code, stderr, and how many samples were kept.
    """
    with served(Fault(fault, after=3)) as server:
        instrument, blocks = server.instrument, server.fault
        address = f"TCPIP::127.0.0.1::{server.port}::SOCKET"
        program = command("record", folder / "p", "--from", address, "--duration", 600, "--interval", "1e-4",
                          "--voltage", 3, "--name", "night")  # fmt: skip
        if wait_for(lambda: instrument.is_on and blocks.blocks > (24 if fault is FaultMode.NONE else 3)) is None:
            program.kill()
            return None, 0, "it did not record: " + program.communicate()[1], 0
        time.sleep(0.7)  # some of it has been flushed by then
        program.send_signal(number)
        off_s = wait_for(lambda: not instrument.is_on)
        err = program.communicate()[1]
    with Session.open(folder / "p") as session:
        recover_all(session)
        kept = session.capture("night").current.samples if session.project.run("night") else 0
    return off_s, program.returncode, err, kept


def signals(folder: Path) -> Tried:
    """End recordings by every signal, with instruments that answer and one that drips."""
    lost, tried = [], 0
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGKILL):
        for fault in (FaultMode.NONE, FaultMode.DRIP):
            tried += 1
            place = folder / f"{number} {fault}"
            off_s, code, err, kept = end_recording(place, number, fault)
            what = f"{signal.Signals(number).name}, {fault}"
            wanted = -number if number == signal.SIGKILL else 128 + number
            if off_s is None or off_s > PATIENCE_S:
                lost.append(f"{what}: the output was off after {off_s} s; {err}")
            if code != wanted:
                lost.append(f"{what}: exit code {code}; {err}")
            if number != signal.SIGKILL and err.count("\n") != 1:
                lost.append(f"{what}: not one line: {err!r}")
            if not kept:
                lost.append(f"{what}: nothing was kept; {err}")
    return tried, lost


TRIALS: dict[str, Callable[[Path], Tried]] = {
    "ten programs import and edit in one project": ten_programs,
    "eight programs import under one new name": one_name,
    "six programs read a touched capture that a seventh holds": six_readers,
    "recordings ended by signals, output off within 2 s": signals,
}
