"""The wake raster: a row for each source, a tick for each wake, as high as what it cost."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Signal
from PySide6.QtGui import QMouseEvent, QPainter

from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.model.arrays import Floats, Indices
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.marked import draw_marked, width_of
from warm_ember.ui.look.theme import Look
from warm_ember.units import duration_text, quantity_text

CHARGE, LENGTH = "charge", "length"
_ROW, _LEAST_ROW, _MOST_ROWS = 26, 15, 12
_MOST_HEIGHT = 132
_NARROWEST = 2
_LOWEST = 0.16


class RasterLane(Lane):
    """Wakes against time.

    Signals
    -------
    wake_chosen
        The index of a wake that was clicked.
    source_chosen
        The name of a source whose head was clicked.
    """

    name = "Wakes"
    wake_chosen = Signal(int)
    source_chosen = Signal(str)

    def __init__(self, look: Look, window: TimeWindow) -> None:
        super().__init__(look, window, _ROW)
        self.ledger: WakeLedger | None = None
        self.height_by = CHARGE
        self.chosen = ""
        self._rows: list[tuple[str, Indices]] = []

    def set_ledger(self, ledger: WakeLedger | None) -> None:
        """Show the wakes of another run."""
        self.ledger = ledger
        rows = ledger.sources[:_MOST_ROWS] if ledger is not None else ()
        self._rows = [(row.source, np.flatnonzero(ledger.wakes.by(row.source))) for row in rows] if ledger else []
        self.rescale()

    def set_height_by(self, what: str) -> None:
        """Let the height of a tick tell charge or length."""
        self.height_by = what
        self.refresh()

    def choose(self, source: str) -> None:
        """Mark a row; an empty name marks none."""
        self.chosen = source
        self.refresh_all()

    def has_data(self) -> bool:
        return bool(self._rows)

    def rescale(self) -> None:
        rows = max(len(self._rows), 1)
        height = min(_ROW, max(_LEAST_ROW, _MOST_HEIGHT // rows))
        self.setFixedHeight(self.look.px(height * rows) + 1)
        self.refresh_all()

    def row_rect(self, index: int) -> QRectF:
        """Return where a source's row is, head included."""
        height = (self.height() - 1) / max(len(self._rows), 1)
        return QRectF(0, height * index, self.width(), height)

    def head_key(self) -> object:
        return (tuple(name for name, _ in self._rows), self.chosen, self.height())

    def paint_head(self, painter: QPainter) -> None:
        px, theme = self.look.px, self.look.theme
        for index, (name, _) in enumerate(self._rows):
            row = self.row_rect(index)
            if name == self.chosen:
                painter.fillRect(QRectF(0, row.top(), self.head_width - 4, row.height()), theme.mark_ground)
            if not index:
                fold = QRectF(px(8), row.top(), px(14), row.height())
                draw_marked(painter, fold, "▾", self.look, size="small", dim=theme.faint)
            box = QRectF(px(22), row.top(), self.head_width - px(28), row.height())
            draw_marked(painter, box, name, self.look, dim=theme.ink)
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(0, row.bottom()), QPointF(self.head_width, row.bottom()))

    def paint_plot(self, painter: QPainter) -> None:
        ledger = self.ledger
        if ledger is None:
            return
        theme = self.look.theme
        values = self._values(ledger)
        positive = values[values > 0]
        low, high = (float(positive.min()), float(positive.max())) if len(positive) else (1.0, 1.0)
        reach = np.log10(max(high / low, 1.0 + 1e-9))
        for index, (_, mine) in enumerate(self._rows):
            row = self.row_rect(index)
            rect = QRectF(self.plot_rect.left(), row.top() + 1, self.plot_rect.width(), row.height() - 2)
            seen = self._seen(ledger, mine)
            if len(seen):
                share = np.log10(np.maximum(values[seen], low) / low) / reach
                heights = _LOWEST + (1 - _LOWEST) * np.clip(share, 0.0, 1.0)
                mean_a = ledger.cost_c[seen] / np.maximum(ledger.awake_s[seen], 1e-12)
                self._paint_row(painter, rect, ledger, seen, heights, theme.ramp.packed(mean_a))
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(rect.left(), row.bottom()), QPointF(rect.right(), row.bottom()))
            self._label(painter, rect, ledger, seen)

    def _values(self, ledger: WakeLedger) -> Floats:
        return ledger.cost_c if self.height_by == CHARGE else ledger.awake_s

    def _seen(self, ledger: WakeLedger, mine: Indices) -> Indices:
        """Return which of some wakes the window shows."""
        window = self.window_on_time
        begin = int(np.searchsorted(ledger.wakes.last[mine] * ledger.interval_s, window.from_s))
        end = int(np.searchsorted(ledger.wakes.first[mine] * ledger.interval_s, window.to_s))
        return mine[begin:end]

    def _paint_row(
        self, painter: QPainter, rect: QRectF, ledger: WakeLedger, seen: Indices, heights: Floats, colors: np.ndarray
    ) -> None:
        """Paint ticks: of those in one pixel column the highest is seen."""
        window = self.window_on_time
        ratio = self.devicePixelRatioF()
        width, rows = self.columns_of(rect), max(2, round(rect.height() * ratio))
        scale = width / window.length_s
        left = np.floor((ledger.wakes.first[seen] * ledger.interval_s - window.from_s) * scale).astype(np.int64)
        right = np.ceil((ledger.wakes.last[seen] * ledger.interval_s - window.from_s) * scale).astype(np.int64)
        right = np.maximum(right, left + round(_NARROWEST * ratio))
        left, right = np.clip(left, 0, width - 1), np.clip(right, 1, width)
        top = np.zeros(width)
        color = np.zeros(width, dtype=np.uint32)
        first = np.flatnonzero(np.append(True, np.diff(left) > 0))
        best = _highest(heights, first)
        for at in range(round(_NARROWEST * ratio)):
            column = np.minimum(left[best] + at, width - 1)
            higher = heights[best] > top[column]
            top[column[higher]], color[column[higher]] = heights[best][higher], colors[best][higher]
        for one in np.flatnonzero(right - left > _NARROWEST * ratio).tolist():
            part = slice(int(left[one]), int(right[one]))
            higher = heights[one] > top[part]
            top[part][higher], color[part][higher] = heights[one], colors[one]
        picture = np.full((rows, width), np.uint32(self.look.theme.sunken.rgb()), dtype=np.uint32)
        np.copyto(picture, color[None, :], where=np.arange(rows)[:, None] >= rows * (1 - top)[None, :])
        draw_pixels(painter, rect, picture)

    def _label(self, painter: QPainter, rect: QRectF, ledger: WakeLedger, seen: Indices) -> None:
        """Say what one wake takes, right of the last tick, where there is room."""
        if not len(seen):
            draw_marked(
                painter, rect.adjusted(8, 0, 0, 0), "none here", self.look, size="small", dim=self.look.theme.faint
            )
            return
        values = self._values(ledger)[seen]
        middle = float(np.median(values))
        words = quantity_text(middle, "C").marked if self.height_by == CHARGE else duration_text(middle).marked
        if len(seen) > 1:
            words += " each"
        room = width_of(self.look, words, "small") + 16
        ends = self.x_of(float(ledger.wakes.last[seen[-1]]) * ledger.interval_s) + 8
        if ends + room < rect.right():
            draw_marked(painter, QRectF(ends, rect.top(), room, rect.height()), words, self.look, size="small")

    def wake_at(self, point: QPointF) -> int | None:
        """Return the wake nearest to a point, if one is near."""
        ledger = self.ledger
        if ledger is None or point.x() < self.plot_rect.left():
            return None
        for index, (_, mine) in enumerate(self._rows):
            if self.row_rect(index).contains(point) and len(mine):
                at = self.time_at(point.x()) / ledger.interval_s
                near = int(np.clip(np.searchsorted(ledger.wakes.first[mine], at), 1, max(len(mine) - 1, 1)))
                pair = mine[[near - 1, min(near, len(mine) - 1)]]
                away = np.maximum(ledger.wakes.first[pair] - at, at - ledger.wakes.last[pair]) * ledger.interval_s
                one = int(pair[int(np.argmin(away))])
                reach_s = self.look.px(6) / max(self.plot_rect.width(), 1) * self.window_on_time.length_s
                return one if away.min() <= reach_s else None
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        px = self.look.px
        if px(22) <= event.position().x() < self.plot_rect.left():
            for index, (name, _) in enumerate(self._rows):
                if self.row_rect(index).contains(event.position()):
                    self.source_chosen.emit(name)
            return
        wake = self.wake_at(event.position())
        if wake is not None:
            self.wake_chosen.emit(wake)
            return
        super().mousePressEvent(event)


def _highest(heights: Floats, first: Indices) -> Indices:
    """Return the index of the highest of each run of ticks that begins at `first`."""
    most = np.maximum.reduceat(heights, first)
    run = np.repeat(np.arange(len(first)), np.diff(np.append(first, len(heights))))
    at = np.flatnonzero(heights >= most[run])
    return at[np.unique(run[at], return_index=True)[1]]
