"""The river: the average by build, as the band of its boards, broken where it changed."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent

from warm_ember.model.finding import confidence_word
from warm_ember.session.river import River
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.runs.river_bands import paint_river, paint_runs
from warm_ember.ui.pages.runs.river_scale import RiverScale
from warm_ember.units import HOUR_S, MONTH_S, format_significant, format_trimmed, interval_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import FleetChange

_LEFT, _RIGHT, _TITLE, _RAIL, _FOOT, _STRIP = 96, 84, 24, 56, 22, 44
_FEWEST_PLACES = 4
_FLAG = 216
_MONTHS = (1, 2, 3, 6, 9, 12, 15, 18, 21, 24, 28, 32, 36, 40, 44, 48, 54, 60, 72, 84, 96, 120, 180, 240)


class RiverChart(PaintedView):
    """The river with its whole history below; a window of places is shown.

    Signals
    -------
    picked
        A place is chosen, and the current that was pointed at, A, NaN by keys: to be B, or A with Shift.
    moved
        Other places are shown.
    """

    paints_focus = True
    reads_as = "River of runs"
    picked = Signal(int, float, bool)
    moved = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(look.px(300))
        self._look = look
        self.river: River | None = None
        self.first, self.last = 0.0, 1.0
        self.a, self.b, self.compared = -1, -1, ""
        self.runs = (-1, -1)
        self._months: tuple[float, float] | None = None
        self._levels: list[tuple[int, int, float]] = []
        self._held: tuple[float, float, float] | None = None
        look.changed.connect(self.update)

    def show_river(self, river: River | None) -> None:
        """Show another river, all of it."""
        self.river = river
        self._months = _months_of(river.lives_h) if river is not None else None
        self._levels = _levels(river) if river is not None else []
        self.update()
        self.fit()

    def fit(self) -> None:
        """Show all places."""
        self.show_from(0.0, float(max(len(self.river.history.keys) if self.river else 1, 1)))

    def pick(self, a: int, b: int, compared: str = "", runs: tuple[int, int] = (-1, -1)) -> None:
        """Mark two places and a run of each, -1 for none, and say how they differ, as rich text."""
        self.a, self.b, self.compared, self.runs = a, b, compared, runs
        self.update()

    def zoom(self, factor: float, at: float) -> None:
        """Show fewer places, or more, about one of them."""
        if self.river is None:
            return
        places = float(len(self.river.history.keys))
        length = min(max((self.last - self.first) * factor, min(_FEWEST_PLACES, places)), places)
        share = (at - self.first) / (self.last - self.first)
        self.show_from(at - share * length, length)

    def pan(self, places: float) -> None:
        """Show later places, or earlier ones."""
        self.show_from(self.first + places, self.last - self.first)

    def show_from(self, first: float, length: float) -> None:
        """Show so many places from one on, as far as there are that many."""
        places = float(len(self.river.history.keys)) if self.river else 1.0
        before = self.first, self.last
        self.first = min(max(first, 0.0), max(places - length, 0.0))
        self.last = self.first + length
        if (self.first, self.last) != before:
            self.update()
            self.moved.emit()

    @property
    def plot(self) -> QRectF:
        """Where the river is."""
        px, top = self._look.px, self._look.px(_TITLE + _RAIL)
        return QRectF(px(_LEFT), top, self.width() - px(_LEFT + _RIGHT), self.height() - top - px(_FOOT + _STRIP + 8))

    @property
    def strip(self) -> QRectF:
        """Where the whole history is."""
        px = self._look.px
        return QRectF(self.plot.left(), self.height() - px(_STRIP + 4), self.plot.width(), px(_STRIP))

    @property
    def scale(self) -> RiverScale:
        """How the river is laid on the screen now."""
        low, high = self._range()
        return RiverScale(self.plot, self.first, self.last, low, high)

    def _place_at(self, x: float) -> int:
        at = self.first + (x - self.plot.left()) / self.plot.width() * (self.last - self.first)
        return int(min(max(at, 0.0), (len(self.river.history.keys) if self.river else 1) - 1.0))

    def _range(self) -> tuple[float, float]:
        if self.river is None:
            return -6.0, -3.0
        history = self.river.history
        shown = slice(*np.searchsorted(history.place, (math.floor(self.first), math.ceil(self.last))).tolist())
        values = history.values[shown][~self.river.trend.outlier[shown]]
        values = values[values > 0]
        if not len(values):
            return -6.0, -3.0
        ends = [float(values.min()), float(values.max())]
        budget_a = self.river.history.budget_a
        if budget_a and ends[0] / 2 < budget_a < ends[1] * 2:
            ends += [budget_a]
        low, high = math.log10(min(ends)), math.log10(max(ends))
        margin = max(0.08 * (high - low), 0.012)
        return low - margin, high + 1.4 * margin

    def named_boxes(self) -> list[NamedBox]:
        if self.river is None:
            return []
        named, scale = [], self.scale
        for change, cause in zip(self.river.trend.changes, self.river.causes, strict=True):
            side = "worse" if change.change > 0 else "better"
            words = f"{self.river.history.by} {change.at}, {side}" + (f", {cause.state}" if cause else "")
            if self.first <= change.place < self.last:
                named.append(NamedBox(words, self._flag(scale.x_of(change.place))))
        return named

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.fillRect(self.plot, theme.sunken)
        draw_rich_text(painter, QRectF(px(16), px(3), px(70), px(18)), "River", look, dim=theme.ink)
        if self.river is not None and len(self.river.history.values):
            by = self.river.history.by
            words = f"average current by {by}, log axis; band: the runs, 10 to 90 %"
            draw_rich_text(painter, QRectF(px(_LEFT), px(3), px(420), px(18)), words, look, size="small")
            box = QRectF(px(_LEFT + 430), px(3), self.width() - px(_LEFT + 430 + _RIGHT), px(18))
            draw_rich_text(painter, box, self.compared, look, size="small", align=Qt.AlignmentFlag.AlignRight)
            self._paint_all(painter, self.river)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        painter.end()

    def _paint_all(self, painter: QPainter, river: River) -> None:
        scale, theme = self.scale, self._look.theme
        self._paint_picks(painter, scale)
        self._paint_axis(painter, river, scale)
        painter.save()
        painter.setClipRect(scale.plot)
        paint_river(painter, river.band, self._levels, scale, (theme.ramp, theme.ink))
        paint_runs(painter, river, self._look, scale, self.runs)
        painter.restore()
        self._paint_target(painter, river, scale)
        self._paint_flags(painter, river, scale)
        self._paint_places(painter, river, scale)
        self._paint_strip(painter, river)

    def _paint_picks(self, painter: QPainter, scale: RiverScale) -> None:
        px, plot = self._look.px, scale.plot
        for letter, place in (("A", self.a), ("B", self.b)):
            if self.first <= place + 1 and place < self.last and place >= 0:
                column = QRectF(QPointF(scale.x_of(place), plot.top()), plot.bottomRight())
                column.setRight(scale.x_of(place + 1))
                column = column.intersected(plot)
                painter.fillRect(column, self._look.theme.mark_ground)
                draw_chip(painter, QRectF(column.left(), column.top(), px(18), px(16)), letter, self._look)

    def _paint_axis(self, painter: QPainter, river: River, scale: RiverScale) -> None:
        look, theme, px, plot = self._look, self._look.theme, self._look.px, scale.plot
        low, high = scale.low, scale.high
        decades = np.linspace(high, low, max(2, round(plot.height())))
        draw_pixels(
            painter, QRectF(px(_LEFT - 10), plot.top(), px(6), plot.height()), theme.ramp.packed(10.0**decades)[:, None]
        )
        budget_a = river.history.budget_a
        target_y = scale.y_of(budget_a) if budget_a and scale.holds(budget_a) else -100.0
        for value in _ticks(10.0**low, 10.0**high):
            y = scale.y_of(value)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            if abs(y - target_y) > px(14) and plot.top() + px(6) < y < plot.bottom() - px(4):
                words, box = str(quantity_text(value, "A", 3)), QRectF(0, y - px(8), px(_LEFT - 16), px(16))
                draw_rich_text(painter, box, words, look, size="small", align=Qt.AlignmentFlag.AlignRight)
        if self._months is None:
            return
        right = QRectF(plot.right() + px(8), px(3), px(70), px(18))
        draw_rich_text(painter, right, "months", look, size="small")
        slope, offset = self._months
        for months in _MONTHS if slope < 0 else ():
            y = scale.y_of(math.exp((math.log(months) - offset) / slope))
            if plot.top() < y < plot.bottom() and abs(y - target_y) > px(13):
                painter.setPen(theme.rule)
                painter.drawLine(QPointF(plot.right(), y), QPointF(plot.right() + px(6), y))
                box = QRectF(plot.right() + px(12), y - px(8), px(60), px(16))
                draw_rich_text(painter, box, str(months), look, size="small")

    def _paint_target(self, painter: QPainter, river: River, scale: RiverScale) -> None:
        """Draw the target's line, the levels' words over it, and its own words where they leave room."""
        look, theme, px, plot = self._look, self._look.theme, self._look.px, scale.plot
        budget_a, target_h = river.history.budget_a, river.history.target_h
        if not budget_a or not target_h or not scale.holds(budget_a):
            self._paint_level_words(painter, river, scale)
            return
        y = scale.y_of(budget_a)
        painter.setPen(QPen(theme.ink, 1.5, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        taken = self._paint_level_words(painter, river, scale)
        months = format_trimmed(target_h * HOUR_S / MONTH_S)
        words = f"target **{months}** months"
        width = width_of(look, words, "small") + px(2)
        places = [
            QRectF(x, y + at, width, px(16))
            for x in (plot.left() + px(8), plot.center().x(), plot.right() - width - px(8))
            for at in (-px(18), px(2))
        ]
        box = next((one for one in places if not any(one.intersects(other) for other in taken)), places[0])
        draw_rich_text(painter, box, words, look, size="small", on=theme.sunken)
        left = QRectF(0, y - px(9), px(_LEFT - 16), px(18))
        draw_rich_text(painter, left, quantity_text(budget_a, "A").rich, look, align=Qt.AlignmentFlag.AlignRight)
        draw_rich_text(painter, QRectF(plot.right() + px(12), y - px(9), px(60), px(18)), f"**{months}**", look)

    def _paint_level_words(self, painter: QPainter, river: River, scale: RiverScale) -> list[QRectF]:
        """Write each level at its stretch, and return where."""
        look, theme, px, plot = self._look, self._look.theme, self._look.px, scale.plot
        written = []
        levels = self._levels
        for first, last, level_a in levels:
            left, right = max(scale.x_of(first), plot.left()), min(scale.x_of(last), plot.right())
            words = river.trend.sign(first, last) + quantity_text(level_a, "A").rich
            size = "large" if last == len(river.history.keys) else "normal"
            width = width_of(look, words, size)
            if right - left < width + px(20):
                continue
            lows = river.band.low[slice(*scale.shown(first, last))]
            lows = lows[np.isfinite(lows)]
            bottom = scale.y_of(float(lows.min())) if len(lows) else plot.center().y()
            top = min(bottom + px(6), plot.bottom() - px(24))
            box = QRectF(right - width - px(10) if size == "large" else left + px(10), top, width + px(4), px(22))
            draw_rich_text(painter, box, words, look, size=size, on=theme.sunken)
            written.append(box)
        return written

    def _flag(self, x: float) -> QRectF:
        px = self._look.px
        return QRectF(x, px(_TITLE), px(_FLAG), px(_RAIL - 8))

    def _paint_flags(self, painter: QPainter, river: River, scale: RiverScale) -> None:
        look, theme, px, plot = self._look, self._look.theme, self._look.px, scale.plot
        taken, changes = plot.left() - 1, list(zip(river.trend.changes, river.causes, strict=True))
        for number, (change, cause) in enumerate(changes):
            x = scale.x_of(change.place)
            if not plot.left() <= x <= plot.right():
                continue
            painter.setPen(QPen(theme.ink, 1))
            painter.drawLine(QPointF(x, px(_TITLE)), QPointF(x, plot.bottom()))
            painter.setPen(QPen(theme.ink, 2.5))
            ends = [scale.y_of(value) for value in (change.before, change.after)]
            painter.drawLine(QPointF(x, ends[0]), QPointF(x, ends[1]))
            later = [scale.x_of(one.place) for one, _ in changes[number + 1 :]]
            room = min([*later, self.width() - px(8)]) - x - px(4)
            side = "+" if change.change > 0 else "−"
            much = quantity_text(abs(change.change), "A").rich.replace("**", f"**{side}", 1)
            is_worse, words = change.change > 0, f"{change.at}  {much}"
            beside = px(70 if is_worse else 20)
            if width_of(look, f"{words}  {_interval(change)}") + beside <= room:
                words += f"  {_interval(change)}"
            flag = self._flag(x)
            flag.setWidth(min(width_of(look, words) + beside, room))
            if flag.width() < px(60) or x < taken:
                continue
            taken = flag.right()
            painter.fillRect(flag, theme.ground)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.rule, 1))
            painter.drawRect(flag)
            first = QRectF(flag.left() + px(8), flag.top() + px(3), flag.width() - px(16), px(20))
            if is_worse:
                self._paint_worse(painter, flag)
                first.setRight(flag.right() - px(62))
            draw_rich_text(painter, first, words, look)
            if cause is not None:
                line = QRectF(flag.left() + px(8), flag.top() + px(25), flag.width() - px(16), px(20))
                painter.fillRect(QRectF(line.left(), line.top() + px(3), px(5), px(13)), theme.ramp.color(cause.mean_a))
                share = "" if cause.share is None else f"  **{_percent(cause.share)}** %"
                sure = f", {confidence_word(cause.confidence)}"
                line.adjust(px(11), 0, 0, 0)
                draw_rich_text(painter, line, f"{cause.state}{share}{sure}", look, size="small")

    def _paint_worse(self, painter: QPainter, flag: QRectF) -> None:
        px, theme = self._look.px, self._look.theme
        corner = flag.topRight()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.warning)
        painter.drawPolygon(QPolygonF([corner, corner + QPointF(-px(10), 0), corner + QPointF(0, px(10))]))
        box = QRectF(flag.right() - px(62), flag.top() + px(3), px(48), px(20))
        align = Qt.AlignmentFlag.AlignRight
        draw_rich_text(painter, box, "worse", self._look, dim=theme.warning_text, align=align)

    def _paint_places(self, painter: QPainter, river: River, scale: RiverScale) -> None:
        look, theme, px, plot = self._look, self._look.theme, self._look.px, scale.plot
        top, history = plot.bottom() + px(3), river.history
        title = QRectF(px(16), top, px(76), px(16))
        draw_rich_text(painter, title, history.by.capitalize(), look, size="small")
        first, last = math.floor(self.first), min(math.ceil(self.last), len(history.keys)) - 1
        wanted = [*(change.place for change in river.trend.changes if first <= change.place <= last), first, last]
        drawn: list[tuple[float, float]] = []
        for place in wanted:
            words = f"**{history.keys[place]}**" + (f"  {_day(river.dates[place])}" if history.by != "time" else "")
            width = width_of(look, words, "small")
            left = min(max(scale.x_of(place), plot.left()), plot.right() - width)
            if any(left < end + px(10) and left + width > begin - px(10) for begin, end in drawn):
                continue
            drawn.append((left, left + width))
            painter.setPen(theme.rule)
            painter.drawLine(
                QPointF(scale.x_of(place), plot.bottom()), QPointF(scale.x_of(place), plot.bottom() + px(4))
            )
            draw_rich_text(painter, QRectF(left, top, width + px(2), px(16)), words, look, size="small")

    def _paint_strip(self, painter: QPainter, river: River) -> None:
        look, theme, px, strip = self._look, self._look.theme, self._look.px, self.strip
        draw_rich_text(
            painter,
            QRectF(px(16), strip.top() + px(4), px(78), px(16)),
            "Whole history",
            look,
            size="small",
            dim=theme.ink,
        )
        count = f"**{len(river.history.values)}** runs"
        draw_rich_text(painter, QRectF(px(16), strip.top() + px(20), px(78), px(16)), count, look, size="small")
        painter.fillRect(strip, theme.sunken)
        levels, places = self._levels, len(river.history.keys)
        values = [math.log10(level) for _, _, level in levels if level > 0]
        ends = (min(values) - 0.05, max(values) + 0.05) if values else (-6.0, -3.0)
        inside = RiverScale(strip.adjusted(0, px(6), 0, -px(8)), 0.0, float(places), *ends)
        for first, last, level_a in levels:
            left, right = (strip.left() + strip.width() * place / places for place in (first, last))
            y = inside.y_of(level_a)
            painter.fillRect(QRectF(left, y - px(2), right - left, px(5)), theme.ramp.color(level_a))
        for change in river.trend.changes:
            x = strip.left() + strip.width() * change.place / places
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.warning if change.change > 0 else theme.dim)
            y = strip.bottom() - px(7)
            painter.drawPolygon(QPolygonF([QPointF(x - 4, y + 7), QPointF(x + 4, y + 7), QPointF(x, y)]))
        if self.last - self.first < places:
            left, right = (strip.left() + strip.width() * place / places for place in (self.first, self.last))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.mark, 2))
            painter.drawRect(QRectF(left, strip.top() + 1, max(right - left, px(6)), strip.height() - 2))
        words = f"**{math.floor(self.first) + 1}** to **{min(math.ceil(self.last), places)}**"
        box = QRectF(strip.right() + px(12), strip.top() + px(4), px(72), px(16))
        draw_rich_text(painter, box, words, look, size="small")
        draw_rich_text(painter, box.translated(0, px(16)), f"of **{places}**", look, size="small")

    def wheelEvent(self, event: QWheelEvent) -> None:
        at = self.first + (event.position().x() - self.plot.left()) / self.plot.width() * (self.last - self.first)
        self.zoom(0.8 ** (event.angleDelta().y() / 120), min(max(at, self.first), self.last))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.river is None:
            return
        position = event.position()
        if self.strip.contains(position):
            places = len(self.river.history.keys)
            middle = (position.x() - self.strip.left()) / self.strip.width() * places
            self.show_from(middle - (self.last - self.first) / 2, self.last - self.first)
            self._held = (position.x(), self.first, places / self.strip.width())
        elif self.plot.contains(position):
            with_shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self.picked.emit(self._place_at(position.x()), self.scale.current_at(position.y()), with_shift)
            self._held = (position.x(), self.first, -(self.last - self.first) / self.plot.width())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held is not None:
            x, first, each = self._held
            self.show_from(first + (event.position().x() - x) * each, self.last - self.first)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._held = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, length = event.key(), self.last - self.first
        with_shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(key))
        picked = self.a if with_shift else self.b
        if self.river is not None and step is not None:
            place = min(max((picked if picked >= 0 else int(self.first)) + step, 0), len(self.river.history.keys) - 1)
            self.picked.emit(place, math.nan, with_shift)
            if not self.first <= place < self.last:
                self.pan(place - self.first if place < self.first else place + 1 - self.last)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus, Qt.Key.Key_Equal):
            self.zoom(1.25 if key == Qt.Key.Key_Minus else 0.8, self.first + length / 2)
        elif key == Qt.Key.Key_F:
            self.fit()
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self.pan((1 if key == Qt.Key.Key_PageDown else -1) * length / 2)
        else:
            super().keyPressEvent(event)


def _levels(river: River) -> list[tuple[int, int, float]]:
    """Return first place, place after it and level of each stretch without a change."""
    changes = river.trend.changes
    ends = [0, *(change.place for change in changes), len(river.history.keys)]
    usual = float(np.median(river.history.values)) if len(river.history.values) else 0.0
    values = [change.before for change in changes] + [changes[-1].after if changes else usual]
    return [(first, last, value) for first, last, value in zip(ends, ends[1:], values, strict=False)]


def _months_of(lives_h: np.ndarray) -> tuple[float, float] | None:
    """Return how the logarithm of the life, in months, follows that of the average: slope and offset; None of one."""
    averages = np.log(np.maximum(lives_h[0], 1e-15))
    if averages.size < 2:
        return None
    if not np.ptp(averages) > 0:
        return -1.0, 0.0
    slope, offset = np.polyfit(averages, np.log(lives_h[1] * HOUR_S / MONTH_S), 1)
    return float(slope), float(offset)


def _ticks(low: float, high: float) -> list[float]:
    """Return round values between two, on steps that leave some four to eight of them."""
    for steps in ((1, 2, 5), (1, 1.5, 2, 3, 4, 5, 6, 8), tuple(np.arange(10, 100, 2) / 10)):
        found = [
            step * 10.0**decade
            for decade in range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
            for step in steps
            if low <= step * 10.0**decade <= high
        ]
        if len(found) >= 4:
            break
    return found[:: max(len(found) // 8, 1)]


def _day(date: str) -> str:
    months = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
    return f"{int(date[8:10])} {months[int(date[5:7]) - 1]}" if date else ""


def _interval(change: FleetChange) -> str:
    if change.low is None or change.high is None:
        return "or more"
    near, far = sorted(map(abs, (change.low, change.high)))
    return interval_text(near, far, "A").removesuffix(f" {quantity_text(change.change, 'A').unit}")


def _percent(share: float) -> str:
    return f"{'+' if share > 0 else '−'}{format_significant(abs(share) * 100)}"
