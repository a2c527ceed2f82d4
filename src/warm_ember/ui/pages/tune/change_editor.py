"""One change in fields: what it does, what it costs, and the run that proves it."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from warm_ember.model.allowed import Allowed
from warm_ember.model.plan import (
    ActivityEvery,
    CurrentBy,
    CurrentTo,
    Effect,
    LengthTo,
    PlannedChange,
    ReduceAverage,
    ReplaceState,
    ScaleRate,
)
from warm_ember.model.project import Project
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.layouts import clear_layout
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import format_trimmed, quantity_text

_NONE_YET = "no run yet"
_SIGNED = Allowed(low=-10.0, high=10.0)


class ChangeEditor(QWidget):
    """The fields of one change.

    Signals
    -------
    edited
        The change as it was, and as it is now.
    refused
        What was expected where something else was typed.
    """

    edited = Signal(object, object)
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.look = look
        self.change: PlannedChange | None = None
        self.fields: dict[str, QuantityEdit | QLineEdit | QComboBox] = {}
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(look.px(16), look.px(6), look.px(12), look.px(6))
        self._column.setSpacing(look.px(4))
        self.setVisible(False)

    def show_change(self, change: PlannedChange | None, project: Project) -> None:
        """Show a change, or nothing."""
        if change == self.change and change is not None and self.isVisible():
            return
        self.change = change
        self._empty()
        self.setVisible(change is not None)
        if change is None:
            return
        name = QLineEdit(change.name)
        name.setAccessibleName("what is done")
        name.editingFinished.connect(lambda: self._on_text("name", name))
        self._add_row(("change", name, 1))
        self.fields["name"] = name
        for index, effect in enumerate(change.effects):
            self._add_effect(index, effect)
        self._add_row(
            ("effort", self._number("effort", change.effort, "", "effort"), 0),
            ("added latency", self._number("latency_s", change.latency_s, "s", "reaction time that it adds"), 0),
            ("lost accuracy", self._number("accuracy", change.accuracy, "%", "accuracy that it loses"), 0),
            ("memory", self._number("memory_bytes", change.memory_bytes, "B", "memory that it takes"), 0),
        )
        costs = QLineEdit(change.costs)
        costs.setPlaceholderText("what else it costs")
        costs.setAccessibleName("what else it costs")
        costs.editingFinished.connect(lambda: self._on_text("costs", costs))
        self.fields["costs"] = costs
        self._add_row(("costs", costs, 1), ("proved by", self._runs(change, project), 0))

    def _empty(self) -> None:
        self.fields = {}
        while self._column.count():
            item = self._column.takeAt(0)
            layout = item.layout() if item is not None else None
            if layout is not None:
                clear_layout(layout)
                layout.deleteLater()

    def _add_row(self, *fields: tuple[str, QWidget, int]) -> None:
        row = QHBoxLayout()
        row.setSpacing(self.look.px(6))
        for words, widget, stretch in fields:
            label = Label(words)
            label.setFont(self.look.font("small"))
            widget.setFont(self.look.font("small"))
            row.addWidget(label)
            row.addWidget(widget, stretch)
        if not any(stretch for _, _, stretch in fields):
            row.addStretch(1)
        self._column.addLayout(row)

    def _number(self, field: str, value: float, unit: str, words: str) -> QuantityEdit:
        edit = QuantityEdit(self.look, unit, words, 64, write=_WRITE.get(unit))
        edit.set_value(value)
        edit.value_entered.connect(lambda number: self._change(**{field: number}))
        edit.refused.connect(self.refused)
        self.fields[field] = edit
        return edit

    def _add_effect(self, index: int, effect: Effect) -> None:
        field, unit, words = _effect_words(effect)
        if not field:
            self._add_row((words, Label(""), 1))
            return
        signed = unit == "A" and not isinstance(effect, CurrentTo)
        edit = QuantityEdit(self.look, unit, words, 92, allowed=_SIGNED if signed else None)
        edit.set_value(getattr(effect, field))
        edit.value_entered.connect(lambda value: self._on_effect(index, field, value))
        edit.refused.connect(self.refused)
        self.fields[f"effect {index}"] = edit
        self._add_row((words, edit, 0))

    def _runs(self, change: PlannedChange, project: Project) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName("the run that contains it")
        box.addItem(_NONE_YET, "")
        for run in project.rungs:
            if run.name != change.on:
                box.addItem(run.name, run.name)
        box.setCurrentIndex(max(box.findData(change.proved_by), 0))
        box.activated.connect(lambda _index: self._change(proved_by=box.currentData()))
        self.fields["proved_by"] = box
        return box

    def _on_effect(self, index: int, field: str, value: float) -> None:
        if self.change is None:
            return
        effects = list(self.change.effects)
        effects[index] = msgspec.structs.replace(effects[index], **{field: value})
        self._change(effects=tuple(effects))

    def _on_text(self, field: str, edit: QLineEdit) -> None:
        if edit.isModified():
            edit.setModified(False)
            if field != "name" or edit.text().strip():
                self._change(**{field: edit.text().strip()})

    def _change(self, **fields: object) -> None:
        if self.change is None:
            return
        before, self.change = self.change, msgspec.structs.replace(self.change, **fields)
        if self.change != before:
            self.edited.emit(before, self.change)

    def keyPressEvent(self, event: object) -> None:
        if getattr(event, "key", lambda: None)() == Qt.Key.Key_Escape:
            self.show_change(None, Project())
        else:
            super().keyPressEvent(event)  # type: ignore[arg-type]


_WRITE: dict[str, Callable[[float], str]] = {"B": lambda value: str(quantity_text(value, "B")) if value else "0 B"}


def _effect_words(effect: Effect) -> tuple[str, str, str]:
    """Return which field of an effect is typed, its unit, and what stands before it."""
    if isinstance(effect, CurrentBy):
        return "by_a", "A", f"{effect.state or 'every state'}: current"
    if isinstance(effect, CurrentTo):
        return "to_a", "A", f"{effect.state} draws"
    if isinstance(effect, LengthTo):
        return "to_s", "s", f"{effect.state} lasts at most"
    if isinstance(effect, ScaleRate):
        return "factor", "", f"{effect.state}: rate ×"
    if isinstance(effect, ActivityEvery):
        return "interval_s", "s", f"{effect.activity} every"
    if isinstance(effect, ReduceAverage):
        return "saved_a", "A", "the average falls by"
    if isinstance(effect, ReplaceState):
        return "", "", f"rename {effect.state} to {effect.name}"
    where = f" in {effect.state}" if effect.state else ""
    return "", "", f"{effect.part} {effect.mode}{f' instead of {effect.of}' if effect.of else ''}{where}"


def words_of(effect: Effect) -> str:
    """Return what an effect does, with its number."""
    field, unit, words = _effect_words(effect)
    if not field:
        return words
    value = getattr(effect, field)
    return f"{words} {quantity_text(value, unit) if unit else format_trimmed(value)}"
