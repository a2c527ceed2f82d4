"""The charge that has flowed since the start of the capture."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QPainter

from warm_ember.model.arrays import Floats
from warm_ember.signal.stretch import total
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import quantity_text


class ChargeLane(Lane):
    """The charge that has flowed since the capture's start."""

    name = "Charge so far"
    name_top = 15

    def __init__(self, look: Appearance, window: TimeWindow, height: int = 64) -> None:
        super().__init__(look, window, height)
        self._charge: Floats = np.empty(0)
        self._ends = (0.0, 0.0)

    def head_key(self) -> object:
        return (super().head_key(), self._ends)

    def paint_head(self, painter: QPainter) -> None:
        """Paint the name, and the charge at both ends of the axis."""
        super().paint_head(painter)
        self.paint_ends(painter, self._ends, "C")

    def paint_plot(self, painter: QPainter) -> None:
        if self.results is None:
            return
        rect, window, theme = self.plot_rect.adjusted(0, 1, 0, -1), self.window_on_time, self.look.theme
        painter.fillRect(rect, theme.sunken)
        series, width = self.results.capture.current, self.columns_of(rect)
        found, shown = window.envelope(series, width)
        if not len(found.low):
            return
        first = round(float(found.edges_s[0]) / series.interval_s)
        before = window.reader.read(
            ("before", series), first, lambda: total(series, 0, first).total * series.interval_s
        )
        if before is None:
            return
        running = np.concatenate(([before], before + np.cumsum(found.total)))
        columns = np.linspace(window.from_s, window.to_s, width)
        self._charge = np.interp(columns, found.edges_s, running)
        colors = theme.ramp.packed(np.nan_to_num(shown.mean))
        low, high = float(self._charge.min()), float(self._charge.max())
        self._ends = (low, high)
        rows = round(rect.height() * self.devicePixelRatioF())
        y = (0.9 - 0.8 * (self._charge - low) / max(high - low, 1e-15)) * rows
        beside = np.concatenate((y[:1], y[:-1]))
        row = np.arange(rows, dtype=np.int16)[:, None]
        first_row, last_row = (np.floor(r).astype(np.int16) for r in (np.minimum(y, beside), np.maximum(y, beside)))
        ground = np.full(rows, np.uint32(theme.sunken.rgb()))
        ground[[int(0.1 * rows), int(0.9 * rows)]] = theme.grid.rgb()
        on = (row >= first_row) & (row <= last_row + 1)
        draw_pixels(painter, rect, np.where(on, colors[None, :], ground[:, None]))

    def paint_over(self, painter: QPainter) -> None:
        time_s, window = self.window_on_time.cursor_s, self.window_on_time
        if time_s is None or not len(self._charge):
            return
        column = int(np.clip((time_s - window.from_s) / window.length_s * len(self._charge), 0, len(self._charge) - 1))
        self.paint_value(painter, quantity_text(float(self._charge[column]), "C").rich)
