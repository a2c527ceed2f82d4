"""Two runs against each other: one stretch of each laid over the other, and the difference per state."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from warm_ember.session.results import RunResults
from warm_ember.signal.envelope import Columns, envelope, per_column
from warm_ember.tuning.difference import Difference
from warm_ember.ui.lanes.current_axis import paint_current_axis
from warm_ember.ui.lanes.flags import tick_step
from warm_ember.ui.lanes.heat import CurrentScale, heat_picture, log_scale
from warm_ember.ui.look.marked import draw_chip, draw_marked
from warm_ember.ui.look.textures import FINE, swatches, texture_brush
from warm_ember.ui.look.theme import Look
from warm_ember.units import duration_text, months_text

_RIGHT = Qt.AlignmentFlag.AlignRight


class DifferenceTable(QWidget):
    """What each state adds in A and in B, with the change against the noise of both."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.rows: tuple[Difference, ...] = ()
        self.first: RunResults | None = None
        self.second: RunResults | None = None
        look.changed.connect(self.update)

    def show_runs(self, first: RunResults | None, second: RunResults | None, rows: tuple[Difference, ...]) -> None:
        """Show two runs."""
        self.first, self.second, self.rows = first, second, rows
        self.update()

    def text(self) -> str:
        """Return the table as tab-separated text."""
        lines = ["state\tA (A)\tB (A)\tchange (A)\tnoise (A)\treal"]
        lines += [
            f"{d.name}\t{d.before_a:.6g}\t{d.after_a:.6g}\t{d.change_a:.6g}\t{d.noise_a:.6g}\t{d.is_real}"
            for d in self.rows
        ]
        return "\n".join(lines)

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        draw_marked(painter, QRectF(px(16), px(6), px(300), px(18)), "Difference per state", look, dim=theme.ink)
        if self.first is None or self.second is None:
            draw_marked(
                painter,
                QRectF(px(16), px(32), self.width(), px(18)),
                "Pick two runs above: click for B, Shift-click for A.",
                look,
            )
            painter.end()
            return
        draw_marked(
            painter,
            QRectF(px(300), px(6), self.width() - px(316), px(18)),
            "bar: change; outline: noise of both",
            look,
            size="small",
            align=_RIGHT,
        )
        y = px(30)
        for right, words in ((250, "A, µA"), (326, "B, µA"), (410, "change ▾")):
            draw_marked(painter, QRectF(px(right - 90), y, px(90), px(16)), words, look, size="small", align=_RIGHT)
        draw_marked(painter, QRectF(px(28), y, px(90), px(16)), "state", look, size="small")
        looks = swatches(look, [(s.name, s.mean_a) for s in (*self.first.by_state, *self.second.by_state)])
        least = px(22)
        room = self.height() - px(50) - px(58)
        height = int(min(px(30), max(least, room / max(len(self.rows), 1))))
        for index, row in enumerate(self.rows[: max(1, int(room / height))]):
            top = px(50) + index * height
            painter.setPen(theme.rule)
            painter.drawLine(QPointF(px(8), top), QPointF(self.width() - px(8), top))
            painter.fillRect(QRectF(px(16), top + px(4), px(5), height - px(8)), looks[row.name].color)
            self._paint_row(painter, row, top, height)
        self._paint_sums(painter, self.height() - px(54))
        painter.end()

    def _paint_row(self, painter: QPainter, row: Difference, top: float, height: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        draw_marked(painter, QRectF(px(28), top, px(130), height), row.name, look, dim=theme.ink)
        for right, value in ((250, row.before_a), (326, row.after_a)):
            draw_marked(
                painter,
                QRectF(px(right - 90), top, px(90), height),
                f"**{_micro(value)}**",
                look,
                align=_RIGHT,
            )
        change = ("+" if row.change_a > 0 else "") + _micro(row.change_a)
        draw_marked(
            painter,
            QRectF(px(320), top, px(90), height),
            f"**{change}**" if row.is_real else change,
            look,
            align=_RIGHT,
        )
        box = QRectF(px(424), top, self.width() - px(424 + 78), height)
        zero = box.center().x()
        painter.setPen(theme.dim)
        painter.drawLine(QPointF(zero, top), QPointF(zero, top + height))
        reach = self._reach(row.change_a) * box.width() / 2
        noise = self._reach(row.noise_a) * box.width() / 2
        bar = QRectF(min(zero, zero + reach), top + px(6), max(abs(reach), 1), height - px(12))
        color = theme.ramp.color(abs(row.change_a))
        painter.fillRect(bar, color if row.is_real else texture_brush(FINE, color))
        painter.setPen(QPen(theme.faint, 1))
        painter.drawRect(QRectF(zero - noise, top + px(4), 2 * noise, height - px(8)))
        words = "real" if row.is_real else "in noise"
        draw_marked(
            painter,
            QRectF(self.width() - px(76), top, px(64), height),
            words,
            look,
            size="small",
            dim=theme.ink if row.is_real else theme.faint,
            align=_RIGHT,
        )

    def _reach(self, current_a: float) -> float:
        """Return a signed share of the half axis, logarithmic from 0.1 µA."""
        most = max((max(abs(d.change_a), d.noise_a) for d in self.rows), default=1e-6)
        decades = np.log10(max(most, 1e-6) / 1e-7)
        size = np.log10(max(abs(current_a), 1e-7) / 1e-7) / decades
        return float(np.sign(current_a) * size)

    def _paint_sums(self, painter: QPainter, top: float) -> None:
        if self.first is None or self.second is None:
            return
        look, theme, px = self._look, self._look.theme, self._look.px
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(px(8), top), QPointF(self.width() - px(8), top))
        pairs = (
            ("average, µA", self.first.load.mean_a, self.second.load.mean_a, _micro),
            (
                "months of life",
                self.first.life.life_s,
                self.second.life.life_s,
                lambda v: months_text(v).number,
            ),
        )
        for line, (words, before, after, write) in enumerate(pairs):
            y = top + px(4 + 23 * line)
            draw_marked(painter, QRectF(px(28), y, px(140), px(20)), words, look, dim=theme.ink)
            for right, text in (
                (250, write(before)),
                (326, write(after)),
                (410, ("+" if after > before else "") + write(after - before)),
            ):
                draw_marked(painter, QRectF(px(right - 90), y, px(90), px(20)), f"**{text}**", look, align=_RIGHT)


def _micro(current_a: float) -> str:
    return f"{current_a * 1e6:.1f}".replace("-", "−")


class Overlay(QWidget):
    """The same state of two runs, one over the other on one axis of time."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.first: RunResults | None = None
        self.second: RunResults | None = None
        self.state = ""
        look.changed.connect(self.update)

    def show_runs(self, first: RunResults | None, second: RunResults | None, state: str) -> None:
        """Show the longest entry of a state in both runs, aligned at its start."""
        self.first, self.second, self.state = first, second, state
        self.update()

    def _window(self, results: RunResults, length_s: float) -> tuple[float, float] | None:
        """Return the window around the longest entry of the state."""
        entry = self._entry(results)
        return None if entry is None else (entry[0] - 0.15 * length_s, entry[0] + 0.85 * length_s)

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
        title = f"The longest {self.state} of each, aligned at its start" if self.state else "One over the other"
        draw_marked(painter, QRectF(px(16), px(6), px(360), px(18)), title, look, dim=theme.ink)
        runs = [(r, letter) for r, letter in ((self.first, "A"), (self.second, "B")) if r is not None]
        entries = [entry for r, _ in runs if (entry := self._entry(r)) is not None]
        if not entries:
            words = "Neither run has this state." if runs else "Pick two runs above."
            draw_marked(painter, QRectF(px(16), px(32), px(360), px(18)), words, look)
            painter.end()
            return
        # The shorter of the two sets the scale, so that it is not lost beside the other.
        length_s = 1.6 * min(
            max(
                min(end - start for start, end in entries),
                20 * max(r.capture.current.interval_s for r, _ in runs),
            ),
            1e9,
        )
        plot = QRectF(px(96), px(32), self.width() - px(104), self.height() - px(64))
        painter.fillRect(plot, theme.sunken)
        self._paint_runs(painter, plot, runs, length_s)
        self._paint_time(painter, plot, length_s)
        self._paint_legend(painter)
        painter.end()

    def _paint_runs(self, painter: QPainter, plot: QRectF, runs: list[tuple[RunResults, str]], length_s: float) -> None:
        theme = self._look.theme
        width, rows = max(1, int(plot.width())), max(1, int(plot.height()))
        shown: list[tuple[Columns, str]] = []
        for results, letter in runs:
            window = self._window(results, length_s)
            if window is not None:
                found = envelope(
                    results.capture.current,
                    max(0.0, window[0]),
                    min(window[1], results.capture.duration_s),
                    width,
                )
                shown.append((per_column(found, *window, width), letter))
        positive = np.concatenate([c.mean[c.mean > 0] for c, _ in shown]) if shown else np.empty(0)
        if not len(positive):
            return
        scale = log_scale(float(positive.min()), float(max(np.nanmax(c.high) for c, _ in shown)))
        self._paint_axis(painter, plot, scale)
        if len(shown) == 2:
            self._paint_between(painter, plot, scale, shown)
        for columns, letter in shown:
            picture = heat_picture(columns, scale, rows, theme)
            pixels = np.ascontiguousarray(picture)
            painter.drawImage(plot, QImage(pixels.data, width, rows, 4 * width, QImage.Format.Format_ARGB32))
            self._paint_chip(painter, plot, scale, columns, letter)

    def _paint_between(
        self, painter: QPainter, plot: QRectF, scale: CurrentScale, shown: list[tuple[Columns, str]]
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

    def _paint_chip(self, painter: QPainter, plot: QRectF, scale: CurrentScale, columns: Columns, letter: str) -> None:
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

    def _paint_time(self, painter: QPainter, plot: QRectF, length_s: float) -> None:
        px, theme = self._look.px, self._look.theme
        step = tick_step(0.85 * length_s, 4)
        for index in range(int(0.85 * length_s / step) + 1):
            x = plot.left() + (0.15 + index * step / length_s) * plot.width()
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            words = "start" if index == 0 else str(duration_text(index * step, 2))
            draw_marked(
                painter,
                QRectF(x - px(50), plot.bottom() + px(4), px(100), px(16)),
                words,
                self._look,
                size="small",
                align=Qt.AlignmentFlag.AlignHCenter,
            )

    def _paint_legend(self, painter: QPainter) -> None:
        px = self._look.px
        x = self.width() - px(16)
        for results, letter in ((self.second, "B"), (self.first, "A")):
            if results is None:
                continue
            draw_marked(
                painter,
                QRectF(x - px(60), px(6), px(60), px(18)),
                results.run.name,
                self._look,
                size="small",
                align=_RIGHT,
            )
            chip = QRectF(x - px(44), px(8), px(16), px(14))
            draw_chip(painter, chip, letter, self._look)
            x -= px(64)
