"""The whole capture, with the window on it as a frame."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen

from warm_ember.signal.envelope import NOTHING, envelope, per_column
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.flags import tick_step
from warm_ember.ui.lanes.heat import heat_picture, log_scale
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text

_EARS = 12
_FUNNEL, _TIMES, _HEAD = 4, 15, 16


class WholeCaptureLane(Lane):
    """The whole capture, with the window as a frame that can be dragged and resized.

    It hangs on the time axis: a thin funnel from the axis's ends to the frame's edges shows that these are two time
    scales. A window on all of it has neither.
    """

    name = "Whole capture"

    def __init__(self, look: Appearance, window: TimeWindow, height: int = 64) -> None:
        super().__init__(look, window, height)
        self._grip = ""
        self._picture: tuple[object, np.ndarray] | None = None

    def x_of(self, time_s: float) -> float:
        rect = self.plot_rect
        return rect.left() + time_s / self.window_on_time.duration_s * rect.width()

    def time_at(self, x: float) -> float:
        rect = self.plot_rect
        return (x - rect.left()) / rect.width() * self.window_on_time.duration_s

    def head_key(self) -> object:
        window = self.window_on_time
        return (super().head_key(), window.duration_s, window.length_s)

    @property
    def strip(self) -> QRectF:
        """Where the capture is drawn, below its times."""
        return self.plot_rect.adjusted(0, self.look.px(_FUNNEL + _TIMES), 0, -self.look.px(2))

    @property
    def shows_all(self) -> bool:
        """Whether the window is on all of the capture."""
        return self.window_on_time.length_s >= self.window_on_time.duration_s * 0.9999

    def paint_head(self, painter: QPainter) -> None:
        """Paint the name, and the window's length."""
        look, px = self.look, self.look.px
        room = self.head_width - px(26)
        draw_rich_text(painter, QRectF(px(22), px(_HEAD), room, px(18)), self.name, look, dim=look.theme.ink)
        if self.results is None:
            return
        length = duration_text(self.window_on_time.length_s).rich
        words = f"all {length}" if self.shows_all else f"window {length}"
        ink = look.theme.dim if self.shows_all else look.theme.mark
        draw_rich_text(
            painter, QRectF(px(22), px(_HEAD + 18), room, px(16)), words, look, size="small", ink=ink, dim=ink
        )

    def paint_plot(self, painter: QPainter) -> None:
        theme, rect = self.look.theme, self.strip
        painter.fillRect(rect, theme.sunken)
        if self.results is None:
            return
        draw_pixels(painter, rect, self._heat(rect))
        if not self.shows_all:
            self._paint_frame(painter, rect)
        self._paint_times(painter, rect)

    def _paint_times(self, painter: QPainter, rect: QRectF) -> None:
        """Paint the times of the whole capture, where the frame leaves room."""
        window, px = self.window_on_time, self.look.px
        step = tick_step(window.duration_s, rect.width() / px(190))
        left, right = (0.0, -1.0) if self.shows_all else self.frame()
        top = px(_FUNNEL)
        for index in range(int(window.duration_s / step + 1e-9) + 1):
            x = self.x_of(index * step)
            painter.setPen(self.look.theme.rule)
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.top() + px(4)))
            text = window.label(index * step, step * 300)
            width = width_of(self.look, text, "small")
            from_x = min(max(x - width / 2, rect.left()), rect.right() - width)
            if self.shows_all or from_x > right + px(4) or from_x + width < left - px(4):
                box = QRectF(from_x, top, width + 2, px(_TIMES))
                draw_rich_text(painter, box, text, self.look, size="small", dim=self.look.theme.faint)

    def _heat(self, rect: QRectF) -> np.ndarray:
        """Return the picture of the whole capture, kept while it shows the same."""
        assert self.results is not None
        capture, width = self.results.capture, self.columns_of(rect)
        rows = round(rect.height() * self.devicePixelRatioF())
        series, duration_s = capture.current, capture.duration_s
        bins = self.window_on_time.reader.read(
            ("whole", series), (round(duration_s, 1), width), lambda: envelope(series, 0.0, duration_s, width)
        )
        key = (bins, width, rows, self.look.theme.name)
        if self._picture is None or self._picture[0] != key:
            whole = per_column(NOTHING if bins is None else bins, 0.0, duration_s, width)
            positive = whole.mean[whole.mean > 0]
            lowest, highest = (positive.min(), np.nanmax(whole.high)) if len(positive) else (1e-6, 1e-3)
            scale = log_scale(float(lowest), float(highest))
            self._picture = (key, heat_picture(whole, scale, rows, self.look.theme, ground=np.zeros(rows, dtype=bool)))
        return self._picture[1]

    def frame(self) -> tuple[float, float]:
        """Return left and right of the window's frame, never narrower than its ears."""
        left, right = self.x_of(self.window_on_time.from_s), self.x_of(self.window_on_time.to_s)
        least = self.look.px(_EARS)
        if right - left < least:
            middle = min(max((left + right) / 2, self.plot_rect.left() + least / 2), self.plot_rect.right() - least / 2)
            left, right = middle - least / 2, middle + least / 2
        return left, right

    def _paint_frame(self, painter: QPainter, rect: QRectF) -> None:
        theme, px = self.look.theme, self.look.px
        left, right = self.frame()
        shade = QColor(theme.ground)
        shade.setAlpha(150)
        painter.fillRect(QRectF(rect.left(), rect.top(), left - rect.left(), rect.height()), shade)
        painter.fillRect(QRectF(right, rect.top(), rect.right() - right, rect.height()), shade)
        funnel = QColor(theme.mark)
        funnel.setAlpha(120)
        painter.setPen(QPen(funnel, 1))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for edge, x in ((rect.left(), left), (rect.right(), right)):
            painter.drawLine(QPointF(edge, 0), QPointF(x, rect.top()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)
        painter.setPen(QPen(theme.mark, 2))
        painter.drawRect(QRectF(left + 1, rect.top() + 1, right - left - 2, rect.height() - 2))
        for x in (left, right - px(4)):
            painter.fillRect(QRectF(x, rect.center().y() - px(5), px(4), px(10)), theme.mark)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        if self.results is None or x < self.plot_rect.left():
            super().mousePressEvent(event)
            return
        left, right = self.frame()
        reach = self.look.px(5)
        narrow = right - left <= self.look.px(_EARS) + 1
        self._grip = (
            "left"
            if abs(x - left) <= reach and not narrow
            else "right"
            if abs(x - right) <= reach and not narrow
            else "all"
        )
        if self._grip == "all" and not left <= x <= right:
            self._centre_on(self.time_at(x))
        self._grabbed_s = self.time_at(x) - self.window_on_time.from_s

    def _centre_on(self, time_s: float) -> None:
        window = self.window_on_time
        window.show(time_s - window.length_s / 2, time_s + window.length_s / 2)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        window, time_s = self.window_on_time, self.time_at(event.position().x())
        if self._grip == "left":
            window.show(min(time_s, window.to_s), window.to_s, remember=False)
        elif self._grip == "right":
            window.show(window.from_s, max(time_s, window.from_s), remember=False)
        elif self._grip == "all":
            window.pan(time_s - self._grabbed_s - window.from_s)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._grip = ""
