"""A button with its key at the right."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QPushButton

from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance

_HEIGHT = 23


class KeyButton(QPushButton):
    """A flat button: what it does at the left, the key that does it at the right."""

    def __init__(self, look: Appearance, text: str, key: str) -> None:
        super().__init__(text)
        self._look, self._key = look, key
        look.changed.connect(self.updateGeometry)
        self.setAccessibleName(f"{text}, key {key}" if key else text)

    def sizeHint(self) -> QSize:
        width = width_of(self._look, f"{self.text()}   {self._key}", "small")
        return QSize(round(width) + self._look.px(28), self._look.px(_HEIGHT))

    def paintEvent(self, event: QPaintEvent) -> None:
        theme, px = self._look.theme, self._look.px
        painter = QPainter(self)
        lit = self.underMouse() or self.isDown()
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.fillRect(box, theme.mark_ground if lit else theme.ground)
        painter.setPen(QPen(theme.mark if self.hasFocus() else theme.rule, 1))
        painter.drawRect(box)
        inner = box.adjusted(px(8), 0, -px(8), 0)
        draw_rich_text(painter, inner, self.text(), self._look, size="small", dim=theme.ink)
        draw_rich_text(
            painter,
            inner,
            self._key,
            self._look,
            size="small",
            dim=theme.faint,
            align=Qt.AlignmentFlag.AlignRight,
        )
        painter.end()
