"""The rail above the current lane on which the brackets' flags stand, and the time axis below all lanes."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPen

from warm_ember.model.figure import Bound, Figure, signed
from warm_ember.model.project import Bracket
from warm_ember.signal.stretch import StretchReading
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text, rich_figure, width_of
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.units import duration_text, quantity_text


def reading_lines(reading: StretchReading, mean: Figure | None = None) -> tuple[str, str]:
    """Return the two lines of figures on a flag, as rich text.

    With readings cut off at the range's end, charge and peak are at least what is shown, and say so; below what is
    resolved, they are less than that would make.
    """
    mean = Figure(reading.mean_a) if mean is None else mean
    times = (mean.shown or 0.0) / mean.value if mean.bound is Bound.BELOW and mean.value else 1.0
    amounts = (None if value is None else value * times for value in (reading.charge_c, reading.energy_j))
    charge, energy = (Figure(amount, high=amount, bound=mean.bound) for amount in amounts)
    first = "   ".join((duration_text(reading.length_s).rich, rich_figure(mean, "A"), rich_figure(charge, "C")))
    parts = [rich_figure(energy, "J")] if energy.value is not None else []
    peak = quantity_text(reading.max_a, "A").rich
    parts.append(f"peak {signed(mean.bound if mean.bound is Bound.AT_LEAST else None, peak)}")
    if reading.coverage < 0.9995:
        parts.append(f"**{reading.coverage * 100:.0f}** % measured")
    return first, "   ".join(parts)


class FlagLane(Lane):
    """The flags of the brackets.

    Signals
    -------
    bracket_chosen
        The letter of the flag that was clicked.
    """

    name = "Brackets"
    bracket_chosen = Signal(str)

    def __init__(self, look: Appearance, window: TimeWindow, height: int = 58) -> None:
        super().__init__(look, window, height)
        self.brackets: tuple[Bracket, ...] = ()
        self.readings: dict[str, StretchReading] = {}
        self.means: dict[str, Figure] = {}
        self.doubts: dict[str, tuple[str, ...]] = {}
        self.chosen = ""
        self._boxes: dict[str, QRectF] = {}

    def set_brackets(
        self,
        brackets: tuple[Bracket, ...],
        readings: dict[str, StretchReading],
        chosen: str,
        doubts: dict[str, tuple[str, ...]],
        means: dict[str, Figure],
    ) -> None:
        """Show brackets with their readings and means, and what speaks against these, by letter; one is chosen."""
        self.brackets, self.readings, self.chosen, self.doubts = brackets, readings, chosen, doubts
        self.means = means
        self.refresh()

    def paint_head(self, painter: QPainter) -> None:
        px = self.look.px
        draw_rich_text(painter, QRectF(px(22), px(4), px(130), px(18)), self.name, self.look, dim=self.look.theme.ink)
        for line, text in enumerate(("drag across the", "current lane")):
            box = QRectF(px(22), px(21 + 14 * line), px(130), px(14))
            draw_rich_text(painter, box, text, self.look, size="small", dim=self.look.theme.faint)

    def paint_plot(self, painter: QPainter) -> None:
        self._boxes = {}
        painter.save()
        painter.setClipRect(self.plot_rect.adjusted(-2, 0, 2, 0))
        taken: list[QRectF] = []
        for bracket in sorted(self.brackets, key=lambda b: b.letter != self.chosen):
            self._paint_flag(painter, bracket, taken)
        painter.restore()

    def _paint_flag(self, painter: QPainter, bracket: Bracket, taken: list[QRectF]) -> None:
        px, theme = self.look.px, self.look.theme
        staff = self.x_of(bracket.from_s)
        reading = self.readings.get(bracket.letter)
        plot = self.plot_rect
        if self.x_of(bracket.to_s) < plot.left() or staff > plot.right():
            return
        name = bracket.name or "bracket"
        doubts = self.doubts.get(bracket.letter, ())
        lines = reading_lines(reading, self.means.get(bracket.letter)) if reading is not None else ("", "")
        warning = ", ".join(doubts)
        width = max(
            width_of(self.look, name) + px(34) + (width_of(self.look, warning, "small") + px(16) if warning else 0),
            *(width_of(self.look, line, "small") + px(22) for line in lines),
        )
        left = min(max(staff, plot.left()), plot.right() - width)
        box = QRectF(left, px(3), width, self.height() - px(3))
        if any(box.intersects(other) for other in taken):
            box = QRectF(min(max(staff, plot.left()), plot.right() - px(18)), px(3), px(18), px(16))
            lines = ("", "")
        taken.append(box)
        self._boxes[bracket.letter] = box
        chosen = bracket.letter == self.chosen
        painter.fillRect(box, theme.mark_ground)
        if chosen:
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
        painter.setPen(QPen(theme.mark, 2))
        if plot.left() <= staff <= plot.right():
            painter.drawLine(QPointF(staff, box.top()), QPointF(staff, self.height()))
        chip = QRectF(box.left(), box.top(), px(18), px(16))
        draw_chip(painter, chip, bracket.letter, self.look)
        if lines[0]:
            self._paint_reading(painter, box, name, warning, lines)

    def _paint_reading(self, painter: QPainter, box: QRectF, name: str, warning: str, lines: tuple[str, str]) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        title = QRectF(box.left() + px(26), box.top(), box.width() - px(28), px(16))
        draw_rich_text(painter, title, name, look, dim=theme.ink)
        if warning:
            word = QRectF(box.right() - width_of(look, warning, "small") - px(8), box.top(), box.width(), px(16))
            painter.fillRect(QRectF(word.left() - px(6), word.top() + px(2), px(3), px(12)), theme.warning)
            draw_rich_text(painter, word, warning, look, size="small", dim=theme.warning_text)
        for index, line in enumerate(lines):
            row = QRectF(box.left() + px(10), box.top() + px(18 + 17 * index), box.width() - px(12), px(16))
            draw_rich_text(painter, row, line, look, size="small")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for letter, box in self._boxes.items():
            if box.contains(event.position()):
                self.bracket_chosen.emit(letter)
                return


class AxisLane(Lane):
    """Time labels under all lanes; dragging it pans. Folded lanes are unfolded in its head."""

    reads_as = "Time axis"
    name = ""
    unfold_asked = Signal()

    def __init__(self, look: Appearance, window: TimeWindow, height: int = 25) -> None:
        super().__init__(look, window, height)
        self.hidden_lanes: tuple[str, ...] = ()
        self._grabbed_s: float | None = None
        self.setCursor(Qt.CursorShape.OpenHandCursor)

    def set_folded(self, names: tuple[str, ...]) -> None:
        """Name the lanes that are folded away."""
        self.hidden_lanes = names
        self.setToolTip(tip(f"Click to show: {', '.join(names)}" if names else ""))
        self.refresh()

    def head_key(self) -> object:
        return self.hidden_lanes

    def paint_head(self, painter: QPainter) -> None:
        """Name the lanes that can be unfolded here."""
        if self.hidden_lanes:
            text = "▸ " + ", ".join(self.hidden_lanes)
            box = QRectF(self.look.px(8), 0, self.head_width - self.look.px(16), self.height())
            draw_rich_text(painter, box, text, self.look, size="small", dim=self.look.theme.faint)

    def paint_plot(self, painter: QPainter) -> None:
        if self.results is None:
            return
        px, theme = self.look.px, self.look.theme
        plot, window = self.plot_rect, self.window_on_time
        step = tick_step(window.length_s, plot.width() / px(100))
        last_right = plot.left() - px(20)
        origin = window.origin_s
        first, last = (window.from_s + origin) / step, (window.to_s + origin) / step
        for index in range(math.ceil(first - 1e-9), math.floor(last + 1e-9) + 1):
            time_s = index * step - origin
            x = self.x_of(time_s)
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(x, 0), QPointF(x, px(5)))
            text = window.label(time_s, step * 300)
            width = width_of(self.look, text, "small")
            left = min(max(x - width / 2, plot.left()), plot.right() - width)
            if left > last_right + px(8):
                draw_rich_text(
                    painter,
                    QRectF(left, px(4), width + 2, self.height() - px(5)),
                    text,
                    self.look,
                    size="small",
                )
                last_right = left + width

    def paint_over(self, painter: QPainter) -> None:
        time_s = self.window_on_time.cursor_s
        if time_s is None or self.results is None:
            return
        px, plot = self.look.px, self.plot_rect
        text = f"**{self.window_on_time.label(time_s, self.window_on_time.length_s / 4)}**"
        width = width_of(self.look, text, "small") + px(10)
        left = min(max(self.x_of(time_s) - width / 2, plot.left()), plot.right() - width)
        box = QRectF(left, px(3), width, self.height() - px(7))
        painter.fillRect(box, self.look.theme.mark)
        draw_rich_text(
            painter,
            box,
            text,
            self.look,
            size="small",
            ink=ink_on(self.look.theme.mark),
            align=Qt.AlignmentFlag.AlignHCenter,
        )

    def _on_cursor(self, _time_s: object) -> None:
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.position().x() < self.plot_rect.left():
            self.unfold_asked.emit()
        else:
            self._grabbed_s = self.time_at(event.position().x())
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._grabbed_s is not None:
            self.window_on_time.pan(self._grabbed_s - self.time_at(event.position().x()))
        else:
            super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._grabbed_s = None
        self.setCursor(Qt.CursorShape.OpenHandCursor)


def tick_step(window_s: float, most: float) -> float:
    """Return a step of time that people count in, so that at most so many ticks fit.

    Examples
    --------
    >>> tick_step(300.0, 11), tick_step(1.0, 10), tick_step(7200.0, 10), tick_step(30 * 86400.0, 10) / 86400
    (30.0, 0.1, 900.0, 7.0)
    """
    least = window_s / max(most, 1.0)
    if least >= 1:
        counted = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 21600, 43200, 86400)
        days = (86400 * day for day in (2, 7, 14, 28, 91, 182, 364))
        return float(next((step for step in (*counted, *days) if step >= least), 86400 * 364))
    decade = 10.0 ** math.floor(math.log10(least) + 1e-9)
    return float(next(decade * f for f in (1, 2, 5, 10) if decade * f >= least * (1 - 1e-9)))
