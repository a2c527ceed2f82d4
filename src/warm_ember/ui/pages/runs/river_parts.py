"""Below the river: what each state adds by build, and the boards of the present build with the life of the lot."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen

from warm_ember.session.river import River, StateRiver
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import Swatch, fill, swatches
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.runs.river_bands import paint_river
from warm_ember.ui.pages.runs.river_scale import RiverScale
from warm_ember.units import HOUR_S, MONTH_S, counted, format_significant, format_trimmed, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Board

_HEAD, _ROW, _BOARD_ROW = 46, 38, 26
_LEAST_DECADES = math.log10(1.16)
_RIGHT = Qt.AlignmentFlag.AlignRight


class RiverStates(PaintedView):
    """A row a state: its share, what it adds, its own small river, and its last change."""

    reads_as = "States by build"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.river: River | None = None
        self.shown = (0.0, 1.0)
        look.changed.connect(self.update)

    def show_river(self, river: River | None) -> None:
        """Show the states of a river."""
        self.river = river
        self.setMinimumHeight(self._look.px(_HEAD + _ROW * len(river.states) if river else _HEAD))
        self.update()

    def show_places(self, first: float, last: float) -> None:
        """Show the states' rivers in a window of places."""
        self.shown = (first, last)
        left, right = self._columns()[2]
        self.update(QRectF(left, 0, right - left, self.height()).toAlignedRect())

    def _row(self, index: int) -> QRectF:
        px = self._look.px
        return QRectF(0, px(_HEAD + index * _ROW), self.width(), px(_ROW))

    def named_boxes(self) -> list[NamedBox]:
        states = self.river.states if self.river else ()
        return [NamedBox(one.name, self._row(index)) for index, one in enumerate(states)]

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        draw_rich_text(painter, QRectF(px(16), px(4), px(70), px(18)), "States", look, dim=theme.ink)
        words = QRectF(px(96), px(4), self.width() - px(110), px(18))
        draw_rich_text(painter, words, "what each adds to the average since its last change", look, size="small")
        columns = self._columns()
        for name, (left, right) in zip(("share", "adds", "change"), (columns[0], columns[1], columns[3]), strict=True):
            box = QRectF(left, px(24), right - left, px(18))
            draw_rich_text(painter, box, name, look, size="small", align=_RIGHT)
        if self.river is not None:
            means = swatches(look, ((one.name, one.adds_a) for one in self.river.states))
            is_moved = event.rect().left() >= math.floor(columns[2][0])  # and what stands beside them is as it was
            for index, one in enumerate(self.river.states):
                if not is_moved:
                    self._paint_row(painter, self._row(index), one, means[one.name])
                self._paint_small(painter, self._row(index), one)
        painter.end()

    def _columns(self) -> list[tuple[float, float]]:
        """Return left and right of share, adds, small river and change."""
        px, width = self._look.px, float(self.width())
        share, adds = px(176), px(252)
        return [
            (px(120), share),
            (share + px(6), adds),
            (adds + px(16), width - px(138)),
            (width - px(132), width - px(16)),
        ]

    def _paint_row(self, painter: QPainter, row: QRectF, one: StateRiver, swatch: Swatch) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        fill(painter, QRectF(px(16), row.top() + px(9), px(10), px(20)), swatch, theme.ground)
        name = QRectF(px(34), row.top(), px(96), row.height())
        draw_rich_text(painter, name, one.name, look, dim=theme.ink)
        (share, adds, _, change) = (QRectF(a, row.top(), b - a, row.height()) for a, b in self._columns())
        draw_rich_text(painter, share, percent_text(one.share).rich, look, align=_RIGHT)
        sign = one.trend.sign(one.trend.since, len(one.trend.history.keys))
        draw_rich_text(painter, adds, sign + quantity_text(one.adds_a, "A").rich, look, align=_RIGHT)
        last = one.trend.changes[-1] if one.trend.changes else None
        if last is None or last.before <= 0:
            draw_rich_text(painter, change, "no change", look, size="small", align=_RIGHT)
            return
        upper, lower = (QRectF(change.left(), row.top() + px(at), change.width(), px(17)) for at in (2, 19))
        ratio = last.change / last.before
        words = f"**{'+' if ratio > 0 else '−'}{format_significant(abs(ratio) * 100)}** %"
        drawn = draw_rich_text(painter, upper, words, look, align=_RIGHT)
        if ratio > 0:
            worse = upper.adjusted(0, 0, -drawn - px(6), 0)
            draw_rich_text(painter, worse, "worse", look, size="small", dim=theme.warning_text, align=_RIGHT)
        draw_rich_text(painter, lower, f"since {last.at}", look, size="small", align=_RIGHT)

    def _paint_small(self, painter: QPainter, row: QRectF, one: StateRiver) -> None:
        px, (left, right) = self._look.px, self._columns()[2]
        plot = QRectF(left, row.top() + px(4), right - left, row.height() - px(8))
        painter.setPen(self._look.theme.rule)
        painter.drawLine(row.topLeft(), row.topRight())
        painter.fillRect(plot, self._look.theme.sunken)
        painter.save()
        painter.setClipRect(plot)
        self._paint_river(painter, plot, one)
        painter.restore()

    def _paint_river(self, painter: QPainter, plot: QRectF, one: StateRiver) -> None:
        theme, (first, last) = self._look.theme, self.shown
        places = np.arange(max(math.floor(first), 0), min(math.ceil(last), len(one.band.median)))
        places = places[np.isfinite(one.band.median[places]) & (one.band.low[places] > 0)]
        if not len(places):
            return
        bounds = [np.log10(values[places]) for values in (one.band.low, one.band.median, one.band.high)]
        low, high = float(bounds[0].min()), float(bounds[2].max())
        room = max(high - low, _LEAST_DECADES)
        bottom = (low + high - room) / 2 - 0.08 * room

        scale = RiverScale(plot, first, last, bottom, bottom + 1.16 * room)
        keys = self.river.history.keys if self.river else ()
        cuts = [keys.index(change.at) for change in one.trend.changes if change.at in keys]
        levels = [(begin, end, one.adds_a) for begin, end in zip([0, *cuts], [*cuts, len(keys)], strict=True)]
        paint_river(painter, one.band, levels, scale, (theme.ramp, theme.ink))
        painter.setPen(QPen(theme.ink, 1))
        for cut in cuts:
            x = scale.x_of(cut)
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))


class RiverBoards(PaintedView):
    """A row a board since the last change, and below what that means for the lot."""

    reads_as = "Boards"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.river: River | None = None
        look.changed.connect(self.update)

    def show_river(self, river: River | None) -> None:
        """Show the boards of a river."""
        self.river = river
        boards = len(river.boards) if river else 0
        self.setMinimumHeight(self._look.px(_HEAD + _BOARD_ROW * boards + 108))
        self.update()

    def _row(self, index: int) -> QRectF:
        px = self._look.px
        return QRectF(0, px(_HEAD + index * _BOARD_ROW), self.width(), px(_BOARD_ROW))

    def named_boxes(self) -> list[NamedBox]:
        boards = self.river.boards if self.river else ()
        return [NamedBox(_board_name(one), self._row(index)) for index, one in enumerate(boards)]

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.fillRect(QRectF(0, 0, 1, self.height()), theme.rule)
        draw_rich_text(painter, QRectF(px(16), px(4), px(70), px(18)), "Boards", look, dim=theme.ink)
        if self.river is not None and self.river.boards:
            self._paint_boards(painter, self.river)
            self._paint_lot(painter, self.river)
        painter.end()

    def _paint_boards(self, painter: QPainter, river: River) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        since = river.history.keys[river.trend.since]
        words = f"runs from {since} on; bar: 10 to 90 %"
        draw_rich_text(painter, QRectF(px(96), px(4), self.width() - px(110), px(18)), words, look, size="small")
        plot = QRectF(px(96), px(_HEAD), self.width() - px(96 + 220), px(_BOARD_ROW * len(river.boards)))
        every = np.concatenate([one.values for one in river.boards])
        ends = [float(every.min()), float(every.max())]
        budget_a = river.history.budget_a
        if budget_a and 0.8 * ends[0] < budget_a < 1.25 * ends[1]:
            ends.append(budget_a)
        low, high = min(ends), max(ends)
        margin = 0.06 * (high - low) or 0.02 * high
        low, high = low - margin, high + margin
        painter.fillRect(plot, theme.sunken)
        for left, right, name in ((212, 140, "median"), (136, 16, "from the others")):
            box = QRectF(self.width() - px(left), px(24), px(left - right), px(18))
            draw_rich_text(painter, box, name, look, size="small", align=_RIGHT)
        ticks = [low + margin, high - margin]
        for tick, align in zip(ticks, (Qt.AlignmentFlag.AlignLeft, _RIGHT), strict=True):
            box = QRectF(plot.left(), px(24), plot.width(), px(18))
            draw_rich_text(painter, box, str(quantity_text(tick, "A")), look, size="small", align=align)
        for index, one in enumerate(river.boards):
            self._paint_board(painter, index, one, plot, (low, high))
        if budget_a and low < budget_a < high:
            x = plot.left() + (budget_a - low) / (high - low) * plot.width()
            painter.setPen(QPen(theme.ink, 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            box = QRectF(x + px(3), plot.bottom() - px(16), px(50), px(16))
            draw_rich_text(painter, box, "target", look, size="small")

    def _paint_board(self, painter: QPainter, index: int, one: Board, plot: QRectF, ends: tuple[float, float]) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        row = self._row(index)
        painter.setPen(theme.rule)
        painter.drawLine(row.topLeft() + QPointF(1, 0), row.topRight())
        draw_rich_text(painter, QRectF(px(16), row.top(), px(78), row.height()), _board_name(one), look, dim=theme.ink)

        def x_of(value: float) -> float:
            return plot.left() + (value - ends[0]) / (ends[1] - ends[0]) * plot.width()

        color = QColor(theme.ramp.color(one.median))
        bar = QColor(color)
        bar.setAlphaF(0.5)
        middle = row.center().y()
        painter.fillRect(QRectF(x_of(one.low), middle - px(3), x_of(one.high) - x_of(one.low), px(6)), bar)
        for number, value in enumerate(one.values[:200].tolist()):
            y = middle + px((-6, 0, 6)[number % 3])
            painter.fillRect(QRectF(x_of(value) - 1.5, y - 1.5, 3, 3), color)
        painter.fillRect(QRectF(x_of(one.median) - 1, middle - px(8), 2, px(16)), theme.ink)
        median = QRectF(self.width() - px(212), row.top(), px(72), row.height())
        draw_rich_text(painter, median, quantity_text(one.median, "A").rich, look, align=_RIGHT)
        if one.from_others is None:
            return
        share = f"**{'+' if one.from_others > 0 else '−'}{abs(one.from_others) * 100:.1f}** %"
        away = QRectF(self.width() - px(136), row.top(), px(60), row.height())
        draw_rich_text(painter, away, share, look, align=_RIGHT)
        word = QRectF(self.width() - px(62), row.top(), px(46), row.height())
        ink = theme.warning_text if one.is_odd else None
        draw_rich_text(painter, word, "odd" if one.is_odd else "in noise", look, size="small", dim=ink, align=_RIGHT)
        if one.is_odd:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.ink, 1))
            left, right = x_of(float(one.values.min())), x_of(float(one.values.max()))
            painter.drawRect(QRectF(left - px(5), row.top() + px(2), right - left + px(10), row.height() - px(4)))

    def _paint_lot(self, painter: QPainter, river: River) -> None:
        look, theme, px, lot = self._look, self._look.theme, self._look.px, river.lot
        if lot is None:
            return
        top = self._row(len(river.boards)).top() + px(8)
        box = QRectF(px(16), top, self.width() - px(230), px(18))
        draw_rich_text(painter, box, "What it means for the lot", look, dim=theme.ink)
        plot = QRectF(px(16), top + px(24), self.width() - px(16 + 214), px(44))
        painter.fillRect(plot, theme.sunken)
        months, target_h = lot.draws_h * HOUR_S / MONTH_S, river.history.target_h
        low, high = np.quantile(months, (0.005, 0.995)).tolist()
        target = None if target_h is None else target_h * HOUR_S / MONTH_S
        if target is not None:
            low, high = min(low, 0.95 * target), max(high, 1.05 * target)
        counts, edges = np.histogram(months, bins=48, range=(low, high))
        most = max(int(counts.max()), 1)

        def x_of(value: float) -> float:
            return plot.left() + float(value - low) / float(high - low) * plot.width()

        color = theme.ramp.color(float(np.median(river.boards[0].values)))
        for count, left, right in zip(counts.tolist(), edges[:-1].tolist(), edges[1:].tolist(), strict=True):
            shade = QColor(color)
            shade.setAlphaF(1.0 if target is not None and left >= target else 0.5)
            height = count / most * (plot.height() - px(4))
            painter.fillRect(QRectF(x_of(left), plot.bottom() - height, x_of(right) - x_of(left), height), shade)
        for value, dash in ((lot.p10_h * HOUR_S / MONTH_S, Qt.PenStyle.SolidLine), (target, Qt.PenStyle.DashLine)):
            if value is not None and low < value < high:
                painter.setPen(QPen(theme.ink, 1.5, dash))
                painter.drawLine(QPointF(x_of(value), plot.top()), QPointF(x_of(value), plot.bottom()))
        for value in np.linspace(low, high, 4).tolist()[1:-1]:
            tick = QRectF(x_of(value) - px(30), plot.bottom() + px(1), px(60), px(16))
            words = f"{value:.0f} months"
            draw_rich_text(painter, tick, words, look, size="small", align=Qt.AlignmentFlag.AlignHCenter)
        self._paint_lot_words(painter, river, top, target)

    def _paint_lot_words(self, painter: QPainter, river: River, top: float, target: float | None) -> None:
        look, px, lot = self._look, self._look.px, river.lot
        assert lot is not None
        p10, p50, p90 = (format_significant(one * HOUR_S / MONTH_S) for one in (lot.p10_h, lot.p50_h, lot.p90_h))
        lines = [(f"P50 **{p50}**   P90 **{p90}**", "small")]
        if lot.chance is not None and target is not None:
            lines.append((f"{percent_text(lot.chance).rich} reach **{format_trimmed(target)}**", "small"))
        if river.usual is not None:
            usual = format_significant(river.usual.p10_h * HOUR_S / MONTH_S)
            lines.append((f"without the odd: P10 **{usual}**", "small"))
        weakest = f"; {river.history.weakest}" if river.history.weakest else ""
        lines.append((f"{counted(lot.boards, 'board')}{weakest}", "small"))
        left, width = self.width() - px(206), px(190)
        draw_rich_text(
            painter, QRectF(left, top, width, px(24)), f"P10 **{p10}** months", look, size="large", align=_RIGHT
        )
        for number, (words, size) in enumerate(lines):
            box = QRectF(left, top + px(26 + 16 * number), width, px(16))
            draw_rich_text(painter, box, words, look, size=size, align=_RIGHT)


def _board_name(one: Board) -> str:
    return f"Board {one.name}" if one.name else "no board named"
