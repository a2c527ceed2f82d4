"""The notes lane: what the reader wants to be known of moments and stretches, pinned below the trace."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPen

from warm_ember.model.project import Note
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.painted_view import NamedBox
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text

_HEIGHT, _LEAST_WORDS = 26, 34


class NotesLane(Lane):
    """Each note behind its pin, as far as there is room up to the next; a stretch has a line as long as it.

    Signals
    -------
    note_chosen
        The note that was clicked.
    """

    name = "Notes"
    name_top = 4
    note_chosen = Signal(object)

    def __init__(self, look: Appearance, window: TimeWindow) -> None:
        super().__init__(look, window, _HEIGHT)
        self.notes: tuple[Note, ...] = ()
        self._boxes: list[tuple[QRectF, Note]] = []

    def set_notes(self, notes: tuple[Note, ...]) -> None:
        """Show notes, the earliest first."""
        self.notes = notes
        self.refresh()

    def has_data(self) -> bool:
        return bool(self.notes)

    def head_key(self) -> object:
        return (super().head_key(), self.notes)

    def named_boxes(self) -> list[NamedBox]:
        return [NamedBox(note.text, box, value=str(duration_text(note.at_s))) for box, note in self._boxes]

    def paint_plot(self, painter: QPainter) -> None:
        self._boxes = []
        plot, px, theme = self.plot_rect, self.look.px, self.look.theme
        seen = [one for one in self.notes if self.x_of(one.to_s or one.at_s) >= plot.left()]
        seen = [one for one in seen if self.x_of(one.at_s) <= plot.right()]
        for index, note in enumerate(seen):
            left = max(self.x_of(note.at_s), plot.left())
            after = self.x_of(seen[index + 1].at_s) if index + 1 < len(seen) else plot.right()
            painter.setPen(QPen(theme.mark, 1))
            painter.drawLine(QPointF(left, 0), QPointF(left, px(_HEIGHT - 6)))
            if note.to_s is not None:
                end = min(self.x_of(note.to_s), plot.right())
                painter.fillRect(QRectF(left, 0, max(end - left, 1), px(3)), theme.mark)
            words = " ".join(note.text.split())
            room = max(after - left - px(4), px(8))
            box = QRectF(left, px(4), min(width_of(self.look, words, "small") + px(10), room), px(_HEIGHT - 8))
            painter.fillRect(box, theme.mark_ground)
            painter.fillRect(QRectF(left, box.top(), px(3), box.height()), theme.mark)
            if room > px(_LEAST_WORDS):
                inner = box.adjusted(px(6), 0, -px(2), 0)
                draw_rich_text(painter, inner, words, self.look, size="small", dim=theme.ink)
            self._boxes.append((box, note))

    def note_at(self, x: float, y: float) -> Note | None:
        """Return the note at a place."""
        reach = self.look.px(3)
        return next(
            (one for box, one in self._boxes if box.adjusted(-reach, -reach, reach, reach).contains(x, y)), None
        )

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        super().mouseMoveEvent(event)
        found = self.note_at(event.position().x(), event.position().y())
        self.setToolTip(tip(found.text if found is not None else ""))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        found = self.note_at(event.position().x(), event.position().y())
        if found is not None and event.button() == Qt.MouseButton.LeftButton:
            self.note_chosen.emit(found)
        else:
            super().mousePressEvent(event)
