"""The window: menu, navigation, header, page, messages, budget bar."""

from __future__ import annotations

import logging
from functools import partial
from pathlib import Path

from PySide6.QtCore import QEvent, QSettings, Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QMenuBar,
    QMessageBox,
    QVBoxLayout,
    QWidget,
)

from warm_ember import __version__
from warm_ember.errors import WarmEmberError
from warm_ember.session import edits
from warm_ember.session.run_results import RunResults
from warm_ember.session.session import Session
from warm_ember.store.parts_file import read_parts_file
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.style import dress
from warm_ember.ui.look.theme import DAY, NIGHT, Appearance
from warm_ember.ui.pages.base import Page
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.shell.budget_bar import BudgetBar
from warm_ember.ui.shell.exports import EXPORTS, Exports
from warm_ember.ui.shell.message_panel import MessagePanel, ProgressPanel
from warm_ember.ui.shell.navigation_bar import NavigationBar
from warm_ember.ui.shell.page_header import PageHeader
from warm_ember.ui.shell.page_stack import TITLES, PageStack
from warm_ember.units import counted

log = logging.getLogger(__name__)

_RECENT = 8


class MainWindow(QMainWindow):
    """The one window of the program."""

    def __init__(self, controller: ProjectController, look: Appearance, settings: QSettings) -> None:
        super().__init__()
        self.controller, self.look, self.settings = controller, look, settings
        self.window_on_time = TimeWindow(self)
        self._shown_capture: object = None
        self.setAcceptDrops(True)
        self.setMinimumSize(960, 600)
        self.pages = PageStack(controller, look, self.window_on_time)
        self.exports = Exports(self, controller, lambda: self.page, lambda: self.pages.trace.fold.plan)
        self._build_shell()
        self._build_menus()
        self._connect()
        self._restore()
        self._on_look()
        self._on_session()

    def _on_page_built(self, title: str) -> None:
        """Let a page take part in the window."""
        pages = self.pages
        page = pages.page(title)
        page.header_changed.connect(self._show_header)
        self._page_menus[title].addActions(page.page_actions())
        if page is pages.built.get("Trace"):
            pages.trace.export_asked.connect(self.exports.ask)
            self._restore_folded()
            self._menus["View"].insertActions(self._after_views, pages.trace.view_actions)
        elif page is pages.built.get("States"):
            pages.states.trace_asked.connect(lambda: self.show_page("Trace"))
        elif page is pages.built.get("Wakes"):
            pages.wakes.activity_asked.connect(self._take_wakes)
        elif page is pages.built.get("Tune"):
            pages.tune.stretch_asked.connect(self._show_evidence)
            pages.tune.wake_asked.connect(self._show_wake_plan)
        elif page is pages.built.get("Runs"):
            pages.runs.run_asked.connect(self.controller.select_run)

    def _build_shell(self) -> None:
        self.navigation = NavigationBar(self.look, TITLES)
        self.header = PageHeader(self.look)
        self.messages = MessagePanel(self.look)
        self.progress = ProgressPanel(self.look)
        self.budget = BudgetBar(self.look)
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        for widget in (self.navigation, self.header, self.pages, self.messages, self.progress, self.budget):
            column.addWidget(widget, 1 if widget is self.pages else 0)
        self.setCentralWidget(body)
        self.status = Label()
        self.menus = QMenuBar()
        top = QWidget()
        top.setObjectName("panel")
        row = QHBoxLayout(top)
        row.setContentsMargins(0, 0, self.look.px(12), 0)
        row.addWidget(self.menus)
        row.addStretch(1)
        row.addWidget(self.status)
        self.setMenuWidget(top)

    def _action(self, menu: QMenu, text: str, keys: str | QKeySequence.StandardKey, slot: object) -> QAction:
        action = QAction(text, self)
        if keys != "":
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(lambda _checked=False: slot())  # type: ignore[operator]
        menu.addAction(action)
        return action

    def _build_menus(self) -> None:
        key = QKeySequence.StandardKey
        menus = {name: self.menus.addMenu(f"&{name}") for name in ("File", "Edit", "View", "Capture", "Help")}
        self._menus = menus
        self._action(menus["File"], "New project …", key.New, self.new_project)
        self._action(menus["File"], "Open project …", key.Open, self.open_project)
        self.recent_menu = menus["File"].addMenu("Open recent")
        self._action(menus["File"], "Import a capture …", "Ctrl+I", self.import_capture)
        self._action(menus["File"], "Parts from a file …", "", self.add_parts)
        exports = menus["File"].addMenu("Export")
        for what, words in EXPORTS.items():
            keys = "Ctrl+E" if what == "capture" else ""
            self._action(exports, f"{words} …", keys, lambda what=what: self.exports.ask(what))
        self._action(menus["File"], "Save", key.Save, self.controller.save)
        menus["File"].addSeparator()
        self._action(menus["File"], "Quit", "Ctrl+Q", self.close)
        self.undo_action = self._action(menus["Edit"], "Undo", key.Undo, self.controller.undo)
        self.redo_action = self._action(menus["Edit"], "Redo", key.Redo, self.controller.redo)
        menus["Edit"].addSeparator()
        for index, title in enumerate(TITLES):
            self._action(menus["View"], title, f"Alt+{index + 1}", lambda title=title: self.show_page(title))
        self._after_views = menus["View"].addSeparator()
        self._action(menus["View"], "Night", "", lambda: self.look.set_theme(NIGHT))
        self._action(menus["View"], "Day", "", lambda: self.look.set_theme(DAY))
        self._action(menus["View"], "Switch theme", "Ctrl+T", self.other_theme)
        menus["View"].addSeparator()
        self.lanes_menu = menus["View"].addMenu("Lanes")
        self.lanes_menu.aboutToShow.connect(self._fill_lanes_menu)
        self._action(menus["Capture"], "Record, or stop recording", "F9", self._record_or_stop)
        self.runs_menu = menus["Capture"].addMenu("Show run")
        self._action(menus["Capture"], "Next run", "Ctrl+PgDown", lambda: self.step_run(1))
        self._action(menus["Capture"], "Previous run", "Ctrl+PgUp", lambda: self.step_run(-1))
        self._page_menus = {title: menus["Edit"].addMenu(title) for title in TITLES}
        for title, menu in self._page_menus.items():
            menu.aboutToShow.connect(partial(self.pages.page, title))
        self._action(menus["Help"], "Keys", "F1", self.show_keys)
        self._action(menus["Help"], "About Warm Ember", "", self.show_about)

    def _connect(self) -> None:
        controller = self.controller
        self.navigation.chosen.connect(self.show_page)
        self.pages.page_built.connect(self._on_page_built)
        self.pages.imports_changed.connect(self._show_header)
        self.pages.imports_finished.connect(self._on_imports_finished)
        controller.session_changed.connect(self._on_session)
        controller.project_changed.connect(self._on_project)
        controller.results_changed.connect(self._on_results)
        controller.runs_changed.connect(self._on_runs)
        controller.recomputing.connect(lambda busy: self.navigation.set_stale(bool(busy)))
        controller.troubled.connect(self.messages.show_trouble)
        controller.noted.connect(self.messages.show_note)
        controller.saved_changed.connect(self._show_status)
        controller.jobs.shown.connect(self.progress.show_work)
        controller.jobs.progressed.connect(self.progress.show_share)
        controller.jobs.hidden.connect(self.progress.hide)
        self.progress.stop_asked.connect(controller.jobs.stop_all)
        self.look.changed.connect(self._on_look)
        self.budget.segment_chosen.connect(self._on_segment)
        controller.wakes_changed.connect(self._show_header)
        controller.plan_changed.connect(self._show_header)
        controller.quality_changed.connect(self._show_header)

    def _restore(self) -> None:
        geometry = self.settings.value("geometry")
        if geometry is None or not self.restoreGeometry(geometry):
            self.resize(1280, 800)
        self.show_page(str(self.settings.value("page", "Trace")))

    def _restore_folded(self) -> None:
        stack, folded = self.pages.trace.stack, self.settings.value("folded")
        if isinstance(folded, list):
            for name in stack.foldable_names():
                stack.set_folded(name, name in folded)

    def _on_look(self) -> None:
        application = QApplication.instance()
        if isinstance(application, QApplication):
            dress(application, self.look)
        self.status.setStyleSheet(f"color: {self.look.theme.dim.name()};")
        self.status.setFont(self.look.font("small"))

    @property
    def page(self) -> Page:
        """The open page; while files are looked at, the Trace page that they will be shown on."""
        page = self.pages.currentWidget()
        return page if isinstance(page, Page) else self.pages.trace

    def show_page(self, title: str) -> None:
        """Open a page."""
        if title not in TITLES:
            title = "Trace"
        page = self.pages.page(title)
        self.pages.setCurrentWidget(page)
        page.take_focus()
        self.navigation.light(title)
        self._show_header()

    def _show_header(self) -> None:
        page = self.page
        if self.pages.is_importing:
            self.header.show_sentence(self.pages.imports.sentence(), self.pages.imports.warning())
            self.header.switches.show_switches(())
        else:
            self.header.show_sentence(page.sentence(), page.warning())
            self.header.switches.show_switches(page.switches())
        for title in TITLES:
            self.navigation.links[title].show_figure(self.pages.link(title))

    def _take_wakes(self, source: str) -> None:
        """Take the wakes by a source as an activity of the battery's."""
        self.show_page("Battery")
        self.pages.battery.activities.add_wake(source)

    def _on_session(self) -> None:
        session = self.controller.session
        self._shown_capture = None
        if session is not None:
            recent = [str(session.folder.path.resolve()), *self.recent()]
            self.settings.setValue("recent", list(dict.fromkeys(recent))[:_RECENT])
        self._fill_recent()
        self._show_status()

    def recent(self) -> list[str]:
        """Return the folders of recent projects, newest first."""
        value = self.settings.value("recent")
        return [str(path) for path in value] if isinstance(value, list) else [value] if isinstance(value, str) else []

    def _fill_recent(self) -> None:
        self.recent_menu.clear()
        for path in self.recent():
            self._action(self.recent_menu, path, "", lambda path=path: self.controller.open(Path(path)))
        self.recent_menu.setEnabled(not self.recent_menu.isEmpty())

    def _on_project(self) -> None:
        session = self.controller.session
        undoable = session.undoable if session else None
        redoable = session.redoable if session else None
        self.undo_action.setText(f"Undo: {undoable}" if undoable else "Undo")
        self.undo_action.setEnabled(undoable is not None)
        self.redo_action.setText(f"Redo: {redoable}" if redoable else "Redo")
        self.redo_action.setEnabled(redoable is not None)
        self.runs_menu.clear()
        for run in self.controller.project.runs:
            action = self._action(self.runs_menu, run.label, "", lambda name=run.name: self.controller.select_run(name))
            action.setCheckable(True)
            action.setChecked(session is not None and session.current == run.name)
        self._show_status()

    def _show_status(self) -> None:
        session = self.controller.session
        if session is None:
            self.status.setText("no project")
            self.setWindowTitle("Warm Ember")
            return
        self.status.setText(f"{session.title}   ·   {'saved' if session.is_saved else 'saving …'}")
        self.setWindowTitle(f"{session.title} – Warm Ember")

    def _on_results(self, results: RunResults | None) -> None:
        if results is not None and results.capture is not self._shown_capture:
            self._shown_capture = results.capture
            capture = results.capture
            self.window_on_time.set_capture(capture.duration_s, capture.current.interval_s, capture.info.start_utc)
        for page in self.pages.built.values():
            page.show_results(results)
        self.budget.set_results(results)
        self._show_header()

    def _on_runs(self) -> None:
        if "Runs" in self.pages.built:
            self.pages.runs.show_runs(self.controller.all_results)
        self._show_header()

    def _show_evidence(self, from_s: float, to_s: float) -> None:
        """Show a stretch of the capture with some room around it."""
        room_s = 0.05 * (to_s - from_s)
        self.window_on_time.show(from_s - room_s, to_s + room_s)
        self.show_page("Trace")

    def _show_wake_plan(self, _source: str) -> None:
        self.show_page("Wakes")
        self.pages.wakes.show_view("plan")

    def _on_segment(self, by: str, name: str) -> None:
        if by == "states":
            self.show_page("States")
            self.pages.states.choose(name)
        else:
            self.show_page("Battery")

    def _fill_lanes_menu(self) -> None:
        self.lanes_menu.clear()
        stack = self.pages.trace.stack
        for name in stack.foldable_names():
            folded = stack.is_folded(name)
            action = self._action(self.lanes_menu, name, "", lambda n=name, f=folded: stack.set_folded(n, not f))
            action.setCheckable(True)
            action.setChecked(not folded)

    def _record_or_stop(self) -> None:
        self.show_page("Bench")
        self.pages.bench.record_or_stop()

    def other_theme(self) -> None:
        """Change between Night and Day."""
        self.look.set_theme(DAY if self.look.theme is NIGHT else NIGHT)

    def step_run(self, step: int) -> None:
        """Show the next or previous run."""
        names = [run.name for run in self.controller.project.runs]
        if self.controller.session is not None and self.controller.session.current in names:
            at = names.index(self.controller.session.current) + step
            if 0 <= at < len(names):
                self.controller.select_run(names[at])

    def new_project(self) -> None:
        """Ask for a folder and begin a project there."""
        path = QFileDialog.getExistingDirectory(self, "A folder for the new project")
        if path:
            self.begin_project(Path(path))

    def begin_project(self, path: Path) -> bool:
        """Begin a project in a folder, or open the one that is there."""
        try:
            session = Session.open_or_create(path)
            session.save()
        except WarmEmberError as error:
            self.messages.show_trouble(error.one_line)
            return False
        self.controller.set_session(session)
        return True

    def open_project(self) -> None:
        """Ask for a project's folder and open it."""
        path = QFileDialog.getExistingDirectory(self, "The folder of a project")
        if path:
            self.controller.open(Path(path))

    def import_capture(self) -> None:
        """Ask for files and import them."""
        paths, _ = QFileDialog.getOpenFileNames(self, "Files of current to import")
        self.import_files([Path(path) for path in paths])

    def add_parts(self) -> None:
        """Ask for a file of parts."""
        path, _ = QFileDialog.getOpenFileName(self, "A file of parts", filter="Parts (*.json)")
        if path:
            self.add_parts_from(Path(path))

    def add_parts_from(self, path: Path) -> None:
        """Take the parts of a file into the project; what is wrong with it is told."""
        try:
            library = read_parts_file(path)
        except WarmEmberError as error:
            self.messages.show_trouble(error.one_line)
            return
        parts = library.parts
        self.controller.apply(edits.add_parts(library), f"add {counted(len(parts), 'part')}")
        self.messages.show_note(
            f"{counted(len(parts), 'part')} added from {path.name}: {', '.join(part.name for part in parts)}"
        )

    def import_files(self, paths: list[Path]) -> None:
        """Look at files to import them, logs and dumps among them beside their capture; a project opens."""
        folders = [path for path in paths if path.is_dir() or path.name == "project.json"]
        if folders:
            self.controller.open(folders[0] if folders[0].is_dir() else folders[0].parent)
            return
        if self.controller.session is None:
            self.new_project()
        if self.controller.session is None:
            return
        session = self.controller.session
        # What reads files is not needed before there are some.
        from warm_ember.session.import_requests import requests_for
        from warm_ember.session.new_capture import free_name

        try:
            requests = requests_for(paths, lambda wanted: free_name(session, wanted))
        except WarmEmberError as error:
            self.messages.show_trouble(error.one_line)
            return
        if not requests:
            self.messages.show_trouble("Logs and line dumps come with a capture: choose its file together with them.")
            return
        self.pages.imports.show_files(requests)
        self.pages.setCurrentWidget(self.pages.imports)
        self._show_header()

    def _on_imports_finished(self) -> None:
        self.show_page("Trace")

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            event.acceptProposedAction()
            self.import_files(paths)

    def keys_text(self) -> str:
        """Return all actions with their keys, as lines of text."""
        for title in TITLES:
            self.pages.page(title)
        found: dict[str, str] = {}

        def collect(menu: QMenu) -> None:
            for action in menu.actions():
                inner = action.menu()
                if isinstance(inner, QMenu):
                    collect(inner)
                elif not action.shortcut().isEmpty():
                    found[action.text().replace("&", "")] = action.shortcut().toString()

        for menu in self._menus.values():
            collect(menu)
        found |= {
            "Zoom around the pointer": "wheel",
            "Zoom in and out": "Up, Down",
            "Zoom to a stretch": "Shift + drag",
            "Pan": "drag the time axis, or Left, Right",
            "Bracket in the middle of the window": "Enter",
            "No snapping": "Alt while dragging",
            "Move the reading cursor": "Shift+Left, Shift+Right",
            "Start and end of the capture": "Home, End",
            "Choose a step's edge in the fold": "Left, Right",
            "Move, add and remove a step's edge": "Ctrl+Left, Ctrl+Right, Insert, Delete",
            "Import the file that is shown, or leave it out": "Ctrl+Return, Esc",
            "Make a corrected copy": "Ctrl+Return in data quality",
        }
        return "\n".join(f"{text}: {keys}" for text, keys in found.items())

    def show_keys(self) -> None:
        """Show all keys."""
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Keys", self.keys_text(), QMessageBox.StandardButton.Close, self)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def show_about(self) -> None:
        """Return what the program is."""
        what = "From amperes to months: where a battery device's charge goes, and what to change so that it lasts."
        text = f"Warm Ember {__version__}\n\n{what}"
        box = QMessageBox(QMessageBox.Icon.NoIcon, "About", text, QMessageBox.StandardButton.Close, self)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() in (QEvent.Type.ApplicationFontChange, QEvent.Type.FontChange):
            self.look.follow_text_size()
        elif event.type() == QEvent.Type.ActivationChange and self.isActiveWindow():
            self.controller.take_in_others()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.settings.setValue("geometry", self.saveGeometry())
        self.settings.setValue("theme", self.look.theme.name)
        self.settings.setValue("page", self.page.title)
        if "Trace" in self.pages.built:
            stack = self.pages.trace.stack
            self.settings.setValue("folded", [name for name in stack.foldable_names() if stack.is_folded(name)])
        self.controller.close()
        super().closeEvent(event)
