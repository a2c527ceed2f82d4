"""The plan drawn as the waveform it predicts over the measured one, with the difference of each segment."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)

from warm_ember.session.plan_waveform import PlanWaveform
from warm_ember.session.run_results import RunResults
from warm_ember.session.tuning_results import PlanResults
from warm_ember.ui.lanes.current_axis import paint_current_axis
from warm_ember.ui.lanes.flags import tick_step
from warm_ember.ui.lanes.heat import CurrentScale, heat_picture, log_scale
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import WaveformSegment


_LEFT, _TOP, _AXIS = 92, 40, 30
_RIBBON, _TEXT = 18, 34


class WaveformView(PaintedView):
    """Measured current, with the predicted one as a line over it; wheel and arrow keys move through time.

    Signals
    -------
    asked
        Another window, width or plan is to be read; what was read before stands until then.
    """

    asked = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Predicted waveform over the measured one")
        self.look = look
        self.results: RunResults | None = None
        self.segments: tuple[WaveformSegment, ...] = ()
        self.read: PlanWaveform | None = None
        self.span_s = (0.0, 1.0)
        self._dragged_from: float | None = None
        look.changed.connect(self.update)

    def show_plan(self, results: RunResults | None, found: PlanResults | None) -> None:
        """Show another plan, or another run."""
        same = self.results is not None and results is not None and results.capture is self.results.capture
        self.results = results
        self.segments = found.waveform if results is not None and found is not None else ()
        if results is not None and not same:
            self.span_s, self.read = (0.0, results.capture.duration_s), None
        self.asked.emit()
        self.update()

    def show_read(self, read: PlanWaveform) -> None:
        """Show a window that was read."""
        self.read = read
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        if event.size().width() != event.oldSize().width():
            self.asked.emit()

    @property
    def columns(self) -> int:
        """Width of the plot in pixels."""
        return max(1, int(self.plot.width()))

    @property
    def plot(self) -> QRectF:
        """Where the current is drawn."""
        px = self.look.px
        bottom = px(_AXIS + _RIBBON + _TEXT)
        return QRectF(px(_LEFT), px(_TOP), self.width() - px(_LEFT + 16), self.height() - px(_TOP) - bottom)

    def x_of(self, time_s: float) -> float:
        """Return where a moment is."""
        begin, end = self.span_s
        return float(self.plot.left() + (time_s - begin) / (end - begin) * self.plot.width())

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        title = "Measured, and as the plan predicts it"
        draw_rich_text(painter, QRectF(px(16), px(8), px(400), px(20)), title, look, dim=theme.ink)
        if self.results is None:
            painter.end()
            return
        hint = "wheel: zoom; drag or arrow keys: move; F: all of it"
        words = QRectF(self.width() / 2, px(8), self.width() / 2 - px(16), px(20))
        draw_rich_text(painter, words, hint, look, size="small", align=Qt.AlignmentFlag.AlignRight)
        plot = self.plot
        painter.fillRect(plot, theme.sunken)
        if self.read is not None:
            self._paint_current(painter, plot, self.read)
        self._paint_time(painter, plot)
        self._paint_segments(painter, plot)
        painter.end()

    def _paint_current(self, painter: QPainter, plot: QRectF, read: PlanWaveform) -> None:
        """Paint what was read where it belongs in the window, which may have moved on since."""
        columns, rows = read.measured, max(1, int(plot.height()))
        positive = columns.mean[columns.mean > 0]
        if not len(positive):
            return
        least = min(float(positive.min()), *(max(s.predicted_a, 1e-9) for s in read.segments), 1.0)
        scale = log_scale(least, float(np.nanmax(columns.high)))
        paint_current_axis(painter, plot, scale, self.look, room=plot.left(), grid=True)
        pixels = np.ascontiguousarray(heat_picture(columns, scale, rows, self.look.theme))
        width = len(columns.mean)
        picture = QImage(pixels.data, width, rows, 4 * width, QImage.Format.Format_ARGB32)
        where = QRectF(self.x_of(read.from_s), plot.top(), self.x_of(read.to_s) - self.x_of(read.from_s), plot.height())
        painter.setClipRect(plot)
        painter.drawImage(plot if (read.from_s, read.to_s) == self.span_s else where, picture)
        self._paint_predicted(painter, plot, read, scale)
        painter.setClipping(False)

    def shown(self) -> list[WaveformSegment]:
        """Return the segments in the window."""
        begin, end = self.span_s
        return [one for one in self.segments if one.to_s > begin and one.from_s < end]

    def _paint_predicted(self, painter: QPainter, plot: QRectF, read: PlanWaveform, scale: CurrentScale) -> None:
        """Draw what each column would be."""
        if not len(read.predicted_a):
            return
        heights = scale.height(np.maximum(np.nan_to_num(read.predicted_a, nan=1e-9), 1e-9))
        left, step = self.x_of(read.from_s), (self.x_of(read.to_s) - self.x_of(read.from_s)) / len(heights)
        points = [
            QPointF(left + column * step, plot.bottom() - float(height) * plot.height())
            for column, height in enumerate(heights.tolist())
        ]
        painter.setPen(QPen(self.look.theme.mark, 2))
        painter.drawPolyline(QPolygonF(points))

    def _paint_time(self, painter: QPainter, plot: QRectF) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        begin, end = self.span_s
        step = tick_step(end - begin, 8)
        first = int(np.ceil(begin / step))
        for number in range(first, int(end / step) + 1):
            x = self.x_of(number * step)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            if x > plot.right() - px(30):  # its words would be cut off
                continue
            box = QRectF(x - px(50), plot.bottom() + px(4), px(100), px(16))
            words = str(duration_text(number * step, max(3, len(str(number))))) if number else "0"
            draw_rich_text(painter, box, words, look, size="small", align=Qt.AlignmentFlag.AlignHCenter)

    def _paint_segments(self, painter: QPainter, plot: QRectF) -> None:
        """Name each segment that is wide enough, with what the plan changes of its charge."""
        look, theme, px = self.look, self.look.theme, self.look.px
        top = plot.bottom() + px(_AXIS)
        for segment in self.shown():
            left, right = (max(min(self.x_of(t), plot.right()), plot.left()) for t in (segment.from_s, segment.to_s))
            box = QRectF(left, top, max(right - left, 1.0), px(_RIBBON))
            painter.fillRect(box.adjusted(0, 0, -1 if right - left > 3 else 0, 0), theme.ramp.color(segment.measured_a))
            if right - left < px(64):
                continue
            words = QRectF(left + px(4), box.bottom() + px(1), right - left - px(6), px(16))
            draw_rich_text(painter, words, segment.state, look, size="small", dim=theme.ink)
            change = f"{quantity_text(segment.change_c, 'C')}" if segment.change_c else "the same"
            if segment.change_c > 0:
                change = f"+{change}"
            draw_rich_text(painter, words.translated(0, px(15)), change, look, size="small")

    def zoom(self, factor: float, at_s: float) -> None:
        """Show a longer or shorter stretch around a moment."""
        if self.results is None:
            return
        begin, end = self.span_s
        length = min(max((end - begin) * factor, 20 * self.results.capture.current.interval_s), self._whole_s)
        share = (at_s - begin) / (end - begin)
        self._go(at_s - share * length, length)

    @property
    def _whole_s(self) -> float:
        return self.results.capture.duration_s if self.results is not None else 1.0

    def _go(self, begin: float, length: float) -> None:
        begin = min(max(begin, 0.0), max(self._whole_s - length, 0.0))
        self.span_s = (begin, begin + length)
        self.asked.emit()
        self.update()

    def _time_at(self, x: float) -> float:
        begin, end = self.span_s
        return begin + (x - self.plot.left()) / max(self.plot.width(), 1.0) * (end - begin)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom(0.8 if event.angleDelta().y() > 0 else 1.25, self._time_at(event.position().x()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._dragged_from = self._time_at(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragged_from is not None:
            begin, end = self.span_s
            self._go(begin + self._dragged_from - self._time_at(event.position().x()), end - begin)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._dragged_from = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        begin, end = self.span_s
        key, middle = event.key(), (begin + end) / 2
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._go(begin + (0.2 if key == Qt.Key.Key_Right else -0.2) * (end - begin), end - begin)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Up):
            self.zoom(0.8, middle)
        elif key in (Qt.Key.Key_Minus, Qt.Key.Key_Down):
            self.zoom(1.25, middle)
        elif key == Qt.Key.Key_F:
            self._go(0.0, self._whole_s)
        else:
            super().keyPressEvent(event)
