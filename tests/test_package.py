"""What is installed: every file that the program reads is in the package, and it needs no window."""

from __future__ import annotations

import os
import subprocess
import sys
import tomllib
from pathlib import Path

from warm_ember import __version__

ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "src" / "warm_ember"
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text())

NO_WINDOW = """
import sys
sys.modules["PySide6"] = None
sys.modules["pypdfium2"] = None
from warm_ember.__main__ import main
sys.argv[1:] = {arguments!r}
main()
"""


def without_window(*arguments: str) -> subprocess.CompletedProcess[str]:
    """Run a command where the window's packages are not installed."""
    script = NO_WINDOW.format(arguments=list(arguments))
    return subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False, env=os.environ)


def test_every_file_that_the_program_reads_is_in_the_package() -> None:
    packed = PROJECT["tool"]["setuptools"]["package-data"]["warm_ember"]
    inside = {path for pattern in packed for path in PACKAGE.glob(pattern)}
    there = {
        Path(folder) / name
        for folder, _, names in os.walk(PACKAGE, followlinks=True)
        for name in names
        if not name.endswith((".py", ".pyc"))
    }
    assert there == inside
    assert (PACKAGE / "battery" / "cells.json") in inside


def test_one_version_is_told_everywhere() -> None:
    assert PROJECT["project"]["version"] == __version__


def test_the_window_is_an_extra() -> None:
    extras = PROJECT["project"]["optional-dependencies"]
    assert any(one.startswith("PySide6") for one in extras["window"])
    assert not any(one.startswith(("PySide6", "pypdfium2")) for one in PROJECT["project"]["dependencies"])


def test_without_the_window_commands_work_and_the_window_says_what_to_install(tmp_path: Path) -> None:
    asked = without_window()
    assert asked.returncode == 2
    assert asked.stderr.count("\n") == 1
    assert "pip install 'warm-ember[window]'" in asked.stderr
    done = without_window("demo", str(tmp_path / "post"), "--headless")
    assert done.returncode == 0, done.stderr
    written = without_window("report", str(tmp_path / "post"), "--run", "r5", "-o", str(tmp_path / "r5.html"))
    assert written.returncode == 0, written.stderr
    assert (tmp_path / "r5.html").exists()
