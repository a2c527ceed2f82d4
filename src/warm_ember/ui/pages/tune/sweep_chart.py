"""The sweep's picture: the average against its first parameter, what is left over, and how the answer grew sure."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF

from warm_ember.model.figure import Bound, signed
from warm_ember.model.sweep import Setting, value_text
from warm_ember.session.sweep_results import MEASURED, SweepPoint, SweepResult
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import MONTH_S, format_significant, interval_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import ParameterFit

_LEFT, _RIGHT, _TITLE, _FOOT, _LEFTOVER, _COURSE = 72, 16, 28, 46, 76, 148
_RIGHT_ALIGN, _CENTRE = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignHCenter
_EMPTY = "Points come here as they are measured: the average against what is varied, with your limits."
_STEPS = (1, 1.5, 2, 3, 5, 7)


class SweepChart(PaintedView):
    """Points with their intervals, the curve through them, limits hatched, the chosen setting as a cross.

    Signals
    -------
    picked
        A setting is chosen by a click.
    """

    reads_as = "Sweep"
    picked = Signal(object)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.result: SweepResult | None = None
        self.setMinimumSize(look.px(360), look.px(430))
        look.changed.connect(self.update)

    def show_result(self, result: SweepResult | None) -> None:
        """Show what a sweep has learnt; None shows an empty picture."""
        self.result = result
        self.update()

    @property
    def plot(self) -> QRectF:
        """Where the points are."""
        px = self._look.px
        height = self.height() - px(_TITLE + _FOOT + _LEFTOVER + _COURSE)
        return QRectF(px(_LEFT), px(_TITLE), self.width() - px(_LEFT + _RIGHT), max(height, px(60)))

    def _range(self, result: SweepResult) -> tuple[float, float]:
        known = [one.shown_a or one.predicted_a or 0.0 for one in result.points]
        known = [one for one in known if one > 0]
        if not known:
            return -6.0, -3.0
        low, high = math.log10(min(known)), math.log10(max(known))
        margin = max(0.08 * (high - low), 0.03)
        return low - margin, high + margin

    def _x_of(self, result: SweepResult, value: float | str) -> float:
        """Return where a value of the first parameter is: by its logarithm, or by its number."""
        first = result.recipe.parameters[0]
        room = self.plot.adjusted(self._look.px(24), 0, -self._look.px(24), 0)
        if first.is_number:
            steps = [float(one) for one in first.steps]
            is_log = min(steps) > 0
            own, ends = float(value), (min(steps), max(steps))
            if is_log:
                own, ends = math.log(own), (math.log(ends[0]), math.log(ends[1]))
            share = (own - ends[0]) / ((ends[1] - ends[0]) or 1.0)
        else:
            share = first.steps.index(value) / max(len(first.steps) - 1, 1)
        return room.left() + share * room.width()

    def _y_of(self, current_a: float, range_: tuple[float, float]) -> float:
        share = (math.log10(max(current_a, 1e-15)) - range_[0]) / (range_[1] - range_[0])
        return self.plot.bottom() - min(max(share, 0.0), 1.0) * self.plot.height()

    def _shown(self, result: SweepResult) -> Setting | None:
        """Return the setting whose other values the curve is for."""
        if result.chosen is not None:
            return result.chosen.setting
        return next((one.setting for one in result.points if one.state == MEASURED), None)

    def _curve(self, result: SweepResult) -> list[SweepPoint]:
        at = self._shown(result)
        return [one for one in result.points if at is not None and one.setting[1:] == at[1:]]

    def named_boxes(self) -> list[NamedBox]:
        result, px = self.result, self._look.px
        if result is None:
            return []
        range_, named = self._range(result), []
        for one in result.points:
            if one.shown_a is not None:
                x, y = self._x_of(result, one.setting[0]), self._y_of(one.shown_a, range_)
                mean = signed(one.bound, quantity_text(one.shown_a, "A"))
                words = f"{', '.join(map(value_text, one.setting))}: {mean}"
                named.append(NamedBox(words, QRectF(x - px(6), y - px(6), px(12), px(12))))
        return named

    def mousePressEvent(self, event: QMouseEvent) -> None:
        result = self.result
        if result is None:
            return
        range_, near = self._range(result), []
        for one in result.points:
            if one.shown_a is not None:
                x, y = self._x_of(result, one.setting[0]), self._y_of(one.shown_a, range_)
                near.append((math.hypot(event.position().x() - x, event.position().y() - y), one.setting))
        if near and min(near)[0] < self._look.px(14):
            self.picked.emit(min(near)[1])

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        result = self.result
        if result is not None and result.recipe.parameters:
            first, at = result.recipe.parameters[0], self._shown(result)
            words = f"Average against {first.name}"
            draw_rich_text(painter, QRectF(px(16), px(4), px(300), px(20)), words, look, dim=theme.ink)
            others = result.recipe.parameters[1:]
            if at is not None and others:
                named = ", ".join(f"{one.name} **{value_text(v)}**" for one, v in zip(others, at[1:], strict=True))
                box = QRectF(px(300), px(4), self.width() - px(316), px(20))
                words = f"both log; {named} filled, others hollow"
                draw_rich_text(painter, box, words, look, size="small", align=_RIGHT_ALIGN)
            painter.fillRect(self.plot, theme.sunken)
            range_ = self._range(result)
            self._paint_limits(painter, result, range_)
            self._paint_axis(painter, result, range_)
            self._paint_curve(painter, result, range_)
            self._paint_points(painter, result, range_)
            self._paint_leftover(painter, result)
            self._paint_course(painter, result)
        else:
            box = QRectF(px(16), px(4), self.width() - px(32), px(20))
            draw_rich_text(painter, box, _EMPTY, look)
        painter.end()

    def _paint_limits(self, painter: QPainter, result: SweepResult, range_: tuple[float, float]) -> None:
        """Hatch what answers too late or lives too short, with words."""
        look, theme, plot, px = self._look, self._look.theme, self.plot, self._look.px
        brush = texture_brush(FINE, theme.faint)
        curve = self._curve(result)
        late = [one for one in curve if result.recipe.why_not(one.setting)]
        if late and len(late) < len(curve):
            allowed = [self._x_of(result, one.setting[0]) for one in curve if one not in late]
            for one in late:
                x = self._x_of(result, one.setting[0])
                edge = max((a for a in allowed if a < x), default=None)
                other = min((a for a in allowed if a > x), default=None)
                left = (edge + x) / 2 if edge is not None else plot.left()
                right = (other + x) / 2 if other is not None else plot.right()
                if edge is not None and all(a < x for a in allowed):
                    right = plot.right()
                painter.fillRect(QRectF(left, plot.top(), right - left, plot.height()), brush)
            words = result.recipe.why_not(late[0].setting)
            box = QRectF(plot.left() + px(8), plot.top() + px(4), plot.width() - px(16), px(18))
            draw_rich_text(painter, box, words, look, size="small", align=_RIGHT_ALIGN, on=theme.sunken)
        chosen = result.chosen
        budget_a = chosen.life.budget_a if chosen is not None else None
        if budget_a is not None and chosen is not None and range_[0] < math.log10(budget_a - result.added_a or 1e-15):
            y = self._y_of(max(budget_a - result.added_a, 1e-15), range_)
            painter.fillRect(QRectF(plot.left(), plot.top(), plot.width(), y - plot.top()), brush)
            months = format_significant((chosen.life.target_s or 0.0) / MONTH_S)
            box = QRectF(plot.left() + px(8), y - px(20), px(200), px(18))
            draw_rich_text(painter, box, f"life under **{months}** months", look, size="small", on=theme.sunken)

    def _paint_axis(self, painter: QPainter, result: SweepResult, range_: tuple[float, float]) -> None:
        look, theme, plot, px = self._look, self._look.theme, self.plot, self._look.px
        decades = np.linspace(range_[1], range_[0], max(2, round(plot.height())))
        ramp = QRectF(plot.left() - px(8), plot.top(), px(5), plot.height())
        draw_pixels(painter, ramp, theme.ramp.packed(10.0**decades)[:, None])
        last_y = -1e9
        for decade in range(math.floor(range_[1]), math.floor(range_[0]) - 1, -1):
            for step in reversed(_STEPS):
                value = step * 10.0**decade
                if not range_[0] < math.log10(value) < range_[1]:
                    continue
                y = self._y_of(value, range_)
                if y - last_y < px(24):
                    continue
                last_y = y
                painter.setPen(theme.grid)
                painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
                box = QRectF(0, y - px(8), plot.left() - px(14), px(16))
                words = str(quantity_text(value, "A", 2))
                draw_rich_text(painter, box, words, look, size="small", align=_RIGHT_ALIGN)
        top = plot.bottom() + px(3)
        first = result.recipe.parameters[0]
        for row, words in enumerate((first.unit, "months")):
            box = QRectF(0, top + px(20 * row), plot.left() - px(8), px(16))
            draw_rich_text(painter, box, words, look, size="small", align=_RIGHT_ALIGN)
        chosen = result.chosen.setting[0] if result.chosen is not None else None
        for one in sorted(self._curve(result), key=lambda one: one.setting[0] != chosen):
            self._paint_place(painter, result, one, top)

    def _paint_place(self, painter: QPainter, result: SweepResult, one: SweepPoint, top: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        x, width = self._x_of(result, one.setting[0]), px(44)
        is_chosen = result.chosen is not None and one.setting == result.chosen.setting
        box = QRectF(x - width / 2, top, width, px(17))
        words = f"**{value_text(one.setting[0])}**" if is_chosen else value_text(one.setting[0])
        if is_chosen:
            wide = width_of(look, words, "small") + px(8)
            painter.fillRect(QRectF(x - wide / 2, top, wide, px(17)), theme.mark)
        draw_rich_text(
            painter, box, words, look, size="small", ink=theme.ground if is_chosen else None,
            dim=theme.ground if is_chosen else None, align=_CENTRE,
        )  # fmt: skip
        if one.life_s is not None:
            months = format_significant(one.life_s / MONTH_S)
            words = f"**{months}**" if is_chosen else months
            draw_rich_text(painter, box.translated(0, px(20)), words, look, size="small", align=_CENTRE)

    def _fit(self, result: SweepResult) -> ParameterFit | None:
        name = result.recipe.parameters[0].name
        return next((one for one in result.fits if one.parameter == name), None)

    def _paint_curve(self, painter: QPainter, result: SweepResult, range_: tuple[float, float]) -> None:
        theme, fit, first = self._look.theme, self._fit(result), result.recipe.parameters[0]
        if fit is not None and fit.fits:
            steps = [float(one) for one in first.steps]
            values = np.geomspace(min(steps), max(steps), 120).tolist()
            line = self._line(result, range_, [(one, fit.at(one)) for one in values if fit.at(one) > 0])
            alone = self._line(result, range_, [(one, fit.charge.value / one) for one in values])
            painter.setPen(QPen(theme.dim, 1, Qt.PenStyle.DotLine))
            if fit.charge.value > 0:
                painter.drawPolyline(QPolygonF(alone))
        else:
            told = [(one.setting[0], one.predicted_a or 0.0) for one in self._curve(result)]
            line = sorted(self._line(result, range_, told), key=lambda point: point.x())
        painter.setPen(QPen(theme.ink, 1.4, Qt.PenStyle.SolidLine if first.is_number else Qt.PenStyle.DotLine))
        painter.drawPolyline(QPolygonF(line))
        if fit is not None and fit.fits:
            self._paint_model(painter, fit)

    def _paint_model(self, painter: QPainter, fit: ParameterFit) -> None:
        look, theme, px, plot = self._look, self._look.theme, self._look.px, self.plot
        floor, charge = quantity_text(fit.floor.value, "A").rich, quantity_text(fit.charge.value, "C").rich
        if fit.floor_below is not None:
            floor = signed(Bound.BELOW, quantity_text(fit.floor_below, "A").rich)
        words = f"I = {floor} + {charge} / {fit.parameter}"
        width = width_of(look, words) + px(4)
        box = QRectF(plot.right() - width - px(10), plot.top() + px(26), width, px(22))
        draw_rich_text(painter, box, words, look, on=theme.sunken)
        known = [(fit.floor, "A")] if fit.floor_below is None else []
        ends = [(one.interval() or (None, None), unit) for one, unit in (*known, (fit.charge, "C"))]
        told = [interval_text(low, high, unit) for (low, high), unit in ends if low is not None and high is not None]
        below = box.translated(0, px(20))
        words = "   ".join(told)
        draw_rich_text(painter, below, words, look, size="small", align=_RIGHT_ALIGN, on=theme.sunken)

    def _line(
        self, result: SweepResult, range_: tuple[float, float], points: Sequence[tuple[float | str, float]]
    ) -> list[QPointF]:
        return [QPointF(self._x_of(result, value), self._y_of(mean_a, range_)) for value, mean_a in points]

    def _paint_points(self, painter: QPainter, result: SweepResult, range_: tuple[float, float]) -> None:
        theme, px, at = self._look.theme, self._look.px, self._shown(result)
        for one in result.points:
            if one.shown_a is None:
                continue
            x, y = self._x_of(result, one.setting[0]), self._y_of(one.shown_a, range_)
            color = theme.ramp.color(one.shown_a)
            is_filled = at is not None and one.setting[1:] == at[1:]
            box = QRectF(x - px(3), y - px(3), px(6), px(6))
            if one.bound is not None:  # the truth is to one side of it, how far nothing tells
                painter.setPen(QPen(color, 1.2, Qt.PenStyle.DotLine))
                away = -px(24) if one.bound is Bound.AT_LEAST else px(24)
                painter.drawLine(QPointF(x, y), QPointF(x, y + away))
            elif one.low_a is not None and one.high_a is not None and one.low_a > 0:
                painter.setPen(QPen(color, 1.2))
                painter.drawLine(QPointF(x, self._y_of(one.low_a, range_)), QPointF(x, self._y_of(one.high_a, range_)))
            if is_filled:
                painter.fillRect(box, color)
            else:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(color, 1.2))
                painter.drawRect(box)
        chosen = result.chosen
        if chosen is None:
            return
        own = next(one for one in result.points if one.setting == chosen.setting)
        x, y = self._x_of(result, chosen.setting[0]), self._y_of(own.shown_a or 0.0, range_)
        painter.setPen(QPen(theme.mark, 1))
        painter.drawLine(QPointF(x, self.plot.top()), QPointF(x, self.plot.bottom()))
        painter.drawLine(QPointF(self.plot.left(), y), QPointF(self.plot.right(), y))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.mark, 2))
        painter.drawRect(QRectF(x - px(6), y - px(6), px(12), px(12)))

    def _paint_leftover(self, painter: QPainter, result: SweepResult) -> None:
        """Paint what each measurement is above or below the model, or the prediction by all, as shares."""
        look, theme, px, plot = self._look, self._look.theme, self._look.px, self.plot
        box = QRectF(plot.left(), plot.bottom() + px(_FOOT), plot.width(), px(_LEFTOVER - 10))
        painter.fillRect(box, theme.sunken)
        fit = self._fit(result)
        shares = {
            one.setting: fit.residuals[one.setting]
            if fit is not None and one.setting in fit.residuals
            else (one.mean_a or 0.0) / (one.predicted_a or 1.0) - 1
            for one in result.points
            if one.mean_a is not None and one.bound is None
        }
        most = max([abs(one) for one in shares.values()] + [2 * result.scatter.share, 1e-4]) * 1.2
        band = QColor(theme.raised)
        half = result.scatter.share / most * box.height() / 2
        if result.scatter.freedom:
            painter.fillRect(QRectF(box.left(), box.center().y() - half, box.width(), 2 * half), band)
        painter.setPen(theme.grid)
        painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
        for setting, share in shares.items():
            x, y = self._x_of(result, setting[0]), box.center().y() - share / most * box.height() / 2
            mean_a = next(one.mean_a for one in result.points if one.setting == setting)
            painter.fillRect(QRectF(x - px(2), y - px(2), px(5), px(5)), theme.ramp.color(mean_a))
        for share, words in ((1.0, f"+{100 * most:.1f} %"), (-1.0, f"−{100 * most:.1f} %")):
            y = box.center().y() - share * (box.height() / 2 - px(8))
            line = QRectF(0, y - px(8), plot.left() - px(14), px(16))
            draw_rich_text(painter, line, words, look, size="small", align=_RIGHT_ALIGN)
        fits = "" if fit is None else "; it fits" if fit.fits else "; the model does not fit"
        count = len(result.progress.recordings)
        words = f"**{count}** recordings"
        if result.scatter.freedom:
            words += f"; scatter {percent_text(result.scatter.share).rich}{fits}"
        line = QRectF(box.left() + px(8), box.bottom() - px(18), box.width() - px(16), px(16))
        draw_rich_text(painter, line, "Residual", look, size="small", dim=theme.ink, on=theme.sunken)
        draw_rich_text(painter, line, words, look, size="small", align=_RIGHT_ALIGN, on=theme.sunken)

    def _paint_course(self, painter: QPainter, result: SweepResult) -> None:
        """Paint how wide the answer was after each setting."""
        look, theme, px = self._look, self._look.theme, self._look.px
        top = self.height() - px(_COURSE)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, top), QPointF(self.width(), top))
        draw_rich_text(painter, QRectF(px(16), top + px(4), px(200), px(20)), "Order of measuring", look, dim=theme.ink)
        words = "width of the answer after each, months, log"
        box = QRectF(px(200), top + px(4), self.width() - px(216), px(20))
        draw_rich_text(painter, box, words, look, size="small", align=_RIGHT_ALIGN)
        if not result.course:
            return
        lower = px(20 * min(len(result.recipe.parameters), 2))
        plot = QRectF(self.plot.left(), top + px(30), self.plot.width(), self.height() - top - px(36) - lower)
        painter.fillRect(plot, theme.sunken)
        months = [None if width_s is None else max(width_s / MONTH_S, 1e-3) for _, width_s in result.course]
        known = [one for one in months if one is not None]
        low, high = (math.log10(min(known)) - 0.3, math.log10(max(known)) + 0.1) if known else (-1.0, 1.0)
        each = min(plot.width() / len(months), px(44))
        for number, ((setting, _), width) in enumerate(zip(result.course, months, strict=True)):
            bar = QRectF(plot.left() + number * each + 1, plot.top(), each - 2, plot.height())
            mean_a = next((one.mean_a for one in result.points if one.setting == setting), None)
            if width is None:
                painter.fillRect(bar, texture_brush(FINE, theme.faint))
            else:
                bar.setTop(plot.bottom() - max((math.log10(width) - low) / (high - low), 0.02) * plot.height())
                painter.fillRect(bar, theme.ramp.color(mean_a))
            for row, value in enumerate(setting[:2]):
                below = QRectF(bar.left() - 1, plot.bottom() + px(2 + 18 * row), each, px(16))
                draw_rich_text(painter, below, value_text(value), look, size="small", align=_CENTRE)
        for row, one in enumerate(result.recipe.parameters[:2]):
            name = QRectF(px(8), plot.bottom() + px(2 + 18 * row), plot.left() - px(12), px(16))
            draw_rich_text(painter, name, one.name, look, size="small")
        if known and months[-1] is not None:
            words = f"now **{format_significant(months[-1])}**"
            box = QRectF(plot.left(), plot.top() + px(2), plot.width() - px(6), px(16))
            draw_rich_text(painter, box, words, look, size="small", align=_RIGHT_ALIGN, on=theme.sunken)
