"""What may be traded for life: each parameter alone, one of them against the life, and what cannot be."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF

from warm_ember.session.battery_results import Tradeoffs
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import MONTH_S, format_trimmed, months_text, quantity_text, rate_text

if TYPE_CHECKING:
    from warm_ember.session.records import FeasibleRegion, LifeCurve, SingleParameterSolution


_LIST = 372
_ROW = 34
_TOP = 32
_RIGHT = Qt.AlignmentFlag.AlignRight
_CENTER = Qt.AlignmentFlag.AlignHCenter


class TradeoffView(PaintedView):
    """A list of parameters at the left, and two plots about the chosen one at the right.

    Signals
    -------
    parameter_chosen
        A row was clicked or reached by the arrow keys.
    """

    paints_focus = True
    parameter_chosen = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.found: Tradeoffs | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Trade-offs")
        look.changed.connect(self.update)

    def show_tradeoffs(self, found: Tradeoffs | None) -> None:
        """Show what was worked out."""
        self.found = found
        self.setMinimumHeight(self._look.px(_TOP) + len(self.names) * self._look.px(_ROW))
        self.update()

    @property
    def names(self) -> list[str]:
        """The rows."""
        return [way.name for way in self.found.ways] if self.found is not None else []

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        theme, px = self._look.theme, self._look.px
        painter.fillRect(self.rect(), theme.ground)
        found = self.found
        if found is not None:
            self._paint_list(painter, found)
            left = px(_LIST)
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(left, 0), QPointF(left, self.height()))
            half = self.height() / (2 if found.region is not None else 1)
            if found.course is not None:
                self._paint_course(painter, QRectF(left, 0, self.width() - left, half), found.course)
            if found.region is not None:
                self._paint_region(painter, QRectF(left, half, self.width() - left, half), found.region)
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        painter.end()

    def _row_box(self, index: int) -> QRectF:
        px = self._look.px
        return QRectF(0, px(_TOP) + index * px(_ROW), px(_LIST), px(_ROW))

    def _paint_list(self, painter: QPainter, found: Tradeoffs) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        title = QRectF(px(16), px(8), px(_LIST) - px(32), px(18))
        if found.target_s is None:
            draw_rich_text(painter, title, "Type a target at the right to see what would meet it.", look)
            return
        words = f"to last {months_text(found.target_s).rich}, changing one thing only"
        draw_rich_text(painter, title, words, look)
        for index, way in enumerate(found.ways):
            box = self._row_box(index)
            if found.course is not None and way.name == found.course.name:
                painter.fillRect(box, theme.mark_ground)
                painter.fillRect(QRectF(0, box.top(), px(3), box.height()), theme.mark)
            self._paint_way(painter, box, way)

    def _paint_way(self, painter: QPainter, box: QRectF, way: SingleParameterSolution) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        line = QRectF(px(16), box.top(), box.width() - px(28), box.height())
        draw_rich_text(painter, line, way.name, look, dim=theme.ink)
        if way.needed is None:
            draw_rich_text(painter, line, "cannot", look, align=_RIGHT, dim=theme.warning_text)
        elif way.factor == 1.0:
            draw_rich_text(painter, line, f"{way.now}: enough", look, align=_RIGHT)
        else:
            draw_rich_text(painter, line, f"{way.now} → **{way.needed}**", look, align=_RIGHT)
        painter.setPen(theme.grid)
        painter.drawLine(QPointF(px(16), box.bottom()), QPointF(box.right() - px(12), box.bottom()))

    def _plot_in(self, box: QRectF) -> QRectF:
        px = self._look.px
        return QRectF(box.left() + px(84), box.top() + px(32), box.width() - px(104), box.height() - px(60))

    def _paint_course(self, painter: QPainter, box: QRectF, line: LifeCurve) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        plot = self._plot_in(box)
        painter.fillRect(plot, theme.sunken)
        title = QRectF(plot.left(), box.top() + px(8), plot.width(), px(18))
        draw_rich_text(painter, title, f"months against {line.name}", look)
        months = np.minimum(line.life_s / MONTH_S, 1e4)
        target = (self.found.target_s or 0.0) / MONTH_S if self.found is not None else 0.0
        most = max(min(float(months.max()), 4 * max(target, line.now_s / MONTH_S)), 1e-9)

        def x_of(value: float) -> float:
            low, high = np.log(line.values[0]), np.log(line.values[-1])
            return float(plot.left() + (np.log(value) - low) / (high - low) * plot.width())

        def y_of(value: float) -> float:
            return float(plot.bottom() - min(value / most, 1.04) * plot.height())

        if target:
            painter.setPen(QPen(theme.ink, 1.5))
            painter.drawLine(QPointF(plot.left(), y_of(target)), QPointF(plot.right(), y_of(target)))
            label = QRectF(box.left(), y_of(target) - px(9), px(78), px(18))
            draw_rich_text(painter, label, f"target **{format_trimmed(target)}**", look, size="small", align=_RIGHT)
        self._scale(painter, plot, (0.0, most), lambda value: format_trimmed(value, 2), y_of, avoid=target)
        painter.save()
        painter.setClipRect(plot)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.accent, 2))
        points = [QPointF(x_of(v), y_of(m)) for v, m in zip(line.values.tolist(), months.tolist(), strict=True)]
        painter.drawPolyline(QPolygonF(points))
        painter.restore()
        marks = [(line.now, line.now_s / MONTH_S, "now")]
        if line.needed is not None and line.needed not in (0.0, line.now):
            marks.append((line.needed, target, "needed"))
        for value, height, words in marks:
            painter.setPen(QPen(theme.mark, px(7), Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            painter.drawPoint(QPointF(x_of(value), y_of(height)))
            foot = QRectF(x_of(value) - px(90), plot.bottom() + px(3), px(180), px(16))
            if words == "needed" and abs(x_of(value) - x_of(line.now)) < px(120):
                foot.translate(px(110) if value > line.now else -px(110), 0)
            draw_rich_text(painter, foot, f"{words} **{line.write(value)}**", look, size="small", align=_CENTER)

    def _scale(
        self,
        painter: QPainter,
        plot: QRectF,
        ends: tuple[float, float],
        write: Callable[[float], str],
        y_of: Callable[[float], float],
        avoid: float = 0.0,
    ) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        for value in ends:
            y = y_of(value)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            if not avoid or abs(y - y_of(avoid)) > px(14):
                box = QRectF(plot.left() - px(84), y - px(8), px(78), px(16))
                draw_rich_text(painter, box, write(value), look, size="small", align=_RIGHT)

    def _paint_region(self, painter: QPainter, box: QRectF, edge: FeasibleRegion) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        plot = self._plot_in(box)
        painter.fillRect(plot, theme.sunken)
        title = QRectF(plot.left(), box.top() + px(8), plot.width(), px(18))
        if edge.is_impossible:
            words = (
                f"Impossible however seldom {edge.name} comes: the other activities alone take more than is allowed."
            )
            draw_rich_text(painter, title, words, look, dim=theme.warning_text)
            return
        draw_rich_text(painter, title, f"the base current that goes with how often {edge.name} comes", look)
        shown = np.isfinite(edge.base_a) & (edge.base_a > 0)
        high = max(float(edge.base_a[shown].max(initial=edge.now_a)) * 2, edge.now_a * 4, 1e-9)
        low = max(min(edge.now_a, float(edge.base_a[shown].min(initial=edge.now_a))) / 4, high / 1e5)

        def x_of(value: float) -> float:
            first, last = np.log(edge.interval_s[0]), np.log(edge.interval_s[-1])
            at = np.log(max(value, float(edge.interval_s[0])))  # what costs nothing may come at any interval
            return float(plot.left() + np.clip((at - first) / (last - first), 0, 1) * plot.width())

        def y_of(value: float) -> float:
            share = (np.log(max(value, low)) - np.log(low)) / (np.log(high) - np.log(low))
            return float(plot.bottom() - np.clip(share, 0, 1) * plot.height())

        never = QRectF(plot.left(), plot.top(), x_of(edge.shortest_s) - plot.left(), plot.height())
        painter.fillRect(never, texture_brush(FINE, theme.faint))
        bounds = [QPointF(x_of(t), y_of(a)) for t, a in zip(edge.interval_s[shown], edge.base_a[shown], strict=True)]
        if bounds:
            self._paint_bounds(painter, plot, bounds, theme.ramp.color(float(np.sqrt(low * high))))
        self._scale(painter, plot, (low, high), lambda value: str(quantity_text(value, "A", 2)), y_of)
        if never.width() > px(170):
            draw_rich_text(painter, never, "impossible at any base", look, size="small", align=_CENTER, on=theme.sunken)
        if np.isfinite(edge.now_s):
            self._paint_now(painter, QPointF(x_of(edge.now_s), y_of(edge.now_a)))
        foot = QRectF(plot.left(), plot.bottom() + px(3), plot.width(), px(16))
        for value, align in ((edge.interval_s[0], Qt.AlignmentFlag.AlignLeft), (edge.interval_s[-1], _RIGHT)):
            draw_rich_text(painter, foot, rate_text(1 / float(value)), look, size="small", align=align)
        draw_rich_text(painter, foot, "met below the line", look, size="small", align=_CENTER)

    def _paint_bounds(self, painter: QPainter, plot: QRectF, bounds: list[QPointF], fill: QColor) -> None:
        """Paint the line below which the target is met, and what lies below it."""
        painter.save()
        painter.setClipRect(plot)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        corners = [QPointF(bounds[-1].x(), plot.bottom()), QPointF(bounds[0].x(), plot.bottom())]
        fill.setAlphaF(0.35)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(fill)
        painter.drawPolygon(QPolygonF([*bounds, *corners]))
        painter.setPen(QPen(self._look.theme.accent, 2))
        painter.drawPolyline(QPolygonF(bounds))
        painter.restore()

    def _paint_now(self, painter: QPainter, at: QPointF) -> None:
        theme, px = self._look.theme, self._look.px
        painter.setPen(QPen(theme.mark, px(7), Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        painter.drawPoint(at)
        label = QRectF(at.x() - px(70), at.y() + px(6), px(140), px(16))
        draw_rich_text(painter, label, "now", self._look, size="small", align=_CENTER, on=theme.sunken)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for index, name in enumerate(self.names):
            if self._row_box(index).contains(event.position()):
                self.parameter_chosen.emit(name)

    @property
    def chosen_box(self) -> QRectF:
        """Where the chosen row is."""
        chosen = self.found.course.name if self.found is not None and self.found.course is not None else ""
        return self._row_box(self.names.index(chosen)) if chosen in self.names else QRectF()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        names = self.names
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is None or not names or self.found is None:
            super().keyPressEvent(event)
            return
        chosen = self.found.course.name if self.found.course is not None else ""
        at = names.index(chosen) + step if chosen in names else 0
        self.parameter_chosen.emit(names[min(max(at, 0), len(names) - 1)])

    def text(self) -> str:
        """Return the list as tab-separated text."""
        if self.found is None:
            return ""
        lines = ["parameter\tnow\tneeded alone\tfactor"]
        lines += [f"{w.name}\t{w.now}\t{w.needed or 'cannot'}\t{w.factor or ''}" for w in self.found.ways]
        return "\n".join(lines)
