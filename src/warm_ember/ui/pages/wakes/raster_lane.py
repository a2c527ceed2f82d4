"""The wake raster: a row for each source, a tick for each wake, as high as what it cost."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter

from warm_ember.model.arrays import Floats, Indices
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import WakeLedger


CHARGE, LENGTH = "charge", "length"
UNKNOWN_LETTER = "?"
_ROW, _LEAST_ROW, _MOST_ROWS = 26, 15, 12
_MOST_HEIGHT = 132
_NARROWEST = 2
_LOWEST = 0.16


@dataclass(frozen=True, eq=False)
class _Row:
    """The wakes by one source: which of all, when, how high their ticks are, and their mean current."""

    source: str
    mine: Indices
    first_s: Floats
    last_s: Floats
    height: Floats
    mean_a: Floats


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

    def __init__(self, look: Appearance, window: TimeWindow) -> None:
        super().__init__(look, window, _ROW)
        self.ledger: WakeLedger | None = None
        self.height_by = CHARGE
        self.chosen = ""
        self._rows: list[_Row] = []
        self._letters: dict[str, str] = {}

    def set_ledger(self, ledger: WakeLedger | None, letters: Mapping[str, str] | None = None) -> None:
        """Show the wakes of another run; sources that are kinds have a letter, by their names."""
        self.ledger, self._letters = ledger, dict(letters or {})
        self._arrange()
        self.rescale()

    def set_height_by(self, what: str) -> None:
        """Let the height of a tick tell charge or length."""
        self.height_by = what
        self._arrange()
        self.refresh()

    def _arrange(self) -> None:
        """Work out how high each tick is, once: panning only looks it up."""
        ledger, self._rows = self.ledger, []
        if ledger is None:
            return
        values = self._values(ledger)
        positive = values[values > 0]
        low, high = (float(positive.min()), float(positive.max())) if len(positive) else (1.0, 1.0)
        share = np.log10(np.maximum(values, low) / low) / np.log10(max(high / low, 1.0 + 1e-9))
        height = _LOWEST + (1 - _LOWEST) * np.clip(share, 0.0, 1.0)
        mean_a = ledger.cost_c / np.maximum(ledger.awake_s, 1e-12)
        last = [name for name, letter in self._letters.items() if letter == UNKNOWN_LETTER]
        for row in sorted(ledger.sources, key=lambda row: row.source in last)[:_MOST_ROWS]:
            mine = np.flatnonzero(ledger.wakes.by(row.source))
            ends = (ledger.wakes.first[mine], ledger.wakes.last[mine])
            first_s, last_s = (one.astype(np.float64) * ledger.interval_s for one in ends)
            self._rows.append(_Row(row.source, mine, first_s, last_s, height[mine], mean_a[mine]))

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
        return (tuple(row.source for row in self._rows), tuple(self._letters.values()), self.chosen, self.height())

    def paint_head(self, painter: QPainter) -> None:
        px, theme = self.look.px, self.look.theme
        for index, name in enumerate(row.source for row in self._rows):
            row = self.row_rect(index)
            if name == self.chosen:
                painter.fillRect(QRectF(0, row.top(), self.head_width - 4, row.height()), theme.mark_ground)
            if not index:
                fold = QRectF(px(8), row.top(), px(14), row.height())
                draw_rich_text(painter, fold, "▾", self.look, size="small", dim=theme.faint)
            left = px(22)
            if name in self._letters:
                side = min(px(16), row.height() - 4)
                square = QRectF(left, row.center().y() - side / 2, side, side)
                painter.setPen(theme.rule)
                painter.drawRect(square)
                centre = Qt.AlignmentFlag.AlignHCenter
                draw_rich_text(painter, square, f"**{self._letters[name]}**", self.look, size="small", align=centre)
                left += px(22)
            box = QRectF(left, row.top(), self.head_width - left - px(6), row.height())
            draw_rich_text(painter, box, name, self.look, dim=theme.ink)
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(0, row.bottom()), QPointF(self.head_width, row.bottom()))

    def paint_plot(self, painter: QPainter) -> None:
        ledger, window = self.ledger, self.window_on_time
        if ledger is None:
            return
        for index, row in enumerate(self._rows):
            box = self.row_rect(index)
            rect = QRectF(self.plot_rect.left(), box.top() + 1, self.plot_rect.width(), box.height() - 2)
            begin = int(np.searchsorted(row.last_s, window.from_s))
            end = int(np.searchsorted(row.first_s, window.to_s))
            if end > begin:
                self._paint_row(painter, rect, row, slice(begin, end))
            painter.setPen(self.look.theme.rule)
            painter.drawLine(QPointF(rect.left(), box.bottom()), QPointF(rect.right(), box.bottom()))
            self._label(painter, rect, ledger, row.mine[begin:end])

    def _values(self, ledger: WakeLedger) -> Floats:
        return ledger.cost_c if self.height_by == CHARGE else ledger.awake_s

    def _paint_row(self, painter: QPainter, rect: QRectF, row: _Row, seen: slice) -> None:
        """Paint ticks: of those in one pixel column the highest is seen."""
        window, ratio = self.window_on_time, self.devicePixelRatioF()
        width, rows = self.columns_of(rect), max(2, round(rect.height() * ratio))
        first_s, height, mean_a = row.first_s[seen], row.height[seen], row.mean_a[seen]
        cuts = np.searchsorted(first_s, np.linspace(window.from_s, window.to_s, width + 1))
        # What began before the window is in its first column.
        cuts[0], cuts[-1] = 0, len(first_s)
        column = np.flatnonzero(np.diff(cuts) > 0)
        starts = cuts[column]
        top, hot = np.zeros(width), np.zeros(width)
        highest, hottest = np.maximum.reduceat(height, starts), np.maximum.reduceat(mean_a, starts)
        for at in range(round(_NARROWEST * ratio)):
            place = np.minimum(column + at, width - 1)
            top[place] = np.maximum(top[place], highest)
            hot[place] = np.maximum(hot[place], hottest)
        narrow_s = window.length_s / width * _NARROWEST * ratio
        for one in np.flatnonzero(row.last_s[seen] - first_s > narrow_s).tolist():
            ends_s = np.array([first_s[one], row.last_s[seen][one]])
            left, right = np.clip((ends_s - window.from_s) / window.length_s * width, 0, width)
            part = slice(int(left), max(int(np.ceil(right)), int(left) + 1))
            higher = height[one] >= top[part]
            top[part][higher], hot[part][higher] = height[one], mean_a[one]
        picture = np.full((rows, width), np.uint32(self.look.theme.sunken.rgb()), dtype=np.uint32)
        below = np.arange(rows)[:, None] >= rows * (1 - top)[None, :]
        np.copyto(picture, self.look.theme.ramp.packed(hot)[None, :], where=below)
        draw_pixels(painter, rect, picture)

    def _label(self, painter: QPainter, rect: QRectF, ledger: WakeLedger, seen: Indices) -> None:
        """Return what one wake takes, right of the last tick, where there is room."""
        if not len(seen):
            draw_rich_text(
                painter, rect.adjusted(8, 0, 0, 0), "none here", self.look, size="small", dim=self.look.theme.faint
            )
            return
        values = self._values(ledger)[seen]
        usual = float(np.mean(values))
        words = quantity_text(usual, "C").rich if self.height_by == CHARGE else duration_text(usual).rich
        if len(seen) > 1:
            words += " each"
        room = width_of(self.look, words, "small") + 16
        ends = self.x_of(float(ledger.wakes.last[seen[-1]]) * ledger.interval_s) + 8
        if ends + room < rect.right():
            draw_rich_text(painter, QRectF(ends, rect.top(), room, rect.height()), words, self.look, size="small")

    def wake_at(self, point: QPointF) -> int | None:
        """Return the wake nearest to a point, if one is near."""
        ledger = self.ledger
        if ledger is None or point.x() < self.plot_rect.left():
            return None
        for index, mine in enumerate(row.mine for row in self._rows):
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
            for index, row in enumerate(self._rows):
                if self.row_rect(index).contains(event.position()):
                    self.source_chosen.emit(row.source)
            return
        wake = self.wake_at(event.position())
        if wake is not None:
            self.wake_chosen.emit(wake)
            return
        super().mousePressEvent(event)
