"""Weights over the hours of the day or the months of the year, as bars that are drawn with the mouse."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from warm_ember.ui.look.label import tip
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance

_LABELS = 14
_STEP = 0.1
MONTHS = ("J", "F", "M", "A", "M", "J", "J", "A", "S", "O", "N", "D")


class WeightsStrip(PaintedView):
    """Bars of relative weights; all alike is even.

    Dragging over the bars draws them, a double click makes them even again. With the keyboard Left and Right choose a
    bar, Up and Down change it.

    Signals
    -------
    weights_drawn
        The weights, the highest 1; empty for even.
    """

    paints_focus = True
    weights_drawn = Signal(object)

    def __init__(self, look: Appearance, name: str, labels: tuple[str, ...]) -> None:
        super().__init__(look)
        self._look, self._labels = look, labels
        self.weights = [1.0] * len(labels)
        self._chosen = 0
        self._drawing = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)
        self.setToolTip(tip(f"{name}: draw over the bars; double click for even"))
        self.setMinimumHeight(look.px(54))
        look.changed.connect(self.update)

    def set_weights(self, weights: tuple[float, ...]) -> None:
        """Show weights, unless they are being drawn; none are even."""
        if self._drawing:
            return
        top = max(weights, default=0.0)
        self.weights = [weight / top for weight in weights] if top > 0 else [1.0] * len(self._labels)
        self.update()

    @property
    def _bars(self) -> QRectF:
        return QRectF(0, 0, self.width() - 1, self.height() - self._look.px(_LABELS))

    def bar_box(self, index: int) -> QRectF:
        """Return where a bar may stand."""
        width = self._bars.width() / len(self._labels)
        return QRectF(index * width, 0, width, self._bars.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        bars = self._bars
        painter.fillRect(bars, theme.sunken)
        for index, weight in enumerate(self.weights):
            box = self.bar_box(index)
            height = weight * (box.height() - px(4))
            bar = QRectF(box.left() + 0.5, box.bottom() - height, box.width() - 1, height)
            chosen = self.hasFocus() and index == self._chosen
            painter.fillRect(bar, theme.mark if chosen else theme.dim)
            label = QRectF(box.left() - px(6), bars.bottom(), box.width() + px(12), px(_LABELS))
            if self._labels[index]:
                center = Qt.AlignmentFlag.AlignHCenter
                draw_rich_text(painter, label, self._labels[index], look, size="small", align=center)
        painter.setPen(QPen(theme.mark if self.hasFocus() else theme.rule, 1))
        painter.drawLine(QPointF(0, bars.bottom()), QPointF(bars.right(), bars.bottom()))
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._drawing = True
        self._draw(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drawing:
            self._draw(event.position())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drawing:
            self._drawing = False
            self._send()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._drawing = False
        self.weights = [1.0] * len(self._labels)
        self.update()
        self._send()

    def _draw(self, at: QPointF) -> None:
        index = min(max(int(at.x() / self._bars.width() * len(self._labels)), 0), len(self._labels) - 1)
        weight = 1 - at.y() / max(self._bars.height(), 1.0)
        self._chosen = index
        self.weights[index] = round(min(max(weight, 0.0), 1.0), 2)
        self.update()

    def _send(self) -> None:
        even = len(set(self.weights)) == 1
        self.weights_drawn.emit(() if even else tuple(self.weights))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._chosen = (self._chosen + (1 if key is Qt.Key.Key_Right else -1)) % len(self._labels)
            self.update()
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            change = _STEP if key is Qt.Key.Key_Up else -_STEP
            self.weights[self._chosen] = round(min(max(self.weights[self._chosen] + change, 0.0), 1.0), 2)
            self.update()
            self._send()
        else:
            super().keyPressEvent(event)
