"""The bracket tray: all kept brackets side by side, each row with the ratio to the first one."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent

from warm_ember.model.figure import Bound, Figure, signed
from warm_ember.model.project import Bracket
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import QuantityText, duration_text, format_trimmed, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import StretchReading


_ROW = 21
_TOP = 36
_HEAD = 160
_COLUMN = 264
_WHOLE = 0.9995
_AS_DIVISOR = 0.1


@dataclass(frozen=True)
class TrayRow:
    """One row of the tray: a name, and for each bracket a value with its text."""

    name: str
    values: tuple[float | None, ...]
    texts: tuple[QuantityText, ...]


def tray_rows(readings: list[StretchReading], means: list[Figure] | None = None) -> list[TrayRow]:
    """Return the tray's rows for some readings, each with its mean as a figure where that is known to be a bound."""
    means = [Figure(reading.mean_a) for reading in readings] if means is None else means
    least = [mean.bound if mean.bound is Bound.AT_LEAST else None for mean in means]

    def row(name: str, unit: str, values: list[float | None], bounds: Sequence[Bound | None] | None = None) -> TrayRow:
        text = duration_text if unit == "s" else lambda value: quantity_text(value, unit)
        texts = [text(value) for value in values]
        if bounds is not None:
            texts = [
                QuantityText(signed(bound, one.number), one.unit) for bound, one in zip(bounds, texts, strict=True)
            ]
        return TrayRow(name, tuple(values), tuple(texts))

    rows = [
        row("length", "s", [r.length_s for r in readings]),
        row("mean current", "A", [mean.shown for mean in means], [mean.bound for mean in means]),
        row("charge", "C", [r.charge_c for r in readings], least),
        row("energy", "J", [r.energy_j for r in readings], least),
        row("peak", "A", [r.max_a for r in readings], least),
        row("lowest", "A", [r.min_a for r in readings]),
    ]
    if any(reading.coverage < _WHOLE for reading in readings):
        shares = tuple(reading.coverage for reading in readings)
        rows[5] = TrayRow("measured", shares, tuple(percent_text(share) for share in shares))
    return rows if any(r.energy_j is not None for r in readings) else [r for r in rows if r.name != "energy"]


def ratio_words(ratio: float) -> str:
    """Write a ratio to the first bracket as rich text: as a factor, or as a divisor where that reads better.

    Examples
    --------
    >>> ratio_words(65.5), ratio_words(0.985), ratio_words(0.00124)
    ('× **65.5**', '× **0.985**', '÷ **806**')
    """
    return f"× **{format_trimmed(ratio)}**" if ratio >= _AS_DIVISOR else f"÷ **{format_trimmed(1 / ratio)}**"


class BracketTray(PaintedView):
    """The columns of the tray.

    Signals
    -------
    bracket_chosen
        A column was clicked.
    bracket_asked
        A column was double-clicked: go there.
    """

    reads_as = "Bracket tray"
    bracket_chosen = Signal(str)
    bracket_asked = Signal(str)

    def __init__(self, look: Appearance, window: TimeWindow) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look, self._window = look, window
        self._brackets: tuple[Bracket, ...] = ()
        self._readings: list[StretchReading] = []
        self._means: list[Figure] = []
        self._chosen = ""
        window.changed.connect(self.update)
        look.changed.connect(self.updateGeometry)
        look.changed.connect(self.update)

    def set_brackets(
        self, brackets: tuple[Bracket, ...], readings: list[StretchReading], means: list[Figure], chosen: str
    ) -> None:
        """Show brackets with their readings and means."""
        self._brackets, self._readings, self._means, self._chosen = brackets, readings, means, chosen
        self.setMinimumWidth(self.sizeHint().width())
        self.update()

    def sizeHint(self) -> QSize:
        px = self._look.px
        return QSize(px(_HEAD + _COLUMN * max(1, len(self._brackets))), px(_TOP + _ROW * 6 + 6))

    def text(self) -> str:
        """Return the tray as tab-separated text."""
        lines = ["\t".join(["bracket", *(f"{b.letter} {b.name}".strip() for b in self._brackets)])]
        rows = tray_rows(self._readings, self._means)
        lines += ["\t".join([row.name, *(str(text) for text in row.texts)]) for row in rows]
        return "\n".join(lines)

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.raised)
        draw_rich_text(painter, QRectF(px(16), px(6), px(140), px(18)), "Bracket tray", look, dim=theme.ink)
        if not self._brackets:
            words = (
                "Drag across the current lane, or press Enter there: the stretch is read and kept here to be compared."
            )
            draw_rich_text(painter, QRectF(px(_HEAD), px(6), self.width() - px(_HEAD + 16), px(18)), words, look)
            painter.end()
            return
        rows = tray_rows(self._readings, self._means)
        for index, row in enumerate(rows):
            y = px(_TOP + _ROW * index)
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(0, y), QPointF(self.width(), y))
            draw_rich_text(painter, QRectF(px(16), y, px(140), px(_ROW)), row.name, look)
        for column, bracket in enumerate(self._brackets):
            left = px(_HEAD + _COLUMN * column)
            if left < event.rect().right() and left + px(_COLUMN) > event.rect().left():
                self._paint_column(painter, column, bracket, rows)
        painter.end()

    def _paint_column(self, painter: QPainter, column: int, bracket: Bracket, rows: list[TrayRow]) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        left = px(_HEAD + _COLUMN * column)
        if bracket.letter == self._chosen:
            painter.fillRect(QRectF(left, 0, px(_COLUMN), self.height()), theme.mark_ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(left + 0.5, 0), QPointF(left + 0.5, self.height()))
        chip = QRectF(left + px(8), px(7), px(16), px(16))
        draw_chip(painter, chip, bracket.letter, look)
        name = bracket.name or f"from {self._window.label(bracket.from_s, bracket.to_s - bracket.from_s)}"
        draw_rich_text(painter, QRectF(left + px(32), px(6), px(140), px(18)), name, look, dim=theme.ink)
        where = self._where(bracket)
        if where:
            draw_rich_text(
                painter,
                QRectF(left + px(150), px(6), px(_COLUMN - 158), px(18)),
                where,
                look,
                size="small",
                ink=theme.mark,
                dim=theme.mark,
                align=Qt.AlignmentFlag.AlignRight,
            )
        for index, row in enumerate(rows):
            y = px(_TOP + _ROW * index)
            self._paint_cell(painter, QRectF(left, y, px(_COLUMN), px(_ROW)), column, row)
        if column:
            self._paint_ratio_axis(painter, left)
        else:
            for line, words in ((0, "the others are"), (1, "ratios to this")):
                box = QRectF(left + px(140), px(_TOP + _ROW * line), px(120), px(_ROW))
                if len(self._brackets) > 1:
                    draw_rich_text(painter, box, words, look, size="small", dim=theme.faint)

    def _paint_cell(self, painter: QPainter, box: QRectF, column: int, row: TrayRow) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        text = row.texts[column]
        number = QRectF(box.left(), box.top(), px(76), box.height())
        draw_rich_text(painter, number, f"**{text.number}**", look, align=Qt.AlignmentFlag.AlignRight)
        draw_rich_text(painter, QRectF(number.right() + px(6), box.top(), px(52), box.height()), text.unit, look)
        first, value = row.values[0], row.values[column]
        if not column or not first or value is None or value / first <= 0:
            return
        ratio = value / first
        draw_rich_text(
            painter,
            QRectF(box.left() + px(106), box.top(), px(70), box.height()),
            ratio_words(ratio),
            look,
            align=Qt.AlignmentFlag.AlignRight,
        )
        zero, unit = box.left() + px(184), px(24)
        reach = max(-0.3, min(math.log10(ratio), 3.0)) * unit
        bar = QRectF(min(zero, zero + reach), box.top() + px(6), max(abs(reach), 2), box.height() - px(12))
        shade = (
            theme.mark
            if self._brackets[column].letter == self._chosen
            else theme.mark.darker(140)
            if theme.is_night
            else theme.mark.lighter(130)
        )
        painter.fillRect(bar, shade)

    def _paint_ratio_axis(self, painter: QPainter, left: float) -> None:
        px = self._look.px
        zero, unit = left + px(184), px(24)
        for decade, words in enumerate(("1", "10", "100")):
            x = zero + decade * unit
            painter.setPen(self._look.theme.rule)
            painter.drawLine(QPointF(x, px(_TOP)), QPointF(x, self.height()))
            box = QRectF(x - px(14), px(23), px(28), px(13))
            draw_rich_text(painter, box, words, self._look, size="small", align=Qt.AlignmentFlag.AlignHCenter)
        box = QRectF(left + px(110), px(23), px(56), px(13))
        draw_rich_text(
            painter,
            box,
            f"to {self._brackets[0].letter}",
            self._look,
            size="small",
            align=Qt.AlignmentFlag.AlignRight,
        )

    def _where(self, bracket: Bracket) -> str:
        """Return where a bracket lies when it is outside the window."""
        if bracket.to_s < self._window.from_s:
            return f"◂ {duration_text(self._window.from_s - bracket.to_s)}"
        if bracket.from_s > self._window.to_s:
            return f"{duration_text(bracket.from_s - self._window.to_s)} ▸"
        return ""

    def _letter_at(self, x: float) -> str | None:
        column = int((x - self._look.px(_HEAD)) // self._look.px(_COLUMN))
        return self._brackets[column].letter if 0 <= column < len(self._brackets) else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        letter = self._letter_at(event.position().x())
        if letter is not None:
            self.bracket_chosen.emit(letter)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        letter = self._letter_at(event.position().x())
        if letter is not None:
            self.bracket_asked.emit(letter)
