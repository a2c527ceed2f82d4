"""Start of the window."""

from __future__ import annotations

import contextlib
import logging
import os
import signal
import socket
import sys
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType

from PySide6.QtCore import QSettings, QSocketNotifier, QTimer
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QApplication

from warm_ember.cli.signals import SIGNALS
from warm_ember.crash_note import log_to_file, write_crash_note
from warm_ember.desktop.installing import APPLICATION, icon
from warm_ember.errors import WarmEmberError
from warm_ember.memory import spare_what_stays
from warm_ember.places import settings_file, settings_folder
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


def run_window(project: Path | None, *, make_demo: bool = False, data_set: str = "", run: str = "") -> int:
    """Open the window and run until it is closed.

    Parameters
    ----------
    project
        A project to open, or a file to import; with `make_demo` the folder for the demo project.
    make_demo
        Make the demo project first, with progress in the window.
    data_set
        The address of a data set to open.
    run
        Which run of the project to show; empty for the one that was shown last.

    Raises
    ------
    WarmEmberError
        If there is no screen.
    """
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        raise WarmEmberError("there is no screen to open a window on; try: warm-ember demo --headless")
    log_to_file()
    application = QApplication(sys.argv[:1])
    application.setApplicationName("warm-ember")
    application.setApplicationDisplayName("Warm Ember")
    application.setDesktopFileName(APPLICATION)
    application.setWindowIcon(program_icon())
    settings_folder().mkdir(parents=True, exist_ok=True)
    window = make_window(application, QSettings(str(settings_file()), QSettings.Format.IniFormat))
    spare_what_stays()
    sys.excepthook = _note_crash(window)
    window.show()
    # After the first paint, so that the window is up before anything is read.
    QTimer.singleShot(0, lambda: open_first(window, project, make_demo=make_demo, data_set=data_set, run=run))
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


def open_first(
    window: MainWindow, project: Path | None, *, make_demo: bool = False, data_set: str = "", run: str = ""
) -> None:
    """Open what the program was started with; see `run_window`."""
    controller = window.controller
    if make_demo and project is not None:
        controller.make_demo(project)
    elif project is not None and project.is_file():
        window.way_in.import_files([project])
    elif project is not None:
        if controller.open(project) and run:
            controller.select_run(run)
    elif data_set:
        window.open_data_set(data_set)


def program_icon() -> QIcon:
    """Return the program's icon."""
    picture = QPixmap()
    picture.loadFromData(icon())
    return QIcon(picture)


def _note_crash(window: MainWindow):  # type: ignore[no-untyped-def]
    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        log.critical("a bug in the program", exc_info=(kind, error, trace))
        note = write_crash_note(kind, error, trace)
        where = "" if note is None else f" A note of it that can be sent, without private data: {note}"
        window.messages.show_trouble(f"Something went wrong inside the program; your project is safe.{where}")

    return hook
