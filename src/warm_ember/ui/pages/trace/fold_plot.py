"""The mean occurrence: median and spread of the cycles, with the edges of its steps."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from warm_ember.session.fold_results import FoldedCycles
from warm_ember.ui.lanes.current_axis import draw_pixels, paint_current_axis
from warm_ember.ui.lanes.flags import tick_step
from warm_ember.ui.lanes.heat import CurrentScale, draw_line, heat_picture, log_scale
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.units import duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import LevelStep


_LEFT = 96
_FOOT = 22
_STEPS = 30
_GRIP = 5


class FoldPlot(PaintedView):
    """Current against time from the alignment, on the log axis, above the ribbon of its steps.

    Signals
    -------
    edges_changed
        The steps' inner edges, after one was moved, added or removed by hand.
    step_chosen
        Index of the step that was clicked.
    """

    paints_focus = True
    edges_changed = Signal(tuple)
    step_chosen = Signal(int)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.folded: FoldedCycles | None = None
        self.steps: tuple[LevelStep, ...] = ()
        self.names: tuple[str, ...] = ()
        self.log = True
        self.chosen_edge: int | None = None
        self._dragged: float | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(look.px(180))
        self.setAccessibleName("Mean occurrence; arrow keys choose a step's edge, with Ctrl they move it")
        look.changed.connect(self.update)

    def show_fold(self, folded: FoldedCycles | None, steps: tuple[LevelStep, ...], names: tuple[str, ...]) -> None:
        """Show cycles and steps."""
        self.folded, self.steps, self.names = folded, steps, names
        if self.chosen_edge is not None and self.chosen_edge >= len(self.edges):
            self.chosen_edge = None
        self.update()

    def set_log(self, log: bool) -> None:
        """Choose decades or a linear axis."""
        self.log = log
        self.update()

    @property
    def edges(self) -> tuple[float, ...]:
        """The steps' inner edges, seconds from the alignment."""
        return tuple(step.from_s for step in self.steps[1:])

    @property
    def plot_rect(self) -> QRectF:
        """Where the curve is."""
        px = self._look.px
        return QRectF(px(_LEFT), px(8), self.width() - px(_LEFT + 16), self.height() - px(_STEPS + _FOOT + 16))

    def x_of(self, time_s: float) -> float:
        """Return the x of a time from the alignment."""
        rect = self.plot_rect
        if self.folded is None:
            return rect.left()
        begin, end = self.folded.edges_s
        return rect.left() + (time_s - begin) / (end - begin) * rect.width()

    def time_at(self, x: float) -> float:
        """Return the time from the alignment at an x."""
        rect = self.plot_rect
        if self.folded is None:
            return 0.0
        begin, end = self.folded.edges_s
        return begin + min(max((x - rect.left()) / rect.width(), 0.0), 1.0) * (end - begin)

    def scale(self, folded: FoldedCycles) -> CurrentScale:
        """Return the axis of current."""
        if self.log:
            return log_scale(folded.lowest_positive_a, folded.high_a)
        return CurrentScale(folded.low_a, max(folded.high_a * 1.05, 1e-9), log=False)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.paint_onto(painter)
        painter.end()

    def paint_onto(self, painter: QPainter) -> None:
        """Paint everything."""
        theme = self._look.theme
        painter.fillRect(self.rect(), theme.ground)
        if self.folded is None:
            return
        scale = self.scale(self.folded)
        paint_current_axis(painter, self.plot_rect, scale, self._look, room=self._look.px(_LEFT))
        self._paint_curve(painter, self.folded, scale)
        self._paint_time(painter, self.folded)
        self._paint_steps(painter)
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(self.plot_rect.adjusted(-1, -1, 1, 1))

    def _paint_curve(self, painter: QPainter, folded: FoldedCycles, scale: CurrentScale) -> None:
        theme, rect = self._look.theme, self.plot_rect
        width, rows = max(1, round(rect.width())), max(1, round(rect.height()))
        begin, end = folded.edges_s
        columns = folded.columns(width)
        grid = np.zeros(rows, dtype=bool)
        marked = np.array([value for value, _ in scale.ticks()])
        grid[np.clip(np.rint((1 - scale.height(marked)) * rows), 0, rows - 1).astype(int)] = True
        picture = heat_picture(columns, scale, rows, theme, ground=grid)
        draw_line(picture, scale.height(columns.mean), theme.ink.rgb(), theme.sunken.rgb())
        draw_pixels(painter, rect, picture)
        if begin < 0 < end:
            painter.setPen(QPen(theme.faint, 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(self.x_of(0.0), rect.top()), QPointF(self.x_of(0.0), rect.bottom()))
        resolved = folded.fold.resolved_a
        if scale.log and resolved > scale.low_a:
            y = rect.bottom() - float(scale.height(np.array([resolved]))[0]) * rect.height()
            painter.setPen(QPen(theme.mark, 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(rect.left(), y), QPointF(rect.right(), y))
            words = f"resolved from {quantity_text(resolved, 'A', 2)} upward"
            box = QRectF(rect.left(), y - self._look.px(17), rect.width() - self._look.px(6), self._look.px(16))
            draw_rich_text(
                painter, box, words, self._look, size="small", dim=theme.mark, align=Qt.AlignmentFlag.AlignRight
            )

    def _paint_time(self, painter: QPainter, folded: FoldedCycles) -> None:
        look, theme, px, rect = self._look, self._look.theme, self._look.px, self.plot_rect
        begin, end = folded.edges_s
        step = tick_step(end - begin, rect.width() / px(110))
        top = rect.bottom() + px(_STEPS + 4)
        for index in range(int(np.ceil(begin / step - 1e-9)), int(np.floor(end / step + 1e-9)) + 1):
            x = self.x_of(index * step)
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(x, top), QPointF(x, top + px(4)))
            text = "0" if index == 0 else str(duration_text(index * step))
            width = width_of(look, text, "small")
            left = min(max(x - width / 2, rect.left()), rect.right() - width)
            draw_rich_text(painter, QRectF(left, top + px(4), width + 2, px(16)), text, look, size="small")

    def _paint_steps(self, painter: QPainter) -> None:
        look, theme, px, rect = self._look, self._look.theme, self._look.px, self.plot_rect
        top = rect.bottom() + px(4)
        for index, step in enumerate(self.steps):
            box = QRectF(self.x_of(step.from_s), top, self.x_of(step.to_s) - self.x_of(step.from_s), px(_STEPS - 6))
            color = theme.ramp.color(step.mean_a)
            painter.fillRect(box, color)
            name = step_name(self.names, index)
            if width_of(look, name, "small") + px(6) < box.width():
                center = Qt.AlignmentFlag.AlignHCenter
                draw_rich_text(painter, box, name, look, size="small", dim=ink_on(color), align=center)
        for index, edge in enumerate(self.edges):
            x = self.x_of(edge)
            chosen = index == self.chosen_edge
            painter.setPen(QPen(theme.mark, 3 if chosen else 1))
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, top + px(_STEPS - 6)))

    def _edge_at(self, x: float) -> int | None:
        near = [(abs(self.x_of(edge) - x), index) for index, edge in enumerate(self.edges)]
        distance, index = min(near, default=(1e9, 0))
        return index if distance <= self._look.px(_GRIP) else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        x = event.position().x()
        self.chosen_edge = self._edge_at(x)
        self._dragged = x if self.chosen_edge is not None else None
        if self.chosen_edge is None and self.steps:
            time_s = self.time_at(x)
            at = next((k for k, step in enumerate(self.steps) if step.from_s <= time_s <= step.to_s), None)
            if at is not None:
                self.step_chosen.emit(at)
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        if self._dragged is None or self.chosen_edge is None:
            on_edge = self._edge_at(x) is not None
            self.setCursor(Qt.CursorShape.SizeHorCursor if on_edge else Qt.CursorShape.ArrowCursor)
            return
        self._dragged = x

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        dragged, self._dragged = self._dragged, None
        if dragged is not None and self.chosen_edge is not None:
            self.move_edge(self.chosen_edge, self.time_at(dragged))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._edge_at(event.position().x()) is None:
            self.add_edge(self.time_at(event.position().x()))

    def move_edge(self, index: int, time_s: float) -> None:
        """Move an inner edge, between its neighbours."""
        if self.folded is None or not 0 <= index < len(self.edges):
            return
        bounds = (self.folded.edges_s[0], *self.edges, self.folded.edges_s[1])
        least = self.folded.bin_s
        placed = min(max(time_s, bounds[index] + least), bounds[index + 2] - least)
        changed = (*self.edges[:index], placed, *self.edges[index + 1 :])
        if placed != self.edges[index] and bounds[index] < placed < bounds[index + 2]:
            self.edges_changed.emit(changed)

    def add_edge(self, time_s: float) -> None:
        """Cut a step in two."""
        if self.folded is not None and self.folded.edges_s[0] < time_s < self.folded.edges_s[1]:
            changed = tuple(sorted((*self.edges, time_s)))
            self.chosen_edge = changed.index(time_s)
            self.edges_changed.emit(changed)

    def remove_edge(self) -> None:
        """Make one step of the two beside the chosen edge."""
        if self.chosen_edge is not None:
            changed = (*self.edges[: self.chosen_edge], *self.edges[self.chosen_edge + 1 :])
            self.chosen_edge = None
            self.edges_changed.emit(changed)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, ctrl = event.key(), bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        direction = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(key), 0)
        if self.folded is None or not (direction or key in (Qt.Key.Key_Insert, Qt.Key.Key_Delete)):
            super().keyPressEvent(event)
        elif key == Qt.Key.Key_Insert:
            widest = max(self.steps, key=lambda step: step.length_s)
            self.add_edge((widest.from_s + widest.to_s) / 2)
        elif key == Qt.Key.Key_Delete:
            self.remove_edge()
        elif ctrl and self.chosen_edge is not None:
            step = (self.folded.edges_s[1] - self.folded.edges_s[0]) / 200
            self.move_edge(self.chosen_edge, self.edges[self.chosen_edge] + direction * step)
        elif self.edges:
            outside = -1 if direction > 0 else len(self.edges)
            before = outside if self.chosen_edge is None else self.chosen_edge
            self.chosen_edge = (before + direction) % len(self.edges)
            self.update()


def step_name(names: tuple[str, ...], index: int) -> str:
    """Return a step's name, or its number when it has none."""
    return names[index] if index < len(names) and names[index] else f"step {index + 1}"
