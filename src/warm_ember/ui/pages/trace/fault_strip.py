"""The faults of a capture by their numbers, over the whole of it."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPaintEvent, QPen

from warm_ember.session.quality_results import FaultRow
from warm_ember.ui.lanes.lane import HEAD, MARGIN
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.trace.fault_row import draw_number

_LINE = 20
_MOST = 6


class FaultStrip(PaintedView):
    """A line for each kind of fault, with its number at each of its places."""

    reads_as = "Faults, by number"

    def __init__(self, look: Appearance, window: TimeWindow) -> None:
        super().__init__(look)
        self._look, self._window = look, window
        self.rows: tuple[FaultRow, ...] = ()

    def show_rows(self, rows: tuple[FaultRow, ...]) -> None:
        """Show faults, numbered in this order."""
        self.rows = rows
        self.setVisible(bool(rows))
        self.setFixedHeight(self._look.px(10 + _LINE * min(len(rows), _MOST)))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        head = QRectF(px(22), px(6), px(HEAD - 26), px(18))
        draw_rich_text(painter, head, "Faults, by number", look, size="small")
        left, width = px(HEAD), self.width() - px(HEAD + MARGIN)
        for line, row in enumerate(self.rows[:_MOST]):
            y = px(6) + line * px(_LINE)
            places = [(one.from_s, one.to_s) for one in row.findings] or [(0.0, self._window.duration_s)]
            last_right = 0.0
            for from_s, to_s in places:
                begin, end = (left + at_s / self._window.duration_s * width for at_s in (from_s, to_s))
                painter.setPen(QPen(theme.warning, px(4)))
                painter.drawLine(QPointF(begin, y + px(9)), QPointF(max(end, begin + px(2)), y + px(9)))
                if begin > last_right:
                    box = min(begin, left + width - px(18))
                    draw_number(painter, QPointF(box, y), line + 1, look)
                    last_right = box + px(22)
        painter.end()
