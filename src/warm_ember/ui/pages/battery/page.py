"""The Battery page: from duty cycle to a life one can promise."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from warm_ember.errors import BadArgumentError
from warm_ember.model.battery import Climate
from warm_ember.model.figure import Grade
from warm_ember.model.project import Edit
from warm_ember.model.rates import rates
from warm_ember.session import edits, kind_edits
from warm_ember.session.battery_results import LifeInYears, Tradeoffs, UnseenLife, check_edited
from warm_ember.session.kind_words import model_sentence
from warm_ember.session.page_links import LinkFigure, battery_doubt, battery_link
from warm_ember.session.run_results import RunResults
from warm_ember.session.wake_results import WakesShown
from warm_ember.ui.latest import Latest
from warm_ember.ui.look.copying import copy_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Page
from warm_ember.ui.pages.battery import sentences as words
from warm_ember.ui.pages.battery.activity_part import ActivityPart
from warm_ember.ui.pages.battery.cell_part import CellPart
from warm_ember.ui.pages.battery.day_view import SIDE
from warm_ember.ui.pages.battery.months_view import MonthsView
from warm_ember.ui.pages.battery.panel import BatteryPanel
from warm_ember.ui.pages.battery.tradeoff_view import TradeoffView
from warm_ember.ui.pages.battery.years_view import YearsView
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.model_strip import ModelStrip
from warm_ember.ui.widgets.side_by_side import SideBySide
from warm_ember.ui.widgets.switches import Switch
from warm_ember.ui.widgets.view_stack import ViewStack

if TYPE_CHECKING:
    from warm_ember.session.records import SensitivityStep


_LIFE, _YEARS, _TRADE, _CELL = "life", "years", "trade-offs", "cell"
_VIEWS = (_LIFE, _YEARS, _TRADE, _CELL)
_WIDE, _WIDE_ENOUGH = 1150, 940


class BatteryPage(Page):
    """Activities, battery, target and life."""

    title = "Battery"
    shows_all_runs = True

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.results: RunResults | None = None
        self.preview: RunResults | None = None
        self.steps: tuple[SensitivityStep, ...] = ()
        self.in_years: LifeInYears | None = None
        self.unseen: UnseenLife | None = None
        self.activities = ActivityPart(controller, look)
        self.months = MonthsView(look)
        self.years = YearsView(look)
        self.tradeoffs = TradeoffView(look)
        self.cell = CellPart(controller, look)
        self.panel = BatteryPanel(look)
        self._parameter = ""
        self._following = Latest(controller.jobs, "dragged figures", lambda _error: None)
        self._build()
        self._connect()
        self._actions = self._make_actions()

    def _build(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.activities.day)
        self._stacked = ViewStack()
        self._trade_scroll = self._scrolled(self.tradeoffs)
        self._views = {
            _LIFE: self.months,
            _YEARS: self._scrolled(self.years),
            _TRADE: self._trade_scroll,
            _CELL: self._scrolled(self.cell.view),
        }
        for widget in self._views.values():
            self._stacked.addWidget(widget)
        self._side = ViewStack()
        for panel in (self.panel, self.activities.panel):
            self._side.addWidget(self._scrolled(panel))
        self._side.setMinimumWidth(self.look.px(SIDE))
        below = SideBySide(self.look, (self._stacked, 1), (self._side, 0), _WIDE_ENOUGH, self._stacked)
        layout.addWidget(below, 1)
        self.strip = ModelStrip(self.look, "Ctrl+Enter")
        layout.addWidget(self.strip)

    def _scrolled(self, widget: QWidget) -> QScrollArea:
        scroll = QScrollArea()
        scroll.setWidget(widget)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        return scroll

    def _connect(self) -> None:
        refused = self.controller.troubled.emit
        self.panel.changed.connect(self._on_changed)
        self.panel.dragged.connect(lambda part, field, value: self._follow(edits.change_feed(part, field, value)))
        self.panel.refused.connect(refused)
        self.panel.given_up.connect(self._stop_following)
        self.activities.entered.connect(self._send)
        self.activities.dragged.connect(self._follow)
        self.activities.given_up.connect(self._stop_following)
        self.activities.opened.connect(self._on_opened)
        self.years.climate_entered.connect(self._on_climate)
        self.years.refused.connect(refused)
        self.tradeoffs.parameter_chosen.connect(self.choose_parameter)
        self.cell.cell_entered.connect(self._on_cell)
        self.controller.runs_changed.connect(self._show)
        self.controller.wakes_changed.connect(self._offer)
        self.strip.taken.connect(self._take_kinds)

    def _make_actions(self) -> list[QAction]:
        some: tuple[tuple[str, str, Callable[[], object]], ...] = (
            ("Add an activity from a state or a wake …", "Ctrl+Shift+N", self.activities.add),
            ("Take the run as the model", "Ctrl+Shift+M", self.activities.take_run),
            ("Take the kinds of wakes as the model", "Ctrl+Return", self._take_kinds),
            ("Remove an activity …", "Ctrl+Shift+D", self.activities.remove),
            ("Months of life", "Ctrl+1", lambda: self.show_view(_LIFE)),
            ("Year by year", "Ctrl+2", lambda: self.show_view(_YEARS)),
            ("Trade-offs", "Ctrl+3", lambda: self.show_view(_TRADE)),
            ("The cell", "Ctrl+4", lambda: self.show_view(_CELL)),
            ("Compare the cell with a discharge …", "Ctrl+K", self.cell.check),
            ("Make a cell from discharges …", "Ctrl+J", self.cell.from_discharges),
            ("Open a cell …", "Ctrl+L", self.cell.open),
            ("Save the cell …", "Ctrl+U", self.cell.save),
            ("Copy the view as text", "Ctrl+C", self._copy),
        )
        return [self.make_action(*one) for one in some]

    def page_actions(self) -> list[QAction]:
        return self._actions

    def _offer(self, wakes: WakesShown | None) -> None:
        """Offer the kinds of wakes as the model, as long as no activity describes the capture."""
        kinds = wakes.kinds.kinds if wakes is not None and wakes.kinds is not None else None
        offers = kinds is not None and bool(kinds.kinds) and not self.controller.project.activities
        self.strip.offer(model_sentence(kinds) if kinds is not None and offers else "")

    def _take_kinds(self) -> None:
        wakes = self.controller.wakes
        if wakes is None or wakes.kinds is None or not wakes.kinds.kinds.kinds:
            self.controller.noted.emit("This capture has no kinds of wakes to take: see Wakes.")
            return
        self.controller.apply(kind_edits.take_model(wakes.kinds), "take the kinds as the battery's model")

    def show_results(self, results: RunResults | None) -> None:
        self._stop_following()
        self.results = results
        self.steps, self.unseen = (), None
        self.in_years = None
        self.panel.show_project(self.controller.project)
        self._show()

    def _show(self) -> None:
        project, shown = self.controller.project, self.preview or self.results
        self._offer(self.controller.wakes)
        self.activities.show_results(shown)
        others = self._others()
        self.months.set_results(shown, others[0] if others else None, self.steps)
        self.panel.show_results(shown, others, self.unseen)
        self.years.show_life(shown, self.in_years, project.climate)
        self.cell.show_battery(project.battery)
        if self.results is None:
            self.tradeoffs.show_tradeoffs(None)
        self._ask()

    @property
    def view(self) -> str:
        """The view that is open."""
        return next(name for name, widget in self._views.items() if widget is self._stacked.currentWidget())

    def show_view(self, name: str) -> None:
        """Open a view."""
        self._stacked.setCurrentWidget(self._views[name])
        self._give_room()
        self._ask()
        self.header_changed.emit()

    def showEvent(self, event: object) -> None:
        super().showEvent(event)
        self._ask()

    def resizeEvent(self, event: object) -> None:
        self._give_room()

    def _give_room(self) -> None:
        """Leave the battery's fields out beside views that need the width where there is no room for both."""
        opened = self._side.currentIndex() == 1
        self._side.setVisible(opened or self.view == _LIFE or self.width() >= self.look.px(_WIDE))

    def _on_opened(self, opened: bool) -> None:
        """Show an activity's fields in the place of the battery's, or these again."""
        self._side.setCurrentIndex(int(opened))
        self._give_room()

    def choose_parameter(self, name: str) -> None:
        """Show the life against another parameter."""
        self._parameter = name
        self._ask()

    def _ask(self) -> None:
        """Ask for what the open view shows beyond the life itself."""
        session, results = self.controller.session, self.results
        if session is None or results is None or self.preview is not None or not self.isVisible():
            return
        project, name, parameter = self.controller.project, results.run.name, self._parameter
        if self.view == _LIFE and not self.steps:
            self.controller.work(
                "steps",
                "trying one more step of each parameter",
                lambda should_stop, _progress: (
                    session.battery.steps(project, name, should_stop),
                    session.battery.unseen(project, name, should_stop=should_stop),
                ),
                self._on_steps,
            )
        elif self.view == _TRADE:
            activity = parameter.rpartition(",")[0]
            self.controller.work(
                "trade-offs",
                "trying each parameter",
                lambda should_stop, _progress: session.battery.tradeoffs(
                    project, name, parameter, activity, should_stop
                ),
                self._on_tradeoffs,
            )
        elif self.view == _YEARS and self.in_years is None:
            self.controller.work(
                "years",
                "cutting the life into years",
                lambda should_stop, _progress: session.battery.in_years(project, name, should_stop),
                self._on_years,
            )

    def _on_steps(self, found: tuple[tuple[SensitivityStep, ...], UnseenLife | None]) -> None:
        self.steps, self.unseen = steps, _ = found
        others = self._others()
        self.panel.show_results(self.results, others, self.unseen)
        self.months.set_results(self.results, others[0] if others else None, steps)
        self.header_changed.emit()

    def _on_years(self, found: LifeInYears) -> None:
        self.in_years = found
        self.years.show_life(self.results, found, self.controller.project.climate)
        self.header_changed.emit()

    def _on_tradeoffs(self, found: Tradeoffs) -> None:
        self.tradeoffs.show_tradeoffs(found)
        box = self.tradeoffs.chosen_box.toRect()
        self._trade_scroll.ensureVisible(box.center().x(), box.center().y(), 0, box.height())
        self.header_changed.emit()

    def _copy(self) -> None:
        texts = {_TRADE: self.tradeoffs.text, _YEARS: self.years.text, _CELL: self.cell.text}
        copy_text(texts.get(self.view, self.activities.day.text)())

    def _others(self) -> tuple[RunResults, ...]:
        """Return the other runs, the longest life first."""
        if self.results is None:
            return ()
        mine = self.results.run.name
        others = [r for name, r in self.controller.all_results.items() if name != mine]
        return tuple(sorted(others, key=lambda r: -r.life.life_s))

    def _follow(self, edit: Edit) -> None:
        """Show roughly what an edit would do, while its value is still being dragged."""
        session, results = self.controller.session, self.results
        if session is None or results is None:
            return
        project = edit(self.controller.project)
        like = self.preview or results
        self._following.run(
            lambda should_stop, _progress: session.results.preview(project, like, should_stop), self._on_preview
        )

    def _on_preview(self, preview: RunResults) -> None:
        # What depends on more than this life, the other runs and each step, is not true any more and not shown.
        self.preview = preview
        self.activities.day.set_results(preview)
        self.months.set_results(preview, None, ())
        self.panel.show_results(preview, ())
        if self.view == _YEARS:
            self.years.show_life(preview, None, self.controller.project.climate)
        self.header_changed.emit()

    def _stop_following(self) -> None:
        self._following.stop()
        if self.preview is not None:
            self.preview = None
            self._show()
            self.panel.show_project(self.controller.project)

    def _send(self, edit: Edit, what: str) -> None:
        """Send an edit unless it makes something impossible, which is said."""
        try:
            changed = edit(self.controller.project)
            rates(changed.activities)
            if self.results is not None:
                check_edited(changed, self.results)
        except BadArgumentError as error:
            self.controller.troubled.emit(error.one_line)
            self._stop_following()
            self.panel.show_project(self.controller.project)
            self.activities.show_open(self.results)
            return
        self.controller.apply(edit, what)

    def _on_changed(self, part: str, field: str, value: object) -> None:
        self._send(
            edits.change_feed(part, field, value),
            f"change the {field.split('_')[0]}",
        )

    def _on_climate(self, climate: Climate) -> None:
        self._send(edits.SetFields("project", {"climate": climate}), "change the year that it lives in")

    def _on_cell(self, changes: dict[str, Any], what: str) -> None:
        self._send(edits.SetFields("battery", {"grade": Grade.ENTERED, **changes}), what)

    def sentence(self) -> str:
        shown = self.preview or self.results
        if shown is None:
            return "Months of life appear with the first capture."
        if self.view == _TRADE:
            return words.trade_sentence(self.tradeoffs.found, self.results)
        if self.view == _YEARS and self.in_years is not None:
            return words.years_sentence(shown, self.in_years, self.steps)
        if self.view == _CELL:
            return self.cell.sentence()
        return words.life_sentence(shown, self.steps)

    def warning(self) -> str:
        return battery_doubt(self.results, self.controller.project)

    def switches(self) -> tuple[Switch, ...]:
        view = Switch("View", _VIEWS, self.view, self.show_view)
        if self.view != _LIFE:
            return (view,)
        return (
            view,
            Switch(
                "Months",
                ("linear", "log"),
                "log" if self.months.log else "linear",
                lambda o: self.months.set_log(o == "log"),
            ),
        )

    def link(self) -> LinkFigure:
        return battery_link(self.preview or self.results, self.warning())
