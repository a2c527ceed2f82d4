"""The data quality lane: where a capture cannot be trusted, with the word for it."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter

from warm_ember.model.finding import Finding
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.lane_data import LaneData
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance, ink_on

_ROW = 16
_MOST_ROWS = 4


class QualityLane(Lane):
    """Faults of the measurement as labelled blocks, one row for each kind.

    Signals
    -------
    finding_chosen
        The finding that was clicked.
    """

    name = "Faults"
    finding_chosen = Signal(object)

    def __init__(self, look: Appearance, window: TimeWindow) -> None:
        super().__init__(look, window, 8 + _ROW)
        self.findings: tuple[Finding, ...] = ()
        self._boxes: list[tuple[QRectF, Finding]] = []

    def set_results(self, results: LaneData | None) -> None:
        if results is None or self.results is None or results.capture is not self.results.capture:
            self.findings = ()
        super().set_results(results)

    def set_findings(self, findings: tuple[Finding, ...]) -> None:
        """Show what was found."""
        self.findings = findings
        self._base_height = 8 + _ROW * min(_MOST_ROWS, max(1, len(self._kinds)))
        self.rescale()

    @property
    def _kinds(self) -> list[str]:
        return list(dict.fromkeys(finding.kind.value for finding in self.findings))

    def has_data(self) -> bool:
        return bool(self.findings)

    def head_key(self) -> object:
        return (super().head_key(), self.findings)

    def paint_head(self, painter: QPainter) -> None:
        """Paint the name, marked as a warning."""
        super().paint_head(painter)
        px = self.look.px
        painter.fillRect(QRectF(self.head_width - px(8), px(4), px(4), self.height() - px(8)), self.look.theme.warning)

    def paint_plot(self, painter: QPainter) -> None:
        self._boxes = []
        plot, px = self.plot_rect, self.look.px
        for row, kind in enumerate(self._kinds[:_MOST_ROWS]):
            last_right = plot.left() - px(8)
            for finding in (f for f in self.findings if f.kind == kind):
                left, right = self.x_of(finding.from_s), self.x_of(finding.to_s)
                if right < plot.left() or left > plot.right():
                    continue
                box = QRectF(max(left, plot.left()), px(4 + _ROW * row), 0, px(_ROW - 2))
                box.setRight(max(min(right, plot.right()), box.left() + px(3)))
                last_right = self._paint_block(painter, box, finding, last_right)

    def _paint_block(self, painter: QPainter, box: QRectF, finding: Finding, last_right: float) -> float:
        theme, look = self.look.theme, self.look
        painter.fillRect(box, theme.sunken)
        painter.fillRect(box, texture_brush(FINE, theme.warning))
        painter.setPen(theme.warning)
        painter.drawRect(box)
        self._boxes.append((box, finding))
        word = finding.kind.value
        width = width_of(look, word, "small") + look.px(8)
        left = min(box.left(), self.plot_rect.right() - width)
        label = QRectF(left, box.top(), width, box.height())
        if label.left() <= last_right + look.px(4):
            return max(last_right, box.right())
        painter.fillRect(label, theme.warning)
        ink = ink_on(theme.warning)
        draw_rich_text(painter, label, word, look, size="small", dim=ink, align=Qt.AlignmentFlag.AlignHCenter)
        return max(label.right(), box.right())

    def finding_at(self, x: float, y: float) -> Finding | None:
        """Return the finding at a place."""
        reach = self.look.px(3)
        return next((f for box, f in self._boxes if box.adjusted(-reach, -reach, reach, reach).contains(x, y)), None)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        super().mouseMoveEvent(event)
        found = self.finding_at(event.position().x(), event.position().y())
        self.setToolTip(tip(found.text if found is not None else ""))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        found = self.finding_at(event.position().x(), event.position().y())
        if found is not None:
            self.finding_chosen.emit(found)
        else:
            super().mousePressEvent(event)
