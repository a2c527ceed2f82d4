"""The river itself: the band of the runs by place, its median, and the runs where there is room for them.

A history of ten thousand builds is drawn by pixel column, so that moving through it costs the same at any length.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen

from warm_ember.session.river import Band, River
from warm_ember.ui.look.ramp import Ramp
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.runs.river_scale import RiverScale

_LEAST_PLACE, _DOT = 5, 3
_SHADE, _LINE = 0x99000000, 0.55


def paint_river(
    painter: QPainter,
    band: Band,
    levels: Sequence[tuple[int, int, float]],
    scale: RiverScale,
    colors: tuple[Ramp, QColor],
) -> None:
    """Paint stretches without a change: their bands by their levels on the ramp, their medians as lines of ink."""
    plot = scale.plot
    width, height = math.ceil(plot.width()), math.ceil(plot.height())
    pixels = np.zeros((height, width), dtype=np.uint32)
    rows, columns = np.arange(height, dtype=np.uint16)[:, None], np.arange(width)
    ramp, ink = colors
    for first, last, level_a in levels:
        found = _by_column(band, (first, last), scale)
        if found is None:
            continue
        begin, end = (int(np.clip(round(scale.x_of(place) - plot.left()), 0, width)) for place in (first, last))
        if begin >= end:
            continue
        xs, bounds = found
        at = columns[begin:end] + 0.5 + plot.left()
        low, median, high = (np.interp(at, xs, scale.ys_of(bound)) - plot.top() for bound in bounds)
        color = (ramp.color(level_a).rgb() & 0xFFFFFF) | _SHADE
        stretch = pixels[:, begin:end]
        stretch[_between(rows, high, low)] = color
        before = np.concatenate((median[:1], median[:-1]))
        is_line = _between(rows, np.minimum(before, median) - _LINE, np.maximum(before, median) + _LINE)
        stretch[is_line] = ink.rgb()
    painter.drawImage(plot.topLeft(), QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_ARGB32))


def _between(rows: np.ndarray, top: np.ndarray, bottom: np.ndarray) -> np.ndarray:
    """Return which pixels lie between two lines, shape ``(rows, columns)``: one comparison each, of whole numbers."""
    first = np.maximum(np.ceil(top - 0.5), 0).astype(np.uint16)
    last = np.floor(bottom - 0.5).astype(np.int64)
    span = np.maximum(last - first + 1, 0).astype(np.uint16)
    return np.asarray((rows - first) < span)  # above the first row the difference wraps to what no span is


def _by_column(
    band: Band, ends: tuple[int, int], scale: RiverScale
) -> tuple[np.ndarray, tuple[np.ndarray, np.ndarray, np.ndarray]] | None:
    """Return where a stretch has points, and lowest, median and highest at them; None where none is in the window.

    Where places are narrower than pixels a pixel column has one point.
    """
    first, last = scale.shown(*ends)
    places = np.arange(first, max(last, first))
    places = places[np.isfinite(band.median[places])]
    if not len(places):
        return None
    xs = np.asarray(scale.x_of(places + 0.5))
    low, median, high = band.low[places], band.median[places], band.high[places]
    if scale.per_place < 1:
        begins = np.flatnonzero(np.diff(np.floor(xs), prepend=-math.inf))
        low, high = np.minimum.reduceat(low, begins), np.maximum.reduceat(high, begins)
        median = median[(begins + np.append(begins[1:], len(xs))) // 2]
        xs = xs[begins]
    return xs, (low, median, high)


def paint_runs(painter: QPainter, river: River, look: Appearance, scale: RiverScale, marked: tuple[int, int]) -> None:
    """Paint each run on its board's place within the build: hollow where it is only bounded, the marked ones ringed."""
    if scale.per_place < look.px(_LEAST_PLACE):
        return
    theme, history, trend, size = look.theme, river.history, river.trend, look.px(_DOT)
    first, last = np.searchsorted(history.place, (math.floor(scale.first), math.ceil(scale.last))).tolist()
    use = np.arange(first, last)
    values = history.values[use]
    at = history.place[use] + 0.15 + 0.7 * (trend.board[use] + 1) / (len(trend.boards) + 1)
    xs, ys = scale.x_of(at), scale.ys_of(values)
    is_bound, is_odd = history.bounds[use] != 0, trend.outlier[use]
    _paint_dots(painter, xs, ys, theme.ramp.packed(values), (~is_odd, is_bound), size, scale.plot)
    for one in np.flatnonzero(is_odd).tolist():
        painter.fillRect(QRectF(xs[one] - size / 2, ys[one] - size / 2, size, size), theme.ink)
        words = "one run, not a change"
        width = width_of(look, words, "small")
        box = QRectF(xs[one] - width - look.px(8), ys[one] - look.px(8), width + look.px(2), look.px(16))
        draw_rich_text(painter, box, words, look, size="small", on=theme.sunken)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(theme.ink, 1))
    for run in marked:
        if first <= run < last:
            x, y = float(xs[run - first]), float(ys[run - first])
            painter.drawRect(QRectF(x - size, y - size, 2 * size, 2 * size))


def _paint_dots(
    painter: QPainter,
    xs: np.ndarray,
    ys: np.ndarray,
    colors: np.ndarray,
    chosen: tuple[np.ndarray, np.ndarray],
    size: int,
    plot: QRectF,
) -> None:
    """Paint squares into a picture of the plot, at once however many; those of the second choice are hollow."""
    width, height = math.ceil(plot.width()), math.ceil(plot.height())
    is_shown, is_hollow = chosen
    pixels = np.zeros((height + 2 * size, width + 2 * size), dtype=np.uint32)
    rows = np.rint(ys - plot.top() - size / 2).astype(np.int64) + size
    columns = np.rint(xs - plot.left() - size / 2).astype(np.int64) + size
    is_shown = is_shown & (columns >= 0) & (columns < width + size) & (rows >= 0) & (rows < height + size)
    for row in range(size):
        for column in range(size):
            is_inside = 0 < row < size - 1 and 0 < column < size - 1
            use = is_shown & ~is_hollow if is_inside else is_shown
            pixels[rows[use] + row, columns[use] + column] = colors[use]
    inside = np.ascontiguousarray(pixels[size:-size, size:-size])
    image = QImage(inside.data, width, height, 4 * width, QImage.Format.Format_ARGB32)
    painter.drawImage(plot.topLeft(), image)
