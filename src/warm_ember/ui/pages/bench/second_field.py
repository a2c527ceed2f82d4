"""An instrument beside the first: its address, and what it is there for."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from warm_ember.model.bench import SecondGives, SecondInstrument
from warm_ember.ui.look.theme import Appearance

_WORDS = {
    SecondGives.VOLTAGE: "gives the target's voltage",
    SecondGives.RANGE: "gives the coarser range",
    SecondGives.CURRENT: "gives another current",
    SecondGives.BOARD: "powers another board",
}


class SecondField(QWidget):
    """The address, and below it, once there is one, what it gives.

    Signals
    -------
    changed
        The `SecondInstrument` as entered.
    """

    changed = Signal(object)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._shown = SecondInstrument()
        self.resource = QLineEdit()
        self.resource.setPlaceholderText("none")
        self.resource.setAccessibleName("Address of a second instrument")
        self.resource.editingFinished.connect(self._on_resource)
        self.gives = QComboBox()
        self.gives.setAccessibleName("What the second instrument gives")
        for one, words in _WORDS.items():
            self.gives.addItem(words, one)
        self.gives.activated.connect(lambda _i: self._send())
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(look.px(3))
        for widget in (self.resource, self.gives):
            widget.setFont(look.font("small"))
            column.addWidget(widget)
        self.show_second(self._shown)

    def _on_resource(self) -> None:
        if self.resource.isModified():
            self.resource.setModified(False)
            self._send()

    def _send(self) -> None:
        entered = SecondInstrument(self.resource.text().strip(), SecondGives(self.gives.currentData()))
        if entered != self._shown:
            self.changed.emit(entered)

    def show_second(self, second: SecondInstrument) -> None:
        """Show it as the project has it now."""
        self._shown = second
        if not self.resource.hasFocus():
            self.resource.setText(second.resource)
            self.resource.setCursorPosition(0)
        self.gives.setCurrentIndex(list(_WORDS).index(second.gives))
        self.gives.setVisible(bool(second.resource))
