"""Start of the window."""

from __future__ import annotations

import contextlib
import logging
import logging.handlers
import os
import signal
import socket
import sys
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType

import platformdirs
from PySide6.QtCore import QSettings, QSocketNotifier, QTimer
from PySide6.QtWidgets import QApplication

from warm_ember.cli.signals import SIGNALS
from warm_ember.errors import WarmEmberError
from warm_ember.ui.look import accessible
from warm_ember.ui.look.style import dress
from warm_ember.ui.look.theme import DAY, NIGHT, Appearance
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.shell.window import MainWindow

log = logging.getLogger(__name__)


def make_window(application: QApplication, settings: QSettings) -> MainWindow:
    """Make the window with its controller and its look."""
    look = Appearance({"night": NIGHT, "day": DAY}.get(str(settings.value("theme", ""))))
    dress(application, look)
    accessible.install()
    return MainWindow(ProjectController(), look, settings)


def run_window(project: Path | None, *, make_demo: bool = False, data_set: str = "") -> int:
    """Open the window and run until it is closed.

    Parameters
    ----------
    project
        A project to open; with `make_demo` the folder for the demo project.
    make_demo
        Make the demo project first, with progress in the window.
    data_set
        The address of a data set to open.

    Raises
    ------
    WarmEmberError
        If there is no screen.
    """
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        raise WarmEmberError("there is no screen to open a window on; try: warm-ember demo --headless")
    _log_to_file()
    application = QApplication(sys.argv[:1])
    application.setApplicationName("warm-ember")
    application.setApplicationDisplayName("Warm Ember")
    settings_file = platformdirs.user_config_path("warm-ember", ensure_exists=True) / "window.ini"
    window = make_window(application, QSettings(str(settings_file), QSettings.Format.IniFormat))
    sys.excepthook = _note_crash(window)
    window.show()
    # After the first paint, so that the window is up before anything is read.
    QTimer.singleShot(0, lambda: _open_first(window, project, make_demo=make_demo, data_set=data_set))
    application.aboutToQuit.connect(window.controller.close)
    with _closing_on_signals(application, window) as ended_by:
        code = application.exec()
    return 128 + ended_by[0] if ended_by else code


@contextlib.contextmanager
def _closing_on_signals(application: QApplication, window: MainWindow) -> Iterator[list[int]]:
    """Close the window in good order when a signal ends the program: the output goes off, what came is kept.

    Yields the numbers of the signals that came. Python looks at signals only while it runs, which it hardly does while
    nothing happens in the window: a byte on a socket wakes it.
    """
    came: list[int] = []
    awake, wake = socket.socketpair()
    wake.setblocking(False)
    notifier = QSocketNotifier(awake.fileno(), QSocketNotifier.Type.Read, application)

    def close() -> None:
        awake.recv(64)
        if came:
            window.close()
            application.exit(0)

    notifier.activated.connect(close)
    handlers = {}
    for number in SIGNALS:
        if signal.getsignal(number) is not signal.SIG_IGN:
            handlers[number] = signal.signal(number, lambda which, _frame: came.append(which))
    before = signal.set_wakeup_fd(wake.fileno(), warn_on_full_buffer=False)
    try:
        yield came
    finally:
        signal.set_wakeup_fd(before)
        for number, handler in handlers.items():
            signal.signal(number, handler)
        notifier.setEnabled(False)
        awake.close()
        wake.close()


def _open_first(window: MainWindow, project: Path | None, *, make_demo: bool, data_set: str) -> None:
    controller = window.controller
    if make_demo and project is not None:
        controller.make_demo(project)
    elif project is not None:
        controller.open(project)
    elif data_set:
        window.open_data_set(data_set)


def _log_to_file() -> None:
    folder = platformdirs.user_log_path("warm-ember", ensure_exists=True)
    handler = logging.handlers.RotatingFileHandler(folder / "warm-ember.log", maxBytes=1_000_000, backupCount=2)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger().addHandler(handler)
    logging.getLogger().setLevel(logging.INFO)


def _note_crash(window: MainWindow):  # type: ignore[no-untyped-def]
    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        log.critical("a bug in the program", exc_info=(kind, error, trace))
        window.messages.show_trouble(
            "Something went wrong inside the program; your project is safe, the log has the details."
        )

    return hook
