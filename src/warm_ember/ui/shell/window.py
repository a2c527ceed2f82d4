"""The window: menu, navigation, header, page, messages, budget bar."""

from __future__ import annotations

import logging
from functools import partial
from pathlib import Path

from PySide6.QtCore import QEvent, QSettings
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QMenuBar,
    QVBoxLayout,
    QWidget,
)

from warm_ember.session.recent import note_opened
from warm_ember.session.run_results import RunResults
from warm_ember.session.untitled import is_untitled
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.style import dress
from warm_ember.ui.look.theme import DAY, NIGHT, Appearance
from warm_ember.ui.pages.base import OPEN_DATA_SET_KEY, Page
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.shell.budget_bar import BudgetBar
from warm_ember.ui.shell.exports import EXPORTS, Exports
from warm_ember.ui.shell.help import Help
from warm_ember.ui.shell.message_panel import MessagePanel, ProgressPanel
from warm_ember.ui.shell.navigation_bar import NavigationBar
from warm_ember.ui.shell.next_step import NextStep
from warm_ember.ui.shell.page_header import PageHeader
from warm_ember.ui.shell.page_stack import TITLES, PageStack
from warm_ember.ui.shell.tour import TourStrip
from warm_ember.ui.shell.way_in import WayIn
from warm_ember.ui.widgets.room import Room

log = logging.getLogger(__name__)


class MainWindow(QMainWindow):
    """The one window of the program."""

    def __init__(self, controller: ProjectController, look: Appearance, settings: QSettings) -> None:
        super().__init__()
        self.controller, self.look, self.settings = controller, look, settings
        self.window_on_time = TimeWindow(self)
        self._shown_capture: object = None
        self.setAcceptDrops(True)
        self.setMinimumSize(640, 480)
        self.pages = PageStack(controller, look, self.window_on_time)
        self.exports = Exports(self, self.look, controller, lambda: self.page, lambda: self.pages.trace.fold.plan)
        self._build_shell()
        self.way_in, self.help = WayIn(self), Help(self)
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
        self.page_menus[title].addActions(page.page_actions())
        if page is pages.built.get("Trace"):
            pages.trace.export_asked.connect(self.exports.ask)
            self._restore_folded()
            self.menu_of["View"].insertActions(self._after_views, pages.trace.view_actions)
        elif page is pages.built.get("States"):
            pages.states.trace_asked.connect(lambda: self.show_page("Trace"))
        elif page is pages.built.get("Wakes"):
            pages.wakes.activity_asked.connect(self._take_wakes)
        elif page is pages.built.get("Tune"):
            pages.tune.stretch_asked.connect(self._show_evidence)
            pages.tune.wake_asked.connect(self._show_wake_plan)
        elif page is pages.built.get("Runs"):
            pages.runs.run_asked.connect(self.controller.select_run)
            pages.runs.captures_asked.connect(self._show_captures)
            pages.runs.river.changed.connect(self._show_status)

    def _build_shell(self) -> None:
        self.navigation = NavigationBar(self.look, TITLES)
        self.header = PageHeader(self.look)
        self.messages = MessagePanel(self.look)
        self.progress = ProgressPanel(self.look)
        self.budget = BudgetBar(self.look)
        self.tour = TourStrip(self.look)
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        room = Room(self.pages)
        self.next_step = NextStep(self.look)
        shown = (
            self.navigation,
            self.header,
            self.next_step,
            room,
            self.tour,
            self.messages,
            self.progress,
            self.budget,
        )
        for widget in shown:
            column.addWidget(widget, 1 if widget is room else 0)
        self.setCentralWidget(body)
        self.status = Label()
        self.menus = QMenuBar()
        self.recent_menu = QMenu("Open recent", self)
        self.recent_menu.setToolTipsVisible(True)
        top = QWidget()
        top.setObjectName("panel")
        row = QHBoxLayout(top)
        row.setContentsMargins(0, 0, self.look.px(12), 0)
        row.addWidget(self.menus)
        row.addStretch(1)
        row.addWidget(self.status)
        self.setMenuWidget(top)

    def add_action(self, menu: QMenu, text: str, keys: str | QKeySequence.StandardKey, slot: object) -> QAction:
        action = QAction(text, self)
        if keys != "":
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(lambda _checked=False: slot())  # type: ignore[operator]
        menu.addAction(action)
        return action

    def _build_menus(self) -> None:
        key = QKeySequence.StandardKey
        menus = {name: self.menus.addMenu(f"&{name}") for name in ("File", "Edit", "View", "Capture", "Help")}
        self.menu_of = menus
        self._fill_file_menu(menus["File"])
        self.undo_action = self.add_action(menus["Edit"], "Undo", key.Undo, self.controller.undo)
        self.redo_action = self.add_action(menus["Edit"], "Redo", key.Redo, self.controller.redo)
        self.add_action(menus["Edit"], "Copy a picture of the view", "Ctrl+Shift+C", self.exports.copy_picture)
        menus["Edit"].addSeparator()
        for index, title in enumerate(TITLES):
            self.add_action(menus["View"], title, f"Alt+{index + 1}", lambda title=title: self.show_page(title))
        self._after_views = menus["View"].addSeparator()
        self.add_action(menus["View"], "Night", "", lambda: self.look.set_theme(NIGHT))
        self.add_action(menus["View"], "Day", "", lambda: self.look.set_theme(DAY))
        self.add_action(menus["View"], "Switch theme", "Ctrl+T", self.other_theme)
        menus["View"].addSeparator()
        self.lanes_menu = menus["View"].addMenu("Lanes")
        self.lanes_menu.aboutToShow.connect(self._fill_lanes_menu)
        self.add_action(menus["Capture"], "Record, or stop recording", "F9", self._record_or_stop)
        self.runs_menu = menus["Capture"].addMenu("Show run")
        self.add_action(menus["Capture"], "Next run", "Ctrl+PgDown", lambda: self.step_run(1))
        self.add_action(menus["Capture"], "Previous run", "Ctrl+PgUp", lambda: self.step_run(-1))
        self.page_menus = {title: menus["Edit"].addMenu(title) for title in TITLES}
        for title, menu in self.page_menus.items():
            menu.aboutToShow.connect(partial(self.pages.page, title))
        self.add_action(menus["Help"], "Guide", "F1", self.help.show_guide)
        self.add_action(menus["Help"], "Find an action …", "Ctrl+Shift+A", self.help.find_action)
        self.add_action(menus["Help"], "Tour of the demo", "", self.help.begin_tour)
        self.add_action(menus["Help"], "About Warm Ember", "", self.help.show_about)

    def _fill_file_menu(self, menu: QMenu) -> None:
        key, way_in = QKeySequence.StandardKey, self.way_in
        self.add_action(menu, "Start page", "Ctrl+Home", way_in.show_start)
        self.add_action(menu, "New project …", key.New, way_in.new_project)
        self.add_action(menu, "Open project …", key.Open, way_in.open_project)
        self.add_action(menu, "Open a data set …", OPEN_DATA_SET_KEY, way_in.open_data_set)
        menu.addMenu(self.recent_menu)
        self.add_action(menu, "Import a capture …", "Ctrl+I", way_in.import_capture)
        self.add_action(menu, "Parts from a file …", "", way_in.add_parts)
        exports = menu.addMenu("Export")
        self.add_action(exports, "Report …", "Ctrl+R", self.exports.report)
        for what, words in EXPORTS.items():
            keys = "Ctrl+E" if what == "capture" else ""
            self.add_action(exports, f"{words} …", keys, lambda what=what: self.exports.ask(what))
        self.add_action(menu, "Save", key.Save, way_in.save)
        self.add_action(menu, "Save as …", key.SaveAs, way_in.save_as)
        menu.addSeparator()
        self.add_action(menu, "Quit", "Ctrl+Q", self.close)

    def _connect(self) -> None:
        controller = self.controller
        self.navigation.chosen.connect(self.show_page)
        self.pages.page_built.connect(self._on_page_built)
        self.pages.page_asked.connect(self.show_page)
        self.pages.imports_changed.connect(self._show_header)
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
        self.tour.closed.connect(self.tour.hide)
        self.next_step.chosen.connect(self.way_in.choose)
        self.budget.segment_chosen.connect(self._on_segment)
        controller.wakes_changed.connect(self._show_header)
        controller.plan_changed.connect(self._show_header)
        controller.quality_changed.connect(self._show_header)

    def _restore(self) -> None:
        geometry = self.settings.value("geometry")
        if geometry is None or not self.restoreGeometry(geometry):
            self.resize(1280, 800)
        self.last_page = str(self.settings.value("page", "Trace"))

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
        return page if isinstance(page, Page) else self.pages.page(self.last_page)

    def show_other(self, widget: QWidget) -> None:
        """Show what is not a page of a run: the start page, the guide, files that are looked at."""
        self.pages.setCurrentWidget(widget)
        importing = self.pages.is_importing
        self.header.setVisible(importing)
        self.budget.setVisible(not self.pages.is_starting)
        if self.pages.is_starting:
            self.navigation.light("")
        self._show_header()

    def show_page(self, title: str) -> None:
        """Open a page."""
        if title not in TITLES:
            title = "Trace"
        self.header.show()
        self.budget.show()
        self.last_page = title
        page = self.pages.page(title)
        self.pages.setCurrentWidget(page)
        page.take_focus()
        self.navigation.light(title)
        self._show_header()

    def _show_header(self) -> None:
        is_page = isinstance(self.pages.currentWidget(), Page)
        self.next_step.show_missing(self.page.missing() if is_page else None)
        self.navigation.show_figures({title: self.pages.link(title) for title in TITLES})
        if self.pages.is_starting:
            return
        page = self.page
        if self.pages.is_importing:
            self.header.show_sentence(self.pages.imports.sentence(), self.pages.imports.warning())
            self.header.show_switches(())
        else:
            self.header.show_sentence(page.sentence(), page.warning())
            self.header.show_switches(page.switches())

    def _take_wakes(self, source: str) -> None:
        """Take the wakes by a source as an activity of the battery's."""
        self.show_page("Battery")
        self.pages.battery.activities.add_wake(source)

    def _on_session(self) -> None:
        session = self.controller.session
        self.messages.forget_note()
        self._shown_capture = None
        if session is not None:
            note_opened(session)
            if self.pages.is_starting or self.pages.is_reading or self.pages.currentWidget() is None:
                self.show_page(self.last_page)
        elif not self.controller.is_between:
            self.way_in.show_start()
        self._show_status()

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
            action = self.add_action(
                self.runs_menu, run.label, "", lambda name=run.name: self.controller.select_run(name)
            )
            action.setCheckable(True)
            action.setChecked(session is not None and session.current == run.name)
        self._show_status()

    def _show_status(self) -> None:
        session = self.controller.session
        if session is None:
            name = self.pages.runs.shown_data_set if "Runs" in self.pages.built else ""
            self.status.setText(f"{name}   ·   data set" if name else "no project open")
            self.setWindowTitle(f"{name} – Warm Ember" if name else "Warm Ember")
            return
        kept = "not named yet, kept automatically" if is_untitled(session.folder.path) else "saved"
        self.status.setText(f"{session.title}   ·   {kept if session.is_saved else 'saving …'}")
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

    def open_data_set(self, address: str) -> None:
        """Show a data set on Runs, whether a project is open or not."""
        self.show_page("Runs")
        self.pages.runs.open_data_set(address)

    def _show_captures(self, project: Path | None, names: tuple[str, ...]) -> None:
        """Show runs of a project, which is opened if it is another: one on Trace, two beside each other on Runs."""
        session = self.controller.session
        is_here = session is not None and project is not None and session.folder.path.resolve() == project.resolve()
        if project is not None and not is_here and not self.controller.open(project):
            return
        self.controller.select_run(names[-1])
        if len(names) > 1:
            self.show_page("Runs")
            self.pages.runs.show_pair(*names)
        else:
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
            action = self.add_action(self.lanes_menu, name, "", lambda n=name, f=folded: stack.set_folded(n, not f))
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

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            event.acceptProposedAction()
            self.way_in.import_files(paths)

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() in (QEvent.Type.ApplicationFontChange, QEvent.Type.FontChange):
            self.look.follow_text_size()
        elif event.type() == QEvent.Type.ActivationChange and self.isActiveWindow():
            self.controller.take_in_others()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.settings.setValue("geometry", self.saveGeometry())
        self.settings.setValue("theme", self.look.theme.name)
        self.settings.setValue("page", self.last_page)
        if "Trace" in self.pages.built:
            stack = self.pages.trace.stack
            self.settings.setValue("folded", [name for name in stack.foldable_names() if stack.is_folded(name)])
        self.controller.close()
        super().closeEvent(event)
