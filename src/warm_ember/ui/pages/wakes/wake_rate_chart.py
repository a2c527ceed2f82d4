"""What the sources of wakes add over the time of a capture: by the hour where it is long."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent

from warm_ember.session.wake_results import WakesShown
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, format_trimmed, quantity_text

_HEAD, _TOP, _AXIS, _RIGHT_WORDS = 160, 30, 26, 176
_MOST_ROWS = 12
_RIGHT = Qt.AlignmentFlag.AlignRight


class OverTime(PaintedView):
    """A row for each source, and a bar for each step of time, coloured and as high as what it adds.

    Signals
    -------
    stretch_asked
        From and to, s, of a step that was clicked.
    """

    stretch_asked = Signal(float, float)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.found: WakesShown | None = None
        self.setAccessibleName("Wakes over time")
        look.changed.connect(self.update)

    def show_wakes(self, found: WakesShown | None) -> None:
        """Show another run."""
        self.found = found
        self.update()

    def _rows(self) -> int:
        return min(len(self.found.ledger.sources), _MOST_ROWS) if self.found is not None else 0

    def row_box(self, index: int) -> QRectF:
        """Return where a source's bars are."""
        px = self._look.px
        room = self.height() - px(_TOP + _AXIS)
        height = min(room / max(self._rows(), 1), px(96))
        return QRectF(px(_HEAD), px(_TOP) + index * height, self.width() - px(_HEAD + _RIGHT_WORDS), height - px(6))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        found = self.found
        if found is None:
            painter.end()
            return
        step = duration_text(found.profile.step_s).rich
        title = QRectF(px(16), px(6), self.width() - px(32), px(18))
        draw_rich_text(painter, title, f"What each source adds in each {step} of the capture", look, dim=theme.ink)
        draw_rich_text(painter, title, "most, and at most how many wakes", look, size="small", align=_RIGHT)
        for index, row in enumerate(found.ledger.sources[:_MOST_ROWS]):
            self._paint_row(painter, self.row_box(index), index, row.source, found)
        if self._rows():
            self._paint_axis(painter, found)
        painter.end()

    def _paint_row(self, painter: QPainter, box: QRectF, index: int, source: str, found: WakesShown) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter.fillRect(box, theme.sunken)
        name = QRectF(px(24), box.top(), px(_HEAD - 32), px(20))
        draw_rich_text(painter, name, source, look, dim=theme.ink)
        added_a, count = found.profile.added_a[index], found.profile.count[index]
        most_a = float(added_a.max(initial=0.0))
        scale = box.width() / (found.ledger.duration_s / found.profile.step_s)
        for at in np.flatnonzero(added_a > 0).tolist():
            tall = max(float(added_a[at]) / most_a * (box.height() - 2), 1.0)
            left, right = box.left() + at * scale, min(box.left() + (at + 1) * scale, box.right())
            bar = QRectF(left, box.bottom() - tall, max(right - left - 1, 1), tall)
            painter.fillRect(bar, theme.ramp.color(float(added_a[at])))
        words = QRectF(box.right() + px(12), box.top(), px(_RIGHT_WORDS - 24), px(20))
        draw_rich_text(painter, words, quantity_text(most_a, "A").rich, look, align=_RIGHT)
        less = words.translated(0, px(18))
        if box.height() > px(36):
            draw_rich_text(
                painter,
                less,
                f"**{format_trimmed(float(count.max(initial=0)))}** wakes",
                look,
                size="small",
                align=_RIGHT,
            )

    def _paint_axis(self, painter: QPainter, found: WakesShown) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        box = self.row_box(self._rows() - 1)
        for share in np.linspace(0, 1, 7):
            x = box.left() + float(share) * box.width()
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(x, px(_TOP)), QPointF(x, box.bottom()))
            words = str(duration_text(float(share) * found.ledger.duration_s)) if share else "0"
            label = QRectF(x - px(40), box.bottom() + px(4), px(80), px(16))
            draw_rich_text(painter, label, words, look, size="small", align=Qt.AlignmentFlag.AlignHCenter)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        found = self.found
        for index in range(self._rows()):
            box = self.row_box(index)
            if found is not None and box.contains(event.position()):
                step_s, duration_s = found.profile.step_s, found.ledger.duration_s
                at = int((event.position().x() - box.left()) / box.width() * duration_s / step_s)
                self.stretch_asked.emit(at * step_s, min((at + 1) * step_s, duration_s))

    def text(self) -> str:
        """Return the steps as tab-separated text."""
        found = self.found
        if found is None:
            return ""
        sources = [row.source for row in found.ledger.sources]
        lines = ["\t".join(("from (s)", *(f"{name} (A)\t{name} (wakes)" for name in sources)))]
        for at in range(found.profile.added_a.shape[1]):
            cells = (
                f"{found.profile.added_a[row, at]:.6g}\t{found.profile.count[row, at]:.0f}"
                for row in range(len(sources))
            )
            lines.append("\t".join((f"{at * found.profile.step_s:.6g}", *cells)))
        return "\n".join(lines)
