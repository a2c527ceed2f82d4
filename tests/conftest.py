"""Fixtures that all tests share."""

from __future__ import annotations

import gc
import logging
import os
from collections.abc import Callable, Iterator
from itertools import count
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
if os.access("/dev/shm", os.W_OK):  # every save is synced; in memory that waits for no disk
    os.environ.setdefault("PYTEST_DEBUG_TEMPROOT", "/dev/shm")

import numpy as np
import pytest
from filelock import FileLock
from hypothesis import settings
from hypothesis.internal.conjecture import providers

from shared_results import SharedResults
from warm_ember.cli.app import run
from warm_ember.memory import keep_freed_memory
from warm_ember.session.demo import make_demo
from warm_ember.session.session import Session

settings.register_profile("steady", deadline=None, derandomize=True, max_examples=30)
settings.register_profile("long", deadline=None, max_examples=1000)
settings.load_profile(os.environ.get("WARM_EMBER_TESTS", "steady"))
if settings.get_current_profile_name() == "steady":
    # Examples are drawn with numbers that stand in whichever modules are loaded: which test ran before, on which
    # worker, would decide which examples a test sees. To go when the library derandomizes these too.
    providers._get_local_constants = lambda: providers._local_constants
keep_freed_memory()  # as the program does
gc.set_threshold(100_000, 50, 100)  # searching for rubbish took a tenth of the time


@pytest.fixture(scope="session")
def homes(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A folder for each test, numbered here: the factory would look through all there are for the next number."""
    base = tmp_path_factory.mktemp("homes")
    return (base / str(number) for number in count())


@pytest.fixture(autouse=True)
def own_settings(homes: Iterator[Path], monkeypatch: pytest.MonkeyPatch) -> None:
    """Let no test see, or change, what the user of this machine has set."""
    home = next(homes)
    for name in ("config", "data", "state"):
        folder = home / name
        folder.mkdir(parents=True)
        monkeypatch.setenv(f"XDG_{name.upper()}_HOME", str(folder))


@pytest.fixture(autouse=True)
def no_errors_logged(request: pytest.FixtureRequest, caplog: pytest.LogCaptureFixture) -> Iterator[None]:
    """Let a test fail that logs an error of the program's nobody expects; those that do are marked."""
    yield
    if request.node.get_closest_marker("logs_errors") is None:
        came = [one for when in ("setup", "call") for one in caplog.get_records(when)]
        wrong = [one.getMessage() for one in came if one.name.startswith("warm_ember") and one.levelno >= logging.ERROR]
        assert not wrong


@pytest.fixture(scope="session")
def demo_path(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo project, made once; tests that change it take `demo_copy`."""
    base = tmp_path_factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" not in os.environ:
        return made_demo(base / "demo" / "post")
    with FileLock(base.parent / "demo.lock"):  # once for all that test at the same time
        return made_demo(base.parent / "demo" / "post")


def made_demo(path: Path) -> Path:
    if not path.exists():
        making = path.with_name("making")
        make_demo(making).close()
        making.rename(path)
    return path


@pytest.fixture
def demo_copy(demo_path: Path, tmp_path: Path) -> Path:
    """A project of one's own with the demo's captures (linked, not copied)."""
    copy = tmp_path / "post"
    (copy / "captures").mkdir(parents=True)
    for capture in (demo_path / "captures").iterdir():
        os.link(capture, copy / "captures" / capture.name)
    (copy / "project.json").write_bytes((demo_path / "project.json").read_bytes())
    return copy


@pytest.fixture(scope="session")
def shared_results(demo_path: Path) -> Iterator[SharedResults]:
    shared = SharedResults(demo_path)
    yield shared
    shared.close()


@pytest.fixture
def demo_session(demo_copy: Path) -> Iterator[Session]:
    session = Session.open(demo_copy)
    yield session
    session.close()


@pytest.fixture(autouse=True)
def known_demo(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """Let whoever opens the demo or a copy find what was computed of it before."""
    if "demo_path" in request.fixturenames:
        shared, open_project = request.getfixturevalue("shared_results"), Session.open
        monkeypatch.setattr(Session, "open", lambda path: shared.lend(open_project(path)))


@pytest.fixture
def command(capsys: pytest.CaptureFixture[str]) -> Callable[..., tuple[int, str, str]]:
    """Run a command in this process and return its exit code, stdout and stderr."""

    def call(*arguments: object) -> tuple[int, str, str]:
        code = run([str(argument) for argument in arguments])
        captured = capsys.readouterr()
        return code, captured.out, captured.err

    return call


@pytest.fixture
def random() -> np.random.Generator:
    return np.random.default_rng(7)
