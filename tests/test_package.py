"""What is installed: every file that the program reads is in the package, and it needs no window."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import sysconfig
import tomllib
from pathlib import Path

import h5py
import pytest

from warm_ember import __version__, open_project
from warm_ember.report.contents import Choice
from warm_ember.report.pages import render

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


def packed() -> set[Path]:
    """Return the files of data that go into the package."""
    patterns = PROJECT["tool"]["setuptools"]["package-data"]["warm_ember"]
    return {path for pattern in patterns for path in PACKAGE.glob(pattern)}


def test_every_file_that_the_program_reads_is_in_the_package() -> None:
    inside = packed()
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


WINDOW = """
import os, sys
from pathlib import Path
import warm_ember
assert "site-packages" in warm_ember.__file__, warm_ember.__file__
from PySide6.QtCore import QSettings
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from warm_ember.ui.application import make_window, open_first, program_icon
application = QApplication([])
window = make_window(application, QSettings(sys.argv[2], QSettings.Format.IniFormat))
assert not program_icon().isNull()
window.show()
open_first(window, Path(sys.argv[1]), run="r3")
for title in ("Battery", "Runs", "Trace"):
    window.show_page(title)
    while window.controller.jobs.is_busy:
        QTest.qWait(10)
assert window.controller.session.current == "r3"
window.help.show_guide()
assert window.pages.guide.text.document().allFormats()
window.grab().save(sys.argv[3])
window.close()
"""


@pytest.fixture(scope="module")
def clean(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A clean environment with the wheel alone; the packages that it needs are those of the checks."""
    folder = tmp_path_factory.mktemp("wheel")
    source = folder / "source"
    source.mkdir()
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        if (ROOT / name).exists():
            shutil.copy(ROOT / name, source)
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    quiet = ("--quiet", "--disable-pip-version-check", "--no-deps")
    pip = [sys.executable, "-m", "pip"]
    subprocess.run([*pip, "wheel", *quiet, "--no-build-isolation", "-w", folder, source], check=True)
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", folder / "clean"], check=True)
    python = folder / "clean" / "bin" / "python"
    (wheel,) = folder.glob("*.whl")
    subprocess.run([*pip, "--python", python, "install", *quiet, "--no-index", wheel], check=True)
    # By its path alone: what leads from there to the sources of this checkout is not followed.
    version = f"python{sys.version_info.major}.{sys.version_info.minor}"
    (folder / "clean" / "lib" / version / "site-packages" / "needed.pth").write_text(sysconfig.get_path("purelib"))
    return folder / "clean" / "bin"


def test_the_wheel_has_every_file_and_runs_from_a_clean_environment(clean: Path, tmp_path: Path) -> None:
    version = subprocess.run([clean / "warm-ember", "--version"], capture_output=True, text=True, check=True)
    assert version.stdout == f"warm-ember {__version__}\n"
    done = subprocess.run(
        [clean / "warm-ember", "demo", tmp_path / "post", "--headless"], capture_output=True, text=True, check=True
    )
    assert "r5" in done.stdout
    shot = tmp_path / "window.png"
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    seen = subprocess.run(
        [clean / "python", "-c", WINDOW, tmp_path / "post", tmp_path / "window.ini", shot],
        capture_output=True, text=True, check=False, env=environment,
    )  # fmt: skip
    assert seen.returncode == 0, seen.stderr
    assert shot.stat().st_size > 10_000
    (site,) = clean.parent.glob("lib/*/site-packages/warm_ember")
    there = {
        str(path.relative_to(site)) for path in site.rglob("*") if path.suffix not in (".py", ".pyc") and path.is_file()
    }
    assert there == {str(path.relative_to(PACKAGE)) for path in packed()}


def test_the_plug_in_of_the_wheel_is_found_by_pytest(clean: Path, tmp_path: Path) -> None:
    (tmp_path / "test_own.py").write_text(
        "def test_own(request):\n    assert request.config.getoption('--power-from') is None\n"
    )
    done = subprocess.run(
        [clean / "python", "-m", "pytest", "-q", tmp_path], capture_output=True, text=True, check=False, cwd=tmp_path
    )
    assert "1 passed" in done.stdout, done.stdout + done.stderr


def test_one_version_is_in_captures_and_reports(demo_path: Path, tmp_path: Path) -> None:
    for capture in (demo_path / "captures").glob("*.h5"):
        with h5py.File(shutil.copy(capture, tmp_path)) as file:
            assert file.attrs["program"] == f"Warm Ember {__version__}"
    with open_project(demo_path) as project:
        page = render(project, Choice(("r5",), "", frozenset(), ()))
    assert f'content="Warm Ember {__version__}"' in page
    assert __version__ in (ROOT / "docs" / "install.md").read_text()
