"""A kind of wakes as a picture: its median in the full ramp, and beside it where eight in ten of its wakes go."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from warm_ember.model.arrays import Floats
from warm_ember.session.kind_results import KindPicture
from warm_ember.session.records import PixelColumns
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.heat import CurrentScale, draw_line, heat_picture, log_scale
from warm_ember.ui.look.theme import Appearance

_BAND = 0.5
_EDGE = 4


def scale_of(pictures: dict[str, KindPicture], floor_a: float) -> CurrentScale:
    """Return one axis for all kinds of a capture: whole decades, from below the floor to the highest."""
    highest = max((float(np.nanmax(one.high_a)) for one in pictures.values()), default=1e-3)
    return log_scale(max(floor_a, 1e-9), highest)


def draw_kind(painter: QPainter, rect: QRectF, picture: KindPicture, scale: CurrentScale, look: Appearance) -> None:
    """Draw the wakes of a kind laid on each other, on an axis painted with the ramp."""
    edge = look.px(_EDGE)
    plot = rect.adjusted(edge, 0, 0, 0)
    pixels = _ground(painter, plot, scale, look)
    if not picture.single:
        _lay(pixels, _painted(picture.low_a, picture.high_a, pixels, scale, look), _BAND)
    _lay(pixels, _painted(picture.median_a, picture.median_a, pixels, scale, look), 1.0)
    draw_pixels(painter, plot, pixels)
    axis = QRectF(rect.left(), rect.top(), edge - 1, rect.height())
    rows = max(round(axis.height()), 2)
    colors = look.theme.ramp.packed(scale.current(1 - (np.arange(rows) + 0.5) / rows))
    draw_pixels(painter, axis, np.repeat(colors[:, None], 2, axis=1))


def draw_course(
    painter: QPainter, rect: QRectF, course_a: Floats, picture: KindPicture, scale: CurrentScale, look: Appearance
) -> None:
    """Draw the course of one wake, as a mark of the reader's, over the median of its kind."""
    pixels = _ground(painter, rect, scale, look)
    _lay(pixels, _painted(picture.median_a, picture.median_a, pixels, scale, look), 1.0)
    draw_line(pixels, scale.height(_across(course_a, pixels.shape[1])), look.theme.mark.rgb())
    draw_pixels(painter, rect, pixels)


def _ground(painter: QPainter, rect: QRectF, scale: CurrentScale, look: Appearance) -> np.ndarray:
    """Return the ground of a picture with a line for each decade, 0xAARRGGBB, shape ``(rows, columns)``."""
    ratio = painter.device().devicePixelRatioF()
    width, rows = max(round(rect.width() * ratio), 2), max(round(rect.height() * ratio), 4)
    pixels = np.full((rows, width), np.uint32(look.theme.sunken.rgb()), dtype=np.uint32)
    marks = np.array([current_a for current_a, _ in scale.ticks()[1:-1]])
    if len(marks):
        at = np.rint((1 - scale.height(marks)) * rows).astype(np.int64)
        pixels[np.clip(at, 0, rows - 1)] = np.uint32(look.theme.grid.rgb())
    return pixels


def _painted(low_a: Floats, high_a: Floats, pixels: np.ndarray, scale: CurrentScale, look: Appearance) -> np.ndarray:
    """Return what lies between two curves in the ramp's colours, and nothing elsewhere."""
    rows, width = pixels.shape
    low, high = _across(low_a, width), _across(high_a, width)
    return heat_picture(PixelColumns(low, high, high), scale, rows, look.theme)


def _lay(pixels: np.ndarray, over: np.ndarray, share: float) -> None:
    """Lay a picture over another in place, where it is anything, as thick as a share says."""
    there = over != 0
    mixed = np.full(int(there.sum()), 0xFF000000, dtype=np.uint32)
    for shift in (0, 8, 16):
        above, below = (over[there] >> np.uint32(shift) & 0xFF), (pixels[there] >> np.uint32(shift) & 0xFF)
        mixed |= np.rint(above * share + below * (1 - share)).astype(np.uint32) << np.uint32(shift)
    pixels[there] = mixed


def _across(values: Floats, width: int) -> Floats:
    """Return values in so many columns."""
    return np.asarray(values[np.minimum(np.arange(width) * len(values) // width, len(values) - 1)], dtype=np.float64)
