"""Two runs laid over each other: by a state, by time, by their cycles, or by the charge so far."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent

from warm_ember.session.overlay import LaidBy, Overlay
from warm_ember.session.run_results import RunResults
from warm_ember.ui.lanes.current_axis import paint_current_axis
from warm_ember.ui.lanes.flags import tick_step
from warm_ember.ui.lanes.heat import CurrentScale, heat_picture, log_scale
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text, width_of
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import PixelColumns


_RIGHT = Qt.AlignmentFlag.AlignRight
_LONGEST_NAME = 120


class OverlayView(PaintedView):
    """Two runs, one over the other on one axis of time.

    Signals
    -------
    asked
        Something else is to be shown: other runs, another way to lay them, another width.
    """

    reads_as = "Overlay of the two runs"
    asked = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.first: RunResults | None = None
        self.second: RunResults | None = None
        self.state = ""
        self.mode = LaidBy.STATE
        self.overlay: Overlay | None = None
        look.changed.connect(self.update)

    def show_runs(self, first: RunResults | None, second: RunResults | None, state: str) -> None:
        """Show two runs; `state` is what they are aligned at where they are laid by a state."""
        if (first, second, state) != (self.first, self.second, self.state):
            self.first, self.second, self.state, self.overlay = first, second, state, None
            self.asked.emit()
        self.update()

    def show_overlay(self, overlay: Overlay) -> None:
        """Show the runs as they were laid."""
        if overlay.by is self.mode:
            self.overlay = overlay
            self.update()

    def set_mode(self, mode: str) -> None:
        """Lay them by a state, by time, by cycle, or by charge."""
        self.mode, self.overlay = LaidBy(mode), None
        self.asked.emit()
        self.update()

    @property
    def runs(self) -> list[tuple[RunResults, str]]:
        """The runs with their letters."""
        return [(run, letter) for run, letter in ((self.first, "A"), (self.second, "B")) if run is not None]

    @property
    def columns(self) -> int:
        """Width of the plot in pixels."""
        return max(1, int(self._plot.width()))

    @property
    def _plot(self) -> QRectF:
        px = self._look.px
        return QRectF(px(96), px(32), self.width() - px(104), self.height() - px(64))

    def minimumSizeHint(self) -> QSize:
        return QSize(self._look.px(240), self._look.px(150))

    def resizeEvent(self, event: QResizeEvent) -> None:
        if event.size().width() != event.oldSize().width():
            self.asked.emit()

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(self.width() - 0.5, 0), QPointF(self.width() - 0.5, self.height()))
        legend = self._paint_legend(painter)
        draw_rich_text(painter, QRectF(px(16), px(6), legend - px(24), px(18)), self._title(), look, dim=theme.ink)
        plot, overlay = self._plot, self.overlay
        if overlay is None or not overlay.runs:
            draw_rich_text(painter, QRectF(px(16), px(32), px(400), px(18)), self._missing(), look)
            painter.end()
            return
        painter.fillRect(plot, theme.sunken)
        if overlay.by is LaidBy.CHARGE:
            self._paint_charges(painter, plot, overlay)
        else:
            self._paint_runs(painter, plot, overlay)
        self._paint_time(painter, plot, overlay.from_s, overlay.to_s)
        painter.end()

    def _title(self) -> str:
        cycles = self.overlay.cycles if self.overlay is not None else 0
        return {
            LaidBy.STATE: f"The longest {self.state} of each, aligned at its start"
            if self.state
            else "One over the other",
            LaidBy.TIME: "Both captures from their beginning",
            LaidBy.CYCLE: f"One cycle of each: median of {cycles}" if cycles else "One cycle of each",
            LaidBy.CHARGE: "Charge so far",
        }[self.mode]

    def _missing(self) -> str:
        if not self.runs:
            return "Pick two runs above."
        if self.overlay is None:
            return "Folding the cycles …" if self.mode is LaidBy.CYCLE else "Reading both runs …"
        words = {LaidBy.STATE: "Neither run has this state.", LaidBy.CYCLE: "Neither run has cycles."}
        return words.get(self.mode, "Nothing was measured.")

    def _paint_charges(self, painter: QPainter, plot: QRectF, overlay: Overlay) -> None:
        """Draw the charge so far of both: where they part is where they differ."""
        look, theme, px = self._look, self._look.theme, self._look.px
        most_c = max(float(run.charge_c[-1]) for run in overlay.runs) or 1.0
        for part in range(5):
            y = plot.bottom() - part / 4 * plot.height()
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            words = str(quantity_text(most_c * part / 4, "C")) if part else "0"
            box = QRectF(0, y - px(9), plot.left() - px(8), px(18))
            draw_rich_text(painter, box, words, look, size="small", align=_RIGHT)
        for run in overlay.runs:
            charges, letter = run.charge_c, run.letter
            known = np.flatnonzero(~np.isnan(run.columns.mean))
            points = [
                QPointF(plot.left() + int(k), plot.bottom() - float(charges[k]) / most_c * plot.height())
                for k in known.tolist()
            ]
            painter.setPen(QPen(theme.ink if letter == "B" else theme.dim, 2 if letter == "B" else 1.4))
            painter.drawPolyline(QPolygonF(points))
            if points:
                end = points[-1]
                left = end.x() - px(20 if letter == "B" else 44)
                place = QRectF(left, max(end.y() - px(18), plot.top()), px(18), px(16))
                draw_chip(painter, place, letter, look)

    def _paint_runs(self, painter: QPainter, plot: QRectF, overlay: Overlay) -> None:
        theme, shown = self._look.theme, [(run.columns, run.letter) for run in overlay.runs]
        width, rows = len(shown[0][0].mean), max(1, int(plot.height()))
        positive = np.concatenate([c.mean[c.mean > 0] for c, _ in shown])
        if not len(positive):
            return
        scale = log_scale(float(positive.min()), max(float(np.nanmax(c.high)) for c, _ in shown if (c.mean > 0).any()))
        self._paint_axis(painter, plot, scale)
        if len(shown) == 2:
            self._paint_between(painter, plot, scale, shown)
        for columns, letter in shown:
            picture = heat_picture(columns, scale, rows, theme)
            pixels = np.ascontiguousarray(picture)
            painter.drawImage(plot, QImage(pixels.data, width, rows, 4 * width, QImage.Format.Format_ARGB32))
            self._paint_chip(painter, plot, scale, columns, letter)

    def _paint_between(
        self, painter: QPainter, plot: QRectF, scale: CurrentScale, shown: list[tuple[PixelColumns, str]]
    ) -> None:
        """Slant the area between the two means: that is the difference in charge."""
        tops = [plot.bottom() - scale.height(columns.mean) * plot.height() for columns, _ in shown]
        brush = texture_brush(FINE, self._look.theme.accent)
        upper, lower = np.fmin(*tops), np.fmax(*tops)
        step = plot.width() / len(upper)
        for column in np.flatnonzero(lower - upper > 2).tolist():
            if not np.isnan(tops[0][column] + tops[1][column]):
                painter.fillRect(
                    QRectF(plot.left() + column * step, upper[column], step, lower[column] - upper[column]),
                    brush,
                )

    def _paint_chip(
        self, painter: QPainter, plot: QRectF, scale: CurrentScale, columns: PixelColumns, letter: str
    ) -> None:
        px = self._look.px
        part = columns.mean[int(len(columns.mean) * 0.3) : int(len(columns.mean) * 0.6)]
        if np.isnan(part).all():
            return
        mean_a = float(np.nanmean(part))
        y = plot.bottom() - float(scale.height(np.array([mean_a]))[0]) * plot.height()
        x = plot.right() - px(22) if letter == "A" else plot.right() - px(44)
        chip = QRectF(x, min(max(y - px(20), plot.top()), plot.bottom() - px(16)), px(18), px(16))
        draw_chip(painter, chip, letter, self._look)

    def _paint_axis(self, painter: QPainter, plot: QRectF, scale: CurrentScale) -> None:
        paint_current_axis(painter, plot, scale, self._look, room=plot.left(), grid=True)

    def _paint_time(self, painter: QPainter, plot: QRectF, begin: float, end: float) -> None:
        px, theme = self._look.px, self._look.theme
        step = tick_step(end - max(begin, 0.0), 4)
        for index in range(int(max(end, 0.0) / step) + 1):
            x = plot.left() + (index * step - begin) / (end - begin) * plot.width()
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            words = "start" if index == 0 else str(duration_text(index * step, 2))
            draw_rich_text(
                painter,
                QRectF(x - px(50), plot.bottom() + px(4), px(100), px(16)),
                words,
                self._look,
                size="small",
                align=Qt.AlignmentFlag.AlignHCenter,
            )

    def _paint_legend(self, painter: QPainter) -> float:
        """Paint which run has which look; return where that begins."""
        px = self._look.px
        x = float(self.width() - px(16))
        for results, letter in ((self.second, "B"), (self.first, "A")):
            if results is None:
                continue
            width = min(width_of(self._look, results.run.name, "small") + px(2), px(_LONGEST_NAME))
            box = QRectF(x - width, px(6), width, px(18))
            draw_rich_text(painter, box, results.run.name, self._look, size="small", align=_RIGHT)
            draw_chip(painter, QRectF(box.left() - px(20), px(8), px(16), px(14)), letter, self._look)
            x = box.left() - px(34)
        return x
