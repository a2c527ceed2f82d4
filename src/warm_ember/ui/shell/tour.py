"""The tour of the demo: a strip with seven steps, each names what to look at and shows it on request."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance


@dataclass(frozen=True)
class TourStep:
    """What to look at, and what shows it."""

    words: str
    show: Callable[[], None]


class TourStrip(QWidget):
    """One step at a time.

    Signals
    -------
    closed
        The reader has had enough of it, or saw the last step.
    """

    closed = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._look = look
        self.steps: tuple[TourStep, ...] = ()
        self.at = 0
        self.count, self.words = Label(), Label()
        self.words.setWordWrap(True)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.back = QPushButton("Back")
        self.show_key = QPushButton("Show me")
        self.next_key = QPushButton("Next")
        self.close_key = QPushButton("Close the tour")
        px = look.px
        row = QHBoxLayout(self)
        row.setContentsMargins(px(16), px(6), px(12), px(6))
        row.setSpacing(px(8))
        row.addWidget(self.count)
        row.addWidget(self.words, 1)
        for key in (self.show_key, self.back, self.next_key, self.close_key):
            row.addWidget(key)
        self.show_key.clicked.connect(lambda: self.steps[self.at].show())
        self.back.clicked.connect(lambda: self.go(self.at - 1))
        self.next_key.clicked.connect(lambda: self.go(self.at + 1))
        self.close_key.clicked.connect(self.closed)
        self.hide()

    def begin(self, steps: tuple[TourStep, ...]) -> None:
        """Begin a tour."""
        self.steps = steps
        self.show()
        self.go(0)
        self.show_key.setFocus()

    def go(self, at: int) -> None:
        """Go to a step; after the last one the tour is over."""
        if at >= len(self.steps):
            self.closed.emit()
            return
        self.at = max(at, 0)
        self.count.setText(f"Tour, {self.at + 1} of {len(self.steps)}")
        self.words.setText(self.steps[self.at].words)
        self.setAccessibleName(f"{self.count.text()}: {self.words.text()}")
        self.back.setEnabled(self.at > 0)
        self.next_key.setText("Finish" if self.at == len(self.steps) - 1 else "Next")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        else:
            super().keyPressEvent(event)
