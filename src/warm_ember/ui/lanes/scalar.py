"""A channel on a linear axis of its own: voltage, power, or an auxiliary one."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QPainter

from warm_ember.model.band_limit import VOLTAGE
from warm_ember.signal.envelope import PixelColumns
from warm_ember.signal.series import Series
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.heat import draw_line
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.limited import course_of, limited_of, paint_hidden
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import quantity_text


class ScalarLane(Lane):
    """A channel on a linear axis of its own: voltage, power, or an auxiliary one."""

    name_top = 15

    def __init__(self, look: Appearance, window: TimeWindow, name: str, unit: str, height: int = 56) -> None:
        super().__init__(look, window, height)
        self.name, self.unit = name, unit
        self.setAccessibleName(name)
        self.setToolTip(tip(name))
        self._columns: PixelColumns | None = None
        self._ends = (0.0, 0.0)

    def series(self) -> Series | None:
        """Return the channel."""
        if self.results is None:
            return None
        capture = self.results.capture
        return {"Voltage": capture.voltage, "Power": capture.power}.get(self.name) or (
            capture.aux[self.name][0] if self.name in capture.aux else None
        )

    @property
    def _channel(self) -> str:
        return VOLTAGE if self.name == "Voltage" else self.name

    def has_data(self) -> bool:
        return self.series() is not None

    def head_key(self) -> object:
        return (super().head_key(), self._ends)

    def paint_head(self, painter: QPainter) -> None:
        """Paint the name, and the values at both ends of the axis."""
        super().paint_head(painter)
        self.paint_ends(painter, self._ends, self.unit)

    def paint_plot(self, painter: QPainter) -> None:
        series = self.series()
        if series is None:
            return
        rect, window, theme = self.plot_rect.adjusted(0, 1, 0, -1), self.window_on_time, self.look.theme
        painter.fillRect(rect, theme.sunken)
        width, height = self.columns_of(rect), round(rect.height() * self.devicePixelRatioF())
        self._columns = window.envelope(series, width)[1]
        if np.isnan(self._columns.mean).all():
            return
        low, high = float(np.nanmin(self._columns.low)), float(np.nanmax(self._columns.high))
        span = max(high - low, 1e-12)
        top = (0.9 - 0.8 * (self._columns.high - low) / span) * height
        bottom = (0.9 - 0.8 * (self._columns.low - low) / span) * height
        middle = (0.9 - 0.8 * (self._columns.mean - low) / span) * height
        row = np.arange(height)[:, None]
        ground, area = np.uint32(theme.sunken.rgb()), np.uint32(theme.faint.rgb())
        picture = np.where((row >= np.floor(top)) & (row <= np.ceil(bottom)), area, ground)
        limited = limited_of(self.results, self._channel)
        if limited is None:
            picture = np.where(np.abs(row - middle) <= 0.7, np.uint32(theme.ink.rgb()), picture)
        else:
            course = 0.1 + 0.8 * (course_of(limited, window, width) - low) / span
            draw_line(picture, course, theme.ink.rgb(), theme.sunken.rgb())
        draw_pixels(painter, rect, picture)
        if limited is not None:
            paint_hidden(painter, rect, limited, self.unit, self.look)
        self._ends = (low, high)

    def paint_over(self, painter: QPainter) -> None:
        time_s, window = self.window_on_time.cursor_s, self.window_on_time
        if time_s is None or self._columns is None:
            return
        column = int((time_s - window.from_s) / window.length_s * len(self._columns.mean))
        if 0 <= column < len(self._columns.mean):
            self.paint_value(painter, quantity_text(float(self._columns.mean[column]), self.unit, 4).rich)
