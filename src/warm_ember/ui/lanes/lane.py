"""A lane: a head with name, unit and the value under the cursor, and a plot on the shared time axis."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QAccessible, QImage, QMouseEvent, QPainter, QPaintEvent, QWheelEvent

from warm_ember.ui.lanes.lane_data import LaneData
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import format_distinct

HEAD = 160
MARGIN = 8


class Lane(PaintedView):
    """Base of all lanes; subclasses paint the plot into a picture that is kept until what it shows changes.

    Attributes
    ----------
    name, name_top
        What the head says, and how far from the top; lanes with a value at the upper end leave room for it.

    Signals
    -------
    folded
        The lane's name, when it is to be folded away.
    """

    accessible_role = QAccessible.Role.Graphic
    name = ""
    name_top = 8
    folded = Signal(str)

    def __init__(self, look: Appearance, window: TimeWindow, height: int = 64) -> None:
        super().__init__(look)
        self.look, self.window_on_time = look, window
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(self.name or self.reads_as)
        self.results: LaneData | None = None
        self._base_height = height
        self._kept: QImage | None = None
        self._plot_is_stale = True
        self._head_shown: object = None
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setMouseTracking(True)
        self.setFixedHeight(look.px(height))
        window.changed.connect(self.refresh)
        window.reader.arrived.connect(self.refresh)
        window.cursor_moved.connect(self._on_cursor)
        look.changed.connect(self.refresh_all)

    def set_results(self, results: LaneData | None) -> None:
        """Show another run."""
        self.results = results
        self.refresh()

    def has_data(self) -> bool:
        """Whether the run has anything for this lane."""
        return self.results is not None

    def refresh(self) -> None:
        """Paint the plot anew, when it is seen."""
        self._plot_is_stale = True
        if self.isVisible():
            self.update()

    def refresh_all(self) -> None:
        """Paint the plot and the head anew."""
        self._kept = None
        self.refresh()

    def rescale(self) -> None:
        """Follow the desktop's text size."""
        self.setFixedHeight(self.look.px(self._base_height))
        self.refresh_all()

    @property
    def head_width(self) -> int:
        """Width of the head."""
        return self.look.px(HEAD)

    @property
    def plot_rect(self) -> QRectF:
        """Where the plot is."""
        return QRectF(self.head_width, 0, self._plot_width, self.height())

    @property
    def _plot_width(self) -> int:
        return max(1, self.width() - self.head_width - self.look.px(MARGIN))

    def x_of(self, time_s: float) -> float:
        """Return the x of a moment."""
        window = self.window_on_time
        return self.head_width + (time_s - window.from_s) / window.length_s * self._plot_width

    def time_at(self, x: float) -> float:
        """Return the moment at an x."""
        window = self.window_on_time
        return window.from_s + (x - self.head_width) / self._plot_width * window.length_s

    def paintEvent(self, event: QPaintEvent) -> None:
        kept = self._picture_to_paint()
        if self._plot_is_stale:
            self._paint_part(kept, self.plot_rect.adjusted(-2, 0, self.look.px(MARGIN), 0), self.paint_plot)
            self._plot_is_stale = False
        if self._head_shown != self.head_key():
            self._paint_part(kept, QRectF(0, 0, self.plot_rect.left() - 2, self.height()), self.paint_head)
            self._head_shown = self.head_key()
        painter = QPainter(self)
        painter.drawImage(0, 0, kept)
        self.paint_over(painter)
        painter.end()

    def _picture_to_paint(self) -> QImage:
        """Return the kept picture, a new one when the lane's size changed."""
        ratio = self.devicePixelRatioF()
        if self._kept is None or self._kept.size() != self.size() * ratio:
            self._kept = QImage(self.size() * ratio, QImage.Format.Format_RGB32)
            self._kept.setDevicePixelRatio(ratio)
            self._plot_is_stale, self._head_shown = True, None
        return self._kept

    def _paint_part(self, kept: QImage, part: QRectF, paint: Callable[[QPainter], None]) -> None:
        """Paint a part of the kept picture anew."""
        painter = QPainter(kept)
        painter.setClipRect(part)
        painter.fillRect(part, self.look.theme.ground)
        painter.setPen(self.look.theme.rule)
        painter.drawLine(QPointF(part.left(), self.height() - 0.5), QPointF(part.right(), self.height() - 0.5))
        paint(painter)
        painter.end()

    def paint_onto(self, painter: QPainter) -> None:
        """Paint head and plot anew, for a picture that is made of lines and letters."""
        painter.fillRect(self.rect(), self.look.theme.ground)
        painter.setPen(self.look.theme.rule)
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))
        painter.save()
        painter.setClipRect(self.plot_rect.adjusted(-2, 0, self.look.px(MARGIN), 0))
        self.paint_plot(painter)
        painter.restore()
        self.paint_head(painter)

    def paint_to_read(self, painter: QPainter) -> None:
        with self.window_on_time.reader.waiting():
            self.paint_onto(painter)
        self.paint_over(painter)

    def head_key(self) -> object:
        """Return what the head shows: it is painted anew only when that changes."""
        return (self.name, self.results is None)

    def paint_plot(self, painter: QPainter) -> None:
        """Paint the plot."""

    def paint_over(self, painter: QPainter) -> None:
        """Paint what changes with the cursor."""

    def paint_head(self, painter: QPainter) -> None:
        """Paint the name."""
        px = self.look.px
        painter.setPen(self.look.theme.faint)
        draw_rich_text(painter, QRectF(px(8), px(self.name_top), px(14), px(18)), "▾", self.look, size="small")
        rect = QRectF(px(22), px(self.name_top), self.head_width - px(26), px(18))
        draw_rich_text(painter, rect, self.name, self.look, dim=self.look.theme.ink)

    def paint_value(self, painter: QPainter, rich: str, line: int = 1) -> None:
        """Paint a line of the head below the name."""
        px = self.look.px
        rect = QRectF(px(22), px(self.name_top + 16 * line), px(78), px(16))
        painter.fillRect(rect, self.look.theme.ground)
        draw_rich_text(painter, rect, rich, self.look, ink=self.look.theme.ink)

    def paint_ends(self, painter: QPainter, ends: tuple[float, float], unit: str) -> None:
        """Paint the values at a tenth and at nine tenths of the height, where plots without ticks put theirs."""
        px = self.look.px
        for text, share in zip(format_distinct(*ends, unit), (0.9, 0.1), strict=True):
            y = 1 + share * (self.height() - 2)
            box = QRectF(px(60), y - px(8), self.head_width - px(64), px(16))
            draw_rich_text(painter, box, str(text), self.look, size="small", align=Qt.AlignmentFlag.AlignRight)

    def columns_of(self, rect: QRectF) -> int:
        """Return the plot's width in device pixels."""
        return max(1, round(rect.width() * self.devicePixelRatioF()))

    def _on_cursor(self, _time_s: object) -> None:
        self.update(0, 0, self.head_width, self.height())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        inside = self.results is not None and event.position().x() >= self.plot_rect.left()
        self.window_on_time.set_cursor(self.time_at(event.position().x()) if inside else None)
        super().mouseMoveEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        px = self.look.px
        if event.position().x() < px(22) and event.button() == Qt.MouseButton.LeftButton:
            self.folded.emit(self.name)
            return
        super().mousePressEvent(event)

    def leaveEvent(self, event: object) -> None:
        self.window_on_time.set_cursor(None)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.results is None:
            return
        delta = event.angleDelta()
        window = self.window_on_time
        if abs(delta.x()) > abs(delta.y()):
            window.pan(-delta.x() / 1200 * window.length_s)
        else:
            window.zoom(0.8 ** (delta.y() / 120), self.time_at(event.position().x()))
        event.accept()
