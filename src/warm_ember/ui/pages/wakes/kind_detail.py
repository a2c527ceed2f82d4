"""One kind of wakes: what each of them takes over the capture, and the odd ones."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QByteArray, QMimeData, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QDrag, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from warm_ember.model.arrays import Floats, Indices
from warm_ember.session.kind_results import KindsShown
from warm_ember.ui.lanes.time_window import clock_text
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.wakes.kind_picture import draw_course, scale_of
from warm_ember.ui.pages.wakes.kind_table import WAKE
from warm_ember.units import column_writer, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Kind


_TOP, _CHART, _LEFT, _RIGHT, _ODD_HEAD, _ODD = 32, 118, 72, 14, 30, 52
_PICTURE_WIDTH = 108
MOST_ODD = 9


class KindDetail(PaintedView):
    """The charge of each wake of a kind over the capture, and its odd ones; Enter goes to the one that is chosen.

    Signals
    -------
    wake_asked
        The index of a wake.
    """

    paints_focus = True
    reads_as = "Wakes of the kind"
    wake_asked = Signal(int)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self.shown: KindsShown | None = None
        self.letter = ""
        self.chosen = 0
        self._pressed: tuple[int, QPointF] | None = None
        look.changed.connect(self._arrange)

    def show_kind(self, shown: KindsShown | None, letter: str) -> None:
        """Show another kind; the empty letter shows what is unsorted."""
        self.shown, self.letter, self.chosen = shown, letter, 0
        self._arrange()

    @property
    def kind(self) -> Kind | None:
        """The kind that is shown; None for what is unsorted."""
        return self.shown.kind(self.letter) if self.shown is not None else None

    @property
    def odd(self) -> tuple[int, ...]:
        """The wakes that are listed: the odd ones of a kind, or those that are like no other."""
        if self.shown is None:
            return ()
        kind = self.kind
        return (kind.odd if kind is not None else tuple(self.shown.kinds.unsorted.tolist()))[:MOST_ODD]

    def _arrange(self) -> None:
        px = self._look.px
        self.setMinimumHeight(px(_TOP + _CHART + 24 + _ODD_HEAD) + len(self.odd) * px(_ODD))
        self.update()

    def odd_box(self, index: int) -> QRectF:
        """Return where an odd wake is listed."""
        px = self._look.px
        top = px(_TOP + _CHART + 24 + _ODD_HEAD) + index * px(_ODD)
        return QRectF(0, top, self.width(), px(_ODD))

    def named_boxes(self) -> list[NamedBox]:
        return [
            NamedBox(f"odd wake {index + 1}", self.odd_box(index), index == self.chosen)
            for index in range(len(self.odd))
        ]

    def paintEvent(self, event: QPaintEvent) -> None:
        theme = self._look.theme
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        if self.shown is not None:
            self._paint(painter, self.shown)
        if self.hasFocus():
            painter.setPen(theme.mark)
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        painter.end()

    def _paint(self, painter: QPainter, shown: KindsShown) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        kind = self.kind
        head = QRectF(px(16), px(6), self.width() - px(32), px(20))
        square = QRectF(px(16), px(7), px(18), px(18))
        painter.setPen(theme.rule)
        painter.drawRect(square)
        centre = Qt.AlignmentFlag.AlignHCenter
        draw_rich_text(painter, square, f"**{self.letter or '?'}**", look, size="small", align=centre)
        label = kind.label if kind is not None else "unsorted"
        draw_rich_text(painter, head.adjusted(px(26), 0, 0, 0), label, look, dim=theme.ink)
        right = Qt.AlignmentFlag.AlignRight
        draw_rich_text(painter, head, "charge of each wake over the capture", look, size="small", align=right)
        mine = shown.kinds.of(kind.number) if kind is not None else shown.kinds.unsorted
        self._paint_chart(painter, shown, mine)
        odd, top = self.odd, px(_TOP + _CHART + 24)
        line = QRectF(px(16), top, self.width() - px(32), px(_ODD_HEAD))
        if not odd:
            draw_rich_text(painter, line, "No odd ones: all of them take about the same.", look, size="small")
            return
        total = len(kind.odd) if kind is not None else len(shown.kinds.unsorted)
        words = f"**{total}** odd one{'s' if total != 1 else ''}" if kind is not None else "Like no other"
        draw_rich_text(painter, line, words, look, dim=theme.ink)
        note = "over the median of its kind" if kind is not None else "drag one onto a kind that it belongs to"
        draw_rich_text(painter, line, note, look, size="small", align=right)
        for index, wake in enumerate(odd):
            self._paint_odd(painter, shown, kind, index, wake)

    def _paint_chart(self, painter: QPainter, shown: KindsShown, mine: Indices) -> None:
        look, theme, px, kinds = self._look, self._look.theme, self._look.px, shown.kinds
        plot = QRectF(px(_LEFT), px(_TOP), self.width() - px(_LEFT + _RIGHT), px(_CHART))
        painter.fillRect(plot, theme.sunken)
        charges_c = kinds.charge_c[mine]
        if not len(charges_c):
            return
        low_c, high_c = _ends(charges_c)
        times_s = shown.times_s(mine)

        def place(time_s: float, charge_c: float) -> QPointF:
            share = (charge_c - low_c) / (high_c - low_c)
            return QPointF(
                plot.left() + time_s / kinds.duration_s * plot.width(), plot.bottom() - share * plot.height()
            )

        write = column_writer([low_c, high_c], "C")
        for charge_c in np.linspace(low_c, high_c, 5)[1:-1:2].tolist():
            y = place(0, charge_c).y()
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            label = QRectF(0, y - px(8), plot.left() - px(8), px(16))
            words = write(charge_c).rich
            draw_rich_text(painter, label, words, look, size="small", align=Qt.AlignmentFlag.AlignRight)
        middle_c = float(np.median(charges_c))
        color = theme.ramp.color(self._own_a(shown, mine))
        painter.setPen(QPen(color, 1))
        painter.drawLine(place(0, middle_c), place(kinds.duration_s, middle_c))
        side = px(4)
        for x, y in _dots(plot, times_s / kinds.duration_s, (charges_c - low_c) / (high_c - low_c)):
            painter.fillRect(QRectF(x - side / 2, y - side / 2, side, side), color)
        for index, wake in enumerate(self.odd):
            at = place(float(kinds.first[wake]) * kinds.interval_s, float(kinds.charge_c[wake]))
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(at.x() - px(5), at.y() - px(5), px(10), px(10)))
            label = QRectF(min(at.x() + px(8), plot.right() - px(10)), at.y() - px(8), px(16), px(16))
            draw_rich_text(painter, label, f"**{index + 1}**", look, size="small", ink=theme.mark)
        for share, align in ((0.0, Qt.AlignmentFlag.AlignLeft), (1.0, Qt.AlignmentFlag.AlignRight)):
            line = QRectF(plot.left(), plot.bottom() + px(2), plot.width(), px(16))
            words = clock_text(share * kinds.duration_s, kinds.duration_s)
            draw_rich_text(painter, line, words, look, size="small", align=align)

    def _own_a(self, shown: KindsShown, mine: Indices) -> float:
        kinds = shown.kinds
        awake_s = float((kinds.last - kinds.first)[mine].sum()) * kinds.interval_s
        return float(kinds.charge_c[mine].sum()) / awake_s if awake_s > 0 else 0.0

    def _paint_odd(self, painter: QPainter, shown: KindsShown, kind: Kind | None, index: int, wake: int) -> None:
        look, theme, px, kinds = self._look, self._look.theme, self._look.px, shown.kinds
        box = self.odd_box(index)
        if index == self.chosen and self.hasFocus():
            painter.fillRect(box, theme.mark_ground)
        picture = QRectF(px(16), box.top() + px(4), px(_PICTURE_WIDTH), px(_ODD - 10))
        if kind is not None and wake in shown.odd:
            scale = scale_of(shown.pictures, kinds.floor.value)
            draw_course(painter, picture, shown.odd[wake], shown.pictures[kind.letter], scale, look)
        left = px(16 + _PICTURE_WIDTH + 12) if kind is not None else px(16)
        draw_chip(painter, QRectF(left, box.top() + px(6), px(16), px(16)), str(index + 1), look)
        upper = QRectF(left + px(24), box.top() + px(4), self.width() - left - px(40), px(20))
        begin_s = float(kinds.first[wake]) * kinds.interval_s
        draw_rich_text(painter, upper, f"**{clock_text(begin_s, 100.0)}**", look)
        charge_c = float(kinds.charge_c[wake])
        right = Qt.AlignmentFlag.AlignRight
        draw_rich_text(painter, upper, quantity_text(charge_c, "C").rich, look, align=right)
        lower = QRectF(left + px(24), box.top() + px(25), self.width() - left - px(40), px(18))
        if kind is not None and kind.charge.value > 0:
            off = charge_c / kind.charge.value - 1
            words = f"{percent_text(abs(off)).rich} {'above' if off > 0 else 'below'} what is usual"
            draw_rich_text(painter, lower, words, look, size="small")
        draw_rich_text(painter, lower, "go there", look, size="small", dim=theme.mark, align=right)

    def text(self) -> str:
        """Return the wakes of the kind as tab-separated text."""
        if self.shown is None:
            return ""
        kinds, kind = self.shown.kinds, self.kind
        mine = kinds.of(kind.number) if kind is not None else kinds.unsorted
        rows = zip(self.shown.times_s(mine).tolist(), kinds.charge_c[mine].tolist(), strict=True)
        return "\n".join(["begins (s)\tcharge (C)", *(f"{time_s:.6g}\t{charge_c:.6g}" for time_s, charge_c in rows)])

    def odd_at(self, point: QPointF) -> int | None:
        """Return which of the odd ones is under a point."""
        return next((at for at in range(len(self.odd)) if self.odd_box(at).contains(point)), None)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is not None and self.odd:
            self.chosen = int(np.clip(self.chosen + step, 0, len(self.odd) - 1))
            self.tell_named(self.chosen)
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.odd:
            self.wake_asked.emit(self.odd[self.chosen])
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = self.odd_at(event.position())
        if index is not None:
            self.chosen, self._pressed = index, (self.odd[index], event.position())
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is None or (event.position() - self._pressed[1]).manhattanLength() < self._look.px(8):
            return
        wake, self._pressed = self._pressed[0], None
        data, drag = QMimeData(), QDrag(self)
        data.setData(WAKE, QByteArray(str(wake).encode()))
        drag.setMimeData(data)
        drag.exec(Qt.DropAction.MoveAction)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._pressed is not None:
            self.wake_asked.emit(self._pressed[0])
        self._pressed = None


def _dots(plot: QRectF, across: Floats, up: Floats) -> list[tuple[float, float]]:
    """Return where dots are, those that fall on one pixel once."""
    places = np.column_stack((plot.left() + across * plot.width(), plot.bottom() - up * plot.height()))
    return [(float(x), float(y)) for x, y in np.unique(np.rint(places), axis=0).tolist()]


def _ends(charges_c: Floats) -> tuple[float, float]:
    """Return an axis around charges, never narrower than a tenth of them."""
    low_c, high_c = float(charges_c.min()), float(charges_c.max())
    middle_c = (low_c + high_c) / 2
    half_c = max((high_c - low_c) * 0.65, 0.1 * abs(middle_c), 1e-12)
    return middle_c - half_c, middle_c + half_c
