"""What a desktop is told of the program, in the user's own folders: icon, menu entry, file types, manual, completion.

Nothing outside the folders of the XDG base directory specification is written, and all of it is taken away again.
"""

from __future__ import annotations

import logging
import os
import shutil
import subprocess
import sys
from collections.abc import Sequence
from importlib import resources
from pathlib import Path

from warm_ember.desktop.completion import bash_completion, fish_completion
from warm_ember.desktop.manual import CommandWords, manual_page
from warm_ember.errors import BadFileError
from warm_ember.store.new_file import write_new
from warm_ember.version import RELEASED, VERSION

log = logging.getLogger(__name__)

APPLICATION, ICON = "org.warm_ember.WarmEmber", "warm-ember"
_TOOLS = (("update-mime-database", "mime"), ("update-desktop-database", "applications"))
_SLOW_S = 30.0


def data_home() -> Path:
    """Return the user's folder of shared data (XDG base directory specification 0.8)."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def files_of(program: str, commands: Sequence[CommandWords]) -> dict[Path, str]:
    """Return what is written where, below the folder of shared data.

    Parameters
    ----------
    program
        The command that starts the program, as an absolute path.
    commands
        What the program can be told, for manual and completion.
    """
    filled = {"@EXEC@": _quoted(program), "@VERSION@": VERSION, "@DATE@": RELEASED}
    return {
        Path(f"icons/hicolor/scalable/apps/{ICON}.svg"): _text("warm-ember.svg"),
        Path(f"applications/{APPLICATION}.desktop"): _text(f"{APPLICATION}.desktop", filled),
        Path("mime/packages/warm-ember.xml"): _text("warm-ember-mime.xml"),
        Path(f"metainfo/{APPLICATION}.metainfo.xml"): _text(f"{APPLICATION}.metainfo.xml", filled),
        Path("man/man1/warm-ember.1"): manual_page(commands),
        Path("bash-completion/completions/warm-ember"): bash_completion(commands),
        Path("fish/vendor_completions.d/warm-ember.fish"): fish_completion(commands),
    }


def install(commands: Sequence[CommandWords]) -> list[Path]:
    """Write all of it, and return where.

    Raises
    ------
    BadFileError
        If a file cannot be written.
    """
    home, written = data_home(), []
    for place, text in files_of(program_path(), commands).items():
        path = home / place
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            write_new(path, text.encode())
        except OSError as error:
            raise BadFileError(path, f"it cannot be written: {error.strerror}") from error
        written.append(path)
    _let_know(home)
    return written


def remove(commands: Sequence[CommandWords]) -> list[Path]:
    """Remove what `install` wrote, and return what that was.

    Raises
    ------
    BadFileError
        If a file cannot be removed.
    """
    home, removed = data_home(), []
    for place in files_of(program_path(), commands):
        path = home / place
        try:
            path.unlink()
        except FileNotFoundError:
            continue
        except OSError as error:
            raise BadFileError(path, f"it cannot be removed: {error.strerror}") from error
        removed.append(path)
    _let_know(home)
    return removed


def icon() -> bytes:
    """Return the program's icon, SVG."""
    return _text("warm-ember.svg").encode()


def program_path() -> str:
    """Return the command that runs this program, as an absolute path."""
    started = Path(sys.argv[0])
    if started.name == "warm-ember" and started.exists():
        return str(started.resolve())
    beside = Path(sys.executable).with_name("warm-ember")
    checkout = Path(__file__).resolve().parents[3] / "warm-ember"
    found = next((one for one in (beside, checkout) if one.is_file()), None)
    return str(found) if found is not None else shutil.which("warm-ember") or "warm-ember"


def _text(name: str, filled: dict[str, str] | None = None) -> str:
    text = resources.files("warm_ember.desktop").joinpath(name).read_text(encoding="utf-8")
    for mark, value in (filled or {}).items():
        text = text.replace(mark, value)
    return text


def _quoted(program: str) -> str:
    """Return a path as it may stand in an Exec line: in quotes where a character needs it (Desktop Entry 1.5)."""
    if all(one.isalnum() or one in "/._-+" for one in program):
        return program
    escaped = "".join(f"\\{one}" if one in '"`$\\' else one for one in program)
    return '"' + escaped.replace("\\", "\\\\").replace("%", "%%") + '"'


def _let_know(home: Path) -> None:
    """Let the desktop read anew what it keeps of types and entries, where it has the tools for that."""
    for tool, folder in _TOOLS:
        found = shutil.which(tool)
        if found is None or not (home / folder).is_dir():
            continue
        try:
            subprocess.run([found, home / folder], capture_output=True, check=False, timeout=_SLOW_S)
        except (OSError, subprocess.TimeoutExpired):
            log.warning("%s could not be run", tool, exc_info=True)
