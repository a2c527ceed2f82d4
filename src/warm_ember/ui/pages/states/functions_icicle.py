"""Charge by source file and function as nested bars: as wide as the charge, coloured by the mean current."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy

from warm_ember.ui.look.label import tip
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.textures import DOTS, texture_brush
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.units import percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import FunctionLedger


_LEVELS = 3
_CENTER = Qt.AlignmentFlag.AlignHCenter


@dataclass(frozen=True)
class _Bar:
    box: QRectF
    words: str
    share: float
    mean_a: float
    function: str
    is_code: bool


class Icicle(PaintedView):
    """All, then files, then functions, each below what holds it.

    Signals
    -------
    function_chosen
        The name of a function that was clicked; empty for none.
    """

    paints_focus = True
    function_chosen = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self._ledger: FunctionLedger | None = None
        self.chosen = ""
        self._bars: list[_Bar] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Charge by file and function")
        look.changed.connect(self._arrange)

    def show_ledger(self, ledger: FunctionLedger | None) -> None:
        """Show another ledger."""
        self._ledger = ledger
        self._arrange()

    def choose(self, function: str) -> None:
        """Mark a function."""
        self.chosen = function
        self.update()

    def resizeEvent(self, event: object) -> None:
        self._arrange()

    def _arrange(self) -> None:
        self._bars = []
        ledger = self._ledger
        if ledger is not None and ledger.charge_c > 0:
            height = self.height() / _LEVELS
            whole_s = max(sum(row.time_s for row in ledger.rows), 1e-30)
            whole = QRectF(0, 0, self.width(), height)
            self._bars.append(_Bar(whole, "all", 1.0, ledger.charge_c / whole_s, "", True))
            left = 0.0
            for file, rows in ledger.files():
                charge_c = sum(row.charge_c for row in rows)
                time_s = max(sum(row.time_s for row in rows), 1e-30)
                width = max(charge_c, 0.0) / ledger.charge_c * self.width()
                is_code = rows[0].is_code
                box = QRectF(left, height, width, height if is_code else 2 * height)
                words = file or "no file known"
                function = "" if is_code else rows[0].name
                self._bars.append(_Bar(box, words, charge_c / ledger.charge_c, charge_c / time_s, function, is_code))
                at = left
                for row in rows if is_code else ():
                    part = max(row.charge_c, 0.0) / ledger.charge_c * self.width()
                    box = QRectF(at, 2 * height, part, height)
                    self._bars.append(_Bar(box, row.name, row.charge_c / ledger.charge_c, row.mean_a, row.name, True))
                    at += part
                left += width
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        theme = self._look.theme
        painter.fillRect(self.rect(), theme.ground)
        for bar in self._bars:
            self._paint_bar(painter, bar)
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        painter.end()

    def _paint_bar(self, painter: QPainter, bar: _Bar) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        box = bar.box.adjusted(0, 0, -1, -1)
        if box.width() < 0.5:
            return
        color = theme.ramp.color(bar.mean_a)
        painter.fillRect(box, color)
        if not bar.is_code:
            painter.fillRect(box, texture_brush(DOTS, color.darker(140)))
        if bar.function and bar.function == self.chosen:
            painter.setPen(QPen(theme.mark, px(3)))
            inset = px(2)
            painter.drawRect(box.adjusted(inset, inset, -inset, -inset))
        ink = ink_on(color)
        room = box.adjusted(px(6), 0, -px(6), 0)
        on = None if bar.is_code else color
        share = percent_text(bar.share).rich
        lines = [bar.words, share] if box.height() >= px(36) else [f"{bar.words}  {share}"]
        if max(width_of(look, line, "small") for line in lines) > room.width():
            return
        top = box.center().y() - px(17) * len(lines) / 2
        for index, words in enumerate(lines):
            line = QRectF(room.left(), top + index * px(17), room.width(), px(17))
            draw_rich_text(painter, line, words, look, size="small", ink=ink, dim=ink, align=_CENTER, on=on)

    def _bar_at(self, point: QPointF) -> _Bar | None:
        return next((bar for bar in reversed(self._bars) if bar.box.contains(point)), None)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        bar = self._bar_at(event.position())
        words = f"{bar.words}: {percent_text(bar.share)}, {quantity_text(bar.mean_a, 'A')} while there" if bar else ""
        self.setToolTip(tip(words))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        bar = self._bar_at(event.position())
        name = bar.function if bar is not None else ""
        self.function_chosen.emit("" if name == self.chosen else name)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        names = [bar.function for bar in self._bars if bar.function]
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key()))
        if step is not None and names:
            at = names.index(self.chosen) + step if self.chosen in names else 0
            self.function_chosen.emit(names[at % len(names)])
        elif event.key() == Qt.Key.Key_Escape and self.chosen:
            self.function_chosen.emit("")
        else:
            super().keyPressEvent(event)
