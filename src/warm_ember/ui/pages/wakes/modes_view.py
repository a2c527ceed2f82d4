"""The sleep modes: what each takes, measured or typed, from when on it pays, and how fast the device answers."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QGridLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from warm_ember.model.allowed import Allowed
from warm_ember.model.project import Project
from warm_ember.model.wakes import SleepMode, WakeSource
from warm_ember.session.wake_results import late_sources, slowest_mode
from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.layouts import clear_layout
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Mode, SleepDepth, SourceRow, WakeLedger


_HEADS = ("mode", "what sleeps", "draws", "to enter and leave", "answers after", "memory", "source", "pays",
          "right", "too shallow", "too deep", "loses")  # fmt: skip
_SOURCE_HEADS = (
    "source",
    "to be served within",
    "slowest mode before it",
    "",
    "restart or resume",
    "what runs, each wake",
)
_NAME_WIDTH = 150
_NEW = "a mode that is not used"


class ModesView(QWidget):
    """Two tables of fields: the modes, and the sources with their deadlines.

    Signals
    -------
    mode_changed
        A `SleepMode` as it was typed.
    mode_dropped
        The name of a mode that shall be forgotten.
    source_changed
        A `WakeSource` as it was typed.
    refused
        What was expected where something else was typed.
    """

    mode_changed = Signal(object)
    mode_dropped = Signal(str)
    source_changed = Signal(object)
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self._look = look
        self.ledger: WakeLedger | None = None
        self._project = Project()
        self._shown: object = None
        self.fields: dict[tuple[str, str], QuantityEdit | QLineEdit | QCheckBox] = {}
        self.add = QPushButton(f"Add {_NEW}")
        self.add.clicked.connect(self._add)
        column = QVBoxLayout(self)
        column.setContentsMargins(look.px(16), look.px(8), look.px(16), look.px(8))
        column.setSpacing(look.px(12))
        self._modes, self._sources = QGridLayout(), QGridLayout()
        for grid in (self._modes, self._sources):
            grid.setHorizontalSpacing(look.px(14))
            grid.setVerticalSpacing(look.px(4))
            column.addLayout(grid)
            if grid is self._modes:
                column.addWidget(self.add, 0, Qt.AlignmentFlag.AlignLeft)
        column.addStretch(1)

    def show_ledger(self, ledger: WakeLedger | None, project: Project) -> None:
        """Show another run, or the same after an edit."""
        self.ledger, self._project = ledger, project
        shape = self._shape()
        if shape != self._shown:
            self._shown = shape
            self._build()
        self._fill()

    def _shape(self) -> object:
        """Return what decides which fields there are."""
        if self.ledger is None:
            return None
        typed = {mode.name for mode in self._project.sleep_modes}
        names = tuple((mode.name, mode.name in typed) for mode in self.ledger.depth.modes)
        return names, tuple(row.source for row in self.ledger.sources), self._look.scale

    def _build(self) -> None:
        self.fields = {}
        for grid in (self._modes, self._sources):
            clear_layout(grid)
        self.add.setVisible(self.ledger is not None)
        if self.ledger is None:
            return
        for column, words in enumerate(_HEADS):
            self._put(self._modes, 0, column, self._label(words, right=column >= 8))
        self.labels: dict[tuple[str, str], QLabel] = {}
        for row, mode in enumerate(self.ledger.depth.modes, 1):
            self._build_mode(row, mode.name)
        for column, words in enumerate(_SOURCE_HEADS):
            self._put(self._sources, 0, column, self._label(words))
        for row, source in enumerate(self.ledger.sources, 1):
            self._build_source(row, source.source)
        self._modes.setColumnStretch(7, 1)
        self._sources.setColumnStretch(5, 1)

    def _put(self, grid: QGridLayout, row: int, column: int, widget: QWidget) -> None:
        widget.setFont(self._look.font("small"))
        grid.addWidget(widget, row, column)

    def _label(self, words: str, *, right: bool = False) -> QLabel:
        label = Label(words)
        if right:
            label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return label

    def _name(self, name: str) -> QLabel:
        """Return a label with a name, cut short where it is very long."""
        room = self._look.px(_NAME_WIDTH)
        label = Label(self._look.metrics("small").elidedText(name, Qt.TextElideMode.ElideRight, room))
        label.setToolTip(tip(name))
        return label

    def _number(self, name: str, field: str, unit: str, words: str, *, coulombs: bool = False) -> QuantityEdit:
        write = (lambda value: str(quantity_text(value, "C")) if value else "0 C") if coulombs else None
        edit = QuantityEdit(self._look, unit, f"{name}, {words}", 92, allowed=Allowed(), write=write, may_be_empty=True)
        edit.refused.connect(self.refused)
        self.fields[name, field] = edit
        return edit

    def _text(self, name: str, field: str, words: str, width: int) -> QLineEdit:
        edit = QLineEdit()
        edit.setAccessibleName(f"{name}, {words}")
        edit.setFixedWidth(self._look.px(width))
        edit.editingFinished.connect(lambda: self._on_text(name, field, edit))
        self.fields[name, field] = edit
        return edit

    def _build_mode(self, row: int, name: str) -> None:
        self._put(self._modes, row, 0, self._name(name))
        self._put(self._modes, row, 1, self._text(name, "part", "what sleeps", 76))
        numbers = (
            ("floor_a", "A", "draws"),
            ("transition_charge_c", "C", "to enter and leave"),
            ("latency_s", "s", "answers after"),
        )
        for column, (field, unit, words) in enumerate(numbers, 2):
            edit = self._number(name, field, unit, words, coulombs=unit == "C")
            edit.value_entered.connect(partial(self._on_number, name, field))
            edit.cleared.connect(partial(self._on_number, name, field, None))
            self._put(self._modes, row, column, edit)
        memory = QCheckBox("kept")
        memory.setAccessibleName(f"{name}, keeps its memory")
        memory.clicked.connect(lambda checked: self._on_number(name, "keeps_memory", checked))
        self.fields[name, "keeps_memory"] = memory
        self._put(self._modes, row, 5, memory)
        self._put(self._modes, row, 6, self._text(name, "source", "source", 150))
        for column, field in enumerate(("pays", "right", "shallow", "deep", "loses"), 7):
            label = self._label("", right=column >= 8)
            self.labels[name, field] = label
            self._put(self._modes, row, column, label)
        if any(mode.name == name for mode in self._project.sleep_modes):
            drop = QPushButton("forget")
            drop.setAccessibleName(f"Forget what was entered for {name}")
            drop.clicked.connect(lambda _checked: self.mode_dropped.emit(name))
            self._put(self._modes, row, 12, drop)

    def _build_source(self, row: int, source: str) -> None:
        self._put(self._sources, row, 0, self._name(source))
        edit = self._number(source, "deadline_s", "s", "to be served within")
        edit.value_entered.connect(partial(self._on_deadline, source))
        edit.cleared.connect(partial(self._on_deadline, source, None))
        self._put(self._sources, row, 1, edit)
        for column, field in enumerate(("slowest", "verdict", "resume", "ran"), 2):
            label = self._label("")
            self.labels[source, field] = label
            self._put(self._sources, row, column, label)

    def _fill(self) -> None:
        if self.ledger is None:
            return
        depth = self.ledger.depth
        rows = {row.mode: row for row in depth.rows}
        for mode in depth.modes:
            self._fill_mode(mode, depth)
            row = rows.get(mode.name)
            used = row.count - row.too_shallow - row.too_deep if row is not None else 0
            figures = (
                ("right", str(used) if row is not None else "not used"),
                ("shallow", str(row.too_shallow) if row is not None else ""),
                ("deep", str(row.too_deep) if row is not None else ""),
                ("loses", str(quantity_text(row.lost_a, "A")) if row is not None else ""),
            )
            for field, words in figures:
                self.labels[mode.name, field].setText(words)
        for source in self.ledger.sources:
            self._fill_source(source, self.ledger)

    def _fill_mode(self, mode: Mode, depth: SleepDepth) -> None:
        typed = mode.typed
        measured = {
            "floor_a": f"{quantity_text(mode.floor_a, 'A')}" if np.isfinite(mode.floor_a) else "unknown",
            "transition_charge_c": "unknown",
            "latency_s": "unknown",
        }
        if np.isfinite(mode.transition_charge_c) and typed.residency_s is None:
            measured["transition_charge_c"] = str(quantity_text(mode.transition_charge_c, "C"))
        for field, words in measured.items():
            edit = self.fields[mode.name, field]
            assert isinstance(edit, QuantityEdit)
            edit.set_value(getattr(typed, field))
            edit.setPlaceholderText(words)
        for field in ("part", "source"):
            text = self.fields[mode.name, field]
            assert isinstance(text, QLineEdit)
            if not (text.hasFocus() and text.isModified()):
                text.setText(getattr(typed, field))
                text.setCursorPosition(0)
            text.setPlaceholderText("the device" if field == "part" else "measured")
        memory = self.fields[mode.name, "keeps_memory"]
        assert isinstance(memory, QCheckBox)
        memory.setChecked(typed.keeps_memory)
        memory.setText("kept" if typed.keeps_memory else "lost")
        against = [one for one in depth.break_evens(mode.name) if one.deeper == mode.name]
        words = ", ".join(f"from {duration_text(one.from_s)} against {one.lighter}" for one in against)
        self.labels[mode.name, "pays"].setText(
            words or "the lightest" if depth.break_evens(mode.name) else "no other mode to compare with"
        )

    def _fill_source(self, row: SourceRow, ledger: WakeLedger) -> None:
        said = next((one for one in self._project.wake_sources if one.name == row.source), WakeSource(row.source))
        edit = self.fields[row.source, "deadline_s"]
        assert isinstance(edit, QuantityEdit)
        edit.set_value(said.deadline_s)
        edit.setPlaceholderText("any time")
        slowest = slowest_mode(ledger, row.source)
        words, verdict = "no latency is known", ""
        if slowest is not None and slowest.latency_s is not None:
            words = f"{slowest.name}, {duration_text(slowest.latency_s)}"
            if said.deadline_s is not None:
                verdict = "too late" if row.source in late_sources(ledger, self._project) else "in time"
        self.labels[row.source, "slowest"].setText(words)
        self.labels[row.source, "verdict"].setText(verdict)
        resume = str(quantity_text(row.resume_c, "C")) if row.resume_c is not None else "not told apart"
        self.labels[row.source, "resume"].setText(resume)
        ran = ", ".join(f"{one.state} {quantity_text(one.charge_c, 'C')}" for one in row.ran[:4])
        more = f" and {len(row.ran) - 4} more" if len(row.ran) > 4 else ""
        self.labels[row.source, "ran"].setText(f"{ran}{more}")
        self.labels[row.source, "ran"].setToolTip(", ".join(one.state for one in row.ran))

    def _mode(self, name: str) -> SleepMode:
        return next((mode for mode in self._project.sleep_modes if mode.name == name), SleepMode(name))

    def _on_number(self, name: str, field: str, value: object) -> None:
        self.mode_changed.emit(msgspec.structs.replace(self._mode(name), **{field: value}))

    def _on_text(self, name: str, field: str, edit: QLineEdit) -> None:
        if edit.isModified():
            edit.setModified(False)
            self._on_number(name, field, edit.text().strip())

    def _on_deadline(self, source: str, value: float | None) -> None:
        known = next((one for one in self._project.wake_sources if one.name == source), WakeSource(source))
        self.source_changed.emit(msgspec.structs.replace(known, deadline_s=value))

    def _add(self) -> None:
        taken = {mode.name for mode in (self.ledger.depth.modes if self.ledger is not None else ())}
        name = next(f"mode {n}" for n in range(1, len(taken) + 2) if f"mode {n}" not in taken)
        self.mode_changed.emit(SleepMode(name))
