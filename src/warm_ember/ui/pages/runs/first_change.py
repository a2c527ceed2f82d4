"""With one run there is nothing to compare yet: where its charge goes, and what a second run should change first."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent

from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import fill, swatches
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import MONTH_S, column_writer, format_significant, percent_text

if TYPE_CHECKING:
    from warm_ember.session.run_results import RunResults
    from warm_ember.session.tuning_results import PlanResults

_HEAD, _ROW, _MOST = 34, 40, 6
_RIGHT = Qt.AlignmentFlag.AlignRight


class FirstChange(PaintedView):
    """Two lists: the states by what they add to the average, and the changes that are offered, the largest first.

    Signals
    -------
    plan_asked
        A change is to be looked at where it is planned.
    """

    plan_asked = Signal()
    reads_as = "What a second run should change first"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self.results: RunResults | None = None
        self.plan: PlanResults | None = None
        self.setMinimumHeight(look.px(_HEAD + 4 * _ROW))

    def show_run(self, results: RunResults | None, plan: PlanResults | None) -> None:
        """Show a run with what could be changed; the plan is None while it is worked out."""
        self.results, self.plan = results, plan
        self.update()

    def row_box(self, index: int) -> QRectF:
        """Return where an offered change stands."""
        px, left = self._look.px, self.width() / 2
        return QRectF(left, px(_HEAD) + index * px(_ROW), self.width() - left, px(_ROW))

    def named_boxes(self) -> list[NamedBox]:
        offers = self.plan.suggestions[:_MOST] if self.plan is not None else ()
        return [NamedBox(offer.change.name, self.row_box(index)) for index, offer in enumerate(offers)]

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        half = self.width() / 2
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(half, px(8)), QPointF(half, self.height() - px(8)))
        head = QRectF(px(16), px(8), half - px(32), px(18))
        draw_rich_text(painter, head, "Where the average current goes", look, dim=theme.ink)
        draw_rich_text(painter, head.translated(half, 0), "What a second run should change first", look, dim=theme.ink)
        if self.results is not None:
            self._paint_states(painter, self.results)
        self._paint_offers(painter)
        painter.end()

    def _paint_states(self, painter: QPainter, results: RunResults) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        segments = sorted(results.by_state, key=lambda one: -one.added_a)[:_MOST]
        looks = swatches(look, [(one.name, one.mean_a) for one in segments])
        most_a = max((one.added_a for one in segments), default=0.0) or 1.0
        write = column_writer([one.added_a for one in segments], "A")
        whole_a, half = results.load.mean_a or 1.0, self.width() / 2
        for index, one in enumerate(segments):
            top = px(_HEAD) + index * px(_ROW)
            draw_rich_text(painter, QRectF(px(16), top, px(150), px(_ROW)), one.name, look, dim=theme.ink)
            room = half - px(16 + 150 + 150)
            bar = QRectF(px(166), top + px(11), max(room * max(one.added_a, 0.0) / most_a, 1.5), px(_ROW - 22))
            fill(painter, bar, looks[one.name], theme.ground)
            figure = QRectF(half - px(142), top, px(72), px(_ROW))
            draw_rich_text(painter, figure, write(one.added_a).rich, look, align=_RIGHT)
            share = QRectF(half - px(68), top, px(52), px(_ROW))
            draw_rich_text(painter, share, percent_text(one.added_a / whole_a).rich, look, size="small", align=_RIGHT)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(px(16), top + px(_ROW) - 0.5), QPointF(half - px(16), top + px(_ROW) - 0.5))

    def _paint_offers(self, painter: QPainter) -> None:
        look, theme, px, plan = self._look, self._look.theme, self._look.px, self.plan
        if plan is None or not plan.suggestions:
            words = "Looking for what is wasted …" if plan is None else _NOTHING
            box = self.row_box(0).adjusted(px(16), 0, -px(16), 0)
            draw_rich_text(painter, box, words, look)
            return
        write = column_writer([offer.saved_a for offer in plan.suggestions[:_MOST]], "A")
        for index, offer in enumerate(plan.suggestions[:_MOST]):
            box = self.row_box(index).adjusted(px(16), 0, -px(16), 0)
            name = QRectF(box.left(), box.top() + px(2), box.width() - px(170), px(19))
            draw_rich_text(painter, name, offer.change.name, look, dim=theme.ink)
            why = name.translated(0, px(18))
            draw_rich_text(painter, why, offer.words, look, size="small")
            saved = QRectF(box.right() - px(166), box.top(), px(80), px(_ROW))
            draw_rich_text(painter, saved, write(offer.saved_a).rich, look, align=_RIGHT)
            gain = f"+**{format_significant(offer.gain_s / MONTH_S)}** mo" if offer.gain_s > 0 else ""
            draw_rich_text(painter, box, gain, look, size="small", align=_RIGHT)
            painter.setPen(theme.grid)
            painter.drawLine(box.bottomLeft(), box.bottomRight())

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.plan_asked.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.plan_asked.emit()
        else:
            super().keyPressEvent(event)


_NOTHING = "No waste was found: enter the parts on Tune, and what each should draw is compared with this run."
