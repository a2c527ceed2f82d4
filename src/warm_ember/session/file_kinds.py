"""The kinds of files that a capture can come from, by their endings, and what of a folder is of such a kind."""

from __future__ import annotations

from pathlib import Path

from warm_ember.errors import BadFileError
from warm_ember.units import counted

TEXT_ENDINGS = (".csv", ".tsv", ".txt", ".dat", ".log")
ARRAY_ENDINGS = (".npy", ".parquet", ".arrow", ".feather", ".h5", ".hdf5")
RAW_ENDINGS = (".bin", ".raw", ".f32", ".f64", ".i16")
BESIDE_ENDINGS = (".vcd", ".jsonl", ".itm", ".swo", ".elf", ".axf", ".out")
"""What is not a capture, but comes with one."""

_CAPTURE_ENDINGS = TEXT_ENDINGS + ARRAY_ENDINGS + RAW_ENDINGS
_MOST = 100


def is_project(path: Path) -> bool:
    """Return whether a path is a project's folder, as far as it can be looked into."""
    try:
        return path.is_dir() and (path / "project.json").exists()
    except OSError:
        return False


def project_of(path: Path) -> tuple[Path, str] | None:
    """Return the project's folder that a file belongs to, and the capture that it is; empty for none in particular.

    It is the project's own file, or one of its captures.
    """
    try:
        if path.name == "project.json" and is_project(path.parent):
            return path.parent, ""
        if path.suffix == ".h5" and path.parent.name == "captures" and is_project(path.parent.parent):
            return path.parent.parent, path.stem
    except OSError:
        return None
    return None


def is_data_set(path: Path) -> bool:
    """Return whether a path is the folder of a data set: it has runs by firmware, and is no project."""
    try:
        return not is_project(path) and any((path / "runs").glob("firmware=*"))
    except OSError:
        return False


def with_files_of_folders(paths: list[Path]) -> list[Path]:
    """Put the files that a folder holds in its place, those of which a capture can come; not those of folders in it.

    Raises
    ------
    BadFileError
        If a folder cannot be looked into, or holds no such file, or too many to look at one by one.
    """
    found: list[Path] = []
    for path in paths:
        try:
            if not path.is_dir():
                found.append(path)
                continue
            inside = sorted(one for one in path.iterdir() if one.is_file() and not one.name.startswith("."))
        except OSError as error:
            raise BadFileError(path, f"this folder cannot be looked into: {error.strerror}") from error
        files = [one for one in inside if one.suffix.lower() in _CAPTURE_ENDINGS + BESIDE_ENDINGS]
        captures = [one for one in files if one.suffix.lower() in _CAPTURE_ENDINGS]
        if not captures:
            raise BadFileError(path, "this folder is no project and holds no file of current")
        if len(captures) > _MOST:
            many = counted(len(captures), "file")
            raise BadFileError(path, f"this folder holds {many}", remedy=f"choose up to {_MOST} of them")
        found += files
    return found
