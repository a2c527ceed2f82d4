"""A claim in words, and what the evidence says of it."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from warm_ember.session.records import ClaimResult, Outcome
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance

_EXAMPLE = "a claim to check, such as “half the charge”"


class _Verdict(PaintedView):
    """The verdict in words."""

    reads_as = "Verdict of the claim"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.look = look
        self.judged: ClaimResult | None = None
        self.setMinimumHeight(look.px(22))

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.judged is None:
            return
        painter = QPainter(self)
        theme = self.look.theme
        refuted = self.judged.outcome is Outcome.REFUTED
        words = f"**{self.judged.outcome.value}**: {self.judged.words}"
        ink = theme.warning_text if refuted else theme.ink
        draw_rich_text(painter, QRectF(self.rect()), words, self.look, size="small", ink=ink, dim=theme.ink)
        painter.end()


class ClaimLine(QWidget):
    """A field for a claim with its verdict beside it.

    Signals
    -------
    asked
        The claim as it was typed; empty when it was taken away.
    """

    asked = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.look = look
        self.edit = QLineEdit()
        self.edit.setPlaceholderText(_EXAMPLE)
        self.edit.setAccessibleName("a claim to check")
        self.edit.setToolTip("“a third less current”, “twice the life”, “Deep sleep is below 5 µA”, “30 % less charge”")
        self.edit.setFont(look.font("small"))
        self.edit.returnPressed.connect(self._ask)
        self.edit.editingFinished.connect(self._ask)
        self.verdict = _Verdict(look)
        row = QHBoxLayout(self)
        row.setContentsMargins(look.px(16), look.px(4), look.px(12), look.px(4))
        row.setSpacing(look.px(12))
        row.addWidget(self.edit, 2)
        row.addWidget(self.verdict, 3)
        self._asked = ""

    @property
    def claim(self) -> str:
        """What is claimed."""
        return self._asked

    def _ask(self) -> None:
        text = self.edit.text().strip()
        if text != self._asked:
            self._asked = text
            self.asked.emit(text)

    def show_verdict(self, judged: ClaimResult | None) -> None:
        """Show what the evidence says; nothing when None."""
        self.verdict.judged = judged
        understood = f"Understood as: {judged.claim.words}.\n{judged.words}" if judged is not None else ""
        self.verdict.setToolTip(tip(understood))
        self.verdict.update()
