"""The key of what a page is about to do, in inverted ink."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QPushButton

from warm_ember.ui.look.rich_text import width_of
from warm_ember.ui.look.theme import Appearance

_HEIGHT = 26


class InvertedKey(QPushButton):
    """A key in inverted ink: what the page is about to do."""

    def __init__(self, look: Appearance, text: str, key: str) -> None:
        super().__init__(text)
        self._look, self.key = look, key
        look.changed.connect(self.updateGeometry)

    def sizeHint(self) -> QSize:
        width = width_of(self._look, f"**{self.text()}**    {self.key}", "small")
        return QSize(round(width) + self._look.px(28), self._look.px(_HEIGHT))

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

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
