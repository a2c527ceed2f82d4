"""The sleep-depth map: each idle stretch as a dot, its length against the mode that was used, with the break-evens."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.figure import Figure
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, rich_figure, width_of
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import BreakEven, IdleRow, SleepDepth


_TOP, _AXIS, _FOOT = 30, 22, 62
_NAME, _STRIPE, _GAP = 92, 4, 6
_GOLDEN = 0.6180339887498949
_MOST_DOTS = 40_000
_LEAST_ROW, _MOST_ROW = 40, 112
_RIGHT = Qt.AlignmentFlag.AlignRight


class DepthMap(PaintedView):
    """A band for each mode that was used, the one with most time at the top.

    Signals
    -------
    stretch_asked
        The index of an idle stretch whose dot was clicked.
    """

    paints_focus = True
    stretch_asked = Signal(int)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.sleep: SleepDepth | None = None
        self.mean_a = 0.0
        self.asleep: Callable[[float], Figure] = Figure
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Sleep-depth map")
        self.setToolTip("Click a dot to see that stretch on the lanes; left and right step through the wrong ones")
        self._at = -1
        look.changed.connect(self.update)

    def show_depth(self, depth: SleepDepth | None, mean_a: float, asleep: Callable[[float], Figure] = Figure) -> None:
        """Show another run's sleep, and its average current."""
        self.sleep, self.mean_a, self.asleep, self._at = depth, mean_a, asleep, -1
        self.updateGeometry()
        self.update()

    def minimumSizeHint(self) -> QSize:
        """Return the room in which no mode lies on another."""
        px = self._look.px
        return QSize(px(300), px(_TOP + _AXIS + _FOOT) + len(self._rows()) * px(_LEAST_ROW + _GAP))

    def _rows(self) -> list[tuple[IdleRow, Indices]]:
        """Return the modes that were used with their stretches."""
        depth = self.sleep
        if depth is None:
            return []
        names = [mode.name for mode in depth.modes]
        return [(row, np.flatnonzero(depth.stretches.mode == names.index(row.mode))) for row in depth.rows if row.count]

    def band(self, index: int) -> QRectF:
        """Return where a mode's dots are."""
        px = self._look.px
        count = max(len(self._rows()), 1)
        room = self.height() - px(_TOP + _AXIS + _FOOT)
        height = min(room / count - px(_GAP), px(_MOST_ROW))
        left = px(16 + _NAME + _STRIPE)
        return QRectF(left, px(_TOP) + index * (height + px(_GAP)), self.width() - left - px(12), max(height, px(16)))

    def named_boxes(self) -> list[NamedBox]:
        return [NamedBox(f"sleep in {row.mode}", self._row_box(index)) for index, (row, _) in enumerate(self._rows())]

    def _row_box(self, index: int) -> QRectF:
        band = self.band(index)
        return QRectF(0, band.top(), self.width(), band.height())

    def _reach(self) -> tuple[float, float]:
        depth = self.sleep
        assert depth is not None
        lengths = depth.stretches.lasts_s
        ends = [one.from_s for row in depth.rows for one in depth.break_evens(row.mode) if one.from_s > 0]
        low = min([float(lengths.min(initial=1.0)), *ends])
        high = max([float(lengths.max(initial=1.0)), *ends])
        first = float(np.floor(np.log10(max(low, 1e-6)) - 0.1))
        return first, max(float(np.ceil(np.log10(max(high, 1e-6)) + 0.1)), first + 2)

    def x_of(self, length_s: Floats) -> Floats:
        """Return the x of lengths."""
        band, (low, high) = self.band(0), self._reach()
        return np.asarray(band.left() + (np.log10(np.maximum(length_s, 1e-9)) - low) / (high - low) * band.width())

    def _dots(self, index: int, mine: Indices) -> tuple[Floats, Floats]:
        """Return where the dots of a mode are; their height in the band only keeps them apart."""
        assert self.sleep is not None
        band = self.band(index)
        room = band.height() - self._look.px(8)
        ys = band.top() + self._look.px(4) + np.modf(np.arange(1, len(mine) + 1) * _GOLDEN)[0] * room
        return self.x_of(self.sleep.stretches.lasts_s[mine]), ys

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0.5, 0), QPointF(0.5, self.height()))
        depth = self.sleep
        if depth is None:
            painter.end()
            return
        draw_rich_text(painter, QRectF(px(16), px(6), px(200), px(18)), "Sleep-depth map", look, dim=theme.ink)
        words = "every dot an idle stretch"
        draw_rich_text(
            painter, QRectF(px(16), px(6), self.width() - px(28), px(18)), words, look, size="small", align=_RIGHT
        )
        rows = self._rows()
        if not rows:
            words = "No sleep was found between the wakes."
            draw_rich_text(painter, QRectF(px(16), px(_TOP), self.width() - px(28), px(20)), words, look)
        for index, (row, mine) in enumerate(rows):
            self._paint_band(painter, index, row, mine, depth)
        for index, (row, _) in enumerate(rows):
            self._paint_words(painter, self.band(index), row, depth)
        if rows:
            self._paint_axis(painter, self.band(len(rows) - 1).bottom())
        self._paint_foot(painter, depth)
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(1.5, 0.5, -0.5, -0.5))
        painter.end()

    def _paint_band(self, painter: QPainter, index: int, row: IdleRow, mine: Indices, depth: SleepDepth) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        band, mode = self.band(index), depth.mode(row.mode)
        painter.fillRect(band, theme.sunken)
        color = theme.ramp.color(mode.floor_a)
        painter.fillRect(QRectF(px(16 + _NAME), band.top(), px(_STRIPE), band.height()), color)
        name = QRectF(px(16), band.top() + px(2), px(_NAME - 6), px(18))
        draw_rich_text(painter, name, row.mode, look, dim=theme.ink)
        floor = QRectF(px(16), band.top() + px(19), px(_NAME - 6), px(16))
        if self.mean_a > 0:
            shown = rich_figure(self.asleep(mode.floor_a), "A")
            draw_rich_text(painter, floor, shown, look, size="small")
        for one in depth.break_evens(row.mode):
            x = min(max(float(self.x_of(np.array([one.from_s]))[0]), band.left()), band.right())
            wrong = QRectF(x, band.top(), band.right() - x, band.height())
            if one.deeper == row.mode:
                wrong = QRectF(band.left(), band.top(), x - band.left(), band.height())
            painter.fillRect(wrong, texture_brush(FINE, theme.faint))
            painter.setPen(QPen(theme.ink, 1.2))
            painter.drawLine(QPointF(x, band.top() - px(3)), QPointF(x, band.bottom() + px(3)))
        self._paint_dots(painter, index, mine, depth)

    def _paint_dots(self, painter: QPainter, index: int, mine: Indices, depth: SleepDepth) -> None:
        """Paint the dots as a picture: a million of them take as long as a few."""
        theme, band = self._look.theme, self.band(index)
        # More dots than there are pixels show nothing more; those that are wrong stay.
        step = max(1, len(mine) // _MOST_DOTS)
        xs, ys = self._dots(index, mine)
        if step > 1:
            kept = np.arange(len(mine)) % step == 0
            kept[np.flatnonzero(depth.best[mine] != depth.stretches.mode[mine])[:_MOST_DOTS]] = True
            xs, ys = xs[kept], ys[kept]
        side = max(2, self._look.px(2 if len(mine) > 400 else 4))
        columns, rows = max(int(band.width()), 1), max(int(band.height()), 1)
        seen = np.zeros((rows, columns), dtype=bool)
        left = np.clip((xs - band.left() - side / 2).astype(np.int64), 0, columns - side)
        top = np.clip((ys - band.top() - side / 2).astype(np.int64), 0, rows - side)
        for down in range(side):
            for right in range(side):
                seen[top + down, left + right] = True
        color = theme.ramp.color(depth.modes[int(depth.stretches.mode[mine[0]])].floor_a)
        pixels = np.ascontiguousarray(np.where(seen, np.uint32(color.rgb()), np.uint32(0)))
        image = QImage(pixels.data, columns, rows, 4 * columns, QImage.Format.Format_ARGB32)
        painter.drawImage(band.topLeft(), image)

    def _paint_words(self, painter: QPainter, band: QRectF, row: IdleRow, depth: SleepDepth) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        wrong = row.too_shallow + row.too_deep
        lines = [(f"**{row.count - wrong}** right", theme.ink, theme.dim)] if row.count > wrong else []
        if wrong:
            kind = "too shallow" if row.too_shallow >= row.too_deep else "too deep"
            warn = theme.warning_text
            lose = f", lose {quantity_text(row.lost_a, 'A').rich}" if self.mean_a > 0 else ""
            lines.append((f"**{wrong}** {kind}{lose}", warn, warn))
        if not depth.break_evens(row.mode):
            lines.append(("no other mode to compare with", theme.dim, theme.dim))
        for line, (words, ink, dim) in enumerate(lines):
            box = QRectF(band.left() + px(8), band.top() + px(3) + line * px(16), band.width() - px(16), px(16))
            draw_rich_text(painter, box, words, look, size="small", ink=ink, dim=dim, align=_RIGHT, on=theme.sunken)
        for one in depth.break_evens(row.mode)[:1]:
            self._paint_break_even(painter, band, one)

    def _paint_break_even(self, painter: QPainter, band: QRectF, one: BreakEven) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        words = (
            f"break-even with {one.deeper}: {duration_text(one.from_s).rich}"
            if one.from_s > 0
            else f"{one.deeper} always draws less"
        )
        width = min(width_of(look, words, "small"), band.width() - px(8))
        x = float(self.x_of(np.array([one.from_s]))[0])
        left = x + px(6) if x + px(10) + width < band.right() else x - px(6) - width
        left = max(left, band.left() + px(4))
        box = QRectF(left, band.bottom() - px(19), width + 2, px(16))
        draw_rich_text(painter, box, words, look, size="small", on=theme.sunken)

    def _paint_axis(self, painter: QPainter, top: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        low, high = self._reach()
        band = self.band(0)
        step = max(1, int(np.ceil((high - low) * px(56) / band.width())))
        for at in range(int(low), int(high) + 1, step):
            x = float(self.x_of(np.array([10.0**at]))[0])
            painter.setPen(theme.faint)
            painter.drawLine(QPointF(x, top + px(2)), QPointF(x, top + px(5)))
            words = str(duration_text(10.0**at, 1))
            width = width_of(look, words, "small")
            left = min(max(x - width / 2, band.left()), band.right() - width)
            draw_rich_text(painter, QRectF(left, top + px(5), width + 2, px(16)), words, look, size="small")

    def _paint_foot(self, painter: QPainter, depth: SleepDepth) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        top = self.height() - px(_FOOT) + px(4)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(px(16), top), QPointF(self.width() - px(12), top))
        line = QRectF(px(16), top + px(6), self.width() - px(28), px(22))
        draw_rich_text(painter, line, "Lost against the best choice", look)
        if not self.mean_a > 0:
            draw_rich_text(painter, line, "no current was measured", look, size="small", align=_RIGHT)
            return
        draw_rich_text(painter, line, quantity_text(depth.lost_a, "A").rich, look, size="large", align=_RIGHT)
        small = QRectF(px(16), top + px(30), self.width() - px(28), px(18))
        share = percent_text(depth.lost_a / self.mean_a).rich
        words = f"choosing by timers alone: {quantity_text(depth.by_rule_a, 'A').rich}"
        draw_rich_text(painter, small, words, look, size="small")
        draw_rich_text(painter, small, f"{share} of the average", look, size="small", align=_RIGHT)

    def stretch_at(self, point: QPointF) -> int | None:
        """Return the idle stretch whose dot is nearest to a point, if one is near."""
        for index, (_, mine) in enumerate(self._rows()):
            if self.band(index).contains(point):
                xs, ys = self._dots(index, mine)
                away = np.hypot(xs - point.x(), ys - point.y())
                nearest = int(np.argmin(away))
                return int(mine[nearest]) if away[nearest] <= self._look.px(10) else None
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        found = self.stretch_at(event.position())
        if found is not None:
            self.stretch_asked.emit(found)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key()))
        sleep = self.sleep
        wrong = np.flatnonzero(sleep.lost_c > 0) if sleep is not None else np.zeros(0, dtype=np.int64)
        if step is None or sleep is None or not len(wrong):
            super().keyPressEvent(event)
            return
        self._at = (self._at + step) % len(wrong) if self._at >= 0 or step > 0 else len(wrong) - 1
        self.stretch_asked.emit(int(wrong[self._at]))
        stretches, chosen = sleep.stretches, int(wrong[self._at])
        mode = sleep.modes[int(stretches.mode[chosen])].name
        self.announce(f"{duration_text(float(stretches.lasts_s[chosen]))} in {mode}: the wrong sleep mode")

    def text(self) -> str:
        """Return the modes as tab-separated text."""
        lines = ["mode\tstretches\ttime (s)\ttoo shallow\ttoo deep\tlost (A)"]
        lines += [
            f"{row.mode}\t{row.count}\t{row.time_s:.6g}\t{row.too_shallow}\t{row.too_deep}\t{row.lost_a:.6g}"
            for row in (self.sleep.rows if self.sleep is not None else ())
        ]
        return "\n".join(lines)
