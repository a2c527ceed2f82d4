"""The current lane: from nanoamperes to amperes in one picture, with the brackets on it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen

from warm_ember.model.arrays import Floats
from warm_ember.model.band_limit import CURRENT
from warm_ember.model.project import Bracket
from warm_ember.signal.bands import runs_of
from warm_ember.signal.envelope import PixelColumns
from warm_ember.ui.lanes.current_axis import draw_pixels, paint_current_axis
from warm_ember.ui.lanes.heat import CurrentScale, draw_line, heat_picture, log_scale
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.lane_data import LaneData
from warm_ember.ui.lanes.limited import course_of, limited_of, paint_hidden
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.painted_view import NamedBox
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, quantity_text

_GRIP = 5
_SNAP = 6
_STRIP = 14
_LIT = 3
_MEAN_FROM = 6
_MEAN_COLUMNS = 8


@dataclass(frozen=True)
class Threshold:
    """A current over a stretch of time."""

    from_s: float
    to_s: float
    current_a: float


class CurrentLane(Lane):
    """Current against time; dragging makes a bracket, with Shift it zooms.

    Signals
    -------
    bracket_drawn
        ``(from_s, to_s)`` of a new stretch.
    bracket_moved
        ``(letter, from_s, to_s)`` after an edge was dragged.
    bracket_chosen
        The letter of the bracket that was clicked.
    """

    name = "Current"
    copies_itself = False
    bracket_drawn = Signal(float, float)
    bracket_moved = Signal(str, float, float)
    bracket_chosen = Signal(str)
    bracket_dropped = Signal(str)

    def __init__(self, look: Appearance, window: TimeWindow, height: int = 208) -> None:
        super().__init__(look, window, height)
        self.log = True
        self.snaps = True
        self.brackets: tuple[Bracket, ...] = ()
        self.chosen = ""
        self.live: tuple[float, float] | None = None
        self.highlight: tuple[float, float] | None = None
        self.lit_s: Floats = np.zeros((0, 2))
        self.threshold: Threshold | None = None
        self._drag: tuple[str, float] | None = None
        self._log_scale = log_scale(1e-6, 1.0)
        self._columns: PixelColumns | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setAccessibleName("Current against time")

    def set_results(self, results: LaneData | None) -> None:
        if results is not None and (self.results is None or results.capture is not self.results.capture):
            lowest, highest = results.current_span_a
            self._log_scale = log_scale(max(lowest, results.capture.info.resolution_a or 0.0), highest)
        super().set_results(results)

    def set_log(self, log: bool) -> None:
        """Choose decades or a linear axis."""
        self.log = log
        self.refresh()

    def set_brackets(self, brackets: tuple[Bracket, ...], chosen: str) -> None:
        """Show brackets, one of them chosen."""
        self.brackets, self.chosen = brackets, chosen
        self.refresh()

    def set_threshold(self, threshold: Threshold | None) -> None:
        """Draw above which current a peak begins, over the stretch where peaks were looked for."""
        if threshold != self.threshold:
            self.threshold = threshold
            self.refresh()

    def set_highlight(self, stretch: tuple[float, float] | None) -> None:
        """Frame a stretch that another view speaks of."""
        self.highlight = stretch
        self.refresh()

    def set_lit(self, stretches_s: Floats) -> None:
        """Underline stretches that another view speaks of.

        Parameters
        ----------
        stretches_s
            From when to when, rising, s, shape ``(n, 2)``.
        """
        self.lit_s = stretches_s
        self.refresh()

    @property
    def axis_rect(self) -> QRectF:
        """The plot without the strip for what lies at or below the axis."""
        px = self.look.px
        return self.plot_rect.adjusted(0, px(2), 0, -px(_STRIP))

    def scale(self) -> CurrentScale:
        """Return the axis of current."""
        if self.log or self._columns is None:
            return self._log_scale
        high = float(np.nanmax(self._columns.high)) if not np.isnan(self._columns.high).all() else 1e-3
        return CurrentScale(0.0, max(high * 1.05, 1e-8), log=False)

    def paint_plot(self, painter: QPainter) -> None:
        rect, theme = self.axis_rect, self.look.theme
        painter.fillRect(QRectF(rect.left(), rect.top(), rect.width(), self.height() - rect.top() - 1), theme.sunken)
        if self.results is None:
            return
        self._columns = self.window_on_time.envelope(self.results.capture.current, self.columns_of(rect))[1]
        scale = self.scale()
        picture, limited = self._picture(self._columns, scale, rect), limited_of(self.results, CURRENT)
        if limited is not None:
            course = scale.height(course_of(limited, self.window_on_time, self.columns_of(rect)))
            draw_line(picture, course, theme.ink.rgb(), theme.sunken.rgb())
        draw_pixels(painter, rect, picture)
        if limited is not None:
            paint_hidden(painter, rect, limited, "A", self.look)
        self._paint_strip(painter, rect, scale)
        self._paint_brackets(painter, rect)

    def head_key(self) -> object:
        return (super().head_key(), self.scale())

    def paint_head(self, painter: QPainter) -> None:
        """Paint the name and the axis: the ramp, and the currents along it."""
        super().paint_head(painter)
        if self.results is None:
            return
        theme, px, rect, scale = self.look.theme, self.look.px, self.axis_rect, self.scale()
        paint_current_axis(painter, rect, scale, self.look, room=self.head_width - px(60))
        right = Qt.AlignmentFlag.AlignRight
        box = QRectF(px(60), rect.bottom() + px(_STRIP) / 2 - px(7), self.head_width - px(74), px(16))
        words = "≤ 0" if scale.log else "< 0"
        draw_rich_text(painter, box, words, self.look, size="small", dim=theme.faint, align=right)

    def _picture(self, columns: PixelColumns, scale: CurrentScale, rect: QRectF) -> np.ndarray:
        """Return the envelope on its grid, with the mean through it where it is tall."""
        rows = round(rect.height() * self.devicePixelRatioF())
        grid = np.zeros(rows, dtype=bool)
        marked = np.array([value for value, _ in scale.ticks()])
        grid[np.clip(np.rint((1 - scale.height(marked)) * rows), 0, rows - 1).astype(int)] = True
        picture = heat_picture(columns, scale, rows, self.look.theme, ground=grid)
        low, high, mean = (scale.height(values) for values in (columns.low, columns.high, columns.mean))
        with np.errstate(invalid="ignore"):
            tall = _long_runs((high - low) * rect.height() > _MEAN_FROM)
        if tall.any() and limited_of(self.results, CURRENT) is None:
            theme = self.look.theme
            draw_line(picture, np.where(tall, mean, np.nan), theme.ink.rgb(), theme.sunken.rgb())
        return picture

    def _paint_strip(self, painter: QPainter, rect: QRectF, scale: CurrentScale) -> None:
        """Paint what lies at or below the axis: noise around zero, and negative readings."""
        theme, px = self.look.theme, self.look.px
        strip = QRectF(rect.left(), rect.bottom() + 1, rect.width(), px(_STRIP) - 2)
        painter.fillRect(strip, texture_brush(FINE, theme.rule))
        columns = self._columns
        if columns is not None:
            with np.errstate(invalid="ignore"):
                below = columns.low <= (0.0 if scale.log else -1e-12)
            if below.any():
                ground, ink = theme.sunken.rgb(), theme.ramp.color(scale.low_a if scale.log else 1e-9).rgb()
                row = np.where(below, np.uint32(ink), np.uint32(ground))
                marks = strip.adjusted(0, 2, 0, -2)
                draw_pixels(painter, marks, np.repeat(row[None, :], max(1, round(marks.height())), axis=0))

    def _paint_brackets(self, painter: QPainter, rect: QRectF) -> None:
        painter.save()
        painter.setClipRect(QRectF(rect.left() - 2, 0, rect.width() + 4, self.height()))
        for bracket in self.brackets:
            self._paint_bracket(painter, bracket.from_s, bracket.to_s, bracket.letter == self.chosen)
        if self.live is not None:
            self._paint_bracket(painter, *self.live, True)
        if self.threshold is not None:
            self._paint_threshold(painter, rect, self.threshold)
        self._paint_lit(painter, rect)
        if self.highlight is not None:
            left, right = self.x_of(self.highlight[0]), self.x_of(self.highlight[1])
            painter.setPen(QPen(self.look.theme.mark, 1))
            painter.drawRect(QRectF(left, 1, max(right - left, 2), self.height() - 3))
        painter.restore()

    def _paint_lit(self, painter: QPainter, rect: QRectF) -> None:
        """Draw a line under each stretch that is lit; those of one pixel column are one."""
        window = self.window_on_time
        seen = self.lit_s[(self.lit_s[:, 1] > window.from_s) & (self.lit_s[:, 0] < window.to_s)]
        columns = np.unique(np.floor((seen[:, 0] - window.from_s) / window.length_s * rect.width()), return_index=True)[
            1
        ]
        tall = self.look.px(_LIT)
        for begin_s, end_s in seen[columns].tolist():
            left, right = max(self.x_of(begin_s), rect.left()), min(self.x_of(end_s), rect.right())
            painter.fillRect(QRectF(left, rect.bottom() - tall, max(right - left, 2), tall), self.look.theme.mark)

    def _paint_threshold(self, painter: QPainter, rect: QRectF, threshold: Threshold) -> None:
        height = float(self.scale().height(np.array([threshold.current_a]))[0])
        y = rect.bottom() - height * rect.height()
        left, right = max(self.x_of(threshold.from_s), rect.left()), min(self.x_of(threshold.to_s), rect.right())
        if left < right:
            painter.setPen(QPen(self.look.theme.mark, 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(left, y), QPointF(right, y))

    def _paint_bracket(self, painter: QPainter, from_s: float, to_s: float, chosen: bool) -> None:
        left, right = self.x_of(from_s), self.x_of(to_s)
        mark = self.look.theme.mark
        tint = mark.toRgb()
        tint.setAlpha(34 if chosen else 20)
        bottom = self.height() - 3
        painter.fillRect(QRectF(left, 0, right - left, bottom), tint)
        painter.setPen(QPen(mark, 2))
        cap = min(self.look.px(8), max(2.0, (right - left) / 3))
        for x, inward in ((left, cap), (right, -cap)):
            painter.drawLine(QPointF(x, 0), QPointF(x, bottom))
            painter.drawLine(QPointF(x, bottom), QPointF(x + inward, bottom))
        painter.drawLine(QPointF(right, 1), QPointF(right - cap, 1))

    def paint_over(self, painter: QPainter) -> None:
        if self.results is None:
            return
        value = self.value_at(self.window_on_time.cursor_s)
        text = quantity_text(value, "A").rich if value is not None else ""
        self.paint_value(painter, text or ("log axis" if self.log else "linear axis"))

    def named_boxes(self) -> list[NamedBox]:
        boxes = []
        for bracket in self.brackets:
            left, right = self.x_of(bracket.from_s), self.x_of(bracket.to_s)
            name = f"bracket {bracket.letter} {bracket.name}".strip()
            length = str(duration_text(bracket.to_s - bracket.from_s))
            boxes.append(
                NamedBox(name, QRectF(left, 0, right - left, self.height()), bracket.letter == self.chosen, length)
            )
        return boxes

    def _on_cursor(self, time_s: object) -> None:
        super()._on_cursor(time_s)
        if isinstance(time_s, float) and self.hasFocus():
            value = self.value_at(time_s)
            at = self.window_on_time.label(time_s, self.window_on_time.length_s)
            self.announce(f"{at}: {quantity_text(value, 'A')}" if value is not None else f"{at}: not measured")

    def value_at(self, time_s: float | None) -> float | None:
        """Return the mean current of the column at a moment."""
        if time_s is None or self._columns is None:
            return None
        window = self.window_on_time
        column = int((time_s - window.from_s) / window.length_s * len(self._columns.mean))
        if not 0 <= column < len(self._columns.mean) or np.isnan(self._columns.mean[column]):
            return None
        return float(self._columns.mean[column])

    def snapped(self, time_s: float) -> float:
        """Return the nearest state edge when one is close on the screen, else the moment itself."""
        if not self.snaps or self.results is None:
            return time_s
        edges = self.results.placement.edges * self.results.capture.current.interval_s
        nearest = float(edges[int(np.argmin(np.abs(edges - time_s)))])
        return nearest if abs(self.x_of(nearest) - self.x_of(time_s)) <= self.look.px(_SNAP) else time_s

    def _edge_at(self, x: float) -> tuple[str, float] | None:
        """Return the bracket whose edge is at an x, and its other edge."""
        for bracket in self.brackets:
            for here, other in ((bracket.from_s, bracket.to_s), (bracket.to_s, bracket.from_s)):
                if abs(self.x_of(here) - x) <= self.look.px(_GRIP):
                    return bracket.letter, other
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.results is None or event.position().x() < self.plot_rect.left():
            super().mousePressEvent(event)
            return
        if event.button() == Qt.MouseButton.LeftButton:
            x = event.position().x()
            zooms = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            edge = None if zooms else self._edge_at(x)
            self._drag = edge or ("", self._moment(event))
            self._press_x = x

    def _moment(self, event: QMouseEvent) -> float:
        time_s = min(max(self.time_at(event.position().x()), 0.0), self.window_on_time.duration_s)
        free = bool(event.modifiers() & (Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.ShiftModifier))
        return time_s if free else self.snapped(time_s)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        super().mouseMoveEvent(event)
        x = event.position().x()
        if self._drag is None:
            on_edge = self._edge_at(x) is not None
            self.setCursor(Qt.CursorShape.SizeHorCursor if on_edge else Qt.CursorShape.CrossCursor)
            return
        if abs(x - self._press_x) > 3 or self.live is not None:
            ends = sorted((self._drag[1], self._moment(event)))
            self.live = (ends[0], ends[1])
            self.refresh()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        drag, live = self._drag, self.live
        self._drag, self.live = None, None
        if drag is None:
            return
        if live is None or live[1] - live[0] < self.window_on_time.interval_s:
            self._choose_at(self.time_at(event.position().x()))
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.window_on_time.show(*live)
        elif drag[0]:
            self.bracket_moved.emit(drag[0], *live)
        else:
            self.bracket_drawn.emit(*live)
        self.refresh()

    def _choose_at(self, time_s: float) -> None:
        inside = [b for b in self.brackets if b.from_s <= time_s <= b.to_s]
        if inside:
            self.bracket_chosen.emit(min(inside, key=lambda b: b.to_s - b.from_s).letter)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        window = self.window_on_time
        middle = window.cursor_s if window.cursor_s is not None else (window.from_s + window.to_s) / 2
        key, shift = event.key(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and shift:
            step = max(window.length_s / self.plot_rect.width(), window.interval_s)
            moved = middle + (step if key == Qt.Key.Key_Right else -step)
            window.set_cursor(min(max(moved, window.from_s), window.to_s))
        elif key in (Qt.Key.Key_Home, Qt.Key.Key_End):
            window.pan(window.duration_s if key == Qt.Key.Key_End else -window.duration_s)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            window.pan((0.1 if key == Qt.Key.Key_Right else -0.1) * window.length_s)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Plus):
            window.zoom(0.7, middle)
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Minus):
            window.zoom(1 / 0.7, middle)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.bracket_drawn.emit(window.from_s + 0.25 * window.length_s, window.to_s - 0.25 * window.length_s)
        elif key == Qt.Key.Key_Delete and self.chosen:
            self.bracket_dropped.emit(self.chosen)
        elif key == Qt.Key.Key_Escape and self._drag is not None:
            self._drag, self.live = None, None
            self.refresh()
        else:
            super().keyPressEvent(event)


def _long_runs(flags: np.ndarray) -> np.ndarray:
    """Keep runs of a few columns: a mean through a single spike is no line."""
    kept = np.zeros_like(flags)
    for first, last in runs_of(flags):
        if last - first >= _MEAN_COLUMNS:
            kept[first:last] = True
    return kept
