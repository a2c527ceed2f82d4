"""The wake plan: each source's way to the core, link by link, and whether it holds in each sleep mode."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum
from functools import partial
from typing import TYPE_CHECKING, Any

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from warm_ember.model.allowed import Allowed
from warm_ember.model.project import Project
from warm_ember.model.wake_plan import Pull, RestLevel, WakeOn, WakePlan
from warm_ember.session.wake_results import plan_check, refusal_words, whole_plan
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.rich_text import plain
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.layouts import clear_layout
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import PlanCheck, WakeLedger


_PATH_HEADS = ("source", "needs powered", "needs running", "pin", "wakes on", "at rest", "pull", "let through", "wired",
               "armed again", "a reset", "loses")  # fmt: skip
_MODE_HEADS = ("sleep mode", "stays powered", "keeps running", "a probe attaches")
UNPLANNED = "No wake plan is entered yet: enter what each source needs, and what each sleep mode leaves on."
_WORDS: dict[str, str] = {"nobody": "not driven", "none": "none", "change": "any edge"}


class WakePlanView(QWidget):
    """Fields for the ways of the sources and what the modes leave on, and the verdict on each pair.

    Signals
    -------
    plan_changed
        A `WakePlan` as it was typed.
    refused
        What was expected where something else was typed.
    """

    plan_changed = Signal(object)
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self._look = look
        self.ledger: WakeLedger | None = None
        self.plan = WakePlan()
        self.check: PlanCheck | None = None
        self._shown: object = None
        self.fields: dict[tuple[str, str], QWidget] = {}
        self.verdicts: dict[tuple[str, str], QLabel] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(look.px(16), look.px(8), look.px(16), look.px(8))
        column.setSpacing(look.px(10))
        self.conflicts, self.words = Label(), Label()
        for label in (self.conflicts, self.words):
            label.setWordWrap(True)
            label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._paths, self._modes, self._rest = QGridLayout(), QGridLayout(), QGridLayout()
        for grid in (self._paths, self._modes, self._rest):
            grid.setHorizontalSpacing(look.px(10))
            grid.setVerticalSpacing(look.px(4))
            column.addLayout(grid)
        column.addWidget(self.conflicts)
        column.addWidget(self.words)
        column.addStretch(1)

    def show_ledger(self, ledger: WakeLedger | None, project: Project) -> None:
        """Show another run, or the same after an edit."""
        self.ledger = ledger
        self.plan, self.check = whole_plan(ledger, project), plan_check(ledger, project)
        shape = (tuple(p.source for p in self.plan.paths), tuple(m.mode for m in self.plan.modes), ledger is None)
        if shape != self._shown:
            self._shown = shape
            self._build()
        self._fill()

    def _build(self) -> None:
        self.fields, self.verdicts = {}, {}
        for grid in (self._paths, self._modes, self._rest):
            clear_layout(grid)
        if self.ledger is None:
            return
        self._heads(self._paths, _PATH_HEADS)
        for row, path in enumerate(self.plan.paths, 1):
            self._build_path(row, path.source)
        self._heads(self._modes, (*_MODE_HEADS, *(path.source for path in self.plan.paths)))
        for row, mode in enumerate(self.plan.modes, 1):
            self._build_mode(row, mode.mode)
        self._build_rest()
        self._paths.setColumnStretch(len(_PATH_HEADS), 1)
        self._modes.setColumnStretch(len(_MODE_HEADS) + len(self.plan.paths), 1)
        self._rest.setColumnStretch(9, 1)

    def _put(self, grid: QGridLayout, row: int, column: int, widget: QWidget) -> None:
        widget.setFont(self._look.font("small"))
        grid.addWidget(widget, row, column)

    def _heads(self, grid: QGridLayout, words: tuple[str, ...]) -> None:
        for column, head in enumerate(words):
            self._put(grid, 0, column, Label(head))

    def _build_path(self, row: int, source: str) -> None:
        self._put(self._paths, row, 0, Label(source))
        change = partial(self._change_path, source)
        for column, field, width in ((1, "domain", 84), (2, "oscillator", 118), (3, "pin", 92), (11, "loses", 110)):
            self._put(self._paths, row, column, self._text(source, field, width, change))
        choices: tuple[tuple[int, str, type[StrEnum]], ...] = (
            (4, "trigger", WakeOn),
            (5, "rest", RestLevel),
            (6, "pull", Pull),
        )
        for column, field, kind in choices:
            box = QComboBox()
            box.setAccessibleName(f"{source}, {_PATH_HEADS[column]}")
            for one in kind:
                box.addItem(_WORDS.get(one.value, one.value), one.value)
            box.activated.connect(
                lambda _index, box=box, field=field, kind=kind: change(field, kind(box.currentData()))
            )
            self.fields[source, field] = box
            self._put(self._paths, row, column, box)
        for column, field in ((7, "enabled"), (8, "wired"), (9, "rearmed"), (10, "is_reset")):
            self._put(self._paths, row, column, self._tick(source, field, _PATH_HEADS[column], change))

    def _build_mode(self, row: int, mode: str) -> None:
        self._put(self._modes, row, 0, Label(mode))
        change = partial(self._change_mode, mode)
        for column, field in ((1, "domains"), (2, "oscillators")):
            self._put(self._modes, row, column, self._text(mode, field, 150, change))
        self._put(self._modes, row, 3, self._tick(mode, "probe_attaches", _MODE_HEADS[3], change))
        for column, path in enumerate(self.plan.paths, len(_MODE_HEADS)):
            label = Label()
            self.verdicts[path.source, mode] = label
            self._put(self._modes, row, column, label)

    def _build_rest(self) -> None:
        numbers = (
            ("window_s", "s", "window after a boot"),
            ("window_a", "A", "draws then"),
            ("boots_per_day", "", "boots a day"),
        )
        for column, (field, unit, words) in enumerate(numbers):
            edit = QuantityEdit(self._look, unit, words, 84, allowed=Allowed())
            edit.refused.connect(self.refused)
            edit.value_entered.connect(partial(self._change_plan, field))
            self.fields["", field] = edit
            self._put(self._rest, 0, 2 * column, Label(words))
            self._put(self._rest, 0, 2 * column + 1, edit)
        self._put(self._rest, 0, 6, Label("pins that wake only together"))
        self._put(self._rest, 0, 7, self._text("", "together", 130, self._change_plan))
        self._put(self._rest, 0, 8, self._tick("", "can_join", "the chip can do that", self._change_plan, words=True))

    def _text(self, name: str, field: str, width: int, change: Callable[[str, Any], None]) -> QLineEdit:
        edit = QLineEdit()
        edit.setAccessibleName(f"{name}, {field}".strip(", "))
        edit.setFixedWidth(self._look.px(width))
        is_list = field in ("domains", "oscillators", "together")

        def entered() -> None:
            if edit.isModified():
                edit.setModified(False)
                text = edit.text().strip()
                change(field, tuple(filter(None, map(str.strip, text.split(",")))) if is_list else text)

        edit.editingFinished.connect(entered)
        self.fields[name, field] = edit
        return edit

    def _tick(
        self, name: str, field: str, head: str, change: Callable[[str, Any], None], *, words: bool = False
    ) -> QCheckBox:
        box = QCheckBox(head if words else "")
        box.setAccessibleName(f"{name}, {head}".strip(", "))
        box.clicked.connect(lambda checked: change(field, checked))
        self.fields[name, field] = box
        return box

    def _fill(self) -> None:
        if self.ledger is None:
            return
        for path in self.plan.paths:
            self._fill_fields(path.source, path)
            for field in ("trigger", "rest", "pull"):
                self.fields[path.source, field].setVisible(bool(path.pin))
        for mode in self.plan.modes:
            self._fill_fields(mode.mode, mode)
        self._fill_fields("", self.plan)
        warn, ink = self._look.theme.warning_text.name(), self._look.theme.ink.name()
        for (source, mode_name), label in self.verdicts.items():
            verdict = self.check.of(source, mode_name) if self.check is not None else None
            label.setText(plain(verdict.words) if verdict is not None else "")
            label.setStyleSheet(f"color: {ink if verdict is None or verdict.works else warn};")
        conflicts = self.check.conflicts if self.check is not None else ()
        self.conflicts.setText("\n".join(f"Conflict: {one}" for one in conflicts))
        self.conflicts.setStyleSheet(f"color: {warn};")
        self.conflicts.setVisible(bool(conflicts))
        self.words.setText("\n".join(self._notes(self.check)) if self.check is not None else UNPLANNED)

    def _notes(self, check: PlanCheck) -> list[str]:
        sound = "Every source reaches the core in some mode, and nothing conflicts."
        lines = [*([] if check.conflicts else [sound]), *check.notes]
        if check.window_a:
            added = quantity_text(check.window_a, "A")
            lines.append(f"The window for reprogramming adds {added} to the average current.")
        if self.ledger is not None and self.ledger.refused:
            lines.append(refusal_words(self.ledger))
        return lines

    def _fill_fields(self, name: str, of: msgspec.Struct) -> None:
        for (owner, field), widget in self.fields.items():
            if owner != name:
                continue
            value = getattr(of, field)
            if isinstance(widget, QuantityEdit):
                widget.set_value(value)
            elif isinstance(widget, QLineEdit):
                if not (widget.hasFocus() and widget.isModified()):
                    widget.setText(", ".join(value) if isinstance(value, tuple) else value)
                    widget.setCursorPosition(0)
            elif isinstance(widget, QComboBox):
                widget.setCurrentIndex(widget.findData(str(value)))
            elif isinstance(widget, QCheckBox):
                widget.setChecked(value)

    def _change_path(self, source: str, field: str, value: Any) -> None:
        paths = tuple(_changed(one, field, value) if one.source == source else one for one in self.plan.paths)
        self._change_plan("paths", paths)

    def _change_mode(self, mode: str, field: str, value: Any) -> None:
        modes = tuple(_changed(one, field, value) if one.mode == mode else one for one in self.plan.modes)
        self._change_plan("modes", modes)

    def _change_plan(self, field: str, value: Any) -> None:
        self.plan_changed.emit(_changed(self.plan, field, value))

    def text(self) -> str:
        """Return the verdicts as tab-separated text."""
        lines = ["sleep mode\t" + "\t".join(path.source for path in self.plan.paths)]
        for mode in self.plan.modes:
            found = [self.check.of(path.source, mode.mode) if self.check else None for path in self.plan.paths]
            lines.append("\t".join((mode.mode, *(one.words if one is not None else "" for one in found))))
        return "\n".join((*lines, *(self.check.conflicts if self.check else ()), self.words.text()))


def _changed(of: Any, field: str, value: Any) -> Any:
    return msgspec.structs.replace(of, **{field: value})
