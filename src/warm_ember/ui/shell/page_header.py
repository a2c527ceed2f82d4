"""The sentence under the navigation that answers the page's question, and the page's view switches."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from warm_ember.ui.look.label import tip
from warm_ember.ui.look.rich_text import draw_rich_text, plain, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.switches import HEIGHT, Switch, Switches

_MOST_SHARE = 0.6


class PageHeader(QWidget):
    """The sentence and the switches of the open page."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.sentence, self.warning = "", ""
        self.switches = Switches(look)
        self.switches.setParent(self)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self._arrange()
        look.changed.connect(self._arrange)

    def _arrange(self) -> None:
        """Put the switches beside the sentence, or below it where they would leave it too little room."""
        line, margin = self._look.px(HEIGHT), self._look.px(4)
        wanted = self.switches.sizeHint().width()
        self._is_beside = wanted <= _MOST_SHARE * self.width()
        if self._is_beside:
            self.switches.setGeometry(self.width() - wanted - margin, 0, wanted, line)
            self.setFixedHeight(line)
        else:
            room = self.width() - self._look.px(6) - margin
            height = max(self.switches.heightForWidth(room), line)
            self.switches.setGeometry(self._look.px(6), line, room, height)
            self.setFixedHeight(line + height)
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._arrange()

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:  # a word became wider
            self._arrange()
        return super().event(event)

    def show_switches(self, switches: tuple[Switch, ...]) -> None:
        """Show the switches of a page."""
        self.switches.show_switches(switches)
        self._arrange()

    @property
    def _sentence_box(self) -> QRectF:
        right = self.switches.x() if self._is_beside else self.width()
        left = self._look.px(16)
        return QRectF(left, 0, max(10, right - self._look.px(12) - left), self._look.px(HEIGHT))

    def show_sentence(self, sentence: str, warning: str = "") -> None:
        """Show a sentence of rich text, and a warning after it."""
        self.sentence, self.warning = sentence, warning
        self.setToolTip(tip(plain(f"{sentence} {warning}".strip())))
        self.setAccessibleName(plain(sentence))
        self.update(self._sentence_box.toAlignedRect())

    def paintEvent(self, event: QPaintEvent) -> None:
        px, theme = self._look.px, self._look.theme
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))
        box = self._sentence_box
        right = box.right()
        if self.warning:  # it has to be read: where there is no room for both the sentence is cut short
            wanted = width_of(self._look, self.warning, "small") + px(34)
            box.setWidth(max(box.width() - wanted, 0.4 * box.width()))
        width = draw_rich_text(painter, box, self.sentence, self._look, dim=theme.ink)
        if self.warning:
            left = box.left() + width + px(10)
            painter.fillRect(QRectF(left, px(8), px(4), box.height() - px(16)), theme.warning)
            rest = QRectF(left + px(10), 0, right - left - px(10), box.height())
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
