"""Envelopes as pictures: painted by height like the axis, on a log or linear scale of current."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.signal.envelope import Columns
from warm_ember.ui.look.theme import Theme


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


def log_scale(lowest_a: float, highest_a: float) -> CurrentScale:
    """Return a log axis of whole decades around positive currents."""
    highest_a = max(highest_a, 1e-8)
    lowest_a = min(max(lowest_a, 1e-9), highest_a / 10)
    top = np.ceil(np.log10(highest_a) - 1e-9)
    bottom = np.floor(np.log10(lowest_a) - 0.5)
    return CurrentScale(float(10 ** max(bottom, -9.0)), float(10**top), log=True)


def heat_picture(columns: Columns, scale: CurrentScale, rows: int, theme: Theme, *, thinnest: int = 2) -> np.ndarray:
    """Paint an envelope.

    Parameters
    ----------
    columns
        What to paint.
    scale, rows
        The axis and its height in pixels.
    theme
        The ramp, and the ground behind.
    thinnest
        Height of a flat trace in pixels.

    Returns
    -------
    ndarray
        0xAARRGGBB, shape ``(rows, columns)``: the envelope by height, below it a faint tint by the mean.
    """
    bottom, top = _rows_of(columns.low, scale, rows), _rows_of(columns.high, scale, rows)
    bottom, top = _joined(bottom, top)
    short = bottom - top < thinnest
    middle = (bottom + top) / 2
    bottom = np.where(short, middle + thinnest / 2, bottom)
    top = np.where(short, middle - thinnest / 2, top)
    row = np.arange(rows)[:, None]
    by_height = theme.ramp.packed(scale.current(1 - (np.arange(rows) + 0.5) / rows))[:, None]
    inside = (row >= np.floor(top)) & (row < np.ceil(bottom))
    below = row >= np.ceil(bottom)
    mean = np.where(np.isnan(columns.mean), 0.0, columns.mean)
    tint = theme.ramp.packed(mean) & np.uint32(0x00FFFFFF) | np.uint32(0x22000000 if theme.is_night else 0x1C000000)
    picture = np.zeros((rows, len(columns.low)), dtype=np.uint32)
    picture = np.where(below & ~np.isnan(columns.mean)[None, :], tint[None, :], picture)
    return np.where(inside, by_height, picture)


def _rows_of(current_a: Floats, scale: CurrentScale, rows: int) -> Floats:
    return (1 - scale.height(current_a)) * rows


def _joined(bottom: Floats, top: Floats) -> tuple[Floats, Floats]:
    """Reach over to the neighbouring column where two columns do not overlap, so that a step has its riser."""
    bottom, top = bottom.copy(), top.copy()
    with np.errstate(invalid="ignore"):
        lower = bottom[:-1] < top[1:]
        higher = top[:-1] > bottom[1:]
    top[1:][lower] = bottom[:-1][lower]
    bottom[1:][higher] = top[:-1][higher]
    return bottom, top
