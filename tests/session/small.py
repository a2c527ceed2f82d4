"""A small project of made-up captures with logs and wakes, quick to compute."""

from __future__ import annotations

from pathlib import Path

import msgspec
import numpy as np

from warm_ember.model.battery import Activity, FromStates, FromStretch, FromWakes
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.parts import Part, PartMode, PartOn
from warm_ember.model.project import ExpectedValue, Run
from warm_ember.session.session import Session
from warm_ember.store.capture_file import CaptureWriter

INTERVAL_S = 1e-3
LENGTH_S = 20.0
STATES = ("Sleep", "Sense", "Radio")
SOURCES = ("rtc", "alarm")

PARTS = (
    Part("Rowan", (PartMode("deep", 5e-6), PartMode("shallow", 60e-6), PartMode("run", 3e-3))),
    Part("Thrush", (PartMode("off", 0.0), PartMode("on", 30e-6))),
)


def write_capture(path: Path, seed: int, sleep_a: float = 40e-6) -> None:
    """Write a capture: asleep, woken by `rtc` each second and by `alarm` now and then, which sends too."""
    random = np.random.default_rng(seed)
    samples = round(LENGTH_S / INTERVAL_S)
    current = np.full(samples, sleep_a)
    events = [Event(0.0, "state", "Sleep"), Event(0.0, "sleep", "deep")]
    now_s, alarms = 0.7, sorted(random.uniform(1.0, LENGTH_S - 1.0, 4).tolist())
    while now_s < LENGTH_S - 0.3:
        is_alarm = bool(alarms) and alarms[0] <= now_s
        length_s = 0.05 + 0.02 * random.random()
        events += [Event(now_s, "wake", "alarm" if is_alarm else "rtc"), Event(now_s, "state", "Sense")]
        current[round(now_s / INTERVAL_S) : round((now_s + length_s) / INTERVAL_S)] = 3e-3
        if is_alarm:
            alarms.pop(0)
            events.append(Event(now_s + length_s, "state", "Radio"))
            current[round((now_s + length_s) / INTERVAL_S) : round((now_s + length_s + 0.1) / INTERVAL_S)] = 20e-3
            length_s += 0.1
        events += [Event(now_s + length_s, "state", "Sleep"), Event(now_s + length_s, "sleep", "deep")]
        now_s += 1.0
    with CaptureWriter(path) as writer:
        noisy = current * (1 + 0.01 * random.standard_normal(samples)) + 1e-7 * random.standard_normal(samples)
        writer.append(noisy.astype(np.float32))
        writer.finish(CaptureInfo(INTERVAL_S, supply_v=3.0), tuple(events))


def make_small(path: Path) -> Session:
    """Make the project with two runs in a folder."""
    (path / "captures").mkdir(parents=True)
    session = Session.open_or_create(path)
    for seed, name in enumerate(("a", "b")):
        write_capture(session.folder.capture_path(name), seed, 40e-6 / (1 + seed))
        session.add_run(Run(name))
    session.project = msgspec.structs.replace(session.project, **fields())
    session.save()
    return session


def fields() -> dict[str, object]:
    """Return what the project says beside its runs."""
    return {
        "parts": PARTS,
        "expected": (
            ExpectedValue("Sleep", parts=(PartOn("Rowan", "deep"), PartOn("Thrush", "on"))),
            ExpectedValue("Sense", 2.9e-3),
        ),
        "activities": (
            Activity("Measure", FromWakes("rtc"), interval_s=10.0),
            Activity("Send", FromStates(("Radio",), "Radio"), per_day=24.0),
            Activity("Around", FromStretch("a", 0.5, 1.5), per_day=48.0),
        ),
        "target_s": 3e7,
    }
