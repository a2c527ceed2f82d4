"""The lanes beside the current: overview, digital lines, charge so far, voltage and power."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QRectF, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen

from warm_ember.model.arrays import Floats
from warm_ember.signal.bits import line_window
from warm_ember.signal.envelope import Columns, envelope, per_column
from warm_ember.signal.series import Series
from warm_ember.signal.stretch import total
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.heat import heat_picture, log_scale
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.lane_data import Shown
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.marked import draw_marked
from warm_ember.ui.look.theme import Look
from warm_ember.units import duration_text, quantity_text

_EARS = 12


class OverviewLane(Lane):
    """The whole capture, always, with the window as a frame that can be dragged and resized."""

    name = "Overview"

    def __init__(self, look: Look, window: TimeWindow, height: int = 48) -> None:
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
        return (super().head_key(), self.window_on_time.duration_s)

    def paint_head(self, painter: QPainter) -> None:
        """Paint the name and the capture's length."""
        super().paint_head(painter)
        if self.results is not None:
            self.paint_value(painter, duration_text(self.window_on_time.duration_s).marked)

    def paint_plot(self, painter: QPainter) -> None:
        px, theme = self.look.px, self.look.theme
        rect = self.plot_rect.adjusted(0, px(16), 0, -px(1))
        painter.fillRect(rect, theme.sunken)
        if self.results is None:
            return
        draw_pixels(painter, rect, self._heat(rect))
        self._paint_frame(painter, rect)

    def _heat(self, rect: QRectF) -> np.ndarray:
        """Return the picture of the whole capture, kept while it shows the same."""
        assert self.results is not None
        capture, width = self.results.capture, self.columns_of(rect)
        rows = round(rect.height() * self.devicePixelRatioF())
        key = (capture, round(capture.duration_s, 1), width, rows, self.look.theme.name)
        if self._picture is None or self._picture[0] != key:
            whole = per_column(
                envelope(capture.current, 0.0, capture.duration_s, width), 0.0, capture.duration_s, width
            )
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
        window, theme, px = self.window_on_time, self.look.theme, self.look.px
        left, right = self.frame()
        shade = QColor(theme.ground)
        shade.setAlpha(150)
        painter.fillRect(QRectF(rect.left(), rect.top(), left - rect.left(), rect.height()), shade)
        painter.fillRect(QRectF(right, rect.top(), rect.right() - right, rect.height()), shade)
        painter.setPen(QPen(theme.mark, 2))
        painter.drawRect(QRectF(left + 1, rect.top() + 1, right - left - 2, rect.height() - 2))
        for x in (left, right - px(4)):
            painter.fillRect(QRectF(x, rect.top() - px(2), px(4), px(8)), theme.mark)
        whole = window.length_s >= window.duration_s * 0.9999
        words = (
            "all of it"
            if whole
            else f"window {duration_text(window.length_s).marked} at {window.label(window.from_s, window.length_s)}"
        )
        text_left = min(left, self.width() - px(220))
        draw_marked(
            painter,
            QRectF(text_left, 0, px(212), px(15)),
            words,
            self.look,
            size="small",
            ink=theme.mark,
            dim=theme.mark,
        )

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


class LinesLane(Lane):
    """Digital lines, one row each."""

    name = "Lines"
    _ROW = 14

    def has_data(self) -> bool:
        return self.results is not None and self.results.capture.lines is not None

    def set_results(self, results: Shown | None) -> None:
        lines = results.capture.lines if results is not None else None
        if lines is not None:
            self._base_height = 8 + self._ROW * max(1, len(lines.names))
            self.setFixedHeight(self.look.px(self._base_height))
        super().set_results(results)

    @property
    def _names(self) -> tuple[str, ...]:
        lines = self.results.capture.lines if self.results is not None else None
        return lines.names if lines is not None else ()

    def head_key(self) -> object:
        return self._names

    def paint_head(self, painter: QPainter) -> None:
        """Paint the lines' names."""
        super().paint_head(painter)
        px = self.look.px
        for bit, name in enumerate(self._names):
            box = QRectF(px(60), px(4 + self._ROW * bit), self.head_width - px(68), px(self._ROW))
            draw_marked(painter, box, name, self.look, size="small", align=Qt.AlignmentFlag.AlignRight)

    def paint_plot(self, painter: QPainter) -> None:
        lines = self.results.capture.lines if self.results is not None else None
        if lines is None:
            return
        rect, window, px = self.plot_rect, self.window_on_time, self.look.px
        found = line_window(lines, window.from_s, window.to_s, self.columns_of(rect))
        for bit, _ in enumerate(lines.names):
            row = QRectF(rect.left(), px(6 + self._ROW * bit), rect.width(), px(self._ROW - 4))
            self._paint_line(painter, row, found.edges_s, found.high(bit), found.low(bit))

    def _paint_line(self, painter: QPainter, row: QRectF, edges_s: Floats, high: np.ndarray, low: np.ndarray) -> None:
        if not len(high):
            return
        # Bins of equal looks are drawn as one stroke, so an idle line costs one.
        looks = high * 2 + low
        starts = np.flatnonzero(np.diff(looks, prepend=-1))
        ends = np.append(starts[1:], len(looks))
        scale, window = row.width() / self.window_on_time.length_s, self.window_on_time
        x = row.left() + (edges_s[np.append(starts, ends[-1])] - window.from_s) * scale
        x = np.clip(x, row.left(), row.right()).tolist()
        strokes: list[QLineF] = []
        busy: list[QRectF] = []
        last_y: float | None = None
        for look, left, right in zip(looks[starts].tolist(), x[:-1], x[1:], strict=True):
            if look == 3:  # both levels within a pixel
                busy.append(QRectF(left, row.top(), max(1.0, right - left), row.height()))
                last_y = None
                continue
            y = row.top() if look == 2 else row.bottom()
            if last_y is not None and last_y != y:
                strokes.append(QLineF(left, last_y, left, y))
            strokes.append(QLineF(left, y, right, y))
            last_y = y
        dim = self.look.theme.dim
        for rect in busy:
            painter.fillRect(rect, dim)
        painter.setPen(QPen(dim, 1))
        painter.drawLines(strokes)


class ChargeLane(Lane):
    """The charge that has flowed since the capture's start."""

    name = "Charge so far"
    name_top = 15

    def __init__(self, look: Look, window: TimeWindow, height: int = 64) -> None:
        super().__init__(look, window, height)
        self._charge: Floats = np.empty(0)
        self._ends = (0.0, 0.0)

    def head_key(self) -> object:
        return (super().head_key(), self._ends)

    def paint_head(self, painter: QPainter) -> None:
        """Paint the name, and the charge at both ends of the axis."""
        super().paint_head(painter)
        self.paint_ends(painter, self._ends, "C")

    def paint_plot(self, painter: QPainter) -> None:
        if self.results is None:
            return
        rect, window, theme = self.plot_rect.adjusted(0, 1, 0, -1), self.window_on_time, self.look.theme
        painter.fillRect(rect, theme.sunken)
        series, width = self.results.capture.current, self.columns_of(rect)
        found, shown = window.envelope(series, width)
        if not len(found.low):
            return
        first = round(float(found.edges_s[0]) / series.interval_s)
        before = total(series, 0, first).total * series.interval_s
        running = np.concatenate(([before], before + np.cumsum(found.total)))
        columns = np.linspace(window.from_s, window.to_s, width)
        self._charge = np.interp(columns, found.edges_s, running)
        colors = theme.ramp.packed(np.nan_to_num(shown.mean))
        low, high = float(self._charge.min()), float(self._charge.max())
        self._ends = (low, high)
        rows = round(rect.height() * self.devicePixelRatioF())
        y = (0.9 - 0.8 * (self._charge - low) / max(high - low, 1e-15)) * rows
        beside = np.concatenate((y[:1], y[:-1]))
        row = np.arange(rows, dtype=np.int16)[:, None]
        first_row, last_row = (np.floor(r).astype(np.int16) for r in (np.minimum(y, beside), np.maximum(y, beside)))
        ground = np.full(rows, np.uint32(theme.sunken.rgb()))
        ground[[int(0.1 * rows), int(0.9 * rows)]] = theme.grid.rgb()
        on = (row >= first_row) & (row <= last_row + 1)
        draw_pixels(painter, rect, np.where(on, colors[None, :], ground[:, None]))

    def paint_over(self, painter: QPainter) -> None:
        time_s, window = self.window_on_time.cursor_s, self.window_on_time
        if time_s is None or not len(self._charge):
            return
        column = int(np.clip((time_s - window.from_s) / window.length_s * len(self._charge), 0, len(self._charge) - 1))
        self.paint_value(painter, quantity_text(float(self._charge[column]), "C").marked)


class ScalarLane(Lane):
    """A channel on a linear axis of its own: voltage, power, or an auxiliary one."""

    name_top = 15

    def __init__(self, look: Look, window: TimeWindow, name: str, unit: str, height: int = 56) -> None:
        super().__init__(look, window, height)
        self.name, self.unit = name, unit
        self.setToolTip(tip(name))
        self._columns: Columns | None = None
        self._ends = (0.0, 0.0)

    def series(self) -> Series | None:
        """Return the channel."""
        if self.results is None:
            return None
        capture = self.results.capture
        return {"Voltage": capture.voltage, "Power": capture.power}.get(self.name) or (
            capture.aux[self.name][0] if self.name in capture.aux else None
        )

    def has_data(self) -> bool:
        return self.series() is not None

    def head_key(self) -> object:
        return (super().head_key(), self._ends)

    def paint_head(self, painter: QPainter) -> None:
        """Paint the name, and the values at both ends of the axis."""
        super().paint_head(painter)
        self.paint_ends(painter, self._ends, self.unit)

    def paint_plot(self, painter: QPainter) -> None:
        series = self.series()
        if series is None:
            return
        rect, window, theme = self.plot_rect.adjusted(0, 1, 0, -1), self.window_on_time, self.look.theme
        painter.fillRect(rect, theme.sunken)
        width, height = self.columns_of(rect), round(rect.height() * self.devicePixelRatioF())
        self._columns = window.envelope(series, width)[1]
        if np.isnan(self._columns.mean).all():
            return
        low, high = float(np.nanmin(self._columns.low)), float(np.nanmax(self._columns.high))
        span = max(high - low, 1e-12)
        top = (0.9 - 0.8 * (self._columns.high - low) / span) * height
        bottom = (0.9 - 0.8 * (self._columns.low - low) / span) * height
        middle = (0.9 - 0.8 * (self._columns.mean - low) / span) * height
        row = np.arange(height)[:, None]
        ground, area = np.uint32(theme.sunken.rgb()), np.uint32(theme.faint.rgb())
        picture = np.where((row >= np.floor(top)) & (row <= np.ceil(bottom)), area, ground)
        picture = np.where(np.abs(row - middle) <= 0.7, np.uint32(theme.ink.rgb()), picture)
        draw_pixels(painter, rect, picture)
        self._ends = (low, high)

    def paint_over(self, painter: QPainter) -> None:
        time_s, window = self.window_on_time.cursor_s, self.window_on_time
        if time_s is None or self._columns is None:
            return
        column = int((time_s - window.from_s) / window.length_s * len(self._columns.mean))
        if 0 <= column < len(self._columns.mean):
            self.paint_value(painter, quantity_text(float(self._columns.mean[column]), self.unit, 4).marked)
