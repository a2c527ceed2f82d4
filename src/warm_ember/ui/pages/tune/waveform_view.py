"""The plan drawn as the waveform it predicts over the measured one, with the difference of each segment."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QWidget

from warm_ember.model.arrays import Floats
from warm_ember.model.project import Project
from warm_ember.session.run_results import RunResults
from warm_ember.session.tuning_results import PlanResults
from warm_ember.signal.envelope import envelope, per_column
from warm_ember.tuning.waveform import WaveformSegment, predicted_waveform
from warm_ember.ui.lanes.current_axis import paint_current_axis
from warm_ember.ui.lanes.flags import tick_step
from warm_ember.ui.lanes.heat import CurrentScale, heat_picture, log_scale
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, quantity_text

_LEFT, _TOP, _AXIS = 92, 40, 30
_RIBBON, _TEXT = 18, 34


class WaveformView(QWidget):
    """Measured current, with the predicted one as a line over it; wheel and arrow keys move through time."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Predicted waveform over the measured one")
        self.look = look
        self.results: RunResults | None = None
        self.segments: tuple[WaveformSegment, ...] = ()
        self.span_s = (0.0, 1.0)
        self._dragged_from: float | None = None
        look.changed.connect(self.update)

    def show_plan(self, results: RunResults | None, found: PlanResults | None, project: Project) -> None:
        """Show another plan, or another run."""
        same = self.results is not None and results is not None and results.capture is self.results.capture
        self.results = results
        self.segments = ()
        if results is not None and not same:
            self.span_s = (0.0, results.capture.duration_s)
        if results is not None and found is not None:
            changes = tuple(step.change for step in found.steps)
            self.segments = predicted_waveform(results.placement, results.ledger, found.predicted, changes)
        self.update()

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
        width, rows = max(1, int(plot.width())), max(1, int(plot.height()))
        begin, end = self.span_s
        found = envelope(
            self.results.capture.current, max(begin, 0.0), min(end, self.results.capture.duration_s), width
        )
        columns = per_column(found, begin, end, width)
        positive = columns.mean[columns.mean > 0]
        if len(positive):
            least = min(float(positive.min()), *(max(s.predicted_a, 1e-9) for s in self.shown()), 1.0)
            scale = log_scale(least, float(np.nanmax(columns.high)))
            paint_current_axis(painter, plot, scale, look, room=plot.left(), grid=True)
            pixels = np.ascontiguousarray(heat_picture(columns, scale, rows, theme))
            painter.drawImage(plot, QImage(pixels.data, width, rows, 4 * width, QImage.Format.Format_ARGB32))
            painter.setClipRect(plot)
            self._paint_predicted(painter, plot, columns.mean, scale)
            painter.setClipping(False)
        self._paint_time(painter, plot)
        self._paint_segments(painter, plot)
        painter.end()

    def shown(self) -> list[WaveformSegment]:
        """Return the segments in the window."""
        begin, end = self.span_s
        return [one for one in self.segments if one.to_s > begin and one.from_s < end]

    def _paint_predicted(self, painter: QPainter, plot: QRectF, measured_a: Floats, scale: CurrentScale) -> None:
        """Draw what each column would be: moved as its state is, and at rest where its stay would be over."""
        segments = self.shown()
        if not segments:
            return
        begin, end = self.span_s
        times_s = begin + (np.arange(len(measured_a)) + 0.5) / len(measured_a) * (end - begin)
        starts = np.array([one.from_s for one in segments])
        at = np.clip(np.searchsorted(starts, times_s, side="right") - 1, 0, len(segments) - 1)
        moved_a = np.array([one.predicted_a - one.measured_a for one in segments])[at]
        over = times_s > np.array([one.from_s + one.predicted_s for one in segments])[at]
        rest_a = np.array([one.rest_a if one.rest_a is not None else np.nan for one in segments])[at]
        predicted_a = np.where(over & ~np.isnan(rest_a), rest_a, measured_a + moved_a)
        heights = scale.height(np.maximum(np.nan_to_num(predicted_a, nan=1e-9), 1e-9))
        points = [
            QPointF(plot.left() + column, plot.bottom() - float(height) * plot.height())
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
