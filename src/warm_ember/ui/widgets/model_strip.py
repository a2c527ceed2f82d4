"""The battery's model that a capture offers, in one line with the key that takes it."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QWidget

from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_wrapped, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.inverted_key import InvertedKey
from warm_ember.units import counted

_HEIGHT = 40
TAKE = "Take as the battery's model"


class ModelStrip(QWidget):
    """A sentence about a model, and the key that takes it.

    Signals
    -------
    taken
        The key was pressed.
    """

    taken = Signal()

    def __init__(self, look: Appearance, key: str) -> None:
        super().__init__()
        self.setObjectName("page")
        self._look = look
        self.sentence = _Sentence(look)
        self.button = InvertedKey(look, TAKE, key)
        self.button.clicked.connect(self.taken)
        row = QHBoxLayout(self)
        row.setContentsMargins(look.px(16), 0, look.px(16), 0)
        row.setSpacing(look.px(16))
        row.addWidget(self.sentence, 1)
        row.addWidget(self.button)
        look.changed.connect(self._on_look)
        self._on_look()
        self.hide()

    def _on_look(self) -> None:
        self.setFixedHeight(self._look.px(_HEIGHT))

    def offer(self, words: str, activities: int = 0) -> None:
        """Show what is offered in place of so many activities; with no words nothing is, and the strip is not there."""
        self.sentence.words = words
        self.button.setText(f"Take in place of {counted(activities, 'activity', 'activities')}" if activities else TAKE)
        self.button.setAccessibleName(f"{self.button.text()}, key {self.button.key}")
        self.sentence.update()
        self.setVisible(bool(words))


class _Sentence(PaintedView):
    reads_as = "Model that is offered"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self.words = ""

    def text(self) -> str:
        """Return the sentence."""
        return self.words

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        metrics = self._look.metrics("small")
        lines = 2 if width_of(self._look, self.words, "small") > self.width() else 1
        top = (self.height() - lines * metrics.lineSpacing()) / 2
        box = QRectF(0, top, self.width(), lines * metrics.lineSpacing())
        draw_wrapped(painter, box, self.words, self._look)
        painter.end()
