"""A line in which parts are entered where they are shown: one with its modes, or a table as it was pasted."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from warm_ember.errors import BadArgumentError
from warm_ember.model.parts import Part
from warm_ember.session.part_entry import read_part_line, read_parts_table
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance


class PartLine(QWidget):
    """A field for a part; what is not understood stays, and is told.

    Signals
    -------
    entered
        The parts that were entered.
    refused
        What was expected.
    """

    entered = Signal(object)
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        label = Label("Add a part")
        label.setFont(look.font("small"))
        self.edit = _TableEdit()
        self.edit.setFont(look.font("small"))
        self.edit.setPlaceholderText("Rowan: run 3.1 mA, deep sleep 1.6 µA, off 0   (or paste a table)")
        self.edit.setAccessibleName("A part with its modes and currents")
        row = QHBoxLayout(self)
        row.setContentsMargins(look.px(16), look.px(2), look.px(12), look.px(4))
        row.setSpacing(look.px(8))
        row.addWidget(label)
        row.addWidget(self.edit, 1)
        self.edit.returnPressed.connect(self._on_entered)
        self.edit.pasted.connect(self.paste)

    def _on_entered(self) -> None:
        if self.edit.text().strip():
            self._send(lambda: (read_part_line(self.edit.text()),))

    def paste(self, text: str) -> None:
        """Take a table."""
        self._send(lambda: read_parts_table(text))

    def _send(self, read: Callable[[], tuple[Part, ...]]) -> None:
        try:
            parts = read()
        except BadArgumentError as error:
            self.refused.emit(str(error))
            return
        self.edit.clear()
        self.entered.emit(parts)


class _TableEdit(QLineEdit):
    """A field that tells when a table is pasted, which would be one long line in it.

    Signals
    -------
    pasted
        Text of several lines, or of several cells.
    """

    pasted = Signal(str)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        text = QGuiApplication.clipboard().text()
        if event.matches(QKeySequence.StandardKey.Paste) and ("\n" in text.strip() or "\t" in text):
            self.pasted.emit(text)
        elif event.key() == Qt.Key.Key_Escape:
            self.clear()
            self.clearFocus()
        else:
            super().keyPressEvent(event)
