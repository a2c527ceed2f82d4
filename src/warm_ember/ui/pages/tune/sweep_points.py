"""The settings of a sweep as a list: what was measured, the newest first, and what was left out, grouped by reason."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent

from warm_ember.model.figure import Bound, signed
from warm_ember.model.sweep import Setting, value_text
from warm_ember.session.sweep_results import LEFT_OUT, MEASURED, SweepPoint, SweepResult
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import counted, quantity_text

_ROW, _TOP = 20, 44
_RIGHT = Qt.AlignmentFlag.AlignRight


def _why(one: SweepPoint) -> str:
    return f", {one.reason}" if one.bound is not None else ""


class SweepPoints(PaintedView):
    """A row a setting; one is chosen by click or arrows.

    Signals
    -------
    picked
        A setting is chosen.
    """

    paints_focus = True
    reads_as = "Settings"
    picked = Signal(object)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._look = look
        self.result: SweepResult | None = None
        self.chosen: Setting | None = None
        look.changed.connect(self.update)

    def show_result(self, result: SweepResult | None) -> None:
        """Show the settings of a sweep."""
        self.result = result
        self.setMinimumHeight(self._look.px(_TOP + _ROW * (len(self.rows()) + len(self._left_out())) + 8))
        self.update()

    def choose(self, setting: Setting | None) -> None:
        """Light the row of a setting."""
        self.chosen = setting
        self.update()

    def rows(self) -> list[SweepPoint]:
        """Return the settings with rows of their own, the one measured last first."""
        if self.result is None:
            return []
        order = {one.setting: number for number, one in enumerate(self.result.progress.recordings)}
        own = [one for one in self.result.points if one.state != LEFT_OUT]
        return sorted(own, key=lambda one: -order.get(one.setting, -1))

    def _left_out(self) -> list[tuple[str, int]]:
        counts: dict[str, int] = {}
        for one in self.result.points if self.result is not None else ():
            if one.state == LEFT_OUT:
                counts[one.reason] = counts.get(one.reason, 0) + 1
        return list(counts.items())

    def _box(self, row: int) -> QRectF:
        px = self._look.px
        return QRectF(0, px(_TOP + _ROW * row), self.width(), px(_ROW))

    def named_boxes(self) -> list[NamedBox]:
        return [
            NamedBox(f"{', '.join(map(value_text, one.setting))}: {one.state}{_why(one)}", self._box(row))
            for row, one in enumerate(self.rows())
        ]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        rows = self.rows()
        for row, one in enumerate(rows):
            if self._box(row).contains(event.position()):
                self.picked.emit(one.setting)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        rows = [one.setting for one in self.rows()]
        if step is None or not rows:
            super().keyPressEvent(event)
            return
        at = rows.index(self.chosen) if self.chosen in rows else -1 if step > 0 else len(rows)
        self.picked.emit(rows[min(max(at + step, 0), len(rows) - 1)])

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        if self.result is not None:
            rows = self.rows()
            left = sum(count for _, count in self._left_out())
            words = f"**{self.result.measured}** measured, **{left}** left out"
            draw_rich_text(painter, QRectF(px(16), px(4), self.width() - px(32), px(18)), words, look)
            heads = ", ".join(one.name for one in self.result.recipe.parameters)
            draw_rich_text(painter, QRectF(px(28), px(24), self.width() - px(192), px(16)), heads, look, size="small")
            box = QRectF(self.width() - px(190), px(24), px(84), px(16))
            draw_rich_text(painter, box, "mean", look, size="small", align=_RIGHT)
            for row, one in enumerate(rows):
                self._paint_row(painter, self._box(row), one)
            for row, (reason, count) in enumerate(self._left_out(), start=len(rows)):
                line = self._box(row)
                painter.setPen(theme.rule)
                painter.drawLine(line.topLeft(), line.topRight())
                words = f"**{counted(count, 'setting')}** left out: {reason}"
                draw_rich_text(painter, line.adjusted(px(28), 0, -px(16), 0), words, look, size="small")
        painter.end()

    def _paint_row(self, painter: QPainter, box: QRectF, one: SweepPoint) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        if one.setting == self.chosen:
            painter.fillRect(box, theme.mark_ground)
        painter.setPen(theme.rule)
        painter.drawLine(box.topLeft(), box.topRight())
        if one.shown_a is not None:
            swatch = QRectF(QPointF(px(16), box.top() + px(4)), QPointF(px(21), box.bottom() - px(3)))
            painter.fillRect(swatch, theme.ramp.color(one.shown_a))
        words = "  ".join(f"**{value_text(value)}**" for value in one.setting)
        draw_rich_text(
            painter, QRectF(px(28), box.top(), box.width() - px(220), box.height()), words, look, size="small"
        )
        if one.shown_a is not None:
            mean = QRectF(box.width() - px(190), box.top(), px(84), box.height())
            told = signed(one.bound, quantity_text(one.shown_a, "A").rich)
            draw_rich_text(painter, mean, told, look, size="small", align=_RIGHT)
        best = self.result.chosen.setting if self.result is not None and self.result.chosen is not None else None
        told = one.state if one.state == MEASURED else one.reason
        if one.bound is not None:
            told = "out of range" if one.bound is Bound.AT_LEAST else "not resolved"
        if one.setting == best:
            told = "best"
        state = QRectF(box.width() - px(102), box.top(), px(90), box.height())
        ink = theme.ink if one.setting == best else None
        draw_rich_text(painter, state, told, look, size="small", dim=ink, align=_RIGHT)
