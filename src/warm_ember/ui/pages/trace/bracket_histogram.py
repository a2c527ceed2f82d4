"""Inside a bracket: charge and time per current band, and the time between peaks."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen

from warm_ember.model.project import Bracket
from warm_ember.session.bracket_inside import BracketInside, PeakIntervals, look_inside
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import duration_text, percent_text, quantity_text

_TOP = 34
_FOOT = 20
_RIGHT = Qt.AlignmentFlag.AlignRight


class InsideView(PaintedView):
    """Two plots side by side: the current's histogram, and that of the time between its peaks.

    Signals
    -------
    shown
        The inside of another stretch is shown, or none.
    """

    reads_as = "Inside the bracket"
    shown = Signal()

    def __init__(self, look: Appearance, controller: ProjectController) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look, self._controller = look, controller
        self.inside: BracketInside | None = None
        self._asked: tuple[RunResults, Bracket] | None = None
        self._thresholds: dict[tuple[str, str], float] = {}
        self.threshold_edit = QuantityEdit(look, "A", "Threshold of a peak", 84, low=1e-12)
        self.threshold_edit.setParent(self)
        self.threshold_edit.value_entered.connect(self._on_threshold)
        look.changed.connect(self.update)

    def show_bracket(self, results: RunResults | None, bracket: Bracket | None) -> None:
        """Look inside a bracket; what is shown stays until the answer is there."""
        if results is None or bracket is None:
            self.inside, self._asked = None, None
            self._controller.jobs.stop("inside")
            self.threshold_edit.hide()
            self.update()
            self.shown.emit()
            return
        if self._asked == (results, bracket):
            return
        self._asked = (results, bracket)
        threshold_a = self._thresholds.get((bracket.capture, bracket.letter))
        self._controller.work(
            "inside",
            f"looking inside bracket {bracket.letter}",
            lambda should_stop, _progress: look_inside(results, bracket, threshold_a, should_stop),
            self._on_inside,
        )

    def _on_inside(self, inside: BracketInside) -> None:
        self.inside = inside
        self.threshold_edit.set_value(inside.threshold_a)
        self.threshold_edit.show()
        self._place_edit()
        self.update()
        self.shown.emit()

    def _on_threshold(self, threshold_a: float) -> None:
        if self._asked is None:
            return
        results, bracket = self._asked
        self._thresholds[bracket.capture, bracket.letter] = threshold_a
        self._asked = None
        self.show_bracket(results, bracket)

    def resizeEvent(self, event: object) -> None:
        self._place_edit()

    def _place_edit(self) -> None:
        px = self._look.px
        words = width_of(self._look, self._peak_words())
        self.threshold_edit.move(round(self._middle + px(16) + words + px(6)), px(4))

    @property
    def _middle(self) -> float:
        return self.width() * 0.56

    def _peak_words(self) -> str:
        count = self.inside.peaks if self.inside is not None else 0
        return f"**{count}** peak{'s' if count != 1 else ''} above"

    def text(self) -> str:
        """Return the bands as tab-separated text."""
        if self.inside is None:
            return ""
        bands = self.inside.bands
        lines = ["from_a\tto_a\ttime_s\tcharge_c", f"-inf\t0\t{bands.below_s:.9g}\t{bands.below_c:.9g}"]
        rows = zip(bands.edges_a[:-1], bands.edges_a[1:], bands.time_s, bands.charge_c, strict=True)
        return "\n".join([*lines, *("\t".join(f"{value:.9g}" for value in row) for row in rows)])

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.paint_onto(painter)
        painter.end()

    def paint_onto(self, painter: QPainter) -> None:
        """Paint both plots."""
        theme, px = self._look.theme, self._look.px
        painter.fillRect(self.rect(), theme.raised)
        if self.inside is None:
            words = "Choose a bracket to see its currents and the time between its peaks."
            draw_rich_text(painter, QRectF(px(16), px(6), self.width() - px(32), px(18)), words, self._look)
            return
        self._paint_bands(painter, QRectF(0, 0, self._middle, self.height()), self.inside)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(self._middle, 0), QPointF(self._middle, self.height()))
        right = QRectF(self._middle, 0, self.width() - self._middle, self.height())
        self._paint_peaks(painter, right, self.inside.intervals)

    def _paint_bands(self, painter: QPainter, box: QRectF, inside: BracketInside) -> None:
        look, theme, px, bands = self._look, self._look.theme, self._look.px, inside.bands
        draw_chip(painter, QRectF(px(16), px(7), px(16), px(16)), inside.bracket.letter, look)
        title = "charge per current band, above; time, below"
        if inside.densest is not None:
            low_a, high_a, charge, time = inside.densest
            band = f"{quantity_text(low_a, 'A', 2)} to {quantity_text(high_a, 'A', 2)}"
            title = f"{percent_text(charge).rich} of the charge flows at {band}, {percent_text(time).rich} of the time"
        draw_rich_text(painter, QRectF(px(40), px(6), box.width() - px(52), px(18)), title, look)
        plot = QRectF(px(72), px(_TOP), box.width() - px(88), box.height() - px(_TOP + _FOOT + 2))
        painter.fillRect(plot, theme.sunken)
        for words, y in (("charge", plot.top()), ("time", plot.bottom() - px(16))):
            draw_rich_text(painter, QRectF(px(8), y, px(56), px(16)), words, look, size="small", align=_RIGHT)
        if not len(bands.time_s):
            return
        first, last = np.floor(np.log10(bands.edges_a[0]) + 1e-6), np.ceil(np.log10(bands.edges_a[-1]) - 1e-6)
        decades = max(last - first, 1.0)
        zero = plot.top() + 0.6 * plot.height()
        self._paint_axis(painter, plot, first, decades, zero)
        highest_c, longest_s = max(float(bands.charge_c.max()), 1e-300), max(float(bands.time_s.max()), 1e-300)
        for low, high, seconds, coulombs in zip(
            bands.edges_a[:-1], bands.edges_a[1:], bands.time_s, bands.charge_c, strict=True
        ):
            left = plot.left() + (np.log10(low) - first) / decades * plot.width()
            width = max(np.log10(high / low) / decades * plot.width() - 1, 1.0)
            color = theme.ramp.color(float(np.sqrt(low * high)))
            up = 0.57 * plot.height() * coulombs / highest_c
            painter.fillRect(QRectF(left, zero - max(up, 0.0), width, max(up, 0.0)), color)
            down = 0.37 * plot.height() * seconds / longest_s
            painter.fillRect(QRectF(left, zero + 1, width, down), theme.faint)

    def _paint_axis(self, painter: QPainter, plot: QRectF, first: float, decades: float, zero: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(plot.left(), zero), QPointF(plot.right(), zero))
        for decade in range(int(first), int(first + decades) + 1):
            x = plot.left() + (decade - first) / decades * plot.width()
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            box = QRectF(x - px(40), plot.bottom() + px(2), px(80), px(16))
            text = str(quantity_text(10.0**decade, "A", 1))
            draw_rich_text(painter, box, text, look, size="small", align=Qt.AlignmentFlag.AlignHCenter)

    def _paint_peaks(self, painter: QPainter, box: QRectF, gaps: PeakIntervals | None) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        left = box.left() + px(16)
        draw_rich_text(painter, QRectF(left, px(6), box.width(), px(18)), self._peak_words(), look)
        rest = self.threshold_edit.x() + self.threshold_edit.width() + px(8)
        room = QRectF(rest, px(6), self.width() - rest - px(8), px(18))
        if gaps is None:
            draw_rich_text(painter, room, "too few for an interval", look)
            return
        draw_rich_text(painter, room, f"median {duration_text(gaps.middle_s).rich} apart", look)
        plot = QRectF(left, px(_TOP), box.width() - px(32), box.height() - px(_TOP + _FOOT + 2))
        painter.fillRect(plot, theme.sunken)
        edges, counts = np.log10(gaps.edges_s), gaps.counts
        begin, end = edges[0], edges[-1]
        for count, edge, following in zip(counts.tolist(), edges[:-1], edges[1:], strict=True):
            x = plot.left() + (edge - begin) / (end - begin) * plot.width()
            width = (following - edge) / (end - begin) * plot.width() - 1
            height = 0.92 * plot.height() * count / counts.max()
            painter.fillRect(QRectF(x, plot.bottom() - height, max(width, 1.0), height), theme.dim)
        x = plot.left() + (np.log10(gaps.middle_s) - begin) / (end - begin) * plot.width()
        painter.setPen(QPen(theme.mark, 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        foot = QRectF(plot.left(), plot.bottom() + px(2), plot.width(), px(16))
        draw_rich_text(painter, foot, str(duration_text(gaps.shortest_s)), look, size="small")
        draw_rich_text(painter, foot, str(duration_text(gaps.longest_s)), look, size="small", align=_RIGHT)
        words = f"90 % within {duration_text(gaps.low_s)} to {duration_text(gaps.high_s)}"
        draw_rich_text(painter, foot, words, look, size="small", align=Qt.AlignmentFlag.AlignHCenter)
