"""The axis of current: the ramp, and the currents along it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter

from warm_ember.ui.lanes.heat import CurrentScale
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import quantity_text

_RAMP, _APART = 6, 10


def paint_current_axis(
    painter: QPainter, plot: QRectF, scale: CurrentScale, look: Appearance, *, room: float, grid: bool = False
) -> None:
    """Paint the ramp and the labels left of a plot.

    Parameters
    ----------
    painter, plot
        Where the plot is.
    scale
        Its axis.
    look
        Theme and type.
    room
        Width left of the plot for ramp and labels.
    grid
        Whether to draw a line across the plot at each label.
    """
    px, theme = look.px, look.theme
    heights = np.asarray(1 - (np.arange(round(plot.height())) + 0.5) / plot.height(), dtype=np.float64)
    ramp = QRectF(plot.left() - px(_APART), plot.top(), px(_RAMP), plot.height())
    draw_pixels(painter, ramp, theme.ramp.packed(scale.current(heights))[:, None])
    least, last_y = look.metrics("small").height() * 0.8, 1e9
    for value, _ in scale.ticks():
        y = plot.bottom() - float(scale.height(np.array([value]))[0]) * plot.height()
        if grid:
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        label_y = min(max(y, plot.top() + px(7)), plot.bottom() - px(5))
        if last_y - label_y < least:
            continue
        last_y = label_y
        box = QRectF(plot.left() - room, label_y - px(8), room - px(14), px(16))
        text = str(quantity_text(value, "A", 1 if scale.log else 2))
        draw_rich_text(painter, box, text, look, size="small", align=Qt.AlignmentFlag.AlignRight)


def draw_pixels(painter: QPainter, rect: QRectF, pixels: np.ndarray) -> None:
    """Draw an opaque 0xAARRGGBB array, shape ``(height, width)``, over a rectangle."""
    pixels = np.ascontiguousarray(pixels, dtype=np.uint32)
    height, width = pixels.shape
    painter.drawImage(rect, QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_RGB32))
