"""Two runs against each other: one stretch of each laid over the other, and the difference per state."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen

from warm_ember.model.figure import Bound, signed
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import FINE, swatches, texture_brush
from warm_ember.ui.look.theme import Appearance

if TYPE_CHECKING:
    from warm_ember.session.records import Difference


_RIGHT = Qt.AlignmentFlag.AlignRight


Sum = tuple[str, float, float, Callable[[float], str], tuple[Bound | None, Bound | None]]
"""What stands below the parts: its words, both values, how they are written, and the bounds that they are."""

_TOP, _LEAST_ROW, _LEAST_WIDTH = 50, 22, 560


class DifferenceTable(PaintedView):
    """What each state adds in A and in B, with the change against the noise of both."""

    reads_as = "Difference"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.rows: tuple[Difference, ...] = ()
        self.sums: tuple[Sum, ...] = ()
        self.title, self.heads, self.empty = "", ("A, µA", "B, µA"), ""
        self._means_a: tuple[tuple[str, float | None], ...] = ()
        self.notes: tuple[str, ...] = ()
        look.changed.connect(self.update)

    def show_rows(
        self,
        title: str,
        heads: tuple[str, str],
        rows: tuple[Difference, ...],
        sums: tuple[Sum, ...] = (),
        means_a: tuple[tuple[str, float | None], ...] = (),
        notes: tuple[str, ...] = (),
        empty: str = "",
    ) -> None:
        """Show differences.

        Parameters
        ----------
        title, heads
            What it is, and what the two columns are.
        rows, sums
            The parts, and what stands below them.
        means_a
            The mean current of each part, for its colour.
        notes
            Sentences under it, in the warning colour.
        empty
            What stands there in place of rows.
        """
        self.title, self.heads, self.rows, self.sums = title, heads, rows, sums
        self._means_a, self.notes, self.empty = means_a, notes, empty
        self.updateGeometry()
        self.update()

    def minimumSizeHint(self) -> QSize:
        """Return the room in which no row lies on another."""
        px = self._look.px
        return QSize(px(_LEAST_WIDTH), px(_TOP + _LEAST_ROW * len(self.rows)) + self._below())

    def _below(self) -> int:
        """Return the room that sums and notes take."""
        return self._look.px(8 + 24 * len(self.sums) + 18 * len(self.notes))

    def text(self) -> str:
        """Return the table as tab-separated text."""
        first, second = (head.removesuffix(", µA") for head in self.heads)
        lines = [f"name\t{first} (A)\t{second} (A)\tchange (A)\tnoise (A)\treal"]
        lines += [
            f"{d.name}\t{d.before_a:.6g}\t{d.after_a:.6g}\t{d.change_a:.6g}\t{d.noise_a:.6g}\t{d.is_real}"
            for d in self.rows
        ]
        return "\n".join(lines)

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        draw_rich_text(painter, QRectF(px(16), px(6), px(300), px(18)), self.title, look, dim=theme.ink)
        if not self.rows:
            draw_rich_text(painter, QRectF(px(16), px(32), self.width(), px(18)), self.empty, look)
            painter.end()
            return
        draw_rich_text(
            painter,
            QRectF(px(300), px(6), self.width() - px(316), px(18)),
            "bar: change; outline: noise of both",
            look,
            size="small",
            align=_RIGHT,
        )
        y = px(30)
        for right, words in zip((250, 326, 410), (*self.heads, "change ▾"), strict=True):
            draw_rich_text(painter, QRectF(px(right - 90), y, px(90), px(16)), words, look, size="small", align=_RIGHT)
        means_a = dict(self._means_a)
        looks = swatches(look, [(row.name, means_a.get(row.name, max(row.before_a, row.after_a))) for row in self.rows])
        room = self.height() - px(_TOP) - self._below()
        height = int(min(px(30), max(px(_LEAST_ROW), room / max(len(self.rows), 1))))
        for index, row in enumerate(self.rows[: max(1, int(room / height))]):
            top = px(_TOP) + index * height
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(px(8), top), QPointF(self.width() - px(8), top))
            painter.fillRect(QRectF(px(16), top + px(4), px(5), height - px(8)), looks[row.name].color)
            self._paint_row(painter, row, top, height)
        self._paint_sums(painter, self.height() - self._below())
        painter.end()

    def _paint_row(self, painter: QPainter, row: Difference, top: float, height: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        draw_rich_text(painter, QRectF(px(28), top, px(130), height), row.name, look, dim=theme.ink)
        for right, value, bound in zip((250, 326), row.shown_a, row.bounds, strict=True):
            draw_rich_text(
                painter,
                QRectF(px(right - 90), top, px(90), height),
                signed(bound, f"**{micro(value)}**"),
                look,
                align=_RIGHT,
            )
        change = ("+" if row.change_a > 0 else "") + micro(row.change_a)
        draw_rich_text(
            painter,
            QRectF(px(320), top, px(90), height),
            f"**{change}**" if row.is_real else change,
            look,
            align=_RIGHT,
        )
        box = QRectF(px(424), top, self.width() - px(424 + 104), height)
        zero = box.center().x()
        painter.setPen(theme.dim)
        painter.drawLine(QPointF(zero, top), QPointF(zero, top + height))
        reach = self._reach(row.change_a) * box.width() / 2
        noise = self._reach(row.noise_a) * box.width() / 2
        bar = QRectF(min(zero, zero + reach), top + px(6), max(abs(reach), 1), height - px(12))
        color = theme.ramp.color(abs(row.change_a))
        painter.fillRect(bar, color if row.is_real else texture_brush(FINE, color))
        painter.setPen(QPen(theme.faint, 1))
        painter.drawRect(QRectF(zero - noise, top + px(4), 2 * noise, height - px(8)))
        draw_rich_text(
            painter,
            QRectF(self.width() - px(102), top, px(90), height),
            row.words,
            look,
            size="small",
            dim=theme.ink if row.is_real else theme.faint,
            align=_RIGHT,
        )

    def _reach(self, current_a: float) -> float:
        """Return a signed share of the half axis, logarithmic from 0.1 µA."""
        known = [size for d in self.rows for size in (abs(d.change_a), d.noise_a) if math.isfinite(size)]
        most = max(known, default=1e-6)
        decades = np.log10(max(most, 1e-6) / 1e-7)
        size = min(np.log10(max(abs(current_a), 1e-7) / 1e-7) / decades, 1.0)
        return float(np.sign(current_a) * size)

    def _paint_sums(self, painter: QPainter, top: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(px(8), top), QPointF(self.width() - px(8), top))
        for line, (words, before, after, write, bounds) in enumerate(self.sums):
            y = top + px(4 + 23 * line)
            draw_rich_text(painter, QRectF(px(28), y, px(140), px(20)), words, look, dim=theme.ink)
            for right, text in (
                (250, signed(bounds[0], f"**{write(before)}**")),
                (326, signed(bounds[1], f"**{write(after)}**")),
                (410, f"**{'+' if after > before else ''}{write(after - before)}**"),
            ):
                draw_rich_text(painter, QRectF(px(right - 90), y, px(90), px(20)), text, look, align=_RIGHT)
        for line, words in enumerate(self.notes):
            box = QRectF(px(28), top + px(4 + 23 * len(self.sums) + 18 * line), self.width() - px(40), px(16))
            draw_rich_text(painter, box, words, look, size="small", dim=theme.warning_text)


def micro(current_a: float) -> str:
    """Return a current in µA."""
    return f"{current_a * 1e6:.1f}".replace("-", "−")
