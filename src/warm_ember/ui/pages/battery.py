"""The Battery page: from duty cycle to a life one can promise."""

from __future__ import annotations

import math
from collections.abc import Callable

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QGuiApplication
from PySide6.QtWidgets import QHBoxLayout, QInputDialog, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from warm_ember.battery.cells import check_battery
from warm_ember.battery.sensitivity import Step
from warm_ember.battery.supply import check_supply
from warm_ember.errors import BadArgumentError
from warm_ember.model.battery import Activity, FromStates
from warm_ember.model.figure import Grade
from warm_ember.session import edits
from warm_ember.session.battery_results import Tradeoffs
from warm_ember.session.results import RunResults
from warm_ember.ui.desk import Desk
from warm_ember.ui.look.theme import Look
from warm_ember.ui.pages.battery_panel import BatteryPanel
from warm_ember.ui.pages.day_view import SIDE, DayView
from warm_ember.ui.pages.months_view import MonthsView
from warm_ember.ui.pages.page import Page
from warm_ember.ui.pages.tradeoff_view import TradeoffView
from warm_ember.ui.shell.headline import Switch
from warm_ember.ui.shell.spine import LinkFigure
from warm_ember.units import MONTH_S, Rate, bare, months_text, quantity_text, significant

_LIFE, _TRADE = "life", "trade-offs"
_WIDE = 1150


class BatteryPage(Page):
    """Activities, battery, target and life."""

    title = "Battery"

    def __init__(self, desk: Desk, look: Look) -> None:
        super().__init__(desk, look)
        self.results: RunResults | None = None
        self.steps: tuple[Step, ...] = ()
        self.day = DayView(look)
        self.months = MonthsView(look)
        self.tradeoffs = TradeoffView(look)
        self._parameter = ""
        self.panel = BatteryPanel(look)
        self._build()
        self.day.rate_entered.connect(self._on_rate)
        self.panel.changed.connect(self._on_changed)
        self.tradeoffs.parameter_chosen.connect(self.choose_parameter)
        desk.runs_changed.connect(self._show)
        self._actions = self._make_actions()

    def _build(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.day)
        below = QWidget()
        row = QHBoxLayout(below)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self._stacked = QStackedWidget()
        self._stacked.addWidget(self.months)
        self._trade_scroll = QScrollArea()
        self._trade_scroll.setWidgetResizable(True)
        self._trade_scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._trade_scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._trade_scroll.setWidget(self.tradeoffs)
        self._stacked.addWidget(self._trade_scroll)
        row.addWidget(self._stacked, 1)
        scroll = QScrollArea()
        scroll.setWidget(self.panel)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setFixedWidth(self.look.px(SIDE))
        self._side = scroll
        row.addWidget(scroll)
        layout.addWidget(below, 1)

    def _make_actions(self) -> list[QAction]:
        some: tuple[tuple[str, str, Callable[[], object]], ...] = (
            ("Add an activity from a state …", "Ctrl+Shift+A", self.add_activity),
            ("Remove an activity …", "Ctrl+Shift+D", self.remove_activity),
            ("Months of life", "Ctrl+1", lambda: self.show_view(_LIFE)),
            ("Trade-offs", "Ctrl+2", lambda: self.show_view(_TRADE)),
            ("Copy the trade-offs as text", "Ctrl+C", self._copy),
        )
        return [self.make_action(*one) for one in some]

    def page_actions(self) -> list[QAction]:
        return self._actions

    def show_results(self, results: RunResults | None) -> None:
        self.results = results
        self.steps = results.steps if results is not None else ()
        self.panel.show_project(self.desk.project)
        self._show()

    def _show(self) -> None:
        self.day.set_results(self.results)
        others = self._others()
        self.months.set_results(self.results, others[0] if others else None, self.steps)
        self.panel.show_results(self.results, others)
        if self.results is None:
            self.tradeoffs.show_tradeoffs(None)
        self._ask_tradeoffs()

    @property
    def view(self) -> str:
        """The view that is open."""
        return _TRADE if self._stacked.currentWidget() is self._trade_scroll else _LIFE

    def show_view(self, name: str) -> None:
        """Open a view."""
        self._stacked.setCurrentWidget(self._trade_scroll if name == _TRADE else self.months)
        self._give_room()
        self._ask_tradeoffs()
        self.headline_changed.emit()

    def resizeEvent(self, event: object) -> None:
        self._give_room()

    def _give_room(self) -> None:
        """Leave the battery's fields out beside the trade-offs where there is no room for both."""
        self._side.setVisible(self.view == _LIFE or self.width() >= self.look.px(_WIDE))

    def choose_parameter(self, name: str) -> None:
        """Show the life against another parameter."""
        self._parameter = name
        self._ask_tradeoffs()

    def _ask_tradeoffs(self) -> None:
        session, results = self.desk.session, self.results
        if session is None or results is None or self.view != _TRADE:
            return
        project, name, parameter = self.desk.project, results.run.name, self._parameter
        activity = parameter.rpartition(",")[0]
        self.desk.work(
            "trade-offs",
            "trying each parameter",
            lambda should_stop, _progress: session.battery.tradeoffs(project, name, parameter, activity, should_stop),
            self._on_tradeoffs,
        )

    def _on_tradeoffs(self, found: Tradeoffs) -> None:
        self.tradeoffs.show_tradeoffs(found)
        box = self.tradeoffs.chosen_box.toRect()
        self._trade_scroll.ensureVisible(box.center().x(), box.center().y(), 0, box.height())
        self.headline_changed.emit()

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText(self.tradeoffs.text())

    def _others(self) -> tuple[RunResults, ...]:
        """Return the other runs, the longest life first."""
        if self.results is None:
            return ()
        mine = self.results.run.name
        others = [r for name, r in self.desk.all_results.items() if name != mine]
        return tuple(sorted(others, key=lambda r: -r.life.life_s))

    def _on_rate(self, name: str, rate: Rate) -> None:
        activity = next((a for a in self.desk.project.activities if a.name == name), None)
        if activity is not None:
            changed = msgspec.structs.replace(activity, interval_s=rate.interval_s, per_day=rate.per_day)
            self.desk.apply(edits.set_activity(changed), f"change how often {name} comes")

    def _on_changed(self, part: str, field: str, value: object) -> None:
        fields: dict[str, object] = {field: value}
        if part == "battery":
            fields["grade"] = Grade.TYPED
            if field == "cell":
                fields["resistance_ohm"] = None
        edit = edits.Change(part, fields)
        try:
            changed = edit(self.desk.project)
            check_battery(changed.battery)
            check_supply(changed.supply)
        except BadArgumentError as error:
            self.desk.troubled.emit(error.one_line)
            self.panel.show_project(self.desk.project)
            return
        self.desk.apply(edit, f"change the {field.split('_')[0]}")

    def add_activity(self) -> None:
        """Ask for a state and take its entries as an activity at the rate the capture shows."""
        if self.results is None:
            return
        names = [row.name for row in self.results.ledger.rows]
        name, chosen = QInputDialog.getItem(
            self, "Add an activity", "The state whose entries are the occurrences:", names, 0, editable=False
        )
        if chosen:
            self.add_activity_from(name)

    def add_activity_from(self, state: str) -> None:
        """Take a state's entries as an activity at the rate the capture shows."""
        row = self.results.ledger.row(state) if self.results is not None else None
        if row is None or self.results is None or not row.entries:
            return
        interval_s = self.results.ledger.duration_s / row.entries
        activity = Activity(state, FromStates((state,), state), interval_s=interval_s)
        self.desk.apply(edits.set_activity(activity), f"add the activity {state}")

    def remove_activity(self) -> None:
        """Ask for an activity and remove it."""
        names = [activity.name for activity in self.desk.project.activities]
        if not names:
            self.desk.troubled.emit("There is no activity to remove.")
            return
        name, chosen = QInputDialog.getItem(self, "Remove an activity", "Activity:", names, 0, editable=False)
        if chosen:
            self.desk.apply(edits.drop_activity(name), f"remove the activity {name}")

    def sentence(self) -> str:
        if self.results is None:
            return "Months of life appear with the first capture."
        if self.view == _TRADE:
            return self._trade_sentence()
        weakest = self.results.life.weakest
        return f"{self._answer(self.results)} Weakest: {weakest.origin}, {weakest.grade.value}."

    def _trade_sentence(self) -> str:
        found = self.tradeoffs.found
        if found is None:
            return "Trying each parameter …"
        if found.target_s is None:
            return "Type a target to see what would meet it."
        wanted = months_text(found.target_s).marked
        possible = [way for way in found.ways if way.needed is not None]
        if any(way.factor == 1.0 for way in possible):
            return f"The target of {wanted} is met; each parameter is shown with what it may be."
        floor = next((way for way in found.ways if self.results and way.name == self.results.load.base_name), None)
        text = f"The smallest single change that lasts {wanted}: none there is."
        if possible:
            best = possible[0]
            text = f"The smallest single change that lasts {wanted}: {best.name}, from {best.now} to **{best.needed}**."
        if floor is not None and floor.needed is None:
            text += " Impossible at any sleep current alone."
        return text

    def _answer(self, results: RunResults) -> str:
        life = results.life
        if not math.isfinite(life.life_s):
            return "Nothing is drawn on average: the battery lasts for ever."
        lasts = f"**{significant(life.life_s / MONTH_S)}** months"
        if life.target_s is None:
            return f"{results.run.label} lasts {lasts}, ended by {life.limit.value}; type a target to compare."
        wanted = f"**{bare(life.target_s / MONTH_S)}**"
        if life.life_s >= life.target_s:
            return f"{lasts} where {wanted} are wanted: the target is met; {life.limit.value} ends it."
        single = next((s for s in self.steps if s.better_s >= life.target_s), None)
        if life.budget_a == 0:
            return f"{lasts} where {wanted} are wanted: impossible with this battery, whatever is drawn."
        if single is None:
            return f"{lasts} where {wanted} are wanted, and no single step of any parameter gets there."
        return f"{lasts} where {wanted} are wanted; {single.name} at {single.better} would get there."

    def warning(self) -> str:
        if self.results is None:
            return ""
        if self.desk.project.battery.grade is Grade.ASSUMED:
            return "**no battery chosen**: type yours at the right"
        if self.results.load.missing:
            return f"**{', '.join(self.results.load.missing)}** not in this capture: left out"
        return ""

    def switches(self) -> tuple[Switch, ...]:
        view = Switch("View", (_LIFE, _TRADE), self.view, self.show_view)
        if self.view == _TRADE:
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
        if self.results is None:
            return LinkFigure(detail="no life yet")
        life = self.results.life
        low, high = months_text(life.p10_s).number, months_text(life.p90_s).number
        detail = f"{quantity_text(life.mean_a, 'A').marked}, **{low}** to **{high}**"
        return LinkFigure(months_text(life.life_s).marked, detail, self.warning().replace("**", ""))
