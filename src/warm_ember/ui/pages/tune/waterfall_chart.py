"""The plan as a staircase: from what is measured, change by change, to what is predicted, with the target across."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF

from warm_ember.model.figure import Bound, signed
from warm_ember.session.tuning_results import PlanResults
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.units import MONTH_S, format_trimmed, months_text, quantity_text

_LEFT, _RIGHT, _TOP, _BOTTOM = 66, 66, 42, 38
_CENTRE = Qt.AlignmentFlag.AlignHCenter
_MICRO = 1e6


@dataclass(frozen=True)
class Bar:
    """One column of the staircase.

    Parameters
    ----------
    title, detail
        What stands under it.
    from_a, to_a
        Its ends.
    kind
        ``whole``, ``measured``, ``predicted`` or ``plan``.
    letter
        Of the change; empty for a run.
    """

    title: str
    detail: str
    from_a: float
    to_a: float
    kind: str
    letter: str = ""
    bound: Bound | None = None

    @property
    def is_step(self) -> bool:
        """Whether it stands for a change, and not for a run or for the plan."""
        return self.kind in ("measured", "predicted")


def bars_of(results: PlanResults, letters: tuple[str, ...]) -> list[Bar]:
    """Lay the plan out as bars: the step before, predicted against measured, the run, the changes, the plan."""
    bars = []
    last = [proof for proof in results.proofs if proof.after == results.run and proof.before == results.before]
    if results.before_a is not None and last:
        proof = last[0]
        bars.append(Bar(results.before, _months(results.before_life_s), 0, results.before_a, "whole"))
        bars.append(Bar("predicted", "", results.before_a, proof.predicted_a, "predicted"))
        bars.append(Bar("measured", "", results.before_a, results.mean_a, "measured"))
    months = signed(results.bound and results.bound.opposite, _months(results.life_s))
    bars.append(Bar(results.run, months, 0, results.mean_a, "whole", bound=results.bound))
    before_a = results.mean_a
    for letter, step in zip(letters, results.steps, strict=True):
        bars.append(Bar("", "predicted", before_a, step.mean_a, "predicted", letter))
        before_a = step.mean_a
    if results.steps:
        bars.append(Bar("plan", _months(results.life.life_s), 0, results.predicted.mean_a, "plan"))
    return bars


class WaterfallChart(PaintedView):
    """The staircase; linear, so that what is saved is as high as it looks."""

    reads_as = "Steps from measured to target"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.look = look
        self.results: PlanResults | None = None
        self.title = "The plan: from measured to target"
        self.bars: list[Bar] = []
        self.setMinimumHeight(look.px(190))
        look.changed.connect(self.update)

    def show_plan(self, results: PlanResults | None, letters: tuple[str, ...]) -> None:
        """Show a plan, its changes with their letters."""
        self.results = results
        self.bars = bars_of(results, letters) if results is not None else []
        self.update()

    @property
    def plot(self) -> QRectF:
        """Where the bars are."""
        px = self.look.px
        return QRectF(px(_LEFT), px(_TOP), self.width() - px(_LEFT + _RIGHT), self.height() - px(_TOP + _BOTTOM))

    def _top_a(self) -> float:
        budget_a = self.results.budget_a if self.results is not None else None
        most = max([max(bar.from_a, bar.to_a) for bar in self.bars] + [1.15 * (budget_a or 0.0), 1e-9])
        # A step before that towers over all would flatten what is planned: it is cut off, and says so.
        own = max((max(b.from_a, b.to_a) for b in self.bars[self._own() :]), default=most)
        return float(min(most, max(2.2 * own, 1.15 * (budget_a or 0.0), 1e-9)) * 1.1)

    def _own(self) -> int:
        """Return where the run itself stands."""
        runs = [n for n, bar in enumerate(self.bars) if bar.kind == "whole"]
        return runs[-1] if runs else 0

    def y_of(self, current_a: float) -> float:
        """Return the height of a current."""
        plot = self.plot
        return float(plot.bottom() - min(max(current_a / self._top_a(), 0.0), 1.0) * plot.height())

    def named_boxes(self) -> list[NamedBox]:
        plot, width = self.plot, self.plot.width() / max(len(self.bars), 1)
        return [
            NamedBox(
                bar.title or f"change {bar.letter}",
                QRectF(plot.left() + index * width, 0, width, self.height()),
                value=str(quantity_text(bar.to_a, "A")),
            )
            for index, bar in enumerate(self.bars)
        ]

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        draw_rich_text(painter, QRectF(px(16), px(8), self.width() * 0.6, px(20)), self.title, look, dim=theme.ink)
        if self.results is None:
            draw_rich_text(painter, QRectF(px(16), px(34), self.width(), px(20)), "Working out the plan …", look)
            painter.end()
            return
        words = QRectF(self.width() * 0.6, px(8), self.width() * 0.4 - px(12), px(20))
        said = "average, µA, and the months it gives"
        draw_rich_text(painter, words, said, look, size="small", align=Qt.AlignmentFlag.AlignRight)
        plot = self.plot
        painter.fillRect(plot, theme.sunken)
        self._paint_axis(painter, plot)
        width = plot.width() / max(len(self.bars), 1)
        for index, bar in enumerate(self.bars):
            self._paint_bar(painter, QRectF(plot.left() + index * width, plot.top(), width, plot.height()), bar)
        self._paint_links(painter, plot, width)
        self._paint_target(painter, plot)
        painter.end()

    def _paint_axis(self, painter: QPainter, plot: QRectF) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        step = _nice(self._top_a() / 4)
        budget_a = self.results.budget_a if self.results is not None else None
        for number in range(int(self._top_a() / step) + 1):
            value = number * step
            y = self.y_of(value)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            if budget_a is None or abs(self.y_of(budget_a) - y) > px(14):
                box = QRectF(0, y - px(9), plot.left() - px(14), px(18))
                words = str(quantity_text(value, "A")) if number else "0"
                draw_rich_text(painter, box, words, look, size="small", align=Qt.AlignmentFlag.AlignRight)
        for y in range(int(plot.top()), int(plot.bottom())):
            share = (plot.bottom() - y) / plot.height()
            painter.fillRect(QRectF(plot.left() - px(8), y, px(5), 1), theme.ramp.color(share * self._top_a()))

    def _paint_bar(self, painter: QPainter, column: QRectF, bar: Bar) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        width = min(column.width() * 0.8, px(64))
        high, low = self.y_of(max(bar.from_a, bar.to_a)), self.y_of(min(bar.from_a, bar.to_a))
        box = QRectF(column.center().x() - width / 2, high, width, max(low - high, 2.0))
        color = theme.ramp.color(abs(bar.to_a - bar.from_a) if bar.is_step else bar.to_a)
        if bar.kind in ("predicted", "plan"):
            painter.fillRect(box, theme.sunken)
            painter.fillRect(box, texture_brush(FINE, color))
            painter.setPen(QPen(color, 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box)
        else:
            painter.fillRect(box, color)
        change_a = bar.to_a - bar.from_a
        words = (
            f"**{_signed(change_a)}**" if bar.is_step else signed(bar.bound, f"**{format_trimmed(bar.to_a * _MICRO)}**")
        )
        above = QRectF(column.left(), box.top() - px(19), column.width(), px(18))
        if max(bar.from_a, bar.to_a) > self._top_a():  # cut off: the number stands inside
            inside = QRectF(column.left(), box.top() + px(4), column.width(), px(18))
            hatched = bar.kind in ("predicted", "plan")
            ink, on = (theme.ink, theme.sunken) if hatched else (ink_on(color), None)
            draw_rich_text(painter, inside, words, look, ink=ink, align=_CENTRE, on=on)
        elif bar.is_step and bar.to_a < bar.from_a:
            below = QRectF(column.left(), min(box.bottom() + 1, self.plot.bottom() - px(18)), column.width(), px(18))
            draw_rich_text(painter, below, words, look, size="small", align=_CENTRE, on=theme.sunken)
        else:
            size = "normal" if bar.is_step else "large"
            draw_rich_text(painter, above, words, look, size=size, align=_CENTRE, on=theme.sunken)
        if bar.is_step and not bar.letter and not self._is_roomy(column):
            hatched = bar.kind == "predicted"
            ink = theme.ink if hatched else ink_on(color)
            self._paint_upright(painter, box, bar.title, ink, theme.sunken if hatched else None)
        self._paint_words(painter, column, bar)

    def _paint_words(self, painter: QPainter, column: QRectF, bar: Bar) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        top = self.plot.bottom() + px(3)
        if bar.letter:
            chip = QRectF(column.center().x() - px(8), top + px(1), px(16), px(14))
            draw_chip(painter, chip, bar.letter, look)
        elif not bar.is_step or self._is_roomy(column):
            box = QRectF(column.left() + 2, top, column.width() - 4, px(16))
            draw_rich_text(painter, box, bar.title, look, size="small", dim=theme.ink, align=_CENTRE)
        if bar.detail and (not bar.is_step or self._is_roomy(column)):
            box = QRectF(column.left() + 2, top + px(15), column.width() - 4, px(16))
            words = bar.detail if self._fits(bar.detail, column) else bar.detail.split(" ")[0]
            draw_rich_text(painter, box, words, look, size="small", align=_CENTRE)

    def _is_roomy(self, column: QRectF) -> bool:
        """Return whether what steps are called fits below them: all of them, or none."""
        return all(self._fits(words, column) for words in ("predicted", "measured"))

    def _fits(self, words: str, column: QRectF) -> bool:
        return self.look.width(words, "small") <= column.width() - 4

    def _paint_upright(self, painter: QPainter, box: QRectF, words: str, ink: QColor, on: QColor | None) -> None:
        """Write words from the bottom up within a bar, where they fit."""
        length = self.look.width(words, "small") + self.look.px(36)
        if box.height() < length:
            return
        painter.save()
        painter.translate(box.center().x(), box.center().y())
        painter.rotate(-90)
        half = QRectF(-box.height() / 2, -self.look.px(9), box.height() - self.look.px(28), self.look.px(18))
        draw_rich_text(painter, half, words, self.look, size="small", dim=ink, align=_CENTRE, on=on)
        painter.restore()

    def _paint_links(self, painter: QPainter, plot: QRectF, width: float) -> None:
        """Lead the eye from each bar's end to the next one."""
        painter.setPen(QPen(self.look.theme.dim, 1, Qt.PenStyle.DotLine))
        for index, bar in enumerate(self.bars[:-1]):
            follower = self.bars[index + 1]
            level = bar.from_a if bar.kind == "predicted" and follower.kind == "measured" else bar.to_a
            y = self.y_of(level)
            painter.drawLine(
                QPointF(plot.left() + (index + 0.5) * width, y), QPointF(plot.left() + (index + 1.5) * width, y)
            )

    def _paint_target(self, painter: QPainter, plot: QRectF) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        results = self.results
        if results is None or results.budget_a is None or results.target_s is None:
            return
        y = self.y_of(results.budget_a)
        painter.setPen(QPen(theme.ink, 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.ink)
        x = plot.right() + px(2)
        painter.drawPolygon(QPolygonF([QPointF(x + 7, y - 5), QPointF(x + 7, y + 5), QPointF(x, y)]))
        months = format_trimmed(results.target_s / MONTH_S)
        draw_rich_text(painter, QRectF(x + px(11), y - px(9), px(52), px(18)), f"**{months}** mo", look, size="small")
        box = QRectF(0, y - px(9), plot.left() - px(14), px(18))
        budget = quantity_text(results.budget_a, "A").rich
        draw_rich_text(painter, box, budget, look, size="small", align=Qt.AlignmentFlag.AlignRight)


def _months(life_s: float | None) -> str:
    return f"{months_text(life_s).number} mo" if life_s is not None else ""


def _signed(current_a: float) -> str:
    return f"{'+' if current_a > 0 else '−'}{format_trimmed(abs(current_a) * _MICRO)}"


def _nice(step_a: float) -> float:
    """Return a round step near one."""
    decade = 10.0 ** np.floor(np.log10(max(step_a, 1e-12)))
    return float(next((m * decade for m in (1, 2, 5, 10) if m * decade >= step_a), 10 * decade))
