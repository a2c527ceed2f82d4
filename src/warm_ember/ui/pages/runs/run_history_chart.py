"""The ladder: every run as a rung on a log axis of average current, in the order made."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF

from warm_ember.model.figure import Bound, signed
from warm_ember.model.project import Run, RunKind
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import MONTH_S, format_trimmed, quantity_text

_LEFT = 96
_RIGHT_SIDE = 88
_TOP = 24
_WORDS = 58


PLAN = "\0plan"
"""In place of a run's name: no capture can be called so."""


@dataclass(frozen=True)
class HistoryRow:
    """One run on the ladder: its average current, and what it was compared with."""

    run: Run
    mean_a: float
    life_s: float
    before_a: float | None
    is_plan: bool = False
    bound: Bound | None = None


def history_rows(runs: tuple[Run, ...], found: dict[str, RunResults], state: str = "") -> list[HistoryRow]:
    """Return the rungs in the order made.

    Parameters
    ----------
    runs, found
        The project's runs and their results; a run without results is left out.
    state
        Show what this state adds instead of the whole average; empty for the average.
    """
    history: list[HistoryRow] = []
    last_a: float | None = None
    for run in runs:
        results = found.get(run.name)
        if results is None:
            continue
        mean_a, bound = results.load.mean_a, results.load.bound
        if state:
            shown = [s for s in results.by_state if s.name == state]
            mean_a, bound = sum(s.added_a for s in shown), next((s.bound for s in shown), None)
        history.append(HistoryRow(run, mean_a, results.life.life_s, last_a, bound=bound))
        if run.kind is RunKind.STEP:
            last_a = mean_a
    return history


def plan_rung(changes: int, mean_a: float, life_s: float, before_a: float) -> HistoryRow:
    """Return the rung that the plan predicts."""
    words = f"{changes} change{'s' if changes != 1 else ''}, predicted"
    return HistoryRow(Run(PLAN, "plan", words), mean_a, life_s, before_a, is_plan=True)


class RunHistoryChart(PaintedView):
    """The rungs; two of them are picked as A and B.

    Signals
    -------
    picked
        The run to be B; with Shift the one to be A.
    run_asked
        A rung was double-clicked: show that run.
    """

    paints_focus = True
    picked = Signal(str, bool)
    run_asked = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.rungs: list[HistoryRow] = []
        self.first, self.second = "", ""
        self.target_s: float | None = None
        self.budget_a: float | None = None
        self.shows_state = ""
        self._to_life: tuple[tuple[float, float], ...] = ()
        self.setMinimumHeight(look.px(240))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Ladder of runs")
        look.changed.connect(self.update)

    def show_rungs(self, history: list[HistoryRow], budget_a: float | None, target_s: float | None, state: str) -> None:
        """Show rungs with the target's line."""
        self.rungs, self.budget_a, self.target_s, self.shows_state = history, budget_a, target_s, state
        self.update()

    def pick(self, first: str, second: str) -> None:
        """Mark the two runs that are compared."""
        self.first, self.second = first, second
        self.update()
        names = [rung.run.name for rung in self.rungs]
        if second in names and self.hasFocus():
            self.tell_named(names.index(second))

    @property
    def plot(self) -> QRectF:
        """Where the rungs are."""
        px = self._look.px
        return QRectF(px(_LEFT), px(_TOP), self.width() - px(_LEFT + _RIGHT_SIDE), self.height() - px(_TOP + _WORDS))

    def _range(self) -> tuple[float, float]:
        values = [rung.mean_a for rung in self.rungs if rung.mean_a > 0]
        if self.budget_a and not self.shows_state:
            values.append(self.budget_a)
        if not values:
            return -6.0, -3.0
        low, high = math.log10(min(values)), math.log10(max(values))
        return low - max(0.18, 0.2 * (high - low)), high + max(0.22, 0.16 * (high - low))

    def _y_of(self, current_a: float) -> float:
        low, high = self._range()
        share = (math.log10(max(current_a, 1e-12)) - low) / (high - low)
        return self.plot.bottom() - min(max(share, 0.0), 1.0) * self.plot.height()

    def _column(self, index: int) -> QRectF:
        width = self.plot.width() / max(len(self.rungs), 1)
        return QRectF(self.plot.left() + index * width, self.plot.top(), width, self.plot.height())

    def named_boxes(self) -> list[NamedBox]:
        picked = (self.first, self.second)
        return [
            NamedBox(
                rung.run.label,
                QRectF(self._column(index).left(), 0, self._column(index).width(), self.height()),
                rung.run.name in picked,
            )
            for index, rung in enumerate(self.rungs)
        ]

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        plot = self.plot
        draw_rich_text(painter, QRectF(px(16), px(3), px(70), px(18)), "Ladder", look, dim=theme.ink)
        what = (
            f"what {self.shows_state.lower()} adds to the average"
            if self.shows_state
            else "average current of each run"
        )
        draw_rich_text(
            painter,
            QRectF(px(_LEFT), px(3), px(500), px(18)),
            f"{what}, log axis, in the order made",
            look,
            size="small",
        )
        painter.fillRect(plot, theme.sunken)
        if not self.rungs:
            painter.end()
            return
        self._paint_picked(painter)
        self._paint_axis(painter, plot)
        self._paint_target(painter, plot)
        last: QPointF | None = None
        for index, rung in enumerate(self.rungs):
            last = self._paint_rung(painter, index, rung, last)
        self._paint_words(painter)
        painter.end()

    def _paint_picked(self, painter: QPainter) -> None:
        px, theme = self._look.px, self._look.theme
        for index, rung in enumerate(self.rungs):
            letter = {self.first: "A", self.second: "B"}.get(rung.run.name)
            if letter is None:
                continue
            column = self._column(index)
            painter.fillRect(column.adjusted(1, 0, -1, 0), theme.mark_ground)
            chip = QRectF(column.left(), column.top(), px(18), px(16))
            draw_chip(painter, chip, letter, self._look)

    def _paint_axis(self, painter: QPainter, plot: QRectF) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        low, high = self._range()
        heights = np.linspace(high, low, max(2, int(plot.height())))
        for row, exponent in enumerate(heights):
            color = theme.ramp.color(10.0**exponent)
            painter.fillRect(QRectF(px(_LEFT - 10), plot.top() + row, px(6), 1.5), color)
        budget_y = self._y_of(self.budget_a) if self.budget_a and not self.shows_state else -100.0
        for decade in range(math.floor(low), math.ceil(high) + 1):
            for factor in (1, 2, 5):
                value = factor * 10.0**decade
                if not low <= math.log10(value) <= high:
                    continue
                y = self._y_of(value)
                painter.setPen(theme.grid)
                painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
                if abs(y - budget_y) > px(14) and plot.top() + px(6) < y < plot.bottom() - px(4):
                    box = QRectF(0, y - px(8), px(_LEFT - 16), px(16))
                    draw_rich_text(
                        painter,
                        box,
                        str(quantity_text(value, "A", 1)),
                        look,
                        size="small",
                        align=Qt.AlignmentFlag.AlignRight,
                    )
        if not self.shows_state:
            self._paint_months(painter, plot)

    def _paint_months(self, painter: QPainter, plot: QRectF) -> None:
        """Mark the months of life that average currents stand for, from the rungs themselves."""
        look, theme, px = self._look, self._look.theme, self._look.px
        draw_rich_text(painter, QRectF(plot.right() + px(8), px(3), px(70), px(18)), "months", look, size="small")
        known = sorted(
            (r.mean_a, r.life_s) for r in self.rungs if r.mean_a > 0 and math.isfinite(r.life_s) and r.life_s > 0
        )
        if len(known) < 2:
            return
        lives = np.log([life for _, life in reversed(known)])
        currents = np.log([mean for mean, _ in reversed(known)])
        target_y = self._y_of(self.budget_a) if self.budget_a else -100.0
        for months in (1, 2, 3, 6, 12, 18, 24, 36, 48, 60, 84, 120, 180, 240):
            at = math.log(months * MONTH_S)
            if not lives[0] <= at <= lives[-1]:
                continue
            y = self._y_of(math.exp(float(np.interp(at, lives, currents))))
            if abs(y - target_y) < px(13):
                continue
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(plot.right(), y), QPointF(plot.right() + px(6), y))
            draw_rich_text(
                painter,
                QRectF(plot.right() + px(12), y - px(8), px(60), px(16)),
                str(months),
                look,
                size="small",
            )

    def _paint_target(self, painter: QPainter, plot: QRectF) -> None:
        if not self.budget_a or self.shows_state:
            return
        look, theme, px = self._look, self._look.theme, self._look.px
        y = self._y_of(self.budget_a)
        painter.setPen(QPen(theme.ink, 1.5, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        months = format_trimmed((self.target_s or 0.0) / MONTH_S)
        draw_rich_text(
            painter,
            QRectF(plot.left() + px(8), y - px(18), px(180), px(16)),
            f"target **{months}** months",
            look,
            size="small",
            on=theme.sunken,
        )
        draw_rich_text(
            painter,
            QRectF(0, y - px(9), px(_LEFT - 16), px(18)),
            quantity_text(self.budget_a, "A").rich,
            look,
            align=Qt.AlignmentFlag.AlignRight,
        )
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.ink)
        x = plot.right() + px(2)
        painter.drawPolygon(QPolygonF([QPointF(x + 8, y - 5), QPointF(x + 8, y + 5), QPointF(x, y)]))
        draw_rich_text(painter, QRectF(x + px(12), y - px(9), px(60), px(18)), f"**{months}**", look)

    def _paint_rung(self, painter: QPainter, index: int, rung: HistoryRow, last: QPointF | None) -> QPointF | None:
        look, theme, px = self._look, self._look.theme, self._look.px
        column = self._column(index)
        is_step = rung.run.kind is RunKind.STEP
        width = min(px(92) if is_step else px(52), column.width() * 0.6)
        y = self._y_of(rung.mean_a)
        bar = QRectF(column.center().x() - width / 2, y - px(4), width, px(9))
        if last is not None:
            painter.setPen(QPen(theme.dim, 1))
            if is_step:
                corner = bar.left() - min(px(20), (bar.left() - last.x()) / 2)
                painter.drawPolyline([last, QPointF(corner, last.y()), QPointF(corner, y), QPointF(bar.left(), y)])
            else:
                painter.drawLine(last, QPointF(bar.left(), last.y()))
        self._paint_bar(painter, bar, rung)
        size = "large" if rung.run.name == self.second else "normal"
        budget_y = self._y_of(self.budget_a) if self.budget_a and not self.shows_state else -100.0
        below = y - px(36) < budget_y < y
        words = QRectF(column.left(), y + px(9) if below else y - px(32), column.width(), px(22))
        ground = theme.mark_ground if rung.run.name in (self.first, self.second) else theme.sunken
        draw_rich_text(
            painter,
            words,
            signed(rung.bound, quantity_text(rung.mean_a, "A").rich),
            look,
            size=size,
            align=Qt.AlignmentFlag.AlignHCenter,
            on=ground,
        )
        return QPointF(bar.right(), y) if is_step else last

    def _paint_bar(self, painter: QPainter, bar: QRectF, rung: HistoryRow) -> None:
        theme = self._look.theme
        color = theme.ramp.color(rung.mean_a)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if rung.is_plan:
            painter.fillRect(bar, texture_brush(FINE, color))
        if rung.is_plan or rung.run.kind is not RunKind.STEP:
            painter.setPen(QPen(color, 1))
            painter.drawRect(bar)
        else:
            painter.fillRect(bar, color)
        if rung.run.name in (self.first, self.second):
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(bar.adjusted(-3.5, -3.5, 3.5, 3.5))

    def _paint_words(self, painter: QPainter) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        top = self.plot.bottom() + px(4)
        for line, words in enumerate(("Run", "Changed", "Difference")):
            draw_rich_text(painter, QRectF(px(16), top + px(17 * line), px(76), px(16)), words, look, size="small")
        for index, rung in enumerate(self.rungs):
            column = self._column(index).adjusted(px(3), 0, -px(3), 0)
            label = f"**{rung.run.label}**" if rung.run.name == self.second else rung.run.label
            difference = "–" if rung.before_a is None else _signed(rung.mean_a - rung.before_a)
            lines = (label, rung.run.changed or "–", difference)
            for line, words in enumerate(lines):
                box = QRectF(column.left(), top + px(17 * line), column.width(), px(16))
                draw_rich_text(
                    painter,
                    box,
                    words,
                    look,
                    size="small",
                    dim=theme.ink if line == 0 else None,
                    align=Qt.AlignmentFlag.AlignHCenter,
                )
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))

    def _name_at(self, position: QPointF) -> str | None:
        for index, rung in enumerate(self.rungs):
            column = self._column(index)
            if column.left() <= position.x() < column.right() and not rung.is_plan:
                return rung.run.name
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        name = self._name_at(event.position())
        if name is not None:
            self.picked.emit(name, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        name = self._name_at(event.position())
        if name is not None:
            self.run_asked.emit(name)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        names = [rung.run.name for rung in self.rungs if not rung.is_plan]
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key()))
        with_shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        picked = self.first if with_shift else self.second
        if step is not None and picked in names:
            at = min(max(names.index(picked) + step, 0), len(names) - 1)
            self.picked.emit(names[at], with_shift)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.second:
            self.run_asked.emit(self.second)
        else:
            super().keyPressEvent(event)


def _signed(current_a: float) -> str:
    text = quantity_text(current_a, "A")
    return f"{'+' if current_a > 0 else ''}{text.rich}".replace("+**", "**+")
