"""Limits beside what was measured: all limits stand on one vertical line, the forbidden side is hatched."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from warm_ember.session.limits_shown import LimitRow, LimitsShown
from warm_ember.session.records import GateOutcome
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import COARSE, texture_brush
from warm_ember.ui.look.theme import Appearance

_HEAD, _ROW, _GROUP = 26, 27, 22
_AXIS_SHARE, _TICKS = 0.36, (-0.5, -0.1, 0.1, 0.5)
_FINE, _MOST = 0.02, 1.0
_NARROW, _NARROW_SHARE = 700, 0.26
_RIGHT = Qt.AlignmentFlag.AlignRight
_WORDS = {GateOutcome.PASS: "passed", GateOutcome.FAIL: "failed", GateOutcome.UNDECIDED: "undecided"}


def place_of(off: float) -> float:
    """Return where a figure stands that is so far off its limit: 0 at the limit, -1 and 1 at 100 %, by a symmetric log.

    Examples
    --------
    >>> place_of(0.0), place_of(1.0), place_of(-1.0), place_of(50.0)
    (0.0, 1.0, -1.0, 1.0)
    """
    share = math.log1p(min(abs(off), _MOST) / _FINE) / math.log1p(_MOST / _FINE)
    return math.copysign(share, off) if off else 0.0


class LimitsList(PaintedView):
    """A row a limit, under the table of the file that it stands in.

    Signals
    -------
    row_chosen
        Another row is chosen.
    """

    row_chosen = Signal(int)
    reads_as = "Limits beside what was measured"
    paints_focus = True

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self.shown = LimitsShown()
        self.run, self.chosen = "", 0

    def show_limits(self, shown: LimitsShown, run: str) -> None:
        """Show limits beside a run; the row of the same limit stays chosen."""
        names = [row.check.name for row in shown.rows]
        old = self.shown.rows[self.chosen].check.name if self.chosen < len(self.shown.rows) else ""
        worst = next((k for k, row in enumerate(shown.rows) if row.check.outcome is GateOutcome.FAIL), 0)
        self.shown, self.run = shown, run
        self.chosen = names.index(old) if old in names else worst
        last = self._tops()[-1] + self._look.px(_ROW) if shown.rows else 0
        self.setMinimumHeight(round(last) + self._look.px(6))
        self.update()

    @property
    def row(self) -> LimitRow | None:
        """The chosen row."""
        return self.shown.rows[self.chosen] if self.chosen < len(self.shown.rows) else None

    def choose(self, index: int) -> None:
        """Choose a row."""
        if 0 <= index < len(self.shown.rows) and index != self.chosen:
            self.chosen = index
            self.row_chosen.emit(index)
            self.tell_named(index)
            self.update()

    def choose_line(self, line: int) -> None:
        """Choose the limit that stands in a line of the file, if one does."""
        found = next((k for k, row in enumerate(self.shown.rows) if row.line == line), None)
        if found is not None and (self.row is None or self.row.line != line):
            self.choose(found)

    def _tops(self) -> list[float]:
        px, top, group, tops = self._look.px, float(self._look.px(_HEAD)), "", []
        for row in self.shown.rows:
            if row.group != group:
                group, top = row.group, top + px(_GROUP)
            tops.append(top)
            top += px(_ROW)
        return tops

    def row_box(self, index: int) -> QRectF:
        """Return where a row stands."""
        return QRectF(0, self._tops()[index], self.width(), self._look.px(_ROW))

    def named_boxes(self) -> list[NamedBox]:
        return [
            NamedBox(row.check.title, self.row_box(k), k == self.chosen, _WORDS[row.check.outcome])
            for k, row in enumerate(self.shown.rows)
        ]

    def _axis(self) -> tuple[float, float]:
        """Return the ends of the axis."""
        px = self._look.px
        right = self.width() - px(16 if self._is_narrow else 96)
        return right - (_NARROW_SHARE if self._is_narrow else _AXIS_SHARE) * self.width(), float(right)

    @property
    def _is_narrow(self) -> bool:
        """Whether there is no room for the intervals and the outcomes' words: the bars and the boxes say the same."""
        return self.width() < self._look.px(_NARROW)

    def _x(self, off: float) -> float:
        left, right = self._axis()
        return left + (right - left) * (0.5 + 0.5 * place_of(off))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        if self.shown.rows:
            self._paint_head(painter)
        group, tops = "", self._tops()
        for index, row in enumerate(self.shown.rows):
            if row.group != group:
                group = row.group
                box = QRectF(px(16), tops[index] - px(_GROUP), self.width() - px(32), px(_GROUP))
                draw_rich_text(painter, box, group, look, size="small")
                painter.setPen(theme.rule)
                middle = box.center().y()
                painter.drawLine(QPointF(px(26) + look.width(group, "small"), middle), QPointF(box.right(), middle))
            self._paint_row(painter, index, row)
        painter.end()

    def _columns(self) -> tuple[float, float, float]:
        """Return the right ends of figure, interval and limit."""
        left, px = self._axis()[0], self._look.px
        if self._is_narrow:
            return left - px(70), left - px(70), left - px(8)
        return left - px(214), left - px(76), left - px(10)

    def _paint_head(self, painter: QPainter) -> None:
        look, px = self._look, self._look.px
        height = px(_HEAD)
        draw_rich_text(painter, QRectF(px(40), 0, px(200), height), "check", look, size="small")
        heads = (self.run, "" if self._is_narrow else "90 %", "limit")
        for right, words in zip(self._columns(), heads, strict=True):
            draw_rich_text(
                painter, QRectF(right - px(120), 0, px(120), height), words, look, size="small", align=_RIGHT
            )
        for tick in (*(() if self._is_narrow else _TICKS), 0.0):
            words = "limit" if not tick else f"{'+' if tick > 0 else '−'}{abs(tick) * 100:.0f} %"
            box = QRectF(self._x(tick) - px(40), 0, px(80), height)
            ink = look.theme.ink if not tick else look.theme.dim
            draw_rich_text(painter, box, words, look, size="small", dim=ink, align=Qt.AlignmentFlag.AlignHCenter)

    def _paint_row(self, painter: QPainter, index: int, row: LimitRow) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        box = self.row_box(index)
        is_chosen = index == self.chosen
        if is_chosen:
            painter.fillRect(box, theme.mark_ground)
            if self.hasFocus():
                painter.fillRect(QRectF(0, box.top(), 3, box.height()), theme.mark)
        self._paint_outcome(painter, QRectF(px(16), box.top() + px(6), px(15), px(15)), row.check.outcome)
        figure_right, reach_right, limit_right = self._columns()
        name = QRectF(px(40), box.top(), figure_right - px(40 + 82), box.height())
        draw_rich_text(painter, name, row.check.title, look, dim=theme.ink)
        figure = QRectF(figure_right - px(82), box.top(), px(82), box.height())
        draw_rich_text(painter, figure, f"**{row.value}** {row.unit}".strip(), look, align=_RIGHT)
        reach = QRectF(reach_right - px(126), box.top(), px(126), box.height())
        if not self._is_narrow:
            draw_rich_text(painter, reach, row.reach, look, size="small", align=_RIGHT)
        limit = QRectF(limit_right - px(64), box.top(), px(64), box.height())
        draw_rich_text(painter, limit, f"**{row.limit}**", look, size="small", align=_RIGHT)
        self._paint_bar(painter, box, row)
        outcome = row.check.outcome
        if self._is_narrow:
            return
        words = f"**{_WORDS[outcome]}**" if outcome is GateOutcome.FAIL else _WORDS[outcome]
        ink = {GateOutcome.FAIL: theme.warning_text, GateOutcome.UNDECIDED: theme.ink}.get(outcome, theme.dim)
        right = QRectF(self.width() - px(94), box.top(), px(82), box.height())
        draw_rich_text(painter, right, words, look, size="small", dim=ink, ink=ink, align=_RIGHT)

    def _paint_outcome(self, painter: QPainter, box: QRectF, outcome: GateOutcome) -> None:
        """Paint a ticked, a crossed or a half-filled box."""
        theme = self._look.theme
        if outcome is GateOutcome.FAIL:
            painter.fillRect(box, theme.warning)
            painter.setPen(QPen(QColor("#171513"), 1.6))
            inner = box.adjusted(4, 4, -4, -4)
            painter.drawLine(inner.topLeft(), inner.bottomRight())
            painter.drawLine(inner.bottomLeft(), inner.topRight())
            return
        painter.setPen(QPen(theme.ink if outcome is GateOutcome.UNDECIDED else theme.dim, 1))
        painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
        if outcome is GateOutcome.UNDECIDED:
            painter.fillRect(QRectF(box.left(), box.top(), box.width() / 2, box.height()), theme.ink)
            return
        painter.setPen(QPen(theme.ink, 1.6))
        left, low = box.left() + 0.22 * box.width(), box.top() + 0.55 * box.height()
        knee = QPointF(box.left() + 0.42 * box.width(), box.top() + 0.75 * box.height())
        painter.drawLine(QPointF(left, low), knee)
        painter.drawLine(knee, QPointF(box.left() + 0.8 * box.width(), box.top() + 0.28 * box.height()))

    def _paint_bar(self, painter: QPainter, box: QRectF, row: LimitRow) -> None:
        theme, px = self._look.theme, self._look.px
        left, right = self._axis()
        ground = QRectF(left, box.top() + px(4), right - left, box.height() - px(8))
        painter.fillRect(ground, theme.sunken)
        at = self._x(0.0)
        forbidden = QRectF(left, ground.top(), at - left, ground.height())
        if not row.check.is_least:
            forbidden = QRectF(at, ground.top(), right - at, ground.height())
        painter.fillRect(forbidden, texture_brush(COARSE, theme.rule))
        painter.setPen(theme.grid)
        for tick in _TICKS:
            painter.drawLine(QPointF(self._x(tick), ground.top()), QPointF(self._x(tick), ground.bottom()))
        if row.check.key[:2] != ("findings", "forbid"):
            painter.save()
            painter.setClipRect(QRectF(left - 3, box.top(), right - left + 6, box.height()))
            self._paint_interval(painter, ground, row)
            painter.restore()
        painter.setPen(QPen(theme.ink, 2))
        painter.drawLine(QPointF(at, box.top() + 1), QPointF(at, box.bottom() - 1))

    def _paint_interval(self, painter: QPainter, ground: QRectF, row: LimitRow) -> None:
        """Paint where the figure and its interval lie; where an end is not known the bar runs to the axis's end."""
        theme, px = self._look.theme, self._look.px
        if row.off is None:
            return
        color = theme.ramp.color(row.mean_a) if row.mean_a is not None else theme.dim
        low = row.off if row.off_low is None else row.off_low
        high = row.off if row.off_high is None else row.off_high
        first, last = self._x(low), self._x(high)
        grow = px(2) if row.check.outcome is GateOutcome.FAIL else -px(3)
        bar = QRectF(first - 1, ground.top() - grow, max(last - first, 0.0) + 2, ground.height() + 2 * grow)
        if row.check.outcome is GateOutcome.UNDECIDED:
            painter.fillRect(bar, theme.sunken)
            painter.setPen(QPen(color, 2))
            painter.drawRect(bar)
        else:
            painter.fillRect(bar, color)
        if row.check.outcome is GateOutcome.FAIL:
            painter.setPen(QPen(theme.ink, 1))
            painter.drawRect(bar.adjusted(-1.5, -0.5, 1.5, 0.5))
        painter.setPen(QPen(theme.ink, 2))
        value = self._x(row.off)
        painter.drawLine(QPointF(value, bar.top()), QPointF(value, bar.bottom()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        for index in range(len(self.shown.rows)):
            if self.row_box(index).contains(event.position()):
                self.choose(index)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {
            Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_Home: -len(self.shown.rows),
            Qt.Key.Key_End: len(self.shown.rows),
        }.get(Qt.Key(event.key()))  # fmt: skip
        if step is None or not self.shown.rows:
            super().keyPressEvent(event)
            return
        self.choose(min(max(self.chosen + step, 0), len(self.shown.rows) - 1))
