"""What a page waits for, with the keys that bring it: under the page's sentence, where it would be missing."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Missing

_KEYS = {
    Missing.CAPTURE: (("file", "Open a file of current"), ("record", "Record")),
    Missing.SECOND_RUN: (("file", "Open a file of current"), ("record", "Record")),
    Missing.PARTS: (("parts", "Parts from a file"),),
}
_WORDS = {
    Missing.CAPTURE: "This project has no capture yet.",
    Missing.SECOND_RUN: "Change the firmware and measure again: what it changed stands here then.",
    Missing.PARTS: "What is on in each state is not known yet: parts with their data-sheet currents say it.",
}


class NextStep(QWidget):
    """A sentence and the keys of what comes next.

    Signals
    -------
    chosen
        ``file``, ``record`` or ``parts``.
    """

    chosen = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.words = Label()
        self.keys: dict[str, QPushButton] = {}
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(look.px(16), look.px(6), look.px(12), look.px(6))
        self._row.setSpacing(look.px(8))
        self._row.addWidget(self.words)
        for name, words in dict.fromkeys(key for keys in _KEYS.values() for key in keys):
            key = self.keys[name] = QPushButton(words)
            key.clicked.connect(lambda _checked=False, name=name: self.chosen.emit(name))
            self._row.addWidget(key)
        self._row.addStretch(1)
        self.hide()

    def show_missing(self, missing: Missing | None) -> None:
        """Show what is missing; None hides it."""
        if missing is not None:
            self.words.setText(_WORDS[missing])
            offered = {name for name, _ in _KEYS[missing]}
            for name, key in self.keys.items():
                key.setVisible(name in offered)
        self.setVisible(missing is not None)
