"""The steps of a proof in time: from run to run what was predicted, and what was measured then."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen

from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Proof

_LEFT, _TOP, _BOTTOM, _SIDE = 72, 34, 42, 16
_CENTER, _RIGHT = Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight


class ProofCourse(PaintedView):
    """A column a run, on a log axis of average current: predicted hatched, measured solid, the target across.

    Signals
    -------
    chosen
        The index of a proof.
    """

    chosen = Signal(int)
    reads_as = "Predicted and measured averages, run by run"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.look = look
        self.proofs: tuple[Proof, ...] = ()
        self.at = -1
        self.budget_a: float | None = None
        self.setMinimumHeight(look.px(150))

    def show_proofs(self, proofs: tuple[Proof, ...], at: int, budget_a: float | None) -> None:
        """Show proofs, one of them chosen, and the average that the target allows."""
        self.proofs, self.at, self.budget_a = proofs, at, budget_a
        self.update()

    @property
    def _plot(self) -> QRectF:
        px = self.look.px
        return QRectF(px(_LEFT), px(_TOP), self.width() - px(_LEFT + _SIDE), self.height() - px(_TOP + _BOTTOM))

    def _column(self, index: int) -> QRectF:
        """Return where a column is: the run before the first proof, then one for each proof."""
        plot, width = self._plot, self._plot.width() / (len(self.proofs) + 1)
        return QRectF(plot.left() + index * width, 0, width, self.height())

    def named_boxes(self) -> list[NamedBox]:
        if not self.proofs:
            return []
        names = [self.proofs[0].before, *(proof.after for proof in self.proofs)]
        return [NamedBox(name, self._column(index), index - 1 == self.at) for index, name in enumerate(names)]

    def _range(self) -> tuple[float, float]:
        known = [value for one in self.proofs for value in (one.before_a, one.predicted_a, one.measured_a) if value > 0]
        known += [self.budget_a] if self.budget_a else []
        low, high = math.log10(min(known, default=1e-6)), math.log10(max(known, default=1e-3))
        room = 0.16 * max(high - low, 0.3)
        return low - room, high + room

    def _y_of(self, current_a: float) -> float:
        low, high = self._range()
        share = (math.log10(max(current_a, 1e-12)) - low) / (high - low)
        return self._plot.bottom() - min(max(share, 0.0), 1.0) * self._plot.height()

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, 0.5), QPointF(self.width(), 0.5))
        painter.drawLine(QPointF(self.width() - 0.5, 0), QPointF(self.width() - 0.5, self.height()))
        title = QRectF(px(16), px(7), self.width() - px(32), px(18))
        draw_rich_text(painter, title, "In the order measured", look, dim=theme.ink)
        words = "average current, log axis; hatched: predicted"
        if width_of(look, words, "small") < self.width() - px(190):
            draw_rich_text(painter, title, words, look, size="small", align=_RIGHT)
        if not self.proofs:
            painter.end()
            return
        painter.fillRect(self._plot, theme.sunken)
        if self.at >= 0:
            chosen = self._column(self.at + 1).intersected(self._plot)
            painter.fillRect(chosen, theme.mark_ground)
        self._paint_axis(painter)
        self._paint_run(painter, 0, self.proofs[0].before, self.proofs[0].before_a, None, "")
        for index, proof in enumerate(self.proofs):
            self._paint_run(painter, index + 1, proof.after, proof.measured_a, proof.predicted_a, proof.recorded_utc)
        painter.end()

    def _paint_axis(self, painter: QPainter) -> None:
        look, theme, px, plot = self.look, self.look.theme, self.look.px, self._plot
        low, high = self._range()
        for decade in range(math.ceil(low), math.floor(high) + 1):
            y = self._y_of(10.0**decade)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            box = QRectF(0, y - px(8), plot.left() - px(6), px(16))
            draw_rich_text(painter, box, str(quantity_text(10.0**decade, "A", 2)), look, size="small", align=_RIGHT)
        if self.budget_a:
            y = self._y_of(self.budget_a)
            painter.setPen(QPen(theme.ink, 1.4, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            words = f"target {quantity_text(self.budget_a, 'A').rich}"
            box = QRectF(plot.left() + px(6), y - px(18), px(140), px(16))
            draw_rich_text(painter, box, words, look, size="small", on=theme.sunken)

    def _paint_run(
        self, painter: QPainter, index: int, name: str, measured_a: float, predicted_a: float | None, utc: str
    ) -> None:
        look, theme, px, column = self.look, self.look.theme, self.look.px, self._column(index)
        width = min(px(84), column.width() * 0.62)
        left, y = column.center().x() - width / 2, self._y_of(measured_a)
        if predicted_a is not None:
            at = self._y_of(predicted_a)
            hollow = QRectF(left - px(5), at - px(9), width + px(10), px(18))
            color = theme.ramp.color(predicted_a)
            painter.fillRect(hollow, texture_brush(FINE, color))
            painter.setPen(QPen(color, 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(hollow)
            before_a = self.proofs[index - 1].before_a
            last = self._column(index - 1).center().x() + width / 2
            painter.setPen(QPen(theme.dim, 1))
            middle = column.left()
            painter.drawPolyline(
                [QPointF(last, self._y_of(before_a)), QPointF(middle, self._y_of(before_a)), QPointF(middle, y),
                 QPointF(left, y)]
            )  # fmt: skip
        painter.fillRect(QRectF(left, y - px(4), width, px(8)), theme.ramp.color(measured_a))
        above = QRectF(column.left(), y - px(30), column.width(), px(18))
        words = quantity_text(measured_a, "A").rich
        draw_rich_text(painter, above, words, look, align=_CENTER, on=theme.sunken)
        foot = QRectF(column.left(), self._plot.bottom() + px(4), column.width(), px(16))
        draw_rich_text(painter, foot, f"**{name}**", look, size="small", align=_CENTER)
        when = utc[:16].replace("T", " ") if utc else ""
        draw_rich_text(painter, foot.translated(0, px(16)), when, look, size="small", align=_CENTER)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for index in range(len(self.proofs)):
            if self._column(index + 1).contains(event.position()):
                self.chosen.emit(index)
