"""A life year by year: what is left, how close the pulses come to the cut-off, and how cold it gets."""

from __future__ import annotations

import math
from collections.abc import Callable
from datetime import date, timedelta
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from warm_ember.model.allowed import TEMPERATURE_C
from warm_ember.model.battery import Climate
from warm_ember.session.battery_results import LifeInYears, monthly_c, start_of
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.textures import CROSS, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.battery.metrics import HEAD
from warm_ember.ui.pages.battery.voltages import paint_voltages, voltages_of
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import DAY_S, YEAR_S, duration_text, format_trimmed, months_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import YearEffect, YearOfLife


_TITLE, _AXIS, _EFFECTS = 26, 22, 316
_ROW = 19
_RIGHT = Qt.AlignmentFlag.AlignRight
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


class _Lanes(PaintedView):
    """The lanes over the life, and the effects beside them."""

    reads_as = "Life year by year"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.results: RunResults | None = None
        self.found: LifeInYears | None = None
        self.climate = Climate()
        self._leave_room()
        look.changed.connect(self._leave_room)

    def _leave_room(self) -> None:
        """Keep lanes that can be read, and the effects whole; the page scrolls where there is no room for that."""
        self.setMinimumHeight(self._look.px(_TITLE + _AXIS + 5 * _ROW + 3 * 62 + 16))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self._look.theme.ground)
        painter.setPen(self._look.theme.rule)
        painter.drawLine(QPointF(0, 0.5), QPointF(self.width(), 0.5))
        if self.results is not None:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_effects(painter)
            life = self.results.life
            if math.isfinite(life.life_s) and life.life_s > 0:
                self._paint_lanes(painter, self.results)
            else:
                words = "This model never ends, so there are no years to show."
                if life.life_s == 0:
                    words = f"It ends at once, by {life.limit.value}: there are no years to show."
                draw_rich_text(painter, self._plot, words, self._look)
        painter.end()

    @property
    def _years(self) -> tuple[YearOfLife, ...]:
        return self.found.years if self.found is not None else ()

    def _x_of(self, time_s: float) -> float:
        assert self.results is not None
        plot = self._plot
        return float(plot.left() + min(time_s / (1.03 * self.results.life.life_s), 1.0) * plot.width())

    @property
    def _plot(self) -> QRectF:
        px = self._look.px
        width = self.width() - px(HEAD) - px(_EFFECTS) - px(8)
        return QRectF(px(HEAD), px(_TITLE), width, self.height() - px(_TITLE + _AXIS + 5 * _ROW))

    def _paint_lanes(self, painter: QPainter, results: RunResults) -> None:
        px, course, life = self._look.px, results.life.course, results.life
        plot = self._plot
        gap = px(8)
        height = (plot.height() - 2 * gap) / 3
        boxes = [QRectF(plot.left(), plot.top() + i * (height + gap), plot.width(), height) for i in range(3)]
        names = (("Remaining", "of the capacity"), ("Voltage", "rest and pulse"), ("Temperature", ""))
        for box, (name, second) in zip(boxes, names, strict=True):
            painter.fillRect(box, self._look.theme.sunken)
            self._head(painter, box, name, second)
        self._paint_year_lines(painter, plot)
        times_s = course.time_s[0]
        shown = times_s <= life.life_s
        self._paint_remaining(painter, boxes[0], times_s[shown], course.charge_share[0][shown], results)
        self._paint_voltage(painter, boxes[1], results)
        self._line(painter, boxes[2], times_s[shown], course.temperature_c[0][shown], _round_degrees, 0.0)
        x = self._x_of(life.life_s)
        painter.setPen(QPen(self._look.theme.ink, 1.5))
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        self._paint_axis(painter, plot)
        self._paint_years(painter, plot)

    def _head(self, painter: QPainter, box: QRectF, name: str, second: str) -> None:
        px, theme = self._look.px, self._look.theme
        draw_rich_text(painter, QRectF(px(22), box.top(), px(100), px(18)), name, self._look, dim=theme.ink)
        line = QRectF(px(22), box.top() + px(17), px(HEAD - 64), px(16))
        draw_rich_text(painter, line, second, self._look, size="small", dim=theme.faint)

    def _scale(self, painter: QPainter, box: QRectF, y: float, words: str) -> None:
        px = self._look.px
        y = min(max(y, box.top() + px(8)), box.bottom() - px(7))
        label = QRectF(px(90), y - px(8), px(HEAD - 98), px(16))
        draw_rich_text(painter, label, words, self._look, size="small", align=_RIGHT)

    def _paint_year_lines(self, painter: QPainter, plot: QRectF) -> None:
        painter.setPen(self._look.theme.grid)
        for year in self._years[1:]:
            x = self._x_of(year.from_s)
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))

    def _paint_remaining(
        self, painter: QPainter, box: QRectF, times_s: np.ndarray, share: np.ndarray, results: RunResults
    ) -> None:
        theme, life = self._look.theme, results.life
        points = [QPointF(self._x_of(t), box.bottom() - s * box.height()) for t, s in zip(times_s, share, strict=True)]
        area = QPainterPath()
        area.addPolygon(
            QPolygonF([QPointF(points[0].x(), box.bottom()), *points, QPointF(points[-1].x(), box.bottom())])
        )
        painter.fillPath(area, theme.raised)
        reserve = 1 - life.usable_c / life.capacity_c
        if reserve > 0:
            kept = QRectF(box.left(), box.bottom() - reserve * box.height(), box.width(), reserve * box.height())
            painter.fillRect(kept, texture_brush(CROSS, theme.faint))
            if kept.height() > self._look.px(14):
                words = f"reserve {percent_text(reserve).rich}"
                draw_rich_text(painter, kept.adjusted(8, 0, -8, 0), words, self._look, size="small", on=theme.sunken)
        painter.setPen(QPen(theme.ramp.color(results.load.mean_a), 2))
        painter.drawPolyline(QPolygonF(points))
        self._scale(painter, box, box.top(), "100 %")
        self._scale(painter, box, box.bottom(), "0 %")

    def _paint_voltage(self, painter: QPainter, box: QRectF, results: RunResults) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        shown = voltages_of(results.life)
        if isinstance(shown, str):
            draw_rich_text(painter, box.adjusted(px(12), 0, 0, 0), shown, look, size="small")
            return
        hot = theme.ramp.color(results.load.peak_a or results.whole.max_a)
        colors = (theme.ramp.color(results.load.mean_a), hot)
        paint_voltages(painter, look, box, shown, lambda times: np.array([self._x_of(t) for t in times]), colors)
        highest_v = float(shown.rest_v.max())
        self._scale(painter, box, shown.y_of(box, highest_v), str(quantity_text(highest_v, "V", 3)))
        if shown.end_v:
            words = f"stops at {quantity_text(shown.end_v, 'V').rich}"
            label = QRectF(box.left() + px(8), shown.y_of(box, shown.end_v) - px(16), px(160), px(15))
            draw_rich_text(painter, label, words, look, size="small", on=theme.sunken)

    def _line(
        self,
        painter: QPainter,
        box: QRectF,
        times_s: np.ndarray,
        values: np.ndarray,
        ends: Callable[[float, float], tuple[float, float]],
        mark: float,
    ) -> None:
        theme = self._look.theme
        low, high = ends(float(values.min()), float(values.max()))

        def at(value: float) -> float:
            return float(box.bottom() - (value - low) / (high - low) * box.height())

        if low < mark < high:
            painter.setPen(QPen(theme.dim, 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(box.left(), at(mark)), QPointF(box.right(), at(mark)))
            self._scale(painter, box, at(mark), f"{format_trimmed(mark)} °C")
        painter.setPen(QPen(theme.ink, 1.5))
        points = [QPointF(self._x_of(t), at(v)) for t, v in zip(times_s.tolist(), values.tolist(), strict=True)]
        painter.drawPolyline(QPolygonF(points))
        for value in (low, high):
            if value != mark:
                self._scale(painter, box, at(value), f"{format_trimmed(value)} °C")

    def _paint_axis(self, painter: QPainter, plot: QRectF) -> None:
        px, look = self._look.px, self._look
        start = start_of(self.climate)
        life_s = self.results.life.life_s if self.results is not None else 0.0
        marks: list[tuple[float, str]] = []
        if start is not None and start.year + life_s / YEAR_S < date.max.year - 1:
            step = max(1, math.ceil(life_s / YEAR_S / 8))
            for year in range(start.year + 1, start.year + math.ceil(life_s / YEAR_S) + 2, step):
                time_s = (date(year, 1, 1) - start) / timedelta(seconds=1)
                marks.append((time_s, f"Jan {year}"))
        else:
            marks = [(year.from_s, str(duration_text(year.from_s)) if year.from_s else "0") for year in self._years]
        last_right = plot.left() - px(8)
        for time_s, words in marks:
            x = self._x_of(time_s)
            if time_s > 1.03 * life_s:
                continue
            painter.setPen(self._look.theme.dim)
            painter.drawLine(QPointF(x, plot.bottom()), QPointF(x, plot.bottom() + px(4)))
            width = width_of(look, words, "small")
            left = min(max(x - width / 2, plot.left()), plot.right() - width)
            if left > last_right + px(8):
                draw_rich_text(
                    painter, QRectF(left, plot.bottom() + px(4), width + 2, px(16)), words, look, size="small"
                )
                last_right = left + width

    def _paint_years(self, painter: QPainter, plot: QRectF) -> None:
        """Write each year's figures below it, as many years as there is room for."""
        px, look, theme = self._look.px, self._look, self._look.theme
        top = plot.bottom() + px(_AXIS)
        heads = ("left at its end", "least above stop", "coldest")
        for row, words in enumerate(heads):
            box = QRectF(px(22), top + px(_ROW) * (row + 1.5), px(HEAD - 30), px(_ROW))
            draw_rich_text(painter, box, words, look, size="small")
        for year in self._years:
            left, right = self._x_of(year.from_s), self._x_of(year.to_s)
            if right - left < px(52):
                continue
            margin = "" if year.margin_v is None else quantity_text(year.margin_v, "V", 2).rich
            which = f"year **{year.number}**"
            if year.begins is not None and right - left > px(150):
                which += f"  from {year.begins.isoformat()}"
            cells = (
                which,
                percent_text(year.charge_share).rich,
                margin,
                f"**{format_trimmed(round(year.coldest_c))}** °C",
            )
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(left, top), QPointF(left, top + px(_ROW) * 4.5))
            for row, words in enumerate(cells):
                box = QRectF(left + px(6), top + px(_ROW) * (row + 0.5), right - left - px(8), px(_ROW))
                tight = year.margin_v is not None and year.margin_v < 0.05 and row == 2
                ink = theme.warning_text if tight else theme.ink
                draw_rich_text(painter, box, words, look, size="small", ink=ink)

    def _paint_effects(self, painter: QPainter) -> None:
        px, look, theme = self._look.px, self._look, self._look.theme
        left = self.width() - px(_EFFECTS)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(left, 0), QPointF(left, self.height()))
        inner = QRectF(left + px(14), px(5), px(_EFFECTS) - px(28), px(18))
        draw_rich_text(painter, inner, "What the life includes", look, dim=theme.ink)
        draw_rich_text(painter, inner, "takes", look, size="small", align=_RIGHT)
        if self.found is None or self.results is None:
            return
        y = inner.bottom() + px(4)
        first = QRectF(inner.left(), y, inner.width(), px(_ROW + 2))
        draw_rich_text(painter, first, "capacity over average current", look, size="small", dim=theme.ink)
        draw_rich_text(painter, first, months_text(self.found.bare_s).rich, look, size="small", align=_RIGHT)
        included = [one for one in self.found.effects if one.takes_s is not None]
        left_out = [one for one in self.found.effects if one.takes_s is None]
        y = first.bottom()
        for effect in sorted(included, key=lambda one: -(one.takes_s or 0.0)):
            y = self._effect(painter, inner, y, effect.name, _taken(effect), dim=False)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(inner.left(), y + px(2)), QPointF(inner.right(), y + px(2)))
        life = months_text(self.results.life.life_s).rich
        last = QRectF(inner.left(), y + px(4), inner.width(), px(_ROW + 3))
        draw_rich_text(painter, last, "all together, the life", look, dim=theme.ink)
        draw_rich_text(painter, last, life, look, align=_RIGHT)
        y = last.bottom() + px(8)
        if left_out:
            head = QRectF(inner.left(), y, inner.width(), px(_ROW))
            draw_rich_text(painter, head, "Not included", look, dim=theme.ink)
            y = head.bottom()
        for effect in left_out:
            if y + px(_ROW) > self.height():
                break
            y = self._effect(painter, inner, y, effect.name, effect.why_not, dim=True)

    def _effect(self, painter: QPainter, inner: QRectF, y: float, name: str, words: str, *, dim: bool) -> float:
        look, theme, px = self._look, self._look.theme, self._look.px
        row = QRectF(inner.left(), y, inner.width(), px(_ROW))
        ink = theme.faint if dim else theme.ink
        name_width = width_of(look, name, "small")
        draw_rich_text(painter, row, name, look, size="small", dim=theme.dim if dim else theme.ink)
        rest = row.adjusted(name_width + px(10), 0, 0, 0)
        draw_rich_text(painter, rest, words, look, size="small", align=_RIGHT, ink=theme.ink, dim=ink)
        return row.bottom()


def _taken(effect: YearEffect) -> str:
    takes_s = effect.takes_s or 0.0
    if math.isinf(takes_s):
        return "all"
    if abs(takes_s) < DAY_S:
        return "next to nothing"
    gives = takes_s < 0
    return f"{'gives ' if gives else '−'}{duration_text(abs(takes_s), 2).rich}"


def _round_degrees(low: float, high: float) -> tuple[float, float]:
    return 5.0 * math.floor((low - 1) / 5), 5.0 * math.ceil((high + 1) / 5)


class YearsView(QWidget):
    """The lanes, and under them the year that the device lives in, typed where it is drawn.

    Signals
    -------
    climate_entered
        A `Climate`.
    refused
        What was expected of a field.
    """

    climate_entered = Signal(object)
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.climate = Climate()
        px = look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.lanes = _Lanes(look)
        column.addWidget(self.lanes, 1)
        row = QHBoxLayout()
        row.setContentsMargins(px(22), px(4), px(12), px(8))
        row.setSpacing(px(10))
        column.addLayout(row)
        begin = QVBoxLayout()
        begin.setSpacing(px(2))
        head = Label("first day of use")
        self.start_edit = QLineEdit()
        self.start_edit.setAccessibleName("First day of use")
        self.start_edit.setToolTip("First day of use, such as 2027-06-01; empty counts from the first of January")
        self.start_edit.setFixedWidth(px(104))
        self.start_edit.editingFinished.connect(self._on_start)
        for widget in (head, self.start_edit):
            widget.setFont(look.font("small"))
            begin.addWidget(widget)
        row.addLayout(begin)
        row.addLayout(self._build_months(), 1)

    def _build_months(self) -> QGridLayout:
        look, px = self._look, self._look.px
        grid = QGridLayout()
        grid.setHorizontalSpacing(px(3))
        grid.setVerticalSpacing(px(2))
        self.months: list[QuantityEdit] = []
        for month, name in enumerate(_MONTHS):
            label = Label(name)
            label.setFont(look.font("small"))
            edit = QuantityEdit(look, "°C", f"mean temperature in {name}", 54, allowed=TEMPERATURE_C)
            edit.setFont(look.font("small"))
            edit.value_entered.connect(lambda value, month=month: self._on_month(month, value))
            edit.refused.connect(self.refused)
            grid.addWidget(label, 0, month)
            grid.addWidget(edit, 1, month)
            self.months.append(edit)
        grid.setColumnStretch(12, 1)
        return grid

    def show_life(self, results: RunResults | None, found: LifeInYears | None, climate: Climate) -> None:
        """Show a run's life; the years may come later than the life itself."""
        self.climate = climate
        self.lanes.results, self.lanes.found, self.lanes.climate = results, found, climate
        for edit, value in zip(self.months, monthly_c(climate).tolist(), strict=True):
            edit.set_value(value)
        if not (self.start_edit.hasFocus() and self.start_edit.isModified()):
            self.start_edit.setText(climate.start)
        self.lanes.setAccessibleName(self.text() or "Life year by year")
        self.lanes.update()

    def _on_month(self, month: int, value: float) -> None:
        months = monthly_c(self.climate).tolist()
        months[month] = value
        self.climate_entered.emit(Climate(tuple(months), self.climate.start))

    def _on_start(self) -> None:
        text = self.start_edit.text().strip()
        if not self.start_edit.isModified() or text == self.climate.start:
            return
        self.start_edit.setModified(False)
        entered = Climate(self.climate.months_c, text)
        if text and start_of(entered) is None:
            self.refused.emit(f"First day of use: expected a date such as 2027-06-01, found “{text}”")
            self.start_edit.setText(self.climate.start)
            return
        self.climate_entered.emit(entered)

    def text(self) -> str:
        """Return the years as tab-separated text."""
        if self.lanes.found is None:
            return ""
        lines = ["year\tbegins\tleft at its end\tleast above stop (V)\tcoldest (°C)"]
        for year in self.lanes.found.years:
            margin = "" if year.margin_v is None else f"{year.margin_v:.3f}"
            begins = year.begins.isoformat() if year.begins is not None else ""
            lines.append(f"{year.number}\t{begins}\t{year.charge_share:.3f}\t{margin}\t{year.coldest_c:.1f}")
        return "\n".join(lines)
