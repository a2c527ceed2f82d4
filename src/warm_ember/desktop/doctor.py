"""What a machine has of what the program can use, and what to do where something is missing."""

from __future__ import annotations

import ctypes
import ctypes.util
import grp
import importlib
import os
import platform
import shutil
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from warm_ember.desktop.system_libraries import PAGES, WINDOW, lacking, lacking_fonts
from warm_ember.places import data_folder, log_folder, settings_folder
from warm_ember.units import format_significant
from warm_ember.version import VERSION

_LEAST_FREE_BYTES = 2e9
_SERIAL = ("ttyUSB*", "ttyACM*", "ttyS[0-9]")


class State(StrEnum):
    """Whether something is there; what is not needed on every machine may be absent."""

    READY = "ready"
    ABSENT = "absent"
    MISSING = "missing"


@dataclass(frozen=True)
class Check:
    """One thing that was looked at.

    Parameters
    ----------
    what
        The thing.
    state
        Whether it is there.
    words
        What was found.
    remedy
        What to do; empty where nothing is to be done.
    """

    what: str
    state: State
    words: str
    remedy: str = ""

    @property
    def is_missing(self) -> bool:
        """Whether something does not work as it stands."""
        return self.state is State.MISSING

    def as_json(self) -> dict[str, str]:
        """Return it for other programs."""
        return {"what": self.what, "state": self.state.value, "words": self.words, "remedy": self.remedy}


def examine() -> list[Check]:
    """Look at the machine; nothing is changed, and no instrument is spoken to."""
    looks: tuple[Callable[[], Iterator[Check]], ...] = (_program, _window, _reports, _fleet, _instruments, _places)
    return [one for look in looks for one in look()]


def _program() -> Iterator[Check]:
    yield Check("program", State.READY, f"Warm Ember {VERSION} with Python {platform.python_version()}")


def _window() -> Iterator[Check]:
    try:
        importlib.import_module("PySide6.QtCore")
    except ImportError as error:
        if isinstance(error, ModuleNotFoundError):
            words = "not installed; commands, reports and gates work without it"
            yield Check("window", State.ABSENT, words, "pip install 'warm-ember[window]'")
        else:
            yield Check("window", State.MISSING, str(error), _apt(lacking(WINDOW)))
        return
    missing = lacking(WINDOW)
    if missing:
        yield Check("window", State.MISSING, f"without {', '.join(missing)}", _apt(missing))
    elif not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        yield Check("window", State.ABSENT, "installed; there is no screen here")
    else:
        yield Check("window", State.READY, "installed, with a screen")


def _reports() -> Iterator[Check]:
    missing = lacking(PAGES) | lacking_fonts()
    if missing:
        words = f"a report as PDF needs {', '.join(missing)}; as HTML it needs nothing"
        yield Check("reports", State.MISSING, words, _apt(missing))
    else:
        yield Check("reports", State.READY, "as HTML and as PDF")


def _fleet() -> Iterator[Check]:
    for name in ("duckdb", "distributed"):
        try:
            importlib.import_module(name)
        except ImportError:
            words = "not installed; only collect and trend need it"
            yield Check("data sets", State.ABSENT, words, "pip install 'warm-ember[fleet]'")
            return
    yield Check("data sets", State.READY, "collect and trend work")


def _instruments() -> Iterator[Check]:
    yield Check("instruments on the network", State.READY, "over sockets, HiSLIP and VXI-11")
    yield _serial()
    yield _usb()


def _serial() -> Check:
    what = "serial lines"
    ports = sorted(str(path) for pattern in _SERIAL for path in Path("/dev").glob(pattern))
    if not ports:
        return Check(what, State.ABSENT, "there is none on this machine now")
    closed = [port for port in ports if not os.access(port, os.R_OK | os.W_OK)]
    if not closed:
        return Check(what, State.READY, ", ".join(ports))
    group = _group_of(closed[0])
    words = f"{closed[0]} may not be opened by this user"
    return Check(what, State.MISSING, words, f"sudo usermod -aG {group} $USER, then log in anew")


def _usb() -> Check:
    what = "instruments on USB"
    if ctypes.util.find_library("usb-1.0") is None:
        return Check(what, State.ABSENT, "libusb is not installed; only USB needs it", _apt({"": "libusb-1.0-0"}))
    devices = sorted(Path("/dev/bus/usb").glob("*/*"))
    if not devices:
        return Check(what, State.ABSENT, "no USB device on this machine now")
    if any(os.access(device, os.R_OK | os.W_OK) for device in devices):
        return Check(what, State.READY, "libusb is installed, and devices may be opened")
    rule = 'SUBSYSTEM=="usb", ATTRS{idVendor}=="VENDOR", MODE="0660", TAG+="uaccess"'
    remedy = f"write {rule} with the instrument's vendor number to /etc/udev/rules.d/70-instrument.rules, plug it anew"
    return Check(what, State.MISSING, "no USB device may be opened by this user", remedy)


def _places() -> Iterator[Check]:
    for what, folder in (("settings", settings_folder()), ("data", data_folder()), ("logs", log_folder())):
        there = next(one for one in (folder, *folder.parents) if one.exists())
        if not os.access(there, os.W_OK):
            yield Check(what, State.MISSING, f"{there} cannot be written", f"chown or chmod {there}, or set HOME")
            continue
        free_bytes = shutil.disk_usage(there).free
        words = f"{folder}, {format_significant(free_bytes / 1e9)} GB free"
        if free_bytes < _LEAST_FREE_BYTES:
            yield Check(what, State.MISSING, words, "make room: an hour at 100 kS/s takes 2 GB")
        else:
            yield Check(what, State.READY, words)


def _apt(missing: dict[str, str]) -> str:
    return f"on Debian: sudo apt-get install {' '.join(missing.values())}" if missing else ""


def _group_of(path: str) -> str:
    try:
        return grp.getgrgid(Path(path).stat().st_gid).gr_name
    except (KeyError, OSError):
        return "dialout"
