"""A made fleet: posts on several boards, measured at every build, some of which made it worse.

    .venv/bin/python scripts/made_fleet.py FOLDER [--builds 60] [--boards 5]

Each board has a project of its own with one short capture of every build. The truth is in `CHANGES`.
"""

from __future__ import annotations

import argparse
import sys
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "src"))

import msgspec
import numpy as np

from warm_ember.model.battery import Battery
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.project import Project, Run
from warm_ember.model.rules import LogRule
from warm_ember.session.session import Session
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.units import MONTH_S

START = datetime(2026, 2, 2, 21, tzinfo=UTC)
SLEEP, COUNT, SEND = "Deep sleep", "Count", "Transmit"
USUAL = {SLEEP: 118e-6, COUNT: 4.1e-3, SEND: 61e-3}


@dataclass(frozen=True)
class Changed:
    """From a build on a state draws so much more, as a share."""

    build: int
    state: str
    share: float


CHANGES = (Changed(18, SLEEP, 0.11), Changed(33, COUNT, 0.45), Changed(47, SEND, 0.35))
"""Three builds that made it worse; each adds some 6 to 9 % to the average."""


def build_name(build: int) -> str:
    """Return what a build is called."""
    return f"build {build + 1}"


def make_fleet(
    folder: Path,
    *,
    builds: int = 60,
    boards: int = 5,
    changes: tuple[Changed, ...] = CHANGES,
    scatter: float = 0.02,
    length_s: float = 20.0,
    rate_hz: float = 500.0,
    seed: int = 1,
) -> list[Path]:
    """Make a project for each board with a capture of every build, and return the projects."""
    projects = []
    for board in range(boards):
        random = np.random.default_rng((seed, board))
        path = folder / f"board-{board + 1}"
        extra = 1 + random.normal(0, 0.015)
        runs = []
        with Session.open_or_create(path) as session:
            for build in range(builds):
                levels = {
                    state: level
                    * extra
                    * (1 + random.normal(0, scatter))
                    * np.prod([1 + one.share for one in changes if one.state == state and build >= one.build])
                    for state, level in USUAL.items()
                }
                name = f"b{build + 1:03d}"
                start = START + timedelta(days=2 * build, minutes=17 * board)
                _write(session.folder.capture_path(name), levels, length_s, rate_hz, random, start, build, board)
                runs.append(Run(name))

            def filled(project: Project, name: str = path.name, runs: list[Run] = runs) -> Project:
                return msgspec.structs.replace(
                    project,
                    name=name,
                    runs=tuple(runs),
                    rules=(LogRule(),),
                    battery=Battery(capacity_c=21600.0, self_discharge_per_year=0.015, reserve=0.12),
                    target_s=36 * MONTH_S,
                    supply_v=3.0,
                )

            session.apply(filled, "make a fleet")
            session.save()
        projects.append(path)
    return projects


def _write(
    path: Path,
    levels: dict[str, float],
    length_s: float,
    rate_hz: float,
    random: np.random.Generator,
    start: datetime,
    build: int,
    board: int,
) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    samples = round(length_s * rate_hz)
    time_s = np.arange(samples) / rate_hz
    state = np.where(time_s % 1.0 < 0.02, COUNT, SLEEP).astype(object)
    state[(time_s >= 0.4 * length_s) & (time_s < 0.4 * length_s + 0.02)] = SEND
    current = np.array([levels[one] for one in state]) + random.normal(0, 3e-7, samples)
    at = np.flatnonzero(np.r_[True, state[1:] != state[:-1]])
    events = [Event(float(time_s[one]), "state", str(state[one])) for one in at]
    info = CaptureInfo(
        1 / rate_hz,
        start_utc=start.isoformat().replace("+00:00", "Z"),
        firmware=build_name(build),
        board=str(board + 1),
        target="trail counter post",
        instrument="made",
        supply_v=3.0,
    )
    writer = CaptureWriter(path)
    writer.append(current.astype(np.float32))
    writer.finish(info, events)


def main() -> None:
    """Make a fleet."""
    asked = argparse.ArgumentParser(description="Make a fleet of boards and builds.")
    asked.add_argument("folder", type=Path)
    asked.add_argument("--builds", type=int, default=60)
    asked.add_argument("--boards", type=int, default=5)
    given = asked.parse_args()
    make_fleet(given.folder, builds=given.builds, boards=given.boards)


if __name__ == "__main__":
    main()
