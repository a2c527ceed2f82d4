"""The limits file of a project as text: read as it is, written only when it is complete."""

from __future__ import annotations

from pathlib import Path

from warm_ember.errors import BadFileError
from warm_ember.store.new_file import write_new


def read_limits_text(path: Path) -> str:
    """Return the text of a limits file; empty where there is none.

    Raises
    ------
    BadFileError
        If it cannot be read as text.
    """
    try:
        return path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        return ""
    except (OSError, UnicodeDecodeError) as error:
        raise BadFileError(path, f"cannot be read: {error}") from error


def write_limits_text(path: Path, text: str) -> None:
    """Write the text of a limits file.

    Raises
    ------
    BadFileError
        If it cannot be written; what was there stays then.
    """
    try:
        write_new(path, text.encode("utf-8"))
    except OSError as error:
        raise BadFileError(path, f"cannot be written: {error.strerror or error}") from error
