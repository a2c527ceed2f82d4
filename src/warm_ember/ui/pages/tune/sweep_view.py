"""The sweep on the Tune page: its recipe, its points as they come, what was learnt, and the best setting."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFontDatabase, QGuiApplication
from PySide6.QtWidgets import QHBoxLayout, QPlainTextEdit, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from warm_ember.errors import BadArgumentError
from warm_ember.model.sweep import Setting, SweepRecipe, value_text
from warm_ember.session import plan_edits
from warm_ember.session.sweep_recipes import first_recipe, recipe_in_progress, recipe_of, recipe_text
from warm_ember.session.sweep_results import SweepResult, change_of
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.tune.sweep_chart import SweepChart
from warm_ember.ui.pages.tune.sweep_controller import SweepController
from warm_ember.ui.pages.tune.sweep_form import SweepForm
from warm_ember.ui.pages.tune.sweep_learnt import SweepGrid, SweepLearnt
from warm_ember.ui.pages.tune.sweep_points import SweepPoints
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.inverted_key import InvertedKey
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.ui.widgets.switches import Switch, Switches
from warm_ember.units import MONTH_S, format_significant, interval_text

_EMPTY = "No sweep yet: write what is varied and how it is set, and the bench finds the best setting."


class SweepView(QWidget):
    """Recipe and points at the left, the picture in the middle, what was learnt at the right.

    Signals
    -------
    changed
        The sentence is no longer as it was.
    captures_asked
        A run that is to be shown.
    """

    changed = Signal()
    captures_asked = Signal(str)

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__()
        self._controller, self._look = controller, look
        self.sweeps = SweepController(controller)
        self.result: SweepResult | None = None
        self.chosen: Setting | None = None
        self.recipe, self.state, self.form = QPlainTextEdit(), Label(), SweepForm(look)
        self.recipe_stack, self.recipe_as = QStackedWidget(), Switches(look)
        self.points, self.chart = SweepPoints(look), SweepChart(look)
        self.learnt, self.grid = SweepLearnt(look), SweepGrid(look)
        self.keys = {
            name: KeyButton(look, words, key)
            for name, words, key in (
                ("run", "Run the sweep", "Ctrl+Shift+F9"),
                ("stop", "Stop", "Esc"),
                ("done", "It is set", "Space"),
                ("open", "Open the captures", "O"),
            )
        }
        self.take_key = InvertedKey(look, "Take into the plan", "Enter")
        self._build()
        self._connect()
        self._on_look()

    def _build(self) -> None:
        px = self._look.px
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(1)
        self.recipe_stack.addWidget(self._scrolled(self.form))
        self.recipe_stack.addWidget(self.recipe)
        keys = self._keys("run", "stop", "done")
        left = self._column((self._head(), 0), (self.recipe_stack, 6), (keys, 0), (self.state, 0))
        self.state.setWordWrap(True)
        self.state.setContentsMargins(px(16), px(2), px(12), px(4))
        self.recipe.setAccessibleName("recipe of the sweep, JSON")
        self.recipe.setTabChangesFocus(True)
        self.recipe.setMinimumHeight(px(120))
        layout = left.layout()
        assert isinstance(layout, QVBoxLayout)
        self._list = self._scrolled(self.points)
        self._list.hide()  # until there is something, the recipe has the room
        layout.addWidget(self._list, 5)
        right_keys = self._keys("open", first=self.take_key)
        right = self._column((self._scrolled(self.learnt), 5), (self.grid, 4), (right_keys, 0))
        self._sides = (left, right)
        row.addWidget(left, 8)
        row.addWidget(self.chart, 14)
        row.addWidget(right, 10)

    def _column(self, *parts: tuple[QWidget, int]) -> QWidget:
        column = QWidget()
        column.setObjectName("page")
        layout = QVBoxLayout(column)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        for widget, stretch in parts:
            layout.addWidget(widget, stretch)
        return column

    def _head(self) -> QWidget:
        """Return the title with the choice between fields and text."""
        px, head = self._look.px, QWidget()
        head.setObjectName("page")
        row = QHBoxLayout(head)
        row.setContentsMargins(px(16), 0, px(8), 0)
        row.addWidget(Label("Recipe"))
        row.addStretch(1)
        row.addWidget(self.recipe_as)
        self.show_recipe_as("fields")
        return head

    def _scrolled(self, widget: QWidget) -> QScrollArea:
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(widget)
        return scroll

    def show_recipe_as(self, what: str) -> None:
        """Show the recipe in fields or as text; a text that is no recipe stays one, and what is wrong is said."""
        if what == "fields" and self.recipe.toPlainText():
            try:
                self.form.show_recipe(recipe_in_progress(self.recipe.toPlainText()))
            except BadArgumentError as error:
                self._controller.troubled.emit(error.one_line)
                what = "text"
        self.recipe_stack.setCurrentIndex(int(what == "text"))
        self.recipe_as.show_switches((Switch("", ("fields", "text"), what, self.show_recipe_as),))

    def _set_recipe(self, recipe: SweepRecipe) -> None:
        self.recipe.setPlainText(recipe_text(recipe))
        self.form.show_recipe(recipe)

    def _keys(self, *names: str, first: QWidget | None = None) -> QWidget:
        px = self._look.px
        strip = QWidget()
        strip.setObjectName("page")
        row = QHBoxLayout(strip)
        row.setContentsMargins(px(16), px(6), px(12), px(6))
        row.setSpacing(px(6))
        for key in ([first] if first is not None else []) + [self.keys[name] for name in names]:
            row.addWidget(key)
        row.addStretch(1)
        return strip

    def _connect(self) -> None:
        self.sweeps.changed.connect(self.show_result)
        self.sweeps.said.connect(self._on_said)
        self.sweeps.asked.connect(self._on_asked)
        self.form.changed.connect(lambda recipe: self.recipe.setPlainText(recipe_text(recipe)))
        self.form.refused.connect(self._controller.troubled)
        for view in (self.points, self.chart, self.grid):
            view.picked.connect(self.choose)
        self.keys["run"].clicked.connect(lambda _checked: self.run())
        self.keys["stop"].clicked.connect(lambda _checked: self.sweeps.stop())
        self.keys["done"].clicked.connect(lambda _checked: self.sweeps.answer())
        self.take_key.clicked.connect(lambda _checked: self.take_into_plan())
        self.keys["open"].clicked.connect(lambda _checked: self.open_captures())
        self._controller.session_changed.connect(self._on_session)
        self._look.changed.connect(self._on_look)
        self.keys["stop"].hide()
        self.keys["done"].hide()

    def _on_look(self) -> None:
        font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        font.setPointSizeF(QGuiApplication.font().pointSizeF() * 0.9)
        self.recipe.setFont(font)
        self.state.setFont(self._look.font("small"))
        left, right = self._sides
        bar = self._list.verticalScrollBar().sizeHint().width()
        left.setMinimumWidth(max(self._look.px(300), self.form.needs_width() + bar))
        right.setMinimumWidth(0)
        right.setMinimumWidth(max(self._look.px(330), right.minimumSizeHint().width()))

    def _on_session(self) -> None:
        self.result, self.chosen = None, None
        self.recipe.setPlainText("")
        self.show_result(None)

    def look_at(self) -> None:
        """Show the latest sweep of the project, or a recipe to begin with."""
        if self.recipe.toPlainText() or self._controller.session is None:
            return
        self._set_recipe(first_recipe(self._controller.project.bench))
        self.sweeps.open_latest()

    def choose_sweep(self, name: str) -> None:
        """Show another sweep of the project."""
        path = dict(self.sweeps.names).get(name)
        if path is not None:
            self.open(path)

    def open(self, path: Path) -> None:
        """Show a sweep by its file."""
        self.sweeps.open(path)

    def run(self) -> None:
        """Run the recipe as it is written, or go on with it; what is wrong with it is told."""
        self.form.finish()
        try:
            recipe = recipe_of(self.recipe.toPlainText())
        except BadArgumentError as error:
            self._controller.troubled.emit(error.one_line)
            return
        self.sweeps.run(recipe, self._controller.project.bench.resource)

    def _on_said(self, words: str) -> None:
        is_running = self.sweeps.is_running
        self.state.setText(words)
        self.keys["run"].setVisible(not is_running)
        self.keys["stop"].setVisible(is_running)
        self.recipe.setReadOnly(is_running)
        self.form.setEnabled(not is_running)
        self.changed.emit()

    def _on_asked(self, words: str) -> None:
        self.keys["done"].setVisible(bool(words))
        if words:
            self.state.setText(words)
            self.keys["done"].setFocus()

    def show_result(self, result: SweepResult | None) -> None:
        """Show what a sweep has learnt."""
        before, self.result = self.result, result
        if result is not None and (before is None or before.recipe != result.recipe) and not self.sweeps.is_running:
            self._set_recipe(result.recipe)
        self._list.setVisible(result is not None)
        for view in (self.points, self.chart, self.learnt, self.grid):
            view.show_result(result)
        if result is not None and self.chosen is None and result.chosen is not None:
            self.choose(result.chosen.setting)
        self.take_key.setVisible(result is not None and result.chosen is not None)
        self.keys["open"].setVisible(result is not None)
        self.keys["open"].setEnabled(bool(self._captures()))
        self.changed.emit()

    def choose(self, setting: Setting | None) -> None:
        """Choose a setting, whose captures can be opened."""
        self.chosen = setting
        self.points.choose(setting)
        self.keys["open"].setEnabled(bool(self._captures()))

    def _captures(self) -> tuple[str, ...]:
        points = self.result.points if self.result is not None else ()
        return next((one.captures for one in points if one.setting == self.chosen), ())

    def open_captures(self) -> None:
        """Show the first recording of the chosen setting."""
        captures = self._captures()
        if captures:
            self.captures_asked.emit(captures[0])
        else:
            self._controller.noted.emit("Choose a setting that was measured.")

    def take_into_plan(self) -> None:
        """Make the best setting a change of the plan, with its measured gain."""
        session, result = self._controller.session, self.result
        if session is None or result is None or not session.project.rungs:
            self._controller.noted.emit("A plan starts from a run: record the device as it is today first.")
            return
        change = change_of(result, session.project.latest)
        if change is None:
            self._controller.noted.emit("The best setting is the one that the target has today.")
            return
        self._controller.apply(plan_edits.add_change(change), f"plan: {change.name}")
        self._controller.noted.emit(f"{change.name} is in the plan, with what the bench measured of it.")

    def sentence(self) -> str:
        """Return the answer in words, as rich text."""
        result = self.result
        if result is None:
            return _EMPTY
        chosen, count = result.chosen, f"with **{result.measured}** of **{len(result.points)}** settings measured"
        if chosen is None:
            return f"No setting that is allowed is measured yet, {count}."
        named = zip(result.recipe.parameters, chosen.setting, strict=True)
        words = ", ".join(f"{one.name} **{value_text(value)}** {one.unit}".strip() for one, value in named)
        months = interval_text(chosen.low_s / MONTH_S, chosen.high_s / MONTH_S, "months")
        life = f"**{format_significant(chosen.life.life_s / MONTH_S)}** months ({months})"
        is_limited = result.recipe.goal.max_latency_s is not None or result.recipe.goal.limits
        best = "is the best that is allowed" if is_limited else "is the best"
        less = "" if chosen.meets_goal else ", less than wanted"
        return f"{words[0].upper()}{words[1:]} {best}: {life}{less}, {count}."

    def warning(self) -> str:
        """Return what keeps the answer from being trusted."""
        if self.result is None:
            return ""
        periods = {one.name for one in self.result.recipe.parameters if one.has_periods}
        wrong = [one.parameter for one in self.result.fits if not one.fits and one.parameter in periods]
        return f"The model of {', '.join(wrong)} does not fit: see the residuals." if wrong else ""
