"""How work begins: the start page, projects that are opened, made and saved, files that are taken in."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs
from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QFileDialog

from warm_ember.errors import WarmEmberError
from warm_ember.places import data_folder
from warm_ember.session import edits
from warm_ember.session.file_kinds import (
    ARRAY_ENDINGS,
    BESIDE_ENDINGS,
    RAW_ENDINGS,
    TEXT_ENDINGS,
    is_data_set,
    is_project,
    with_files_of_folders,
)
from warm_ember.session.run_results import RunResults
from warm_ember.session.session import Session
from warm_ember.session.untitled import is_untitled
from warm_ember.store.parts_file import read_parts_file
from warm_ember.ui.look.label import tip
from warm_ember.units import counted

if TYPE_CHECKING:
    from warm_ember.ui.shell.window import MainWindow

_RECENT = 8
_LIVES_AFTER_MS = 150


def _patterns(*endings: str) -> str:
    return " ".join(f"*{ending}" for ending in endings)


_ALL_ENDINGS = (*TEXT_ENDINGS, *ARRAY_ENDINGS, *RAW_ENDINGS, *BESIDE_ENDINGS)
_FILE_KINDS = ";;".join(
    (
        f"Files of current, with their logs ({_patterns(*_ALL_ENDINGS)})",
        f"Delimited text ({_patterns(*TEXT_ENDINGS)})",
        f"Arrays and tables ({_patterns(*ARRAY_ENDINGS)})",
        f"Raw numbers ({_patterns(*RAW_ENDINGS)})",
        "All files (*)",
    )
)


class WayIn(QObject):
    """What leads to a project and to captures in it.

    Parameters
    ----------
    window
        The window that shows what was opened.
    """

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window, self._controller = window, window.controller
        self._remembered: object = None
        # The window is up first: what is worked out beside it would hold it up.
        self._lives_timer = QTimer(self)
        self._lives_timer.setSingleShot(True)
        self._lives_timer.setInterval(_LIVES_AFTER_MS)
        self._lives_timer.timeout.connect(self._work_out_lives)
        window.controller.closing.connect(self._lives_timer.stop)
        window.pages.start_built.connect(self._on_start_built)
        window.pages.imports_finished.connect(self._on_imports_finished)
        window.recent_menu.aboutToShow.connect(self._fill_recent)
        window.controller.results_changed.connect(self._remember)

    def show_start(self) -> None:
        """Show the start page; what is open stays open."""
        self._fill_start()
        self._window.show_other(self._window.pages.start)
        self._window.pages.start.take_focus()

    def _fill_start(self) -> None:
        from warm_ember.session.recent import recent_projects

        recent = recent_projects()
        self._window.pages.start.show_recent(recent, [one.path for one in recent if is_untitled(Path(one.path))])
        if self._window.pages.start.scale.lives is None:
            self._lives_timer.start()

    def _on_start_built(self) -> None:
        start = self._window.pages.start
        start.chosen.connect(self.choose)
        start.project_asked.connect(self._controller.open)
        start.locate_asked.connect(self._locate)
        start.save_asked.connect(self._save_other)

    def _work_out_lives(self) -> None:
        """Find out how long the demo's battery lasts at each current, once, after the page is there."""
        start = self._window.pages.start

        def work(_stop: object, _progress: object) -> object:
            from warm_ember.session.start_figures import decade_lives  # half a second that nothing waits for

            return decade_lives()

        self._controller.jobs.run(
            "start", "working out lives", work, start.show_lives, self._controller.report_failure, quiet=True
        )

    def choose(self, name: str) -> None:
        """Go a way: ``demo``, ``file``, ``project``, ``record`` or ``parts``."""
        if name == "demo":
            self._window.help.guide_through_demo()
            self._controller.make_demo(data_folder() / "demo")
        elif name == "file":
            self.import_capture()
        elif name == "project":
            self.open_project()
        elif name == "parts":
            self.add_parts()
        elif name == "record":
            if self._controller.session is None and not self._controller.begin_untitled():
                return
            self._window.show_page("Bench")

    def _locate(self, path: str) -> None:
        """Ask where a project went that is no longer where it was."""
        from warm_ember.session.recent import forget

        found = QFileDialog.getExistingDirectory(self._window, f"Where is {Path(path).name} now?")
        if found and self._controller.open(Path(found)):
            forget(path)

    def _save_other(self, path: Path) -> None:
        if self._controller.open(path):
            self.save_as()

    def _fill_recent(self) -> None:
        from warm_ember.session.recent import recent_projects

        self._window.recent_menu.clear()
        for one in recent_projects()[:_RECENT]:
            opens = partial(self._controller.open, Path(one.path))
            action = self._window.add_action(self._window.recent_menu, one.name, "", opens)
            action.setToolTip(tip(one.path))
            action.setEnabled(one.is_there)

    def _remember(self, results: RunResults | None) -> None:
        """Let the start page know what was shown last of the project."""
        session = self._controller.session
        if session is None or results is None or self._remembered == (session, results.run.name, results.life.life_s):
            return
        self._remembered = (session, results.run.name, results.life.life_s)

        def work(_stop: object, _progress: object) -> None:
            from warm_ember.session.recent import note_shown, picture_of

            note_shown(session, results, picture_of(results))

        self._controller.jobs.run("recent", "remembering", work, lambda _none: None, lambda _error: None, quiet=True)

    def new_project(self) -> None:
        """Ask for a folder and begin a project there."""
        path = self._ask_place("A name and a place for the new project")
        if path is not None:
            self.begin_project(path)

    def _ask_place(self, title: str, name: str = "new project") -> Path | None:
        """Ask for the folder of a project, which need not be there."""
        home = Path(platformdirs.user_documents_path())
        path, _ = QFileDialog.getSaveFileName(self._window, title, str((home if home.is_dir() else Path.home()) / name))
        return Path(path) if path else None

    def save(self) -> None:
        """Save the project; one without a name gets one."""
        session = self._controller.session
        if session is not None and is_untitled(session.folder.path):
            self.save_as()
        else:
            self._controller.save()

    def save_as(self) -> None:
        """Ask for another place for the project and go on there."""
        session = self._controller.session
        if session is None:
            return
        source = session.title.removeprefix("untitled, from ")
        path = self._ask_place("Save the project as", Path(source).stem)
        if path is not None:
            self._controller.save_under(path)

    def begin_project(self, path: Path) -> bool:
        """Begin a project in a folder, or open the one that is there."""
        try:
            session = Session.open_or_create(path)
            session.save()
        except WarmEmberError as error:
            self._window.messages.show_trouble(error.one_line)
            return False
        self._controller.set_session(session)
        return True

    def open_project(self) -> None:
        """Ask for a project's folder and open it."""
        path = QFileDialog.getExistingDirectory(self._window, "The folder of a project, or of a data set")
        if path:
            self.open_folder(Path(path))

    def open_data_set(self) -> None:
        """Ask for a data set and show it, whether a project is open or not."""
        self._window.show_page("Runs")
        self._window.pages.runs.ask_for_data_set()

    def open_folder(self, path: Path) -> None:
        """Open a folder as what it is: a data set, or a project."""
        if is_data_set(path):
            self._window.open_data_set(str(path))
        else:
            self._controller.open(path)

    def import_capture(self) -> None:
        """Ask for files and import them."""
        paths, _ = QFileDialog.getOpenFileNames(self._window, "Files of current to import", filter=_FILE_KINDS)
        if paths:
            self.import_files([Path(path) for path in paths])

    def add_parts(self) -> None:
        """Ask for a file of parts."""
        path, _ = QFileDialog.getOpenFileName(self._window, "A file of parts", filter="Parts (*.json)")
        if path:
            self.add_parts_from(Path(path))

    def add_parts_from(self, path: Path) -> None:
        """Take the parts of a file into the project; what is wrong with it is told."""
        try:
            library = read_parts_file(path)
        except WarmEmberError as error:
            self._window.messages.show_trouble(error.one_line)
            return
        parts = library.parts
        self._controller.apply(edits.add_parts(library), f"add {counted(len(parts), 'part')}")
        self._window.messages.show_note(
            f"{counted(len(parts), 'part')} added from {path.name}: {', '.join(part.name for part in parts)}"
        )

    def import_files(self, paths: list[Path]) -> None:
        """Look at files to import them, logs and dumps among them beside their capture.

        A folder is opened when it is a project, else what it holds is looked at.
        """
        projects = [path for path in paths if path.name == "project.json" or is_project(path)]
        if projects:
            self._controller.open(projects[0].parent if projects[0].name == "project.json" else projects[0])
            return
        data_sets = [path for path in paths if is_data_set(path)]
        if data_sets:
            self._window.open_data_set(str(data_sets[0]))
            return
        try:
            paths = with_files_of_folders(paths)
        except WarmEmberError as error:
            self._window.messages.show_trouble(error.one_line)
            return
        if self._controller.session is None and not self._controller.begin_untitled(paths[0].name):
            return
        session = self._controller.session
        assert session is not None
        # What reads files is not needed before there are some.
        from warm_ember.session.import_requests import requests_for
        from warm_ember.session.new_capture import free_name

        try:
            requests = requests_for(paths, lambda wanted: free_name(session, wanted))
        except WarmEmberError as error:
            self._window.messages.show_trouble(error.one_line)
            return
        if not requests:
            self._window.messages.show_trouble(
                "Logs and line dumps come with a capture: choose its file together with them."
            )
            self._controller.drop_untitled()
            return
        self._window.pages.imports.show_files(requests)
        self._window.show_other(self._window.pages.imports)

    def _on_imports_finished(self) -> None:
        session = self._controller.session
        if session is not None and not session.project.runs and not self._window.pages.imports.took_any:
            self._controller.drop_untitled()  # all was left out
        if self._controller.session is not None:
            self._window.show_page("Trace")
