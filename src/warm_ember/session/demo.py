"""The demo project: five captures of the trail counter post, from the first light to the target."""

from __future__ import annotations

import shutil
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
import numpy as np

from warm_ember.bench.discovery import LOCAL
from warm_ember.bench.simulated.direct import SimulatedCapture, simulate
from warm_ember.bench.simulated.firmware import DEBUG_BRIDGE_A, FIRMWARE, LINES, Firmware
from warm_ember.bench.simulated.program import execute, functions
from warm_ember.errors import Cancelled, ProjectError
from warm_ember.model.battery import Activity, Battery, Climate, FromStates, SupplyStage
from warm_ember.model.bench import Attached, Bench, BenchSettings, Identity, Recipe, SwitchOutput, Take, WaitFor
from warm_ember.model.figure import Grade
from warm_ember.model.parts import PartOn
from warm_ember.model.plan import (
    CurrentBy,
    Effect,
    LengthTo,
    PartTo,
    Plan,
    PlanLimits,
    PlannedChange,
    ReplaceState,
    ScaleRate,
)
from warm_ember.model.program import ASLEEP, Function, ProgramTrace
from warm_ember.model.project import Bracket, ExpectedValue, Project, Run, StateGroup
from warm_ember.model.wake_plan import ModePower, RestLevel, WakeOn, WakePath, WakePlan
from warm_ember.model.wakes import SleepMode, WakeSource
from warm_ember.session import edits
from warm_ember.session.session import Session
from warm_ember.signal.series import Progress, ShouldStop, ignore_progress, never
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.store.parts_file import shipped_parts
from warm_ember.store.project_folder import ProjectFolder
from warm_ember.units import MONTH_S

NAME = "trail counter post"
_HIKERS_BY_HOUR = tuple(
    map(float, (0, 0, 0, 0, 0, 4, 10, 22, 38, 48, 50, 46, 40, 38, 34, 30, 24, 16, 8, 3, 1, 0, 0, 0))
)
_HIKERS_BY_MONTH = tuple(map(float, (2, 2, 4, 9, 18, 26, 34, 36, 24, 14, 4, 2)))
_PATH_BY_MONTH_C = (-4.0, -3.0, 0.0, 4.0, 8.0, 12.0, 14.0, 14.0, 11.0, 6.0, 1.0, -3.0)


def demo_project() -> Project:
    """Return the demo project's value."""
    library = shipped_parts()
    return Project(
        name=NAME,
        runs=tuple(Run(f.name, f.title, f.changed) for f in FIRMWARE),
        expected=_expected(),
        parts=library.parts,
        power_rules=library.rules,
        groups=(StateGroup("Radio", ("Transmit", "Modem idle")),),
        battery=Battery(
            capacity_c=6.0 * 3600, self_discharge_per_year=0.015, reserve=0.12, cutoff_v=2.2, series=2, parallel=2,
            cell="FR6", grade=Grade.ENTERED,
        ),
        supply=SupplyStage(),
        supply_v=3.0,
        climate=Climate(_PATH_BY_MONTH_C, "2027-06-01"),
        activities=(
            Activity("Report", FromStates(("Transmit", "Modem idle"), "Transmit"), interval_s=6 * 3600.0),
            Activity(
                "Passer-by", FromStates(("Count", "Log write"), "Count"), per_day=412.0, hours=_HIKERS_BY_HOUR,
                months=_HIKERS_BY_MONTH, is_random=True,
            ),
            Activity("Each second", FromStates(("Idle wait",), "Idle wait"), interval_s=1.0),
        ),
        wake_sources=(WakeSource("rtc", slack_s=0.2), WakeSource("pir", deadline_s=0.05)),
        sleep_modes=(
            SleepMode("deep", "core", None, 5.2e-6, 0.9e-3, source="data of Rowan"),
            SleepMode("Idle wait", "core", None, 0.2e-6, 4e-6, source="data of Rowan"),
            SleepMode("Modem idle", "modem", None, 0.0, 0.02, source="data of Plover"),
            SleepMode("modem off", "modem", 22e-6, 0.55, 4.2, keeps_memory=False, source="a search and registration"),
        ),
        wake_plan=_wake_plan(),
        plan=_plan(),
        target_s=36 * MONTH_S,
        bench=_bench(),
    )  # fmt: skip


def _wake_plan() -> WakePlan:
    """Return how the post is woken: two alarms of the real-time clock, and the motion sensor's pin."""
    clock = WakePath("rtc", "backup", "32 kHz crystal", reacts_s=1 / 32768)
    return WakePlan(
        paths=(
            clock,
            msgspec.structs.replace(clock, source="alarm"),
            WakePath("pir", "inputs", "", "PIR_OUT", WakeOn.RISING, RestLevel.LOW, reacts_s=0.02),
        ),
        modes=(ModePower("deep", ("backup", "inputs"), ("32 kHz crystal",)),),
        window_s=2.0,
        window_a=3.1e-3,
        boots_per_day=0.1,
    )


def _bench() -> Bench:
    """Return the bench as it stood for the last run, ready to record the next from the simulated one."""
    settings = BenchSettings(voltage_v=3.0, limit_a=1.0, interval_s=1e-4, duration_s=300.0)
    return Bench(
        resource=LOCAL,
        guard_v=3.6,
        settings=settings,
        identity=Identity(NAME, "rev C", "r5", "release", 21.0, "off"),
        capacitance_f=470e-6,
        attached=(
            Attached("Serial bridge", DEBUG_BRIDGE_A, detail="unplugged since run 2", present=False),
            Attached("Debug probe", 1.3e-6, detail="released, pins float", subtracted=True),
            Attached("Logic pod", 0.04e-6, detail="5 lines, 10 MΩ"),
        ),
        recipes=(Recipe("boot and report", settings, (SwitchOutput(cycle=True), WaitFor("^boot", 10.0), Take(150.0))),),
    )


def _expected() -> tuple[ExpectedValue, ...]:
    """Return what each state should draw by the sum of the parts that should be on."""
    clocks = {True: ("on", "on", "on"), False: ("stopped", "on", "kept")}

    def of(state: str, condition: str, core: str, modem: str = "", memory: str = "standby") -> ExpectedValue:
        fast, slow, kept = clocks[core != "deep sleep"]
        modes = {
            "Rowan": core,
            "Thrush": "on",
            "Dipper": "motion watch",
            "Sedge": memory,
            "Plover": modem or "power saving",
            "Status LED": "off",
            "Linnet": "measuring" if modem == "report" else "off",
            "24 MHz oscillator": fast,
            "32 kHz crystal": slow,
            "SRAM 16 KiB": kept,
        }
        parts = tuple(PartOn(part, mode) for part, mode in modes.items())
        return ExpectedValue(state, condition=condition, source="sum of the parts", parts=parts)

    return (
        of("Deep sleep", "3.0 V, 21 °C", "deep sleep"),
        of("Idle wait", "core stopped", "idle"),
        of("Count", "24 MHz, LED off", "run with converter"),
        of("Log write", "FRAM at 3.0 V", "run", memory="write"),
        of("Transmit", "23 dBm, −104 dBm", "run", modem="report"),
        of("Modem idle", "paged every 2.56 s", "deep sleep", modem="idle, paged"),
    )


def _plan() -> Plan:
    """Return what was changed from run to run: predicted on one, proved by the next."""

    def change(
        name: str, number: int, reason: str, *effects: Effect, costs: str = "", effort: float = 1.0
    ) -> PlannedChange:
        return PlannedChange(
            name, effects, f"r{number - 1}", reason, effort, costs=costs, proved_by=f"r{number}",
        )  # fmt: skip

    return Plan(
        (
            change(
                "Sleep instead of waiting in a loop", 2, "sleep-not-entered", CurrentBy(-3.0984e-3, "Busy wait"),
                ReplaceState("Busy wait", "Deep sleep"), costs="an interrupt is answered 0.9 ms later",
            ),
            change("Unplug the serial bridge", 2, "bench", CurrentBy(-310e-6)),
            change(
                "Stop the tick in sleep", 3, "tick-running", CurrentBy(-190e-6, "Deep sleep"),
                costs="the tick count is corrected after each sleep",
            ),
            change("Switch the divider off between readings", 4, "floor-above-expected", CurrentBy(-710e-6)),
            change(
                "Get the requested timers granted", 5, "timer-overridden", LengthTo("Modem idle", 16.0),
                costs="commands reach the post only after a report",
            ),
            change(
                "Keep the LED dark while counting", 5, "matrix", CurrentBy(-2.8e-3, "Count"),
                costs="counting shows no light",
            ),
            change("Gate the FRAM between writes", 5, "matrix", PartTo("Sedge", "unpowered", of="standby"), effort=2.0),
            change(
                "Write eight counts at a time", 5, "", ScaleRate("Log write", 0.125), effort=2.0,
                costs="a reset loses up to seven counts",
            ),
        ),
        PlanLimits(latency_s=0.01, memory_bytes=1024.0),
    )  # fmt: skip


def make_demo(path: Path, *, should_stop: ShouldStop = never, progress: Progress = ignore_progress) -> Session:
    """Make the demo project, or open it when it is already there.

    Parameters
    ----------
    path
        The folder.
    should_stop, progress
        Polled and told between captures.

    Raises
    ------
    ProjectError
        If the folder holds something else or cannot be written.
    Cancelled
        If `should_stop` answered yes; nothing is left behind then.
    """
    folder = ProjectFolder(path)
    if folder.exists:
        session = Session.open(path)
        if all(session.folder.capture_path(run.name).exists() for run in demo_project().runs):
            return session
        session.close()
        raise ProjectError(path, "this folder holds another project", remedy="choose a new folder for the demo")
    if path.exists() and (not path.is_dir() or any(path.iterdir())):
        raise ProjectError(path, "this folder is not empty", remedy="choose a new folder for the demo")
    existed = path.exists()
    try:
        folder.captures.mkdir(parents=True, exist_ok=True)
        _record_all(folder, should_stop, progress)
        folder.save(_with_brackets(folder))
    except BaseException as error:
        shutil.rmtree(folder.captures if existed else path, ignore_errors=True)
        if isinstance(error, OSError) and not isinstance(error, ProjectError):
            raise ProjectError(path, f"cannot be written: {error.strerror}") from error
        raise
    return Session.open(path)


def _record_all(folder: ProjectFolder, should_stop: ShouldStop, progress: Progress) -> None:
    done = 0
    # Two at a time: most of a simulation is array work that runs beside the other.
    with ThreadPoolExecutor(2) as pool:
        for _ in pool.map(lambda firmware: None if should_stop() else _record(folder, firmware), FIRMWARE):
            done += 1
            progress(done / len(FIRMWARE))
    if should_stop():
        raise Cancelled("stopped")


def _record(folder: ProjectFolder, firmware: Firmware) -> None:
    simulated = simulate(firmware)
    with CaptureWriter(folder.capture_path(firmware.name), with_voltage=True, line_names=LINES) as writer:
        writer.append(simulated.current, voltage=simulated.voltage, lines=simulated.lines)
        writer.finish(simulated.info, simulated.events, _program(simulated))


def _program(simulated: SimulatedCapture) -> ProgramTrace:
    """Return the trace of the program, as a reader makes it of the simulation's stream and ELF file."""
    known = functions()
    run = execute(simulated.true_events, len(simulated.current) * simulated.info.sample_interval_s, seed=1)
    starts = np.array([*(address for _, _, address, _ in known), ASLEEP], dtype=np.uint64)
    return ProgramTrace(run.times_s, starts[run.function], tuple(Function(a, n, name, f) for f, name, a, n in known))


def _with_brackets(folder: ProjectFolder) -> Project:
    """Return the demo project with two stretches marked on each run: the longest count, and the report."""
    session = Session(folder, demo_project())
    try:
        brackets = []
        for run in session.project.runs:
            placement = session.results.placement(session.project, run.name)
            edges_s = placement.edges * session.capture(run.name).current.interval_s
            for letter, name, state in (("A", "a passer-by", "Count"), ("B", "the report", "Transmit")):
                entries = np.flatnonzero(placement.of(state))
                longest = entries[int(np.argmax(np.diff(placement.edges)[entries]))]
                brackets.append(Bracket(letter, run.name, float(edges_s[longest]), float(edges_s[longest + 1]), name))
        return edits.SetFields("project", {"brackets": tuple(brackets)})(session.project)
    finally:
        session.close()
