"""The pages of the window, each built when it is first asked for, so that none waits for the others."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, TypeVar

from PySide6.QtCore import Signal

from warm_ember.session.page_links import LinkFigure, link_to
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Page
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.view_stack import ViewStack

if TYPE_CHECKING:
    from warm_ember.ui.pages.battery.page import BatteryPage
    from warm_ember.ui.pages.bench.page import BenchPage
    from warm_ember.ui.pages.guide.view import GuideView
    from warm_ember.ui.pages.importing.view import ImportView
    from warm_ember.ui.pages.runs.page import RunsPage
    from warm_ember.ui.pages.start.page import StartPage
    from warm_ember.ui.pages.states.page import StatesPage
    from warm_ember.ui.pages.trace.page import TracePage
    from warm_ember.ui.pages.tune.page import TunePage
    from warm_ember.ui.pages.wakes.page import WakesPage

TITLES = ("Bench", "Trace", "States", "Wakes", "Battery", "Tune", "Runs")

P = TypeVar("P", bound=Page)


class PageStack(ViewStack):
    """Hold the pages, and show one of them or the files to import.

    Parameters
    ----------
    controller, look
        What all pages share.
    window_on_time
        The stretch of time that the pages with lanes show.

    Attributes
    ----------
    built
        The pages that somebody asked for, by title.

    Signals
    -------
    page_built
        A page was asked for the first time: its title.
    start_built, guide_built
        The start page, the guide was.
    page_asked
        The title of a page where the next step is.
    imports_changed, imports_finished
        What the view of files to import says is no longer as it was; there are none left.
    """

    page_built = Signal(str)
    page_asked = Signal(str)
    start_built = Signal()
    guide_built = Signal()
    imports_changed = Signal()
    imports_finished = Signal()

    def __init__(self, controller: ProjectController, look: Appearance, window_on_time: TimeWindow) -> None:
        super().__init__()
        self._controller, self._look, self._on_time = controller, look, window_on_time
        self.built: dict[str, Page] = {}
        self._imports: ImportView | None = None
        self._start: StartPage | None = None
        self._guide: GuideView | None = None

    @cached_property
    def bench(self) -> BenchPage:
        """The Bench page."""
        from warm_ember.ui.pages.bench.page import BenchPage

        return self._add(BenchPage(self._controller, self._look))

    @cached_property
    def trace(self) -> TracePage:
        """The Trace page."""
        from warm_ember.ui.pages.trace.page import TracePage

        return self._add(TracePage(self._controller, self._look, self._on_time))

    @cached_property
    def states(self) -> StatesPage:
        """The States page."""
        from warm_ember.ui.pages.states.page import StatesPage

        return self._add(StatesPage(self._controller, self._look, self._on_time))

    @cached_property
    def wakes(self) -> WakesPage:
        """The Wakes page."""
        from warm_ember.ui.pages.wakes.page import WakesPage

        return self._add(WakesPage(self._controller, self._look, self._on_time))

    @cached_property
    def battery(self) -> BatteryPage:
        """The Battery page."""
        from warm_ember.ui.pages.battery.page import BatteryPage

        return self._add(BatteryPage(self._controller, self._look))

    @cached_property
    def tune(self) -> TunePage:
        """The Tune page."""
        from warm_ember.ui.pages.tune.page import TunePage

        return self._add(TunePage(self._controller, self._look))

    @cached_property
    def runs(self) -> RunsPage:
        """The Runs page."""
        from warm_ember.ui.pages.runs.page import RunsPage

        page = RunsPage(self._controller, self._look)
        page.show_runs(self._controller.all_results)
        return self._add(page)

    @cached_property
    def imports(self) -> ImportView:
        """The view of files to import."""
        from warm_ember.ui.pages.importing.view import ImportView

        self._imports = ImportView(self._controller, self._look)
        self._imports.import_asked.connect(self._controller.import_file)
        self._imports.finished.connect(self.imports_finished)
        self._imports.changed.connect(self.imports_changed)
        self.addWidget(self._imports)
        return self._imports

    @cached_property
    def start(self) -> StartPage:
        """The start page."""
        from warm_ember.ui.pages.start.page import StartPage

        self._start = StartPage(self._look)
        self.addWidget(self._start)
        self.__dict__["start"] = self._start
        self.start_built.emit()
        return self._start

    @cached_property
    def guide(self) -> GuideView:
        """The guide."""
        from warm_ember.ui.pages.guide.view import GuideView

        self._guide = GuideView(self._look)
        self.addWidget(self._guide)
        self.__dict__["guide"] = self._guide
        self.guide_built.emit()
        return self._guide

    @property
    def is_reading(self) -> bool:
        """Whether the guide is shown."""
        return self._guide is not None and self.currentWidget() is self._guide

    @property
    def is_starting(self) -> bool:
        """Whether the start page is shown."""
        return self._start is not None and self.currentWidget() is self._start

    @property
    def is_importing(self) -> bool:
        """Whether files to import are shown."""
        return self._imports is not None and self.currentWidget() is self._imports

    def page(self, title: str) -> Page:
        """Return a page by its title."""
        found: Page = getattr(self, title.lower())
        return found

    def link(self, title: str) -> LinkFigure:
        """Return what the link to a page shows."""
        page = self.built.get(title)
        return page.link() if page is not None else link_to(title, self._controller.known)

    def _add(self, page: P) -> P:
        self.addWidget(page)
        page.page_asked.connect(self.page_asked)
        page.show_results(self._controller.results)
        self.built[page.title] = page
        # It may be asked for again by who hears of it.
        self.__dict__[page.title.lower()] = page
        self.page_built.emit(page.title)
        return page
