"""The projects that were open last, with what the start page shows of each, so that none has to be opened for it."""

from __future__ import annotations

import contextlib
import logging
import math
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import msgspec
import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.places import data_folder
from warm_ember.session.run_results import RunResults
from warm_ember.session.session import Session
from warm_ember.session.untitled import untitled_root
from warm_ember.store.lock import locked
from warm_ember.store.new_file import write_new

log = logging.getLogger(__name__)

PICTURE_COLUMNS = 192
_MOST, _MOST_PICTURES = 200, 24
_DIGITS = 3
_LOCK_WAIT_S = 2.0


class TracePicture(msgspec.Struct, frozen=True):
    """A run's current by pixel column, A: lowest, highest and mean, None where nothing was measured."""

    low: tuple[float | None, ...]
    high: tuple[float | None, ...]
    mean: tuple[float | None, ...]


class RecentProject(msgspec.Struct, frozen=True):
    """A project as it was when it was open last.

    Parameters
    ----------
    path
        Its folder.
    name
        What it is called.
    opened_utc
        When, ISO 8601.
    runs
        How many it has.
    mean_a, life_s, target_s
        Of the run that was shown; None where there is none, or no battery was chosen.
    picture
        Its current; None before anything was shown of it.
    """

    path: str
    name: str
    opened_utc: str
    runs: int = 0
    mean_a: float | None = None
    life_s: float | None = None
    target_s: float | None = None
    picture: TracePicture | None = None

    @property
    def is_there(self) -> bool:
        """Whether its folder still holds a project."""
        with contextlib.suppress(OSError):
            return (Path(self.path) / "project.json").exists()
        return False


def recent_file() -> Path:
    """Return where they are remembered."""
    return data_folder() / "recent.json"


def recent_projects() -> tuple[RecentProject, ...]:
    """Return the projects that were open, the last one first; an untitled one that was left by a crash among them."""
    found = _read()
    known = {one.path for one in found}
    with contextlib.suppress(OSError):
        for path in sorted(untitled_root().iterdir(), reverse=True):
            if str(path) not in known and (path / "project.json").exists():
                opened = datetime.fromtimestamp(path.stat().st_mtime, UTC).isoformat(timespec="seconds")
                found.append(RecentProject(str(path), path.name, opened))
    return tuple(found)


def note_opened(session: Session) -> None:
    """Remember that a project was opened; what was known of it stays."""
    path = _path(session)
    now = datetime.now(UTC).isoformat(timespec="seconds")

    def noted(known: list[RecentProject]) -> list[RecentProject]:
        before = next((one for one in known if one.path == path), None)
        entry = before or RecentProject(path, session.title, "")
        runs = len(session.project.runs)
        return _with(msgspec.structs.replace(entry, name=session.title, opened_utc=now, runs=runs), known)

    _change(noted)


def note_shown(session: Session, results: RunResults, picture: TracePicture) -> None:
    """Remember what was shown of a project."""
    path = _path(session)
    life_s = results.life.life_s if math.isfinite(results.life.life_s) else None
    has_battery = session.project.battery.capacity_c > 0 and bool(session.project.target_s)
    shown = RecentProject(
        path,
        session.title,
        datetime.now(UTC).isoformat(timespec="seconds"),
        len(session.project.runs),
        results.load.mean_a,
        life_s if has_battery else None,
        session.project.target_s if has_battery else None,
        picture,
    )

    def noted(known: list[RecentProject]) -> list[RecentProject]:
        opened = next((one.opened_utc for one in known if one.path == path), shown.opened_utc)
        return _with(msgspec.structs.replace(shown, opened_utc=opened), known)

    _change(noted)


def forget(path: str) -> None:
    """Remember a project no longer."""
    _change(lambda known: [one for one in known if one.path != path])


def picture_of(results: RunResults) -> TracePicture:
    """Return the picture of a run; it reads the capture's summary."""
    from warm_ember.signal.envelope import envelope, per_column

    capture = results.capture
    bins = envelope(capture.current, 0.0, capture.duration_s, PICTURE_COLUMNS)
    columns = per_column(bins, 0.0, capture.duration_s, PICTURE_COLUMNS)
    return TracePicture(_rounded(columns.low), _rounded(columns.high), _rounded(columns.mean))


def _rounded(values: Floats) -> tuple[float | None, ...]:
    return tuple(None if np.isnan(one) else float(f"{one:.{_DIGITS}g}") for one in values.tolist())


def _path(session: Session) -> str:
    return str(session.folder.path.resolve())


def _with(entry: RecentProject, known: list[RecentProject]) -> list[RecentProject]:
    rest = [one for one in known if one.path != entry.path]
    kept = sorted([entry, *rest], key=lambda one: one.opened_utc, reverse=True)[:_MOST]
    old = [msgspec.structs.replace(one, picture=None) for one in kept[_MOST_PICTURES:]]
    return [*kept[:_MOST_PICTURES], *old]


def _read() -> list[RecentProject]:
    try:
        return msgspec.json.decode(recent_file().read_bytes(), type=list[RecentProject])
    except FileNotFoundError:
        return []
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError):
        log.warning("the recent projects cannot be read", exc_info=True)
        return []


def _change(change: Callable[[list[RecentProject]], list[RecentProject]]) -> None:
    """Change the list, which other programs change too; where it cannot be kept the work goes on without."""
    file = recent_file()
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        with locked(file.with_name(".recent.json.lock"), _LOCK_WAIT_S):
            write_new(file, msgspec.json.encode(change(_read())), durable=False)
    except (OSError, TimeoutError):
        log.warning("the recent projects cannot be remembered", exc_info=True)
