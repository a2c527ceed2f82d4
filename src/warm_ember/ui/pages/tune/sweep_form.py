"""A sweep's recipe in fields: what is varied, how it is set, how often it is measured, and when that ends."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import msgspec
from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from warm_ember.errors import BadArgumentError
from warm_ember.model.allowed import Allowed
from warm_ember.model.sweep import Search, SweepParameter, SweepRecipe
from warm_ember.session.sweep_fields import (
    read_set_by,
    read_values,
    set_by_words,
    values_words,
    with_one_more,
    with_parameter,
    without_parameter,
)
from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import MONTH_S

replace = msgspec.structs.replace
_HOUR_S = 3600.0
_LABEL, _ROW = 80, 22
_ENDS = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape)

Field = TypeVar("Field", bound=QLineEdit)


class SweepForm(QWidget):
    """The recipe, entered where it is read; what has no field stays as the text says it.

    Signals
    -------
    changed
        The recipe, after a field was changed.
    refused
        What was expected, where something else was entered.
    """

    changed = Signal(object)
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self._look = look
        self.recipe = SweepRecipe(())
        self.fields: dict[str, QLineEdit] = {}
        self.keys: dict[str, KeyButton] = {}
        self._body: QWidget | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addStretch(1)
        look.changed.connect(lambda: self.show_recipe(self.recipe))

    def show_recipe(self, recipe: SweepRecipe) -> None:
        """Show a recipe; the field that had the focus has it again."""
        focused = next((name for name, field in self.fields.items() if field.hasFocus()), "")
        self.recipe, self.fields, self.keys = recipe, {}, {}
        layout = self.layout()
        assert isinstance(layout, QVBoxLayout)
        if self._body is not None:
            layout.removeWidget(self._body)
            self._body.hide()
            self._body.deleteLater()
        self._body = self._build()
        layout.insertWidget(0, self._body)
        if focused in self.fields:
            self.fields[focused].setFocus()

    def needs_width(self) -> int:
        """Return the width in which nothing of it is cut."""
        self.show_recipe(self.recipe if self.recipe.parameters else with_one_more(with_one_more(SweepRecipe(()))))
        assert self._body is not None
        return self._body.minimumSizeHint().width()

    def finish(self) -> None:
        """Take what is being entered, as leaving the field would."""
        for field in list(self.fields.values()):
            if field.hasFocus():
                field.clearFocus()

    def _build(self) -> QWidget:
        px, body = self._look.px, QWidget()
        body.setObjectName("page")
        self._grid = QGridLayout(body)
        self._grid.setContentsMargins(px(16), px(2), px(12), px(6))
        self._grid.setHorizontalSpacing(px(8))
        self._grid.setVerticalSpacing(px(4))
        self._grid.setColumnMinimumWidth(0, px(_LABEL))
        self._grid.setColumnStretch(1, 1)
        for number, parameter in enumerate(self.recipe.parameters):
            self._add_parameter(number, parameter)
        self._add_key("add", "Add a parameter", lambda: with_one_more(self.recipe))
        self._add_measuring()
        self._add_goal()
        self._add_end()
        return body

    def _add_parameter(self, number: int, one: SweepParameter) -> None:
        def edit(**changed: object) -> None:
            self._take(with_parameter(self.recipe, number, **changed))

        title = f"{number + 1}"
        name = self._text(f"name {title}", one.name, lambda words: edit(name=words.strip()))
        unit = self._text(f"unit {title}", one.unit, lambda words: edit(unit=words.strip()), width=44)
        self._row(title, name, "in", unit)
        values = self._text(f"values {title}", values_words(one), lambda words: edit(values=read_values(words)))
        values.setToolTip(tip("600 to 14400, 8 steps, log; or 1 2 4 8; or deep idle off"))
        self._row("values", values)
        line = self._text(f"set by {title}", set_by_words(one.send), lambda words: edit(send=read_set_by(words)))
        line.setToolTip(tip("A line to the console with {value}; run: a command; ask: what a person is to do"))
        self._row("set by", line)
        confirm = self._text(f"confirmed by {title}", one.confirm, lambda words: edit(confirm=words.strip()))
        settle = self._quantity(f"settles {title}", "s", one.settle_s, lambda value: edit(settle_s=value or 0.0))
        self._row("confirmed by", confirm, "settles", settle)
        later = self._quantity(
            f"answers later {title}", "s", one.latency_per_value, lambda value: edit(latency_per_value=value or 0.0)
        )
        later.setToolTip(tip("How much later the target answers for each unit of the value"))
        key = self._key(f"remove {title}", "Remove", lambda: without_parameter(self.recipe, number))
        if len(self.recipe.parameters) < 2:
            key.hide()
        self._row(f"later per {one.unit or 'unit'}", later, " ", key)

    def _add_measuring(self) -> None:
        recipe = self.recipe
        self._rule()
        repeats = self._quantity("repeats", "", recipe.repeats, self._to(lambda value: {"repeats": round(value or 1)}))
        length = self._quantity(
            "recording", "s", recipe.record_s, self._to(lambda value: {"record_s": value or recipe.record_s}), width=78
        )
        self._row("repeats", repeats, "of", length)
        wanted = "Measure all" if recipe.search is Search.ADAPTIVE else "What decides"
        other = Search.GRID if recipe.search is Search.ADAPTIVE else Search.ADAPTIVE
        now = "what decides" if recipe.search is Search.ADAPTIVE else "all"
        self._row("measures", Label(now), "", self._key("search", wanted, lambda: replace(self.recipe, search=other)))
        console = self._text("console", recipe.console, lambda words: self._take(replace(self.recipe, console=words)))
        self._row("console", console)
        prepare = self._text(
            "first send",
            "; ".join(recipe.prepare),
            lambda words: self._take(
                replace(self.recipe, prepare=tuple(one.strip() for one in words.split(";") if one.strip()))
            ),
        )
        self._row("first send", prepare)

    def _add_goal(self) -> None:
        goal = self.recipe.goal
        self._rule()

        def edit(**changed: object) -> None:
            self._take(replace(self.recipe, goal=replace(self.recipe.goal, **changed)))

        life_s = None if goal.min_months is None else goal.min_months * MONTH_S
        life = self._quantity(
            "lives at least",
            "s",
            life_s,
            lambda value: edit(min_months=None if value is None else value / MONTH_S),
            none="any life",
            width=96,
        )
        self._row("lives at least", life)
        latency = self._quantity(
            "answers within", "s", goal.max_latency_s, lambda value: edit(max_latency_s=value), none="any time"
        )
        retry = self._quantity("one retry", "s", goal.retry_s, lambda value: edit(retry_s=value or 0.0))
        self._row("answers within", latency, "retry", retry)

    def _add_end(self) -> None:
        stop = self.recipe.stop
        self._rule()

        def edit(**changed: object) -> None:
            self._take(replace(self.recipe, stop=replace(self.recipe.stop, **changed)))

        spent_s = None if stop.hours is None else stop.hours * _HOUR_S
        hours = self._quantity(
            "stop after",
            "s",
            spent_s,
            lambda value: edit(hours=None if value is None else value / _HOUR_S),
            none="no time",
        )
        current = self._quantity("stop above", "A", stop.limit_a, lambda value: edit(limit_a=value), none="no current")
        self._row("stop after", hours, "above", current)
        chance = self._quantity(
            "stop when so sure", "%", stop.chance, lambda value: edit(chance=0.95 if value is None else value),
            allowed=Allowed(0.0, 1.0),
        )  # fmt: skip
        warm = self._quantity(
            "stop above temperature", "°C", stop.limit_c, lambda value: edit(limit_c=value), none="no °C"
        )
        self._row("best is sure", chance, "above", warm)
        self._row("always ends", Label("with the power off"))

    def _row(self, words: str, first: QWidget, between: str = "", second: QWidget | None = None) -> None:
        row, px = self._grid.rowCount(), self._look.px
        label, line = Label(words), QHBoxLayout()
        line.setSpacing(px(6))
        beside = [one for one in (Label(between) if between else None, second) if one is not None]
        line.addWidget(first, 1)
        for widget in beside:
            line.addWidget(widget)
        if not beside and isinstance(first, QuantityEdit | Label):
            line.addStretch(1)
        for widget in (label, first, *beside):
            widget.setFont(self._look.font("small"))
            widget.setMinimumHeight(px(_ROW))
        self._grid.addWidget(label, row, 0)
        self._grid.addLayout(line, row, 1)

    def _rule(self) -> None:
        rule = QWidget()
        rule.setFixedHeight(self._look.px(4))
        self._grid.addWidget(rule, self._grid.rowCount(), 0, 1, 2)

    def _add_key(self, name: str, words: str, recipe_of: Callable[[], SweepRecipe]) -> None:
        self._grid.addWidget(self._key(name, words, recipe_of), self._grid.rowCount(), 1, Qt.AlignmentFlag.AlignLeft)

    def _key(self, name: str, words: str, recipe_of: Callable[[], SweepRecipe]) -> KeyButton:
        key = KeyButton(self._look, words, "")
        key.clicked.connect(lambda _checked: self._take(recipe_of()))
        self.keys[name] = key
        return key

    def _text(self, name: str, text: str, take: Callable[[str], None], width: int | None = None) -> QLineEdit:
        field = QLineEdit(text)
        field.setAccessibleName(name)
        field.setCursorPosition(0)
        if width is not None:
            field.setFixedWidth(self._look.px(width))

        def on_finished() -> None:
            if field.isModified():
                field.setModified(False)
                try:
                    take(field.text())
                except BadArgumentError as error:
                    field.setText(text)
                    self.refused.emit(error.one_line)

        field.editingFinished.connect(on_finished)
        return self._own(name, field)

    def _quantity(
        self,
        name: str,
        unit: str,
        value: float | None,
        take: Callable[[float | None], None],
        *,
        allowed: Allowed | None = None,
        none: str = "",
        width: int = 68,
    ) -> QuantityEdit:
        field = QuantityEdit(self._look, unit, name, width, allowed=allowed, may_be_empty=True)
        field.setPlaceholderText(none)
        field.set_value(value)
        field.value_entered.connect(take)
        field.cleared.connect(lambda: take(None))
        field.refused.connect(self.refused)
        return self._own(name, field)

    def _own(self, name: str, field: Field) -> Field:
        field.installEventFilter(self)
        self.fields[name] = field
        return field

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let Return and Esc end what is being entered: they mean something else on the page."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and event.key() in _ENDS:
            event.accept()
            return True
        return super().eventFilter(watched, event)

    def _to(self, fields_of: Callable[[float | None], dict[str, object]]) -> Callable[[float | None], None]:
        return lambda value: self._take(replace(self.recipe, **fields_of(value)))

    def _take(self, recipe: SweepRecipe) -> None:
        self.show_recipe(recipe)
        self.changed.emit(recipe)
