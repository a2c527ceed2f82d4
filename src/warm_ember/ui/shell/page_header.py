"""The sentence under the navigation that answers the page's question, and the page's view switches."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QWidget

from warm_ember.ui.look.label import tip
from warm_ember.ui.look.rich_text import draw_rich_text, plain, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.switches import HEIGHT, Switches


class PageHeader(QWidget):
    """The sentence and the switches of the open page."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.sentence, self.warning = "", ""
        self.switches = Switches(look)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, look.px(4), 0)
        row.addStretch(1)
        row.addWidget(self.switches)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(look.px(HEIGHT))
        look.changed.connect(self._on_look)

    def _on_look(self) -> None:
        self.setFixedHeight(self._look.px(HEIGHT))
        self.update()

    def show_sentence(self, sentence: str, warning: str = "") -> None:
        """Show a sentence of rich text, and a warning after it."""
        self.sentence, self.warning = sentence, warning
        self.setToolTip(tip(plain(f"{sentence} {warning}".strip())))
        self.setAccessibleName(plain(sentence))
        self.update(0, 0, self.switches.x(), self.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        px, theme = self._look.px, self._look.theme
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))
        right = self.switches.x() - px(12)
        box = QRectF(px(16), 0, max(10, right - px(16)), self.height())
        if self.warning:  # it has to be read: where there is no room for both the sentence is cut short
            wanted = width_of(self._look, self.warning, "small") + px(34)
            box.setWidth(max(box.width() - wanted, 0.4 * box.width()))
        width = draw_rich_text(painter, box, self.sentence, self._look, dim=theme.ink)
        if self.warning:
            left = box.left() + width + px(10)
            painter.fillRect(QRectF(left, px(8), px(4), self.height() - px(16)), theme.warning)
            rest = QRectF(left + px(10), 0, right - left - px(10), self.height())
            draw_rich_text(
                painter,
                rest,
                self.warning,
                self._look,
                size="small",
                ink=theme.warning_text,
                dim=theme.warning_text,
            )
        painter.end()
