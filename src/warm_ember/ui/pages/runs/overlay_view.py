"""Two runs laid over each other: by a state, by time, by their cycles, or by the charge so far."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from warm_ember.session.run_results import RunResults
from warm_ember.signal.envelope import PixelColumns, envelope, per_column
from warm_ember.signal.fold import Fold
from warm_ember.ui.lanes.current_axis import paint_current_axis
from warm_ember.ui.lanes.flags import tick_step
from warm_ember.ui.lanes.heat import CurrentScale, heat_picture, log_scale
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text, width_of
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, quantity_text

MODES = ("state", "time", "cycle", "charge")
_RIGHT = Qt.AlignmentFlag.AlignRight
_LONGEST_NAME = 120
_BEFORE = 0.15


class Overlay(QWidget):
    """Two runs, one over the other on one axis of time."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.first: RunResults | None = None
        self.second: RunResults | None = None
        self.state = ""
        self.mode = MODES[0]
        self.folds: dict[str, Fold] = {}
        look.changed.connect(self.update)

    def show_runs(self, first: RunResults | None, second: RunResults | None, state: str) -> None:
        """Show two runs; `state` is what they are aligned at where they are laid by a state."""
        self.first, self.second, self.state = first, second, state
        self.update()

    def show_folds(self, folds: dict[str, Fold]) -> None:
        """Show the cycles of both, by the names of the runs."""
        self.folds = folds
        self.update()

    def set_mode(self, mode: str) -> None:
        """Lay them by a state, by time, by cycle, or by charge."""
        self.mode, self.folds = mode, {}
        self.update()

    @property
    def runs(self) -> list[tuple[RunResults, str]]:
        """The runs with their letters."""
        return [(run, letter) for run, letter in ((self.first, "A"), (self.second, "B")) if run is not None]

    def _entry(self, results: RunResults) -> tuple[float, float] | None:
        placement = results.placement
        interval_s = results.capture.current.interval_s
        mine = np.flatnonzero(placement.of(self.state))
        if not len(mine):
            return None
        lengths = np.diff(placement.edges)[mine]
        # An entry cut off by the capture's start would align at nothing.
        inner = mine[placement.edges[mine] > 0] if (placement.edges[mine] > 0).any() else mine
        lengths = np.diff(placement.edges)[inner]
        at = inner[int(np.argmax(lengths))]
        return float(placement.edges[at] * interval_s), float(placement.edges[at + 1] * interval_s)

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(self.width() - 0.5, 0), QPointF(self.width() - 0.5, self.height()))
        draw_rich_text(painter, QRectF(px(16), px(6), px(400), px(18)), self._title(), look, dim=theme.ink)
        plot = QRectF(px(96), px(32), self.width() - px(104), self.height() - px(64))
        shown, span_s = self._shown(max(1, int(plot.width())))
        if not shown:
            draw_rich_text(painter, QRectF(px(16), px(32), px(400), px(18)), self._missing(), look)
            painter.end()
            return
        painter.fillRect(plot, theme.sunken)
        if self.mode == "charge":
            self._paint_charges(painter, plot, shown, span_s)
        else:
            self._paint_runs(painter, plot, shown)
        self._paint_time(painter, plot, span_s)
        self._paint_legend(painter)
        painter.end()

    def _title(self) -> str:
        cycles = sum(len(fold.starts) for fold in self.folds.values())
        return {
            "state": f"The longest {self.state} of each, aligned at its start" if self.state else "One over the other",
            "time": "Both captures from their beginning",
            "cycle": f"One cycle of each: median of {cycles}" if cycles else "One cycle of each",
            "charge": "Charge so far",
        }[self.mode]

    def _missing(self) -> str:
        if not self.runs:
            return "Pick two runs above."
        words = {"state": "Neither run has this state.", "cycle": "Folding the cycles …"}
        return words.get(self.mode, "Nothing was measured.")

    def _shown(self, width: int) -> tuple[list[tuple[PixelColumns, str]], tuple[float, float]]:
        """Return what is drawn of each run, and from when to when on the axis."""
        if self.mode == "cycle":
            return self._cycles(width)
        if self.mode == "state":
            return self._states(width)
        end_s = max((run.capture.duration_s for run, _ in self.runs), default=1.0)
        return [(self._cut(run, 0.0, end_s, width), letter) for run, letter in self.runs], (0.0, end_s)

    @staticmethod
    def _cut(run: RunResults, from_s: float, to_s: float, width: int) -> PixelColumns:
        series = run.capture.current
        found = envelope(series, max(0.0, from_s), min(to_s, run.capture.duration_s), width)
        return per_column(found, from_s, to_s, width)

    def _states(self, width: int) -> tuple[list[tuple[PixelColumns, str]], tuple[float, float]]:
        entries = [(run, letter, entry) for run, letter in self.runs if (entry := self._entry(run)) is not None]
        if not entries:
            return [], (0.0, 1.0)
        # The shorter of the two sets the scale, so that it is not lost beside the other.
        shortest_s = min(end - start for _, _, (start, end) in entries)
        length_s = 1.6 * max(shortest_s, 20 * max(run.capture.current.interval_s for run, _, _ in entries))
        before_s, after_s = _BEFORE * length_s, (1 - _BEFORE) * length_s
        shown = [
            (self._cut(run, start - before_s, start + after_s, width), letter) for run, letter, (start, _) in entries
        ]
        return shown, (-before_s, after_s)

    def _cycles(self, width: int) -> tuple[list[tuple[PixelColumns, str]], tuple[float, float]]:
        folds = [(self.folds[run.run.name], letter) for run, letter in self.runs if run.run.name in self.folds]
        if not folds:
            return [], (0.0, 1.0)
        from_s, to_s = (pick(float(f.edges_s[end]) for f, _ in folds) for pick, end in ((min, 0), (max, -1)))
        times_s = from_s + (np.arange(width) + 0.5) / width * (to_s - from_s)
        shown = []
        for fold, letter in folds:
            at = np.searchsorted(fold.edges_s, times_s, side="right") - 1
            inside = (at >= 0) & (at < len(fold.median_a))
            low, middle, high = (
                np.where(inside, values[np.clip(at, 0, len(values) - 1)], np.nan).astype(np.float64)
                for values in (fold.low_a, fold.median_a, fold.high_a)
            )
            shown.append((PixelColumns(low, high, middle), letter))
        return shown, (from_s, to_s)

    def _paint_charges(
        self, painter: QPainter, plot: QRectF, shown: list[tuple[PixelColumns, str]], span_s: tuple[float, float]
    ) -> None:
        """Draw the charge so far of both: where they part is where they differ."""
        look, theme, px = self._look, self._look.theme, self._look.px
        column_s = (span_s[1] - span_s[0]) / len(shown[0][0].mean)
        sums = [(np.cumsum(np.nan_to_num(columns.mean)) * column_s, columns, letter) for columns, letter in shown]
        most_c = max(float(charges[-1]) for charges, _, _ in sums) or 1.0
        for part in range(5):
            y = plot.bottom() - part / 4 * plot.height()
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            words = str(quantity_text(most_c * part / 4, "C")) if part else "0"
            box = QRectF(0, y - px(9), plot.left() - px(8), px(18))
            draw_rich_text(painter, box, words, look, size="small", align=_RIGHT)
        for charges, columns, letter in sums:
            known = np.flatnonzero(~np.isnan(columns.mean))
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

    def _paint_runs(self, painter: QPainter, plot: QRectF, shown: list[tuple[PixelColumns, str]]) -> None:
        theme = self._look.theme
        width, rows = max(1, int(plot.width())), max(1, int(plot.height()))
        positive = np.concatenate([c.mean[c.mean > 0] for c, _ in shown]) if shown else np.empty(0)
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

    def _paint_time(self, painter: QPainter, plot: QRectF, span_s: tuple[float, float]) -> None:
        px, theme = self._look.px, self._look.theme
        begin, end = span_s
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

    def _paint_legend(self, painter: QPainter) -> None:
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
