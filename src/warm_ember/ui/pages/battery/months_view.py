"""Voltage, chance of life and one more step of each parameter, on one axis of months with the target through all."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF

from warm_ember.model.arrays import Floats
from warm_ember.model.figure import signed
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.battery.metrics import HEAD
from warm_ember.ui.pages.battery.voltages import NO_CELL, paint_voltages, voltages_of
from warm_ember.units import MONTH_S, format_trimmed, months_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import SensitivityStep


_TITLE = 24
_STEP_ROW = 19
_AXIS = 24
_RIGHT = Qt.AlignmentFlag.AlignRight


class MonthsView(PaintedView):
    """The life of the current run, with the best other run for comparison."""

    reads_as = "Life in months"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.results: RunResults | None = None
        self.other: RunResults | None = None
        self.steps: tuple[SensitivityStep, ...] = ()
        self.log = False
        self._plot, self._shown_s = QRectF(), MONTH_S
        look.changed.connect(self.update)

    def set_results(
        self, results: RunResults | None, other: RunResults | None, steps: tuple[SensitivityStep, ...]
    ) -> None:
        """Show a run, beside it another, and the steps."""
        self.results, self.other, self.steps = results, other, steps
        self.update()

    def set_log(self, log: bool) -> None:
        """Choose an axis of decades or a linear one."""
        self.log = log
        self.update()

    def _reach_s(self) -> float:
        """Return the right end of the axis."""
        assert self.results is not None
        life = self.results.life
        ends = [life.p90_s * 1.08, life.life_s * 1.15]
        if life.target_s is not None:
            ends.append(life.target_s * 1.15)
        if self.other is not None and self.other.life.p90_s < 4 * max(ends):
            ends.append(self.other.life.p90_s * 1.06)
        ends += [step.better_s * 1.16 for step in self.steps if step.better_s < 2 * life.life_s]
        finite = [end for end in ends if math.isfinite(end)]
        return max(finite, default=0.0) or MONTH_S

    def _x_of(self, time_s: float) -> float:
        return float(self._xs_of(np.array([time_s]))[0])

    def _xs_of(self, times_s: Floats) -> Floats:
        plot, reach_s = self._plot, self._shown_s
        if self.log:
            first_s = reach_s / 1000
            share = np.log(np.maximum(times_s, first_s) / first_s) / math.log(1000)
        else:
            share = np.minimum(times_s / reach_s, 1.2)
        return np.asarray(plot.left() + plot.width() * share)

    def _arrange(self) -> None:
        """Work out where the plots are and what they reach to: all that is drawn asks for it."""
        px = self._look.px
        self._plot = QRectF(px(HEAD), px(_TITLE), self.width() - px(HEAD) - px(8), self.height() - px(_TITLE + _AXIS))
        self._shown_s = self._reach_s() if self.results is not None else MONTH_S

    def minimumSizeHint(self) -> QSize:
        return QSize(self._look.px(420), self._look.px(_TITLE + _AXIS + 260))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, 0.5), QPointF(self.width(), 0.5))
        if self.results is None:
            painter.end()
            return
        self._arrange()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_rich_text(painter, QRectF(px(16), px(4), px(140), px(18)), "Months of life", look, dim=theme.ink)
        plot = self._plot
        steps = self.steps[: max(2, min(7, int((plot.height() - px(180)) / px(_STEP_ROW))))]
        step_height = px(_STEP_ROW) * (len(steps) + 1)
        rest = plot.height() - step_height - px(16)
        voltage = QRectF(plot.left(), plot.top(), plot.width(), rest * 0.5)
        chance = QRectF(plot.left(), voltage.bottom() + px(8), plot.width(), rest * 0.5)
        bars = QRectF(plot.left(), chance.bottom() + px(8), plot.width(), step_height)
        for box, name in ((voltage, "Voltage"), (chance, "Spread of life"), (bars, "Sensitivity")):
            painter.fillRect(box, theme.sunken)
            draw_rich_text(painter, QRectF(px(22), box.top() + px(2), px(100), px(18)), name, look, dim=theme.ink)
        self._paint_axis(painter, plot, bars.bottom())
        self._paint_voltage(painter, voltage)
        self._paint_chance(painter, chance)
        self._paint_bars(painter, bars, steps)
        self._paint_target(painter, bars.bottom())
        self._paint_chance_words(painter, chance)
        self._paint_step_words(painter, bars, steps)
        painter.end()

    def _ticks(self) -> list[float]:
        reach = self._shown_s / MONTH_S
        if self.log:
            return [10.0**k for k in range(math.ceil(math.log10(reach) - 3), math.floor(math.log10(reach)) + 1)]
        raw = reach / 8
        step = next((s for s in (0.1, 0.2, 0.5, 1, 2, 3, 6, 12, 24, 60, 120, 240, 600, 1200) if s >= raw), raw)
        return [k * step for k in range(int(reach / step) + 1)]

    def _paint_axis(self, painter: QPainter, plot: QRectF, bottom: float) -> None:
        px, look, theme = self._look.px, self._look, self._look.theme
        ticks = self._ticks()
        for index, months in enumerate(ticks):
            x = self._x_of(months * MONTH_S)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, bottom))
            words = f"{format_trimmed(months)}{' months' if index == len(ticks) - 1 else ''}"
            width = width_of(look, words, "small")
            left = min(max(x - width / 2, plot.left()), plot.right() - width)
            draw_rich_text(painter, QRectF(left, bottom + px(4), width + 2, px(16)), words, look, size="small")

    def _line_color(self, results: RunResults) -> QColor:
        return self._look.theme.ramp.color(results.load.mean_a)

    def _paint_voltage(self, painter: QPainter, box: QRectF) -> None:
        assert self.results is not None
        look, theme, px = self._look, self._look.theme, self._look.px
        shown = voltages_of(self.results.life)
        if isinstance(shown, str):
            draw_rich_text(painter, box.adjusted(px(12), 0, 0, 0), shown, look, size="small")
            return
        ghost = voltages_of(self.other.life) if self.other is not None else NO_CELL
        if self.other is not None and not isinstance(ghost, str):
            painter.save()
            painter.setClipRect(box)
            painter.setPen(QPen(self._line_color(self.other), 1, Qt.PenStyle.DashLine))
            painter.drawPolyline(QPolygonF(shown.line(box, self._xs_of(ghost.times_s), ghost.rest_v)))
            painter.restore()
        hot = theme.ramp.color(self.results.load.peak_a or self.results.whole.max_a)
        paint_voltages(painter, look, box, shown, self._xs_of, (self._line_color(self.results), hot))
        for volts in (round(shown.high_v * 5 - 0.5) / 5, shown.end_v):
            if shown.low_v < volts < shown.high_v:
                label = QRectF(px(100), shown.y_of(box, volts) - px(8), px(HEAD - 108), px(16))
                draw_rich_text(painter, label, str(quantity_text(volts, "V", 2)), look, size="small", align=_RIGHT)
        if shown.end_v:
            words = f"cut-off {quantity_text(shown.end_v, 'V').rich}"
            label = QRectF(box.left() + px(8), shown.y_of(box, shown.end_v) - px(17), px(150), px(16))
            draw_rich_text(painter, label, words, look, size="small")
        first = QRectF(box.left() + px(60), box.top() + px(3), px(140), px(15))
        draw_rich_text(painter, first, "between wakes", look, size="small", on=theme.sunken)
        at = shown.y_of(box, float(np.median(shown.pulse_v)))
        under = QRectF(box.left() + px(180), min(at + px(3), box.bottom() - px(34)), px(220), px(15))
        if self.results.load.peak_a:
            words = f"under a {quantity_text(self.results.load.peak_a, 'A').rich} pulse"
            draw_rich_text(painter, under, words, look, size="small", on=theme.sunken)

    def _paint_chance(self, painter: QPainter, box: QRectF) -> None:
        assert self.results is not None
        px = self._look.px
        painter.save()
        painter.setClipRect(box)
        shown = [(self.results, False)] + ([(self.other, True)] if self.other is not None else [])
        curves = [(results, ghost, results.life.density.life_s, results.life.density.per_s) for results, ghost in shown]
        tallest = max(density.max(initial=0.0) for *_, density in curves) or 1.0
        for results, ghost, times, density in reversed(curves):
            if not len(times):
                continue
            ys = box.bottom() - density / tallest * (box.height() - px(8))
            points = list(map(QPointF, self._xs_of(times).tolist(), ys.tolist()))
            path = QPainterPath()
            path.addPolygon(
                QPolygonF([QPointF(points[0].x(), box.bottom()), *points, QPointF(points[-1].x(), box.bottom())])
            )
            color = self._line_color(results)
            painter.fillPath(path, texture_brush(FINE, color) if ghost else color)
            painter.setPen(QPen(color, 1.5, Qt.PenStyle.DashLine if ghost else Qt.PenStyle.SolidLine))
            painter.drawPolyline(QPolygonF(points))
        painter.restore()

    def _paint_chance_words(self, painter: QPainter, box: QRectF) -> None:
        assert self.results is not None
        look, theme, px = self._look, self._look.theme, self._look.px
        life = self.results.life
        middle = self._x_of(life.p50_s)
        painter.setPen(QPen(theme.ink, 1.5))
        if math.isfinite(life.p50_s):
            painter.drawLine(QPointF(middle, box.top() + px(4)), QPointF(middle, box.bottom()))
        for end in (life.p10_s, life.p90_s):
            if math.isfinite(end):
                painter.drawLine(
                    QPointF(self._x_of(end), box.bottom() - px(14)), QPointF(self._x_of(end), box.bottom())
                )
        right_side = self._x_of(life.p10_s) - box.left() < px(300)
        width = px(280)
        left = self._x_of(life.p90_s) + px(14) if right_side else self._x_of(life.p10_s) - width - px(14)
        align = Qt.AlignmentFlag.AlignLeft if right_side else _RIGHT
        words = f"{self.results.run.name}, {life.band_words}"
        draw_rich_text(
            painter,
            QRectF(left, box.top() + px(6), width, px(22)),
            signed(life.bound, months_text(life.p50_s).rich),
            look,
            size="large",
            align=align,
            on=theme.sunken,
        )
        draw_rich_text(
            painter,
            QRectF(left, box.top() + px(28), width, px(16)),
            words,
            look,
            size="small",
            align=align,
            on=theme.sunken,
        )
        if self.other is not None and math.isfinite(self.other.life.p50_s):
            self._paint_other_words(painter, box, self.other, right_side=right_side)

    def _paint_other_words(self, painter: QPainter, box: QRectF, other: RunResults, *, right_side: bool) -> None:
        px, look, theme = self._look.px, self._look, self._look.theme
        chance = other.life.chance
        past = f", {percent_text(chance).rich} past the target" if chance is not None else ""
        x = self._x_of(other.life.p50_s)
        box_width = px(230)
        left = min(max(x - box_width / 2, box.left()), box.right() - box_width)
        mine = self._x_of(self.results.life.p90_s if self.results else 0.0)
        if left < mine + (px(300) if right_side else px(20)):
            return
        draw_rich_text(
            painter,
            QRectF(left, box.top() + px(6), box_width, px(22)),
            signed(other.life.bound, months_text(other.life.p50_s).rich),
            look,
            size="large",
            align=Qt.AlignmentFlag.AlignHCenter,
            on=theme.sunken,
        )
        draw_rich_text(
            painter,
            QRectF(left, box.top() + px(28), box_width, px(16)),
            f"{other.run.name}{past}",
            look,
            size="small",
            align=Qt.AlignmentFlag.AlignHCenter,
            on=theme.sunken,
        )

    def _step_rows(self, box: QRectF, steps: tuple[SensitivityStep, ...]) -> list[tuple[SensitivityStep, QRectF]]:
        """Return the rows of the steps, below the line that says what they are."""
        height = self._look.px(_STEP_ROW)
        rows = [QRectF(box.left(), box.top() + height * (i + 1), box.width(), height) for i in range(len(steps))]
        return list(zip(steps, rows, strict=True))

    def _paint_bars(self, painter: QPainter, box: QRectF, steps: tuple[SensitivityStep, ...]) -> None:
        assert self.results is not None
        px, theme = self._look.px, self._look.theme
        now = self.results.life.life_s
        if not math.isfinite(now):
            return
        better = theme.ramp.color(self.results.load.mean_a)
        x_now = self._x_of(now)
        for step, row in self._step_rows(box, steps):
            painter.setPen(theme.grid)
            painter.drawLine(row.topLeft(), row.topRight())
            left, right = self._x_of(step.worse_s), min(self._x_of(step.better_s), box.right())
            top, height = row.top() + px(3), row.height() - px(7)
            painter.fillRect(QRectF(left, top, max(x_now - left, 1), height), better.darker(165))
            painter.fillRect(QRectF(x_now, top, max(right - x_now, 1), height), better)
        painter.setPen(QPen(theme.ink, 1))
        painter.drawLine(QPointF(x_now, box.top()), QPointF(x_now, box.bottom()))

    def _paint_step_words(self, painter: QPainter, box: QRectF, steps: tuple[SensitivityStep, ...]) -> None:
        assert self.results is not None
        look, theme, px = self._look, self._look.theme, self._look.px
        if not math.isfinite(self.results.life.life_s):
            return
        words = "a quarter less or more of one parameter, and the months that gives" if steps else "worked out next"
        first = QRectF(box.left() + px(8), box.top() + 1, box.width(), px(_STEP_ROW) - 1)
        draw_rich_text(painter, first, words, look, size="small", dim=theme.faint, on=theme.sunken)
        for step, row in self._step_rows(box, steps):
            draw_rich_text(
                painter, QRectF(px(22), row.top(), px(HEAD - 26), row.height()), step.name, look, size="small"
            )
            left, right = self._x_of(step.worse_s), min(self._x_of(step.better_s), box.right())
            low, high = months_text(step.worse_s).number, months_text(step.better_s).number
            now_box = QRectF(row.left() + px(8), row.top() + 1, px(124), row.height() - 1)
            tail_box = QRectF(right + px(6), row.top() + 1, max(1.0, box.right() - right - px(8)), row.height() - 1)
            if left - px(150) < now_box.right():
                tail = f"**{low}** to **{high}**   now {step.now}"
                draw_rich_text(painter, tail_box, tail, look, size="small", on=theme.sunken)
                continue
            draw_rich_text(painter, now_box, f"now {step.now}", look, size="small", dim=theme.faint)
            head_box = QRectF(left - px(160), row.top() + 1, px(154), row.height() - 1)
            head = f"{step.worse}  **{low}**"
            draw_rich_text(painter, head_box, head, look, size="small", align=_RIGHT, on=theme.sunken)
            draw_rich_text(painter, tail_box, f"**{high}**  {step.better}", look, size="small", on=theme.sunken)

    def _paint_target(self, painter: QPainter, bottom: float) -> None:
        assert self.results is not None
        target_s = self.results.life.target_s
        if target_s is None:
            return
        px, theme = self._look.px, self._look.theme
        x = self._x_of(target_s)
        painter.setPen(QPen(theme.ink, 2))
        painter.drawLine(QPointF(x, px(_TITLE - 4)), QPointF(x, bottom))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.ink)
        painter.drawPolygon(
            QPolygonF([QPointF(x - 6, px(_TITLE - 10)), QPointF(x + 6, px(_TITLE - 10)), QPointF(x, px(_TITLE - 2))])
        )
        words = f"target **{format_trimmed(target_s / MONTH_S)}** months"
        draw_rich_text(
            painter,
            QRectF(x - px(170), px(4), px(158), px(18)),
            words,
            self._look,
            size="small",
            align=_RIGHT,
        )
