"""What a sweep has learnt, in figures, and its two parameters as a field of settings."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen

from warm_ember.model.estimate import Estimate
from warm_ember.model.figure import Bound, signed
from warm_ember.model.sweep import value_text
from warm_ember.session.sweep_results import (
    MEASURED,
    REFUSED,
    SweepPoint,
    SweepResult,
    effects_of,
    wanted_repeats,
)
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import CROSS, FINE, texture_brush
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.units import (
    MONTH_S,
    format_significant,
    interval_text,
    months_text,
    percent_text,
    quantity_text,
)

if TYPE_CHECKING:
    from warm_ember.session.records import ParameterFit

_ROW, _TOP = 36, 30
_FOUR_DIGITS = 1e-2
_RIGHT = Qt.AlignmentFlag.AlignRight
_CENTRE = Qt.AlignmentFlag.AlignHCenter


class SweepLearnt(PaintedView):
    """A row a figure: the figure, its interval, and what it means; the best setting last."""

    reads_as = "What was learnt"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.result: SweepResult | None = None
        look.changed.connect(self.update)

    def show_result(self, result: SweepResult | None) -> None:
        """Show what a sweep has learnt."""
        self.result = result
        rows = len(self.rows())
        self.setMinimumHeight(self._look.px(_TOP + _ROW * rows + (128 if result and result.chosen else 8)))
        self.update()

    def rows(self) -> list[tuple[str, str, str, str]]:
        """Return name, figure, interval and meaning of each row, as rich text."""
        result = self.result
        if result is None:
            return []
        rows = []
        shown = [fit for fit in result.fits if fit.fits or self._has_periods(fit.parameter)]
        for fit in shown:
            rows += self._rows_of(fit)
        for effect in effects_of(result):
            if effect.parameter not in {fit.parameter for fit in shown}:
                between = f"{value_text(effect.first)} to {value_text(effect.last)}"
                told = quantity_text(abs(effect.change.value), "A").rich
                told = told.replace("**", f"**{'+' if effect.change.value > 0 else '−'}", 1)
                ends = sorted(map(abs, effect.change.interval() or (0.0, 0.0)))
                reach = _without_unit(interval_text(ends[0], ends[1], "A"))
                rows.append((effect.parameter, told, reach, f"{between}, others as in the best setting"))
        if result.added_a:
            names = ", ".join(result.recipe.activities)
            rows.append((names, quantity_text(result.added_a, "A").rich, "entered", "added; not in the sweep"))
        if result.recipe.goal.retry_s:
            words = "allowance for a second try, in each latency"
            rows.append(("one retry", quantity_text(result.recipe.goal.retry_s, "s").rich, "entered", words))
        return rows

    def _has_periods(self, name: str) -> bool:
        parameters = self.result.recipe.parameters if self.result is not None else ()
        return any(one.name == name and one.has_periods for one in parameters)

    def _rows_of(self, fit: ParameterFit) -> list[tuple[str, str, str, str]]:
        """Return what a model of a parameter tells."""
        assert self.result is not None
        parameter = next(one for one in self.result.recipe.parameters if one.name == fit.parameter)
        fits = "" if fit.fits else "the model does not fit"
        rows = [
            ("floor", *_floor(fit), fits or f"between events, whatever the {fit.parameter}"),
            ("charge", *_figure(fit.charge, "C"), fits or "each time it comes"),
        ]
        flat, most = fit.flattens_at, max(float(one) for one in parameter.steps)
        if flat is not None:
            words = "where what comes takes as much as the floor" + ("; beyond what was tried" if flat > most else "")
            rows.append(("curve flattens at", f"**{format_significant(flat)}** {parameter.unit}".strip(), "", words))
        if fit.interacts:
            rows.append(("interaction", "yes", "", "another parameter changes the charge, not the floor alone"))
        for even in fit.break_evens:
            between = " and ".join(map(value_text, even.between))
            reach = "" if even.low is None or even.high is None else _reach(even.low, even.high)
            told = f"**{format_significant(even.at)}** {parameter.unit}".strip()
            rows.append((f"{even.parameter} {between}", told, reach, f"break-even, at this {fit.parameter}"))
        return rows

    def named_boxes(self) -> list[NamedBox]:
        px = self._look.px
        return [
            NamedBox(f"{name}: {figure.replace('*', '')}", QRectF(0, px(_TOP + _ROW * at), self.width(), px(_ROW)))
            for at, (name, figure, _, _) in enumerate(self.rows())
        ]

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        width = self.width()
        draw_rich_text(painter, QRectF(px(16), px(4), px(200), px(20)), "What was learnt", look, dim=theme.ink)
        box = QRectF(0, px(4), width - px(16), px(20))
        draw_rich_text(painter, box, "90 %", look, size="small", align=_RIGHT)
        for at, (name, figure, reach, words) in enumerate(self.rows()):
            top = px(_TOP + _ROW * at)
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(px(16), top), QPointF(width - px(16), top))
            draw_rich_text(painter, QRectF(px(16), top + px(2), px(150), px(18)), name, look, dim=theme.ink)
            draw_rich_text(painter, QRectF(px(150), top + px(2), width - px(270), px(18)), figure, look, align=_RIGHT)
            line = QRectF(width - px(116), top + px(2), px(100), px(18))
            draw_rich_text(painter, line, reach, look, size="small", align=_RIGHT)
            below = QRectF(px(16), top + px(18), width - px(32), px(16))
            draw_rich_text(painter, below, words, look, size="small")
        if self.result is not None and self.result.chosen is not None:
            self._paint_chosen(painter, self.result, px(_TOP + _ROW * len(self.rows())))
        painter.end()

    def _paint_chosen(self, painter: QPainter, result: SweepResult, top: float) -> None:
        look, theme, px, chosen, width = self._look, self._look.theme, self._look.px, result.chosen, self.width()
        assert chosen is not None
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, top), QPointF(width, top))
        parts = zip(result.recipe.parameters, chosen.setting, strict=True)
        named = ", ".join(f"{one.name} **{value_text(value)}**" for one, value in parts)
        low, high = chosen.mean.interval() or (chosen.mean.value, chosen.mean.value)
        months = (chosen.low_s / MONTH_S, chosen.high_s / MONTH_S)
        mean, life = quantity_text(chosen.mean.value, "A").rich, months_text(chosen.life.life_s).rich
        figures = [
            ("average", mean, _without_unit(interval_text(low, high, "A"))),
            ("life", life, _without_unit(interval_text(*months, "months"))),
        ]
        if chosen.bound is not None:
            figures = [("average", signed(chosen.bound, mean), ""), ("life", signed(chosen.life.bound, life), "")]
        draw_rich_text(painter, QRectF(px(16), top + px(4), width - px(32), px(20)), f"at {named}", look, dim=theme.ink)
        top += px(20)
        for row, (name, figure, reach) in enumerate(figures):
            line = QRectF(px(16), top + px(4 + 24 * row), width - px(32), px(24))
            draw_rich_text(painter, line, name, look, dim=theme.ink)
            draw_rich_text(painter, line.adjusted(0, 0, -px(104), 0), figure, look, size="large", align=_RIGHT)
            draw_rich_text(painter, line, reach, look, size="small", align=_RIGHT)
        lines = ["others may be better: of them no more than a bound is known"]
        if chosen.chance is not None:
            lines = [f"chance that none is better by 1 %: {percent_text(chosen.chance).rich}"]
        more = wanted_repeats(result)
        if more is not None:
            lines.append(f"**{more}** more repeats halve its interval")
        if not chosen.meets_goal:
            lines.append("it lives less than wanted")
        for row, words in enumerate(lines):
            is_warning = row > 1 or chosen.chance is None
            line = QRectF(px(16), top + px(54 + 17 * row), width - px(32), px(18))
            draw_rich_text(painter, line, words, look, size="small", dim=theme.warning_text if is_warning else None)


class SweepGrid(PaintedView):
    """Two parameters: measured settings solid, others slanted, allowed ones outlined, the best in the mark's colour.

    Signals
    -------
    picked
        A setting is chosen by a click.
    """

    reads_as = "Both parameters"
    picked = Signal(object)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.result: SweepResult | None = None
        self.setMinimumHeight(look.px(180))
        look.changed.connect(self.update)

    def show_result(self, result: SweepResult | None) -> None:
        """Show a sweep of two parameters or more: of others than the first two as in the best setting."""
        self.result = result
        self.setVisible(result is not None and len(result.recipe.parameters) > 1)
        self.update()

    def _cells(self) -> list[tuple[QRectF, SweepPoint]]:
        result, px = self.result, self._look.px
        if result is None or len(result.recipe.parameters) < 2:
            return []
        across, up = (one.steps for one in result.recipe.parameters[:2])
        at = result.chosen.setting if result.chosen is not None else result.recipe.grid()[0]
        left, top = px(64), px(46)
        width = (self.width() - left - px(16)) / len(across)
        height = min((self.height() - top - px(28)) / len(up), px(38))
        cells = []
        for one in result.points:
            if one.setting[2:] == at[2:]:
                column, row = across.index(one.setting[0]), len(up) - 1 - up.index(one.setting[1])
                cells.append((QRectF(left + column * width, top + row * height, width - 1, height - 1), one))
        return cells

    def named_boxes(self) -> list[NamedBox]:
        return [NamedBox(f"{', '.join(map(value_text, one.setting))}: {one.state}", box) for box, one in self._cells()]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for box, one in self._cells():
            if box.contains(event.position()):
                self.picked.emit(one.setting)

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px, result = self._look, self._look.theme, self._look.px, self.result
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, 0), QPointF(self.width(), 0))
        draw_rich_text(painter, QRectF(px(16), px(6), px(160), px(20)), "Both parameters", look, dim=theme.ink)
        box = QRectF(px(150), px(6), self.width() - px(166), px(20))
        words = f"average on the bench, {self._unit()[1]}"
        draw_rich_text(painter, box, words, look, size="small", align=_RIGHT)
        cells = self._cells()
        if result is not None and cells:
            self._paint_heads(painter, result, cells)
            for box, one in cells:
                self._paint_cell(painter, result, box, one)
            self._paint_legend(painter, max(box.bottom() for box, _ in cells) + px(6))
        painter.end()

    def _unit(self) -> tuple[float, str]:
        """Return the unit in which the largest has few digits, in A, and its name."""
        points = self.result.points if self.result is not None else ()
        most_a = max((one.shown_a or one.predicted_a or 0.0 for one in points), default=0.0)
        return (1e-6, "µA") if most_a < _FOUR_DIGITS else (1e-3, "mA")

    def _paint_heads(self, painter: QPainter, result: SweepResult, cells: list[tuple[QRectF, SweepPoint]]) -> None:
        look, px = self._look, self._look.px
        chosen = result.chosen.setting if result.chosen is not None else None
        told: set[tuple[int, object]] = set()
        for box, one in cells:
            for number, place in (
                (0, QRectF(box.left() - 4, px(28), box.width() + 8, px(16))),
                (1, QRectF(px(8), box.top(), px(50), box.height())),
            ):
                if (number, one.setting[number]) in told:
                    continue
                told.add((number, one.setting[number]))
                words = value_text(one.setting[number])
                if chosen is not None and chosen[number] == one.setting[number]:
                    words = f"**{words}**"
                align = _CENTRE if number == 0 else _RIGHT
                draw_rich_text(painter, place, words, look, size="small", align=align)

    def _paint_cell(self, painter: QPainter, result: SweepResult, box: QRectF, one: SweepPoint) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        told_a = one.shown_a if one.shown_a is not None else one.predicted_a
        if one.state == MEASURED:
            painter.fillRect(box, theme.ramp.color(told_a))
        else:
            painter.fillRect(box, theme.sunken)
            painter.fillRect(box, texture_brush(CROSS if one.state == REFUSED else FINE, theme.faint))
        if told_a is not None:
            words = signed(one.bound, format_significant(told_a / self._unit()[0]))
            is_solid = one.state == MEASURED
            ink = ink_on(theme.ramp.color(told_a)) if is_solid else theme.dim
            words = f"**{words}**" if is_solid else words
            on = None if is_solid else theme.sunken
            draw_rich_text(painter, box, words, look, size="small", ink=ink, dim=ink, align=_CENTRE, on=on)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if one.state != REFUSED and not result.recipe.why_not(one.setting):
            painter.setPen(QPen(theme.ink, 1))
            painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
        if result.chosen is not None and one.setting == result.chosen.setting:
            painter.setPen(QPen(theme.mark, 2.5))
            painter.drawRect(box.adjusted(px(2), px(2), -px(2), -px(2)))

    def _paint_legend(self, painter: QPainter, top: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        x = float(px(16))
        for number, words in enumerate(("measured", "predicted", "allowed", "best")):
            box = QRectF(x, top + px(2), px(12), px(12))
            if number == 0:
                painter.fillRect(box, theme.ramp.color(1e-4))
            elif number == 1:
                painter.fillRect(box, texture_brush(FINE, theme.faint))
            else:
                painter.setPen(QPen(theme.ink if number == 2 else theme.mark, 1 if number == 2 else 2))
                painter.drawRect(box)
            drawn = draw_rich_text(painter, QRectF(x + px(18), top, px(80), px(16)), words, look, size="small")
            x += px(18) + drawn + px(16)


def _figure(estimate: Estimate, unit: str) -> tuple[str, str]:
    ends = estimate.interval()
    return quantity_text(estimate.value, unit).rich, "" if ends is None else _without_unit(interval_text(*ends, unit))


def _floor(fit: ParameterFit) -> tuple[str, str]:
    if fit.floor_below is None:
        return _figure(fit.floor, "A")
    return signed(Bound.BELOW, quantity_text(fit.floor_below, "A").rich), "not resolved"


def _without_unit(words: str) -> str:
    """Return an interval without its unit, where its figure stands beside it."""
    return words.rpartition(" ")[0]


def _reach(low: float, high: float) -> str:
    return f"{format_significant(low)} to {format_significant(high)}"
