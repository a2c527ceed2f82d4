"""The panel beside the bracket tray: the chosen bracket's name, and what can be done with it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QLineEdit, QPushButton, QWidget

from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.trace.bracket_controller import BracketController
from warm_ember.ui.widgets.key_button import KeyButton

_WIDTH = 364


class BracketPanel(QWidget):
    """Name and actions of the chosen bracket.

    Signals
    -------
    left
        The user has finished typing a name.
    """

    left = Signal()

    def __init__(
        self, look: Appearance, book: BracketController, actions: tuple[tuple[str, str, Callable[[], None]], ...]
    ) -> None:
        super().__init__()
        self._look, self._book = look, book
        self._names_state = False
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.name_edit = QLineEdit()
        self.name_edit.setPlaceholderText("name of the bracket")
        self.name_edit.setAccessibleName("Name of the bracket")
        self.buttons: dict[str, QPushButton] = {}
        grid = QGridLayout(self)
        px = look.px
        grid.setContentsMargins(px(12), px(8), px(12), px(8))
        grid.setSpacing(px(4))
        grid.addWidget(self.name_edit, 0, 0, 1, 2)
        for index, (text, key, slot) in enumerate(actions):
            button = KeyButton(look, text, key)
            button.clicked.connect(lambda _checked=False, slot=slot: slot())
            self.buttons[text] = button
            grid.addWidget(button, 1 + index // 2, index % 2)
        grid.setRowStretch(8, 1)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(1, 1)
        self.name_edit.editingFinished.connect(self._on_finished)
        self.name_edit.returnPressed.connect(self._on_entered)
        look.changed.connect(self._on_look)
        book.changed.connect(self.refresh)
        self._on_look()

    def _on_look(self) -> None:
        self.setFixedWidth(self._look.px(_WIDTH))

    def refresh(self) -> None:
        """Show the chosen bracket's name."""
        chosen = self._book.chosen_bracket
        self.setVisible(chosen is not None)
        self._names_state = False
        if chosen is not None and not self.name_edit.hasFocus():
            self.name_edit.setText(chosen.name)
            self.name_edit.setPlaceholderText("name of the bracket")

    def ask_for_state(self) -> None:
        """Ask for a state's name where the bracket's name stands; Enter places it."""
        if self._book.chosen_bracket is None:
            return
        self._names_state = True
        self.name_edit.clear()
        self.name_edit.setPlaceholderText("name of the state, then Enter")
        self.name_edit.setFocus()

    def _on_finished(self) -> None:
        if not self._names_state:
            self._book.rename(self.name_edit.text().strip())

    def _on_entered(self) -> None:
        bracket, text = self._book.chosen_bracket, self.name_edit.text().strip()
        if not self._names_state or bracket is None or not text:
            return
        self._names_state = False
        self.name_edit.clearFocus()
        self.name_edit.setText(bracket.name)
        self._book.name_state(text)
        self.left.emit()
