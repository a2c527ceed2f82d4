"""The log on the disk, and a note of a crash that can be sent: where in the program it was, nothing of the user's."""

from __future__ import annotations

import logging
import platform
import re
import sys
import traceback
from datetime import UTC, datetime
from pathlib import Path
from types import TracebackType

from warm_ember.places import log_folder
from warm_ember.version import VERSION

log = logging.getLogger(__name__)

_LOG_BYTES, _OLD_LOGS = 1_000_000, 2
_MOST_NOTES = 10
_PACKAGES = ("PySide6-Essentials", "numpy", "scipy", "h5py", "pyarrow", "matplotlib", "msgspec", "pyvisa", "duckdb")
_PRIVATE = re.compile(
    r"""(?P<text>'[^'\n]*'|"[^"\n]*"|“[^”\n]*”)|(?P<path>(?<![\w.])~?/[^\s,;:)\]]+)|(?P<address>\b\w+::[^\s,;]+)"""
)


def log_to_file() -> None:
    """Write the log to the disk from now on: 1 MB, and the two before that."""
    from logging.handlers import RotatingFileHandler

    folder = log_folder()
    folder.mkdir(parents=True, exist_ok=True)
    handler = RotatingFileHandler(
        folder / "warm-ember.log", maxBytes=_LOG_BYTES, backupCount=_OLD_LOGS, encoding="utf-8"
    )
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger().addHandler(handler)
    logging.getLogger().setLevel(logging.INFO)


def write_crash_note(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> Path | None:
    """Write what is needed to find a bug, and return where; None where that cannot be written.

    The ten latest are kept.
    """
    try:
        folder = log_folder() / "crashes"
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"crash-{datetime.now(UTC):%Y%m%d-%H%M%S-%f}.txt"
        path.write_text(crash_words(kind, error, trace), encoding="utf-8")
        for old in sorted(folder.glob("crash-*.txt"))[:-_MOST_NOTES]:
            old.unlink(missing_ok=True)
    except OSError:
        log.warning("a crash note cannot be written", exc_info=True)
        return None
    return path


def crash_words(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> str:
    """Return a note of a crash without private data.

    It names the places in the program and in packages, by module and line, and the versions. Of the message all that is
    quoted, every path and every address of an instrument is left out, as they may name projects, people and machines.
    """
    lines = [
        f"Warm Ember {VERSION}",
        f"Python {platform.python_version()}, {platform.system()} {platform.release()}, {platform.machine()}",
        *(f"{name} {version}" for name in _PACKAGES if (version := _version(name))),
        "",
    ]
    told: BaseException | None = error
    while told is not None:
        own_kind, own_trace = (kind, trace) if told is error else (type(told), told.__traceback__)
        lines.append(f"{own_kind.__module__}.{own_kind.__qualname__}: {without_private(str(told))}")
        frames = traceback.extract_tb(own_trace)
        lines += [f"  {_module(frame.filename)}:{frame.lineno} in {frame.name}" for frame in frames]
        told = told.__cause__ or (None if told.__suppress_context__ else told.__context__)
        if told is not None:
            lines.append("after")
    return "\n".join(lines) + "\n"


def without_private(message: str) -> str:
    """Return a message without what may be private.

    Examples
    --------
    >>> without_private("cannot read /home/ana/post/project.json: 'Ana' at TCPIP::10.0.0.7::5025::SOCKET, row 3")
    'cannot read <path>: <text> at <address>, row 3'
    """
    return _PRIVATE.sub(lambda found: f"<{found.lastgroup}>", message)


def _version(package: str) -> str:
    from importlib import metadata

    try:
        return metadata.version(package)
    except metadata.PackageNotFoundError:
        return ""


def _module(filename: str) -> str:
    """Return a source file from its package on."""
    parts = Path(filename).parts
    for root in ("site-packages", "src", f"python{sys.version_info.major}.{sys.version_info.minor}"):
        if root in parts:
            return "/".join(parts[parts.index(root) + 1 :])
    return Path(filename).name
