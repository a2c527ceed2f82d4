"""The budget bar: the average current that the target allows, and who spends it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout

from warm_ember.model.figure import signed
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.textures import COARSE, Swatch, fill, swatches
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.ui.widgets.switches import Switch, Switches
from warm_ember.units import quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import BudgetSegment


_HEIGHT = 26
_NOTCH_SHARE = 0.62


@dataclass(frozen=True)
class _Piece:
    segment: BudgetSegment
    rect: QRectF
    spills: bool


class BudgetBar(PaintedView):
    """One bar across the window.

    Signals
    -------
    segment_chosen
        ``("states" or "activities", name)`` of the segment that was clicked.
    """

    reads_as = "Budget of the average current"
    segment_chosen = Signal(str, str)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.by = "states"
        self.results: RunResults | None = None
        self._pieces: list[_Piece] = []
        self.setMouseTracking(True)
        self.setFixedHeight(look.px(_HEIGHT))
        row = QHBoxLayout(self)
        row.setContentsMargins(look.px(8), 0, 0, 0)
        self.switches = Switches(look)
        title = Label("Budget")
        title.setFont(look.font("small"))
        row.addWidget(title)
        row.addWidget(self.switches)
        row.addStretch(1)
        self._show_switch()
        look.changed.connect(self._on_look)

    def _on_look(self) -> None:
        self.setFixedHeight(self._look.px(_HEIGHT))
        self.update()

    def _show_switch(self) -> None:
        self.switches.show_switches((Switch("", ("states", "activities"), self.by, self.set_by),))

    def set_by(self, by: str) -> None:
        """Split by states or by activities."""
        self.by = by
        self._show_switch()
        self.update()

    def set_results(self, results: RunResults | None) -> None:
        """Show another run."""
        self.results = results
        self.update()

    @property
    def bar_rect(self) -> QRectF:
        """Where the bar is."""
        px = self._look.px
        return QRectF(px(208), px(4), max(40, self.width() - px(208) - px(120)), self.height() - px(8))

    def _scale(self, results: RunResults) -> tuple[float, float | None]:
        """Return pixels per ampere, and the x of the target's notch."""
        rect, budget_a = self.bar_rect, results.life.budget_a
        spent_a = max(results.load.mean_a, 1e-12)
        if not budget_a:
            return rect.width() / spent_a, None
        # The notch has its place; only a run far past its budget pushes it to the left.
        per_ampere = min(rect.width() * _NOTCH_SHARE / budget_a, rect.width() / spent_a)
        return per_ampere, rect.left() + budget_a * per_ampere

    def _lay_out(self, results: RunResults) -> list[_Piece]:
        rect = self.bar_rect
        per_ampere, notch = self._scale(results)
        pieces, x = [], rect.left()
        segments = results.by_state if self.by == "states" else results.by_activity
        for segment in segments:
            width = max(0.0, segment.added_a) * per_ampere
            if notch is not None and x < notch < x + width:
                pieces.append(_Piece(segment, QRectF(x, rect.top(), notch - x, rect.height()), False))
                pieces.append(_Piece(segment, QRectF(notch, rect.top(), x + width - notch, rect.height()), True))
            elif width > 0:
                spills = notch is not None and x >= notch
                pieces.append(_Piece(segment, QRectF(x, rect.top(), width, rect.height()), spills))
            x += width
        return pieces

    def named_boxes(self) -> list[NamedBox]:
        return [
            NamedBox(piece.segment.name, piece.rect, value=str(quantity_text(piece.segment.added_a, "A")))
            for piece in self._pieces
        ]

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.bar)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, 0.5), QPointF(self.width(), 0.5))
        if self.results is None:
            painter.end()
            return
        self._pieces = self._lay_out(self.results)
        segments = self.results.by_state if self.by == "states" else self.results.by_activity
        looks = swatches(look, [(s.name, s.mean_a) for s in segments])
        labelled: set[str] = set()
        for piece in self._pieces:
            self._paint_piece(painter, piece, looks[piece.segment.name], labelled)
        _, notch = self._scale(self.results)
        rect = self.bar_rect
        if notch is not None:
            painter.setPen(QPen(theme.ink, 2))
            painter.drawLine(QPointF(notch, 1), QPointF(notch, self.height()))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.ink)
            painter.drawPolygon(QPolygonF([QPointF(notch - 5, 1), QPointF(notch + 5, 1), QPointF(notch, 7)]))
        budget_a = self.results.life.budget_a
        spent = quantity_text(self.results.load.mean_a, "A")
        words = signed(self.results.load.bound, spent.rich)
        words += "" if budget_a is None else f" of {quantity_text(budget_a, 'A').rich}"
        box = QRectF(rect.right() + px(4), 0, self.width() - rect.right() - px(12), self.height())
        draw_rich_text(painter, box, words, look, size="small", align=Qt.AlignmentFlag.AlignRight)
        painter.end()

    def _paint_piece(self, painter: QPainter, piece: _Piece, swatch: Swatch, labelled: set[str]) -> None:
        theme, look = self._look.theme, self._look
        ground = theme.bar
        shown = Swatch(swatch.color, COARSE) if piece.spills else swatch
        fill(painter, piece.rect, shown, ground)
        painter.setPen(theme.bar)
        painter.drawLine(piece.rect.topRight(), piece.rect.bottomRight())
        added = f"**{quantity_text(piece.segment.added_a, 'A').number}**"
        text = f"{piece.segment.name} {signed(piece.segment.bound, added)}"
        if piece.segment.name in labelled or width_of(look, text, "small") + look.px(14) > piece.rect.width():
            return
        labelled.add(piece.segment.name)
        box = piece.rect.adjusted(look.px(7), 0, -look.px(4), 0)
        if piece.spills or swatch.texture != "plain":
            on = ground if piece.spills else swatch.color
            ink = theme.ink if piece.spills else ink_on(swatch.color)
            draw_rich_text(painter, box, text, look, size="small", ink=ink, dim=ink, on=on)
        else:
            ink = ink_on(swatch.color)
            draw_rich_text(painter, box, text, look, size="small", ink=ink, dim=ink)

    def _piece_at(self, position: QPointF) -> _Piece | None:
        return next((piece for piece in self._pieces if piece.rect.contains(position)), None)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        piece = self._piece_at(event.position())
        if piece is None or self.results is None:
            self.setToolTip("")
            return
        share = piece.segment.added_a / max(self.results.load.mean_a, 1e-15)
        self.setToolTip(
            tip(
                f"{piece.segment.name}: {signed(piece.segment.bound, quantity_text(piece.segment.added_a, 'A'))}, "
                f"{share * 100:.1f} % of the average"
            )
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        piece = self._piece_at(event.position())
        if piece is not None:
            self.segment_chosen.emit(self.by, piece.segment.name)
