"""The battery's model that a capture offers, in one line with the key that takes it."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_wrapped, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import counted

_HEIGHT, _KEY_HEIGHT = 40, 26
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
        self.button = _InvertedKey(look, TAKE, key)
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


class _InvertedKey(QPushButton):
    """A key in inverted ink: what the page is about to do."""

    def __init__(self, look: Appearance, text: str, key: str) -> None:
        super().__init__(text)
        self._look, self.key = look, key

    def sizeHint(self) -> QSize:
        width = width_of(self._look, f"**{self.text()}**    {self.key}", "small")
        return QSize(round(width) + self._look.px(28), self._look.px(_KEY_HEIGHT))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        box = QRectF(self.rect())
        painter.fillRect(box, theme.mark if self.underMouse() or self.isDown() else theme.ink)
        if self.hasFocus():
            painter.setPen(theme.mark)
            painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
        inner = box.adjusted(px(10), 0, -px(10), 0)
        ground = theme.ground
        painter.setFont(look.font("small", bold=True))
        painter.setPen(ground)
        painter.drawText(inner, int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft), self.text())
        painter.setFont(look.font("small"))
        painter.drawText(inner, int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight), self.key)
        painter.end()
