"""Every predicted step as a bar beside the measured one, on a log axis: two that are as long agree."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import format_trimmed, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Proof


_HEAD, _ROW, _NAME, _NUMBERS, _LEAST_A = 30, 62, 96, 150, 1e-7
_RIGHT = Qt.AlignmentFlag.AlignRight


class ProofBars(PaintedView):
    """One row for each proof; a click or the arrow keys choose it.

    Signals
    -------
    chosen
        The index of a proof.
    """

    paints_focus = True
    chosen = Signal(int)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Predicted and measured steps")
        self.look = look
        self.proofs: tuple[Proof, ...] = ()
        self.at = -1
        look.changed.connect(self.update)

    def show_proofs(self, proofs: tuple[Proof, ...], at: int) -> None:
        """Show proofs, one of them chosen."""
        self.proofs, self.at = proofs, at
        self.setFixedHeight(self.look.px(_HEAD + _ROW * max(len(proofs), 1) + 8))
        self.update()

    def row_box(self, index: int) -> QRectF:
        """Return where a row is."""
        px = self.look.px
        return QRectF(0, px(_HEAD) + index * px(_ROW), self.width(), px(_ROW))

    def named_boxes(self) -> list[NamedBox]:
        return [
            NamedBox(f"{proof.before} to {proof.after}", self.row_box(index), index == self.at)
            for index, proof in enumerate(self.proofs)
        ]

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        title = "What each run was predicted to save, and what it saved"
        draw_rich_text(painter, QRectF(px(16), px(6), self.width(), px(18)), title, look, dim=theme.ink)
        for index, proof in enumerate(self.proofs):
            self._paint_row(painter, index, proof)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(self.width() - 0.5, 0), QPointF(self.width() - 0.5, self.height()))
        painter.end()

    def _reach(self, step_a: float) -> float:
        most = max((max(abs(p.predicted_step_a), abs(p.measured_step_a)) for p in self.proofs), default=1e-3)
        decades = math.log10(max(most, 10 * _LEAST_A) / _LEAST_A)
        return math.log10(max(abs(step_a), _LEAST_A) / _LEAST_A) / decades

    def _paint_row(self, painter: QPainter, index: int, proof: Proof) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        box = self.row_box(index)
        if index == self.at:
            painter.fillRect(box, theme.mark_ground if self.hasFocus() else theme.raised)
        painter.setPen(theme.grid)
        painter.drawLine(box.topLeft(), box.topRight())
        name = QRectF(px(16), box.top() + px(10), px(_NAME) - px(16), px(20))
        draw_rich_text(painter, name, f"**{proof.before} → {proof.after}**", look)
        off = proof.measured_step_a / proof.predicted_step_a - 1 if proof.predicted_step_a else 0.0
        verdict = (
            f"{'+' if off >= 0 else '−'}{format_trimmed(100 * abs(off), 2)} %"
            if proof.is_proved
            else "not as predicted"
        )
        below = QRectF(px(16), box.top() + px(30), px(_NAME), px(18))
        dim = theme.dim if proof.is_proved else theme.warning_text
        draw_rich_text(painter, below, verdict, look, size="small", dim=dim)
        left, room = px(_NAME), self.width() - px(_NAME + _NUMBERS + 12)
        for number, (words, step_a) in enumerate(
            (("predicted", proof.predicted_step_a), ("measured", proof.measured_step_a))
        ):
            bar = QRectF(left, box.top() + px(10 + 22 * number), max(room * self._reach(step_a), 2.0), px(18))
            color = theme.ramp.color(abs(step_a))
            if number == 0:
                painter.fillRect(bar, texture_brush(FINE, color))
                painter.setPen(QPen(color, 1))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(bar)
            else:
                painter.fillRect(bar, color)
            text = QRectF(self.width() - px(_NUMBERS + 12), bar.top(), px(_NUMBERS), bar.height())
            draw_rich_text(
                painter, text, f"{words} {quantity_text(step_a, 'A').rich}", look, size="small", align=_RIGHT
            )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = next((n for n in range(len(self.proofs)) if self.row_box(n).contains(event.position())), None)
        if index is not None:
            self.chosen.emit(index)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        if step is not None and self.proofs:
            self.chosen.emit(min(max(self.at + step, 0), len(self.proofs) - 1))
        else:
            super().keyPressEvent(event)
