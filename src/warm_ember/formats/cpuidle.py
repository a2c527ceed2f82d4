"""A saved copy of a CPU's ``cpuidle`` folder of sysfs: its idle states with exit latency and target residency."""

from __future__ import annotations

import re
from pathlib import Path

from warm_ember.errors import BadFileError
from warm_ember.model.wakes import SleepMode

PART = "CPU"
_STATE = re.compile(r"state(\d+)$")


def read_cpuidle(folder: Path) -> tuple[SleepMode, ...]:
    """Read the idle states in the order of their numbers, the lightest first.

    Raises
    ------
    BadFileError
        If the folder holds no idle states, or one of them cannot be understood.
    """
    if not folder.is_dir():
        raise BadFileError(folder, "there is no such folder")
    numbered = sorted(
        (int(match[1]), path) for path in folder.iterdir() if (match := _STATE.match(path.name)) and path.is_dir()
    )
    if not numbered:
        raise BadFileError(folder, "expected folders state0, state1 and so on, found none")
    if [number for number, _ in numbered] != list(range(len(numbered))):
        raise BadFileError(folder, "expected the states without a gap from state0 on")
    return tuple(
        SleepMode(
            _text(path / "name"),
            PART,
            latency_s=_microseconds(path / "latency"),
            residency_s=_microseconds(path / "residency"),
            source=f"{folder.name} folder",
        )
        for _, path in numbered
    )


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8", errors="replace").strip()
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error


def _microseconds(path: Path) -> float:
    text = _text(path)
    try:
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value < float("inf"):
        raise BadFileError(path, f"expected microseconds, found {text!r}")
    return value * 1e-6
