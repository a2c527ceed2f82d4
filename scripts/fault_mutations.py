"""Mutations of the files that the program reads: each is read, or refused in one line, in bounded time and memory."""

from __future__ import annotations

import json
import os
import random
import resource
import signal
import sys
import time
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path

import h5py
import numpy as np
import pyarrow as pa
from pyarrow import feather, parquet

from warm_ember.bench.simulated.program import elf_file, execute, trace_stream
from warm_ember.errors import WarmEmberError
from warm_ember.formats.activity_file import read_activity_file
from warm_ember.formats.expected_file import read_expected_file
from warm_ember.formats.source import ImportOptions
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.session.cells import read_cell
from warm_ember.session.demo import demo_project
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.session import Session
from warm_ember.store.capture import Capture
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.store.parts_file import read_parts_file
from warm_ember.store.project_folder import ProjectFolder

LONGEST_S = 20
MOST_BYTES = 400 << 20
BATCH = 250
TOKENS = (
    b"NaN", b"inf", b"-inf", b"1e999", b"-1", b"0", b"1e-320", b"99999999999999999999999", b"\0", b"\xff\xfe", b"\n\n",
    b'"', b"'", b",", b";", b"\t", b"{", b"[", b"]", b"}", b"\x1b[2J", b"\xe2\x80\xae", b"-", b"#N/A", b"OL", b"true",
    b"null", b"9" * 400, b"a" * 70_000, b"\r", b"%s", b"$end", b"2026-13-45T99:99:99Z",
)  # fmt: skip


def mutated(content: bytes, seed: int) -> bytes:
    """Return a file's bytes with a few things wrong in them."""
    chance = random.Random(seed)
    data = bytearray(content)
    for _ in range(chance.choice((1, 1, 1, 2, 4, 12))):
        place = chance.randrange(len(data) + 1) if chance.random() < 0.6 else min(chance.randrange(400), len(data))
        length = chance.choice((1, 1, 2, 4, 8, 64, 1000))
        what = chance.randrange(7)
        if what == 0 and data:
            place = min(place, len(data) - 1)
            data[place] ^= 1 << chance.randrange(8)
        elif what == 1:
            data[place : place + length] = chance.randbytes(length)
        elif what == 2:
            del data[place : place + length]
        elif what == 3:
            data[place:place] = data[place : place + length] * chance.choice((1, 2, 50))
        elif what == 4:
            data[place:place] = chance.choice(TOKENS)
        elif what == 5:
            data[place : place + length] = chance.choice(TOKENS)
        else:
            del data[place:]
    return bytes(data)


class Files:
    """Small whole files of every kind that is read.

    Parameters
    ----------
    folder
        Where they are made.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        times = np.arange(3000) * 1e-3
        current = np.random.default_rng(5).lognormal(-9, 1, 3000).astype(np.float32)
        rows = [
            f"{time_s:.3f},{amperes:.6g},{k % 7 > 3:d}"
            for k, (time_s, amperes) in enumerate(zip(times, current, strict=True))
        ]
        self.table = "\n".join(["time_s,current_a,busy", *rows]).encode()
        german = "\r\n".join(["# Messung", "Zeit [ms];Strom [mA];Spannung [V]", *(
            f"{k};{amperes * 1e3:.5f};3,0".replace(".", ",") for k, amperes in enumerate(current[:1500])
        )])  # fmt: skip
        self.german = german.encode("latin-1")
        self.clocked = "\n".join(["time,amps", *(
            f"2026-06-14T05:59:{k // 100 % 60:02d}.{k % 100:02d}Z,{a:.6g}" for k, a in enumerate(current[:1000])
        )]).encode()  # fmt: skip
        self.raw = current.tobytes()
        self.log = "time_s,event,name,value\n" + "".join(f"{k * 0.1:.1f},state,s{k % 3},\n" for k in range(30))
        self.json_log = "".join(
            json.dumps({"time_s": k * 0.1, "event": "wake", "name": f"w{k}"}) + "\n" for k in range(30)
        )
        self.dump = (
            "$timescale 1 us $end\n$var wire 1 ! busy $end\n$var wire 4 # bus $end\n$enddefinitions $end\n"
            + "".join(f"#{k * 1000}\n{k % 2}!\nb{k % 16:b} #\n" for k in range(300))
        )
        self.kernel = _kernel_trace().encode()
        run = execute(
            tuple(Event(k * 0.3, "state", "Count" if k % 2 else "Deep sleep") for k in range(10)), 3.0, seed=1
        )
        self.stream, self.elf = trace_stream(run), elf_file()
        self.numpy, self.arrow, self.parquet, self.capture, self.datasets = self._binary(times, current)
        self.project = json.dumps(json.loads(self._project()), indent=1).encode()

    def _project(self) -> bytes:
        folder = ProjectFolder(self._folder / "demo")
        folder.save(demo_project())
        return folder.file.read_bytes()

    def _binary(self, times: np.ndarray, current: np.ndarray) -> tuple[bytes, ...]:
        made = []
        np.save(self._folder / "a.npy", np.stack([times, current], axis=1))
        table = pa.table({"time_s": times, "current_a": current})
        feather.write_feather(table, str(self._folder / "a.arrow"), compression="uncompressed")
        parquet.write_table(table, self._folder / "a.parquet")
        with CaptureWriter(
            self._folder / "a.h5", with_voltage=True, line_names=("A", "B"), aux_units={"case": "C"}
        ) as writer:
            writer.append(current, voltage=current, lines=np.arange(3000, dtype=np.uint8) % 4, aux={"case": current})
            writer.finish(
                CaptureInfo(1e-3, supply_v=3.0, note="made up"), [Event(0.1, "state", "a"), Event(0.2, "log", "b")]
            )
        with h5py.File(self._folder / "b.hdf5", "w") as file:
            file["time_s"], file["current_a"] = times, current
        for name in ("a.npy", "a.arrow", "a.parquet", "a.h5", "b.hdf5"):
            made.append((self._folder / name).read_bytes())
            (self._folder / name).unlink()
        return tuple(made)

    def readers(self) -> dict[str, tuple[bytes, Callable[[Path], object]]]:
        """Return each kind of file with what reads it, by the name that its files have."""

        def imported(options: ImportOptions | None = None, **beside: str) -> Callable[[Path], object]:
            def read(path: Path) -> object:
                current = path.with_name("whole.csv") if beside else path
                if beside:
                    current.write_bytes(self.table)
                given = {name: path if value == "it" else path.with_name(value) for name, value in beside.items()}
                return _import(ImportRequest(current, options or ImportOptions(), "x", **given))

            return read

        rate = ImportOptions(rate_hz=1000.0)
        return {
            "table.csv": (self.table, imported()), "table.txt": (self.german, imported()),
            "clocked.csv": (self.clocked, imported()),
            "raw.f32": (self.raw, imported(rate)), "table.npy": (self.numpy, imported()),
            "table.arrow": (self.arrow, imported()), "table.parquet": (self.parquet, imported()),
            "foreign.hdf5": (self.datasets, imported()), "import.h5": (self.capture, imported()),
            "capture.h5": (self.capture, _read_capture), "kernel.trace": (self.kernel, imported()),
            "log.csv": (self.log.encode(), imported(events_file="it")),
            "log.jsonl": (self.json_log.encode(), imported(events_file="it")),
            "lines.vcd": (self.dump.encode(), imported(lines_file="it")),
            "stream.itm": (self.stream, imported(trace_file="it")),
            "program.elf": (self.elf, self._read_program),
            "project.json": (self.project, lambda path: ProjectFolder(path.parent).load()),
            "parts.json": (_shipped("store/parts/trail_counter.json"), read_parts_file),
            "cell.json": (_CELL, read_cell),
            "activities.json": (_ACTIVITIES, read_activity_file),
            "expected.json": (b'{"Deep sleep": 2e-6, "Count": 1e-3}', read_expected_file),
        }  # fmt: skip

    def _read_program(self, path: Path) -> object:
        stream, whole = path.with_name("whole.itm"), path.with_name("whole.csv")
        stream.write_bytes(self.stream)
        whole.write_bytes(self.table)
        return _import(ImportRequest(whole, ImportOptions(), "x", trace_file=stream, elf_file=path))


_CELL = json.dumps({"what": "made up", "capacity_c": 1e4, "ocv_v": [[0, 1], [1, 2]]}).encode()
_ACTIVITIES = json.dumps({
    "battery": {"capacity_c": 21600, "self_discharge_per_year": 0.015, "reserve": 0.1, "cutoff_v": 1.8,
                "resistance_ohm": 0.3, "cell": {"ocv_v": [[0, 2], [1, 3]]}},
    "supply": {"kind": "switching", "efficiency": 0.9, "quiescent_a": 1e-6, "output_v": 3, "min_v": 1},
    "base_a": 1e-5, "target_h": 26280,
    "activities": [{"name": "report", "charge_c": 1.5, "duration_s": 10, "interval_s": 21600, "peak_a": 0.17}],
}).encode()  # fmt: skip


def _kernel_trace() -> str:
    lines = ["# tracer: nop", "#"]
    for turn in range(200):
        at_s = 100.0 + 0.01 * turn
        for after_s, what in (
            (0.0, "cpu_idle: state=1 cpu_id=0"),
            (0.004, "irq_handler_entry: irq=40 name=uart"),
            (0.0041, "cpu_idle: state=4294967295 cpu_id=0"),
            (0.005, "sched_wakeup: comm=app pid=12 prio=120 target_cpu=000"),
        ):
            lines.append(f"          <idle>-0     [000] d..2. {at_s + after_s:12.6f}: {what}")
    return "\n".join(lines) + "\n"


def _shipped(name: str) -> bytes:
    return (Path(sys.modules["warm_ember"].__file__ or "").parent / name).read_bytes()


def _import(request: ImportRequest) -> object:
    with Session.open_or_create(request.file.parent / "p") as session:
        path = session.folder.capture_path("x")
        path.unlink(missing_ok=True)
        import_file(session, request)
        return _read_capture(path)


def _read_capture(path: Path) -> object:
    with Capture(path) as capture:
        _ = capture.events, capture.program
        return capture.whole()


def all_readers(
    folder: Path, mutations: int, seed: int, until_s: float, only: tuple[str, ...] = ()
) -> Iterator[tuple[str, int, list[str], Counter[str]]]:
    """Try mutations of each kind of file: yield what, how many, what went wrong, and how it ended."""
    (folder / "made").mkdir()
    readers = Files(folder / "made").readers()
    chosen = [name for name in readers if not only or name in only]
    each = max(1, mutations // len(chosen))
    for name in chosen:
        content, read = readers[name]
        place = folder / name.replace(".", "-")
        place.mkdir()
        (place / name).write_bytes(content)
        whole = _told(place / name, read)
        tried, wrong, how = 0, [f"{name}, whole: {whole}"] if whole != "read" else [], Counter[str]()
        while tried < each and time.monotonic() < until_s:
            count = min(BATCH, each - tried)
            for told in _in_process(place / name, content, read, range(seed + tried, seed + tried + count)):
                how[told.split(":")[0]] += 1
                if told not in ("read", "refused"):
                    wrong.append(f"{name}: {told}")
            tried += count
        yield f"mutations of {name}", tried, wrong, how


def _in_process(path: Path, content: bytes, read: Callable[[Path], object], seeds: range) -> Iterator[str]:
    """Read mutated files in a process that may crash, and yield what came of each."""
    seed = seeds.start
    while seed < seeds.stop:
        reading, writing = os.pipe()
        sys.stdout.flush()
        child = os.fork()
        if not child:
            os.close(reading)
            _read_all(path, content, read, range(seed, seeds.stop), writing)
        os.close(writing)
        with os.fdopen(reading, encoding="utf-8", errors="replace") as answers:
            for answer in answers:
                yield answer.strip()
                seed += 1
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        if code:
            yield f"crashed: {code} on seed {seed}"
            seed += 1


def _read_all(path: Path, content: bytes, read: Callable[[Path], object], seeds: range, writing: int) -> None:
    warnings.simplefilter("error")
    signal.signal(signal.SIGALRM, _too_slow)
    code, began = 1, _peak_bytes()
    try:
        for seed in seeds:
            path.write_bytes(mutated(content, seed))
            signal.alarm(LONGEST_S)
            told = _told(path, read)
            signal.alarm(0)
            grown = _peak_bytes() - began
            if grown > MOST_BYTES:
                told = f"memory: {grown >> 20} MB more"
            suffix = "" if told in ("read", "refused") else f" (seed {seed})"
            os.write(writing, (" ".join(f"{told}{suffix}".split()) + "\n").encode("utf-8", "replace"))
            if grown > MOST_BYTES:
                break  # the next one starts with a fresh process
        code = 0
    finally:
        os._exit(code)


def _peak_bytes() -> int:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10


def _told(path: Path, read: Callable[[Path], object]) -> str:
    try:
        read(path)
    except WarmEmberError as error:
        return "refused" if error.one_line else "refused without a word"
    except TimeoutError as error:
        return f"slow: {error}"
    except BaseException as error:  # noqa: BLE001 - what is looked for
        return f"bug: {type(error).__name__}: {str(error)[:160]}"
    return "read"


def _too_slow(_number: int, _frame: object) -> None:
    raise TimeoutError(f"more than {LONGEST_S} s")
