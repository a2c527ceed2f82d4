"""The digital lines, one row each."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from warm_ember.model.arrays import Floats
from warm_ember.signal.bits import line_window
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.lane_data import LaneData
from warm_ember.ui.look.rich_text import draw_rich_text


class LinesLane(Lane):
    """Digital lines, one row each."""

    name = "Lines"
    _ROW = 14

    def has_data(self) -> bool:
        return self.results is not None and self.results.capture.lines is not None

    def set_results(self, results: LaneData | None) -> None:
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
            draw_rich_text(painter, box, name, self.look, size="small", align=Qt.AlignmentFlag.AlignRight)

    def paint_plot(self, painter: QPainter) -> None:
        lines = self.results.capture.lines if self.results is not None else None
        if lines is None:
            return
        rect, window, px = self.plot_rect, self.window_on_time, self.look.px
        from_s, to_s, columns = window.from_s, window.to_s, self.columns_of(rect)
        found = window.reader.read(
            ("lines", lines), (from_s, to_s, columns, lines.samples), lambda: line_window(lines, from_s, to_s, columns)
        )
        if found is None:
            return
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
