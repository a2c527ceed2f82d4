"""Linux kernel trace text and saved idle states, against a simulated machine whose truth is known."""

from __future__ import annotations

import json
import re
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.errors import BadFileError
from warm_ember.formats import kernel_trace
from warm_ember.formats.cpuidle import read_cpuidle
from warm_ember.formats.kernel_trace import is_kernel_trace, read_kernel_trace

STATES = (("POLL", 0, 0), ("C1", 2, 20), ("C6", 100, 1000))
CAUSES = {
    "irq:eth0": ["irq_handler_entry: irq=31 name=eth0", "softirq_entry: vec=3 [action=NET_RX]"],
    "hrtimer:hrtimer_wakeup": [
        "irq_handler_entry: irq=27 name=arch_timer",
        "hrtimer_expire_entry: hrtimer=00000000c0ffee00 function=hrtimer_wakeup now=1234567",
        "sched_wakeup: comm=my task-3 [x] pid=123 prio=120 target_cpu=001",
    ],
    "timer:delayed_work_timer_fn": [
        "hrtimer_expire_entry: hrtimer=00000000c0ffee00 function=tick_sched_timer now=1234567",
        "softirq_entry: vec=1 [action=TIMER]",
        "timer_expire_entry: timer=00000000abad1dea function=delayed_work_timer_fn now=42 baseclk=42",
    ],
    "task:kworker/u8:2": [],
    "irq:mmc0: card": ["irq_handler_entry: irq=9 name=mmc0: card"],
}
HEAD = "# tracer: nop\n#\n# entries-in-buffer/entries-written: 9/9   #P:2\n#           TASK-PID     CPU#  TIMESTAMP\n"


class Machine:
    """CPUs that idle and are woken; it writes what the kernel would."""

    def __init__(self, seed: int, cpus: int, digits: int = 6, start_s: float = 5123.25) -> None:
        self.random = np.random.default_rng(seed)
        self.now_s, self.digits = start_s, digits
        self.lines: list[str] = []
        self.woken: list[tuple[float, int, str]] = []
        self.slept: list[tuple[float, int, str]] = []
        self.cpus = cpus

    def line(self, cpu: int, what: str, task: str = "<idle>-0", flags: str = "d..2.") -> float:
        self.now_s = round(self.now_s + float(self.random.uniform(1e-6, 9e-6)), self.digits)
        self.lines.append(f"{task:>23} [{cpu:03d}] {flags} {self.now_s:12.{self.digits}f}: {what}\n")
        return self.now_s

    def run(self, rounds: int) -> str:
        for _ in range(rounds):
            cpu, state = int(self.random.integers(self.cpus)), int(self.random.integers(3))
            self.slept.append((self.line(cpu, f"cpu_idle: state={state} cpu_id={cpu}"), cpu, STATES[state][0]))
            self.now_s += float(self.random.uniform(1e-5, 3e-3))
            source = str(self.random.choice(list(CAUSES)))
            self.woken.append((self.line(cpu, f"cpu_idle: state=4294967295 cpu_id={cpu}"), cpu, source))
            for what in CAUSES[source]:
                self.line(cpu, what, flags="d.h1.")
            task = "kworker/u8:2" if source.startswith("task") else "my task-3 [x]"
            switch = f"prev_comm=swapper/{cpu} prev_pid=0 prev_prio=120 prev_state=R ==> next_comm={task} next_pid=7"
            self.line(cpu, f"sched_switch: {switch} next_prio=120")
            self.line(cpu, "irq_handler_entry: irq=31 name=eth0", f"{task}-7", "d.h..")
            self.line(cpu, "kmalloc: call_site=f+0x1/0x2 ptr=00000000 bytes_req=1 [y]: z", f"{task}-7", "....")
        return HEAD + "".join(self.lines)


def told(trace: kernel_trace.KernelTrace, kind: str) -> list[tuple[float, int, str]]:
    return [(e.time_s, int(e.value.removeprefix("cpu=")), e.name) for e in trace.events if e.event == kind]


@given(st.integers(0, 1 << 30), st.integers(1, 4), st.sampled_from([6, 9]), st.sampled_from([257, 4096, 1 << 20]))
@settings(max_examples=40, deadline=None)
def test_every_idle_stay_and_every_cause_is_read(
    tmp_path_factory: pytest.TempPathFactory, seed: int, cpus: int, digits: int, block: int
) -> None:
    path = tmp_path_factory.mktemp("trace") / "trace.txt"
    machine = Machine(seed, cpus, digits)
    path.write_text(machine.run(60), encoding="utf-8")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(kernel_trace, "_CHUNK", block)
        found = read_kernel_trace(path, tuple(name for name, _, _ in STATES))
    assert told(found, "wake") == sorted(machine.woken)
    assert told(found, "sleep") == sorted(machine.slept)
    assert found.cpus == tuple(sorted({cpu for _, cpu, _ in machine.slept}))
    assert found.notes == ()


LINE = re.compile(r"(\s*\S.*?\[\d+\]) (\S+)\s+(\d+\.\d+): (\w+): (.*)\n")


@pytest.mark.parametrize("padded", [False, True])
@pytest.mark.parametrize("with_flags", [False, True])
@pytest.mark.parametrize("awake", ["-1", "4294967295"])
def test_the_text_of_a_front_end_is_read_as_the_kernels(
    tmp_path: Path, padded: bool, with_flags: bool, awake: str
) -> None:
    machine = Machine(3, 2)
    lines = ["cpus=2\n"]
    for line in machine.run(60).replace("state=4294967295", f"state={awake}").splitlines(keepends=True):
        found = LINE.fullmatch(line)
        if found is not None:
            head = f"{found[1]} {found[2]}" if with_flags else found[1]
            name = f"{found[4]}:"
            lines.append(f"{head} {found[3]}: {name:<{22 if padded else len(name) + 1}}{found[5]}\n")
    path = tmp_path / "trace.txt"
    path.write_text("".join(lines), encoding="utf-8")
    assert is_kernel_trace(path.read_bytes()[:4096])
    trace = read_kernel_trace(path, tuple(name for name, _, _ in STATES))
    assert told(trace, "wake") == sorted(machine.woken)
    assert told(trace, "sleep") == sorted(machine.slept)
    assert trace.notes == ()


@given(st.integers(0, 1 << 30))
@settings(max_examples=30, deadline=None)
def test_damage_is_counted_and_never_fatal(tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    path = tmp_path_factory.mktemp("trace") / "trace.txt"
    machine, random = Machine(seed, 3), np.random.default_rng(seed)
    text = machine.run(40)
    lines = text.splitlines(keepends=True)
    for at in sorted(random.integers(5, len(lines), 4).tolist(), reverse=True):
        kind = random.integers(4)
        if kind == 0:
            lines[at] = lines[at][: int(random.integers(1, len(lines[at])))] + "\n"
        elif kind == 1:
            lines.insert(at, "CPU:2 [LOST 1207 EVENTS]\n")
        elif kind == 2:
            lines.insert(at, f"  <idle>-0 [9{at % 100:02d}] d..2. 1.5: cpu_idle: state=7 cpu_id=900\n")
        else:
            lines.insert(at, "\x00\xff garbage : [001] x\n")
    whole = "".join(lines)
    path.write_text(whole[: len(whole) - int(random.integers(0, 90))], encoding="latin-1")
    found = read_kernel_trace(path)
    right = len(set(told(found, "wake")) & set(machine.woken))
    assert right >= len(machine.woken) - 8


def test_skipped_lines_are_told_by_number_and_steps_back_are_told(tmp_path: Path) -> None:
    machine = Machine(1, 1)
    lines = machine.run(5).splitlines(keepends=True)
    lines.insert(7, "CPU:2 [LOST 1207 EVENTS]\n")
    lines.append("   <idle>-0     [000] d..2.     1.000000: cpu_idle: state=1 cpu_id=0\n")
    lines.append("   <idle>-0     [000] d..2.     2.00")
    path = tmp_path / "trace.txt"
    path.write_text("".join(lines), encoding="utf-8")
    notes = " ".join(read_kernel_trace(path).notes)
    assert f"2 lines of the trace skipped, as no events: 8, {len(lines)}" in notes
    assert "steps back 1 time:" in notes


def test_what_is_no_trace_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "trace.txt"
    path.write_text("# tracer: nop\n", encoding="utf-8")
    with pytest.raises(BadFileError, match="cpu_idle"):
        read_kernel_trace(path)
    assert is_kernel_trace(b"# tracer: function\n")
    assert not is_kernel_trace(b"time,current\n0,1\n")


def saved_states(folder: Path) -> Path:
    for number, (name, latency, residency) in enumerate(STATES):
        state = folder / f"state{number}"
        state.mkdir(parents=True)
        for file, value in (("name", name), ("latency", latency), ("residency", residency), ("usage", 3)):
            (state / file).write_text(f"{value}\n", encoding="utf-8")
    return folder


def test_idle_states_are_read_and_what_is_wrong_is_named(tmp_path: Path) -> None:
    folder = saved_states(tmp_path / "cpuidle")
    found = read_cpuidle(folder)
    assert [(mode.name, mode.latency_s, mode.residency_s) for mode in found] == [
        ("POLL", 0.0, 0.0), ("C1", pytest.approx(2e-6), pytest.approx(20e-6)),
        ("C6", pytest.approx(1e-4), pytest.approx(1e-3)),
    ]  # fmt: skip
    (folder / "state1" / "residency").write_text("soon\n", encoding="utf-8")
    with pytest.raises(BadFileError, match="expected microseconds, found 'soon'"):
        read_cpuidle(folder)
    with pytest.raises(BadFileError, match="state0"):
        read_cpuidle(folder / "state0")
    with pytest.raises(BadFileError, match="no such folder"):
        read_cpuidle(tmp_path / "nowhere")


def test_a_trace_alone_is_a_capture_whose_charges_are_unknown(tmp_path: Path, command) -> None:
    machine = Machine(5, 2)
    (tmp_path / "trace.txt").write_text(machine.run(80), encoding="utf-8")
    saved_states(tmp_path / "cpuidle")
    project = tmp_path / "project"
    assert command("import", project, tmp_path / "trace.txt", "--name", "linux")[0] == 0
    code, out, _ = command("wakes", project, "linux", "--json")
    found = json.loads(out)
    assert code == 0
    assert {row["source"] for row in found["sources"]} == set(CAUSES)
    assert all(row["charge_c_mean"] is None and row["added_a"] is None for row in found["sources"])
    residency_s = [us * 1e-6 for _, _, us in STATES]
    slept: dict[int, tuple[float, str]] = {}
    wrong = {name: [0, 0] for name, _, _ in STATES}
    moments = [(t, "sleep", cpu, name) for t, cpu, name in machine.slept]
    moments += [(t, "wake", cpu, name) for t, cpu, name in machine.woken]
    for time_s, kind, cpu, name in sorted(moments):
        if kind == "sleep":
            slept[cpu] = (time_s, name)
        elif cpu in slept:
            began_s, mode = slept.pop(cpu)
            used = [one for one, _, _ in STATES].index(mode)
            best = max(k for k in range(3) if residency_s[k] <= time_s - began_s + 1e-9)
            wrong[mode][0] += best > used
            wrong[mode][1] += best < used
    assert {row["mode"]: [row["too_shallow"], row["too_deep"]] for row in found["idle"]} == wrong
    for ask in ("states", "findings"):
        assert command(ask, project, "linux")[0] == 0
    assert command("life", project)[0] == 0


def test_a_trace_is_joined_with_a_current_and_its_cpus_share_it(tmp_path: Path, command) -> None:
    """One CPU draws 100 mA awake and 1 mA idle; the trace's clock began 77 s before the capture."""
    machine = Machine(2, 1, start_s=77.0)
    samples = 40_000
    current = np.full(samples, 1e-3, dtype=np.float32)
    wakes = []
    while machine.now_s < 77.0 + 0.36:
        machine.slept.append((machine.line(0, "cpu_idle: state=1 cpu_id=0"), 0, "C1"))
        began_s = machine.now_s
        machine.now_s += float(machine.random.uniform(1e-3, 9e-3))
        machine.line(0, "cpu_idle: state=4294967295 cpu_id=0")
        woken_s = machine.now_s
        machine.line(0, "irq_handler_entry: irq=31 name=eth0")
        machine.now_s += float(machine.random.uniform(2e-4, 2e-3))
        wakes.append((began_s - 77.0, woken_s - 77.0))
    ends = [*(began for began, _ in wakes[1:]), 0.4]
    for (_, woken_s), asleep_s in zip(wakes, ends, strict=True):
        current[round(woken_s * 1e5) : round(asleep_s * 1e5)] = 0.1
    current[: round(wakes[0][0] * 1e5)] = 0.1
    np.save(tmp_path / "current.npy", current)
    (tmp_path / "trace.txt").write_text(HEAD + "".join(machine.lines), encoding="utf-8")
    project = tmp_path / "project"
    code, _, error = command(
        "import", project, tmp_path / "current.npy", "--rate", "100000", "--trace", tmp_path / "trace.txt"
    )
    assert (code, error) == (0, "")
    found = json.loads(command("wakes", project, "current", "--json")[1])
    (row,) = found["sources"]
    assert (row["source"], row["count"]) == ("irq:eth0", len(wakes) - 1)
    true_c = [0.099 * (asleep - woken) for (_, woken), asleep in zip(wakes[:-1], ends[:-1], strict=True)]
    assert row["charge_c_mean"] == pytest.approx(float(np.mean(true_c)), rel=0.02)
    assert [one["mode"] for one in found["idle"]] == ["state 1"]
