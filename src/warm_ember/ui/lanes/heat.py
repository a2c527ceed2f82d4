"""Envelopes as pictures: painted by height like the axis, on a log or linear scale of current."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Flags, Floats
from warm_ember.signal.envelope import PixelColumns
from warm_ember.ui.look.theme import Theme

_THINNEST = 2.0


@dataclass(frozen=True)
class CurrentScale:
    """Currents to heights: 0 at the bottom, 1 at the top.

    Parameters
    ----------
    low_a, high_a
        Ends of the axis.
    log
        Whether it is by decades.
    """

    low_a: float
    high_a: float
    log: bool

    def height(self, current_a: Floats) -> Floats:
        """Return heights; at or below a log axis' floor 0."""
        if not self.log:
            return (current_a - self.low_a) / (self.high_a - self.low_a)
        with np.errstate(divide="ignore", invalid="ignore"):
            decades = np.log10(np.maximum(current_a, self.low_a) / self.low_a)
        return np.where(np.isnan(current_a), np.nan, decades / np.log10(self.high_a / self.low_a))

    def current(self, height: Floats) -> Floats:
        """Return the current at heights."""
        if not self.log:
            return self.low_a + height * (self.high_a - self.low_a)
        return self.low_a * (self.high_a / self.low_a) ** height

    def ticks(self) -> list[tuple[float, bool]]:
        """Return the currents to mark, and whether each carries a label."""
        if self.log:
            first, last = round(np.log10(self.low_a)), round(np.log10(self.high_a))
            return [(10.0**decade, True) for decade in range(first, last + 1)]
        step = 10 ** np.floor(np.log10((self.high_a - self.low_a) / 2))
        for factor in (1, 2, 5, 10):
            if (self.high_a - self.low_a) / (step * factor) <= 6:
                step *= factor
                break
        first = np.ceil(self.low_a / step)
        return [(float(k * step), True) for k in np.arange(first, np.floor(self.high_a / step) + 1)]


def columns_from(
    low: Sequence[float | None], high: Sequence[float | None], mean: Sequence[float | None]
) -> PixelColumns:
    """Return pixel columns of numbers, None where nothing was measured."""
    return PixelColumns(*(np.array(one, dtype=np.float64) for one in (low, high, mean)))


def log_scale(lowest_a: float, highest_a: float) -> CurrentScale:
    """Return a log axis of whole decades around positive currents."""
    highest_a = max(highest_a, 1e-8)
    lowest_a = min(max(lowest_a, 1e-9), highest_a / 10)
    top = np.ceil(np.log10(highest_a) - 1e-9)
    bottom = np.floor(np.log10(lowest_a) - 0.5)
    return CurrentScale(float(10 ** max(bottom, -9.0)), float(10**top), log=True)


def heat_picture(
    columns: PixelColumns, scale: CurrentScale, rows: int, theme: Theme, *, ground: Flags | None = None
) -> np.ndarray:
    """Paint an envelope.

    Parameters
    ----------
    columns
        What to paint.
    scale, rows
        The axis and its height in pixels.
    theme
        The ramp, and the ground behind.
    ground
        Flags the rows with a grid line, shape ``(rows,)``: the picture is then opaque, with the grid above the
        envelope and a faint tint by the mean below it. None leaves all but the envelope transparent.

    Returns
    -------
    ndarray
        0xAARRGGBB, shape ``(rows, columns)``.
    """
    # Whole rows as small integers: comparing a picture's worth of them is what this costs.
    row = np.arange(rows, dtype=np.int16)[:, None]
    first, end = _rows_between(columns, scale, rows)
    by_height = theme.ramp.packed(scale.current(1 - (np.arange(rows) + 0.5) / rows))[:, None]
    above: np.ndarray | np.uint32 = np.uint32(0)
    below: np.ndarray | np.uint32 = np.uint32(0)
    if ground is not None:
        plain = np.uint32(theme.sunken.rgb())
        above = np.where(ground, np.uint32(theme.grid.rgb()), plain)[:, None]
        tint = _blended(theme.ramp.packed(np.nan_to_num(columns.mean)), plain, 0.13 if theme.is_night else 0.11)
        below = np.where(np.isnan(columns.mean), plain, tint)[None, :]
    picture = np.empty((rows, len(first)), dtype=np.uint32)
    picture[:] = below
    np.copyto(picture, by_height, where=row < end)
    np.copyto(picture, above, where=row < first)
    return picture


def _rows_between(columns: PixelColumns, scale: CurrentScale, rows: int) -> tuple[np.ndarray, np.ndarray]:
    """Return the first and last-plus-one row of the envelope in each column."""
    bottom, top = _rows_of(columns.low, scale, rows), _rows_of(columns.high, scale, rows)
    bottom, top = _joined(bottom, top)
    middle, short = (bottom + top) / 2, bottom - top < _THINNEST
    bottom = np.where(short, middle + _THINNEST / 2, bottom)
    top = np.where(short, middle - _THINNEST / 2, top)
    return _whole(np.floor(top), rows), _whole(np.ceil(bottom), rows)


def _whole(row: Floats, rows: int) -> np.ndarray:
    return np.where(np.isnan(row), rows, np.clip(row, -1, rows + 1)).astype(np.int16)


def _blended(colors: np.ndarray, ground: np.uint32, share: float) -> np.ndarray:
    """Lay colours thinly over a ground, channel by channel."""
    mixed = np.zeros_like(colors)
    for shift in (0, 8, 16):
        part = (colors >> np.uint32(shift) & 0xFF) * share + (int(ground) >> shift & 0xFF) * (1 - share)
        mixed |= np.rint(part).astype(np.uint32) << np.uint32(shift)
    return mixed | np.uint32(0xFF000000)


def draw_line(picture: np.ndarray, height: Floats, ink: int, halo: int | None = None) -> None:
    """Draw a line through a picture in place.

    Parameters
    ----------
    picture
        0xAARRGGBB, shape ``(rows, columns)``.
    height
        Of the line in each column, 0 at the bottom to 1 at the top, NaN where there is none, shape ``(columns,)``.
    ink, halo
        Its colour, and that of the pixel above and below it.
    """
    rows = len(picture)
    at = np.round((1 - height) * (rows - 1))
    bottom, top = _joined(at, at)
    first, last = _whole(top, rows), np.where(np.isnan(bottom), -1, np.clip(bottom, 0, rows)).astype(np.int16)
    known = last >= first
    if not known.any():
        return
    reach = slice(max(0, int(first[known].min()) - 1), min(rows, int(last[known].max()) + 2))
    part, row = picture[reach], np.arange(rows, dtype=np.int16)[reach, None]
    if halo is not None:
        np.copyto(part, np.uint32(halo), where=(row >= first - 1) & (row <= last + 1))
    np.copyto(part, np.uint32(ink), where=(row >= first) & (row <= last))


def _rows_of(current_a: Floats, scale: CurrentScale, rows: int) -> Floats:
    return (1 - scale.height(current_a)) * rows


def _joined(bottom: Floats, top: Floats) -> tuple[Floats, Floats]:
    """Reach over to the neighbouring column where two columns do not overlap, so that a step has its riser."""
    reaches_down, reaches_up = bottom.copy(), top.copy()
    with np.errstate(invalid="ignore"):
        lower = bottom[:-1] < top[1:]
        higher = top[:-1] > bottom[1:]
    reaches_up[1:][lower] = bottom[:-1][lower]
    reaches_down[1:][higher] = top[:-1][higher]
    return reaches_down, reaches_up
