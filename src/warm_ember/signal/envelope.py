"""What a lane draws: for each column of pixels the lowest, highest and mean sample under it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Blocks, Floats
from warm_ember.signal.pyramid import reduce_blocks, reduce_samples
from warm_ember.signal.series import Series


@dataclass(frozen=True, eq=False)
class Envelope:
    """Bins of a window, on a grid fixed at sample 0 so that they do not flicker while panning.

    Parameters
    ----------
    edges_s
        Ends of the bins, shape ``(bins + 1,)``.
    low, high, mean
        Per bin, NaN where nothing was measured, shape ``(bins,)``.
    total
        Integral over each bin: charge for a current, shape ``(bins,)``.
    single
        Whether each bin is one sample: it is then drawn as steps.
    """

    edges_s: Floats
    low: Floats
    high: Floats
    mean: Floats
    total: Floats
    single: bool


NOTHING = Envelope(np.zeros(1), *(np.empty(0),) * 4, single=False)
"""No bins at all."""


def envelope(series: Series, from_s: float, to_s: float, columns: int) -> Envelope:
    """Reduce a window to about one bin per column of pixels.

    Parameters
    ----------
    series
        The channel.
    from_s, to_s
        The window; parts outside the capture stay empty.
    columns
        Width of the lane in pixels.

    Notes
    -----
    The bin is the window's share of a column in whole samples or whole pyramid blocks, so at most
    ``16 * columns`` blocks or ``256 * columns`` samples are read.
    """
    interval_s = series.interval_s
    per_column = max((to_s - from_s) / interval_s / max(columns, 1), 1e-9)
    level = max((i for i, size in enumerate(series.levels) if size <= per_column), default=-1)
    unit = series.levels[level] if level >= 0 else 1
    units_per_bin = max(1, int(per_column / unit))
    bin_samples = unit * units_per_bin
    first_bin = max(0, int(from_s / interval_s / bin_samples))
    last_bin = min(-(-series.samples // bin_samples), int(to_s / interval_s / bin_samples) + 1)
    if last_bin <= first_bin:
        return NOTHING
    first, last = first_bin * bin_samples, min(last_bin * bin_samples, series.samples)
    blocks = _bins(series, level, unit, units_per_bin, first, last)
    edges = np.arange(first_bin, last_bin + 1, dtype=np.float64) * bin_samples
    edges[-1] = min(edges[-1], series.samples)
    counts = blocks["count"]
    mean = np.divide(blocks["sum"], counts, out=np.full(len(blocks), np.nan), where=counts > 0)
    return Envelope(
        edges * interval_s,
        blocks["min"].astype(np.float64),
        blocks["max"].astype(np.float64),
        mean,
        blocks["sum"] * interval_s,
        single=bin_samples == 1,
    )


def current_span(series: Series) -> tuple[float, float]:
    """Return the lowest current above zero that lasts and the highest one.

    Parameters
    ----------
    series
        The current, A.

    Returns
    -------
    tuple of float
        The lowest mean of a thousandth of the channel and the highest sample, A; of a channel that is never above zero
        a microampere and a milliampere.
    """
    whole = envelope(series, 0.0, series.samples * series.interval_s, 1000)
    positive = whole.mean[whole.mean > 0]
    return (float(np.min(positive)), float(np.nanmax(whole.high))) if len(positive) else (1e-6, 1e-3)


def _bins(series: Series, level: int, unit: int, units_per_bin: int, first: int, last: int) -> Blocks:
    if level < 0:
        return reduce_samples(series.read(first, last), units_per_bin)
    blocks = series.blocks(level, first // unit, -(-last // unit))
    return blocks if units_per_bin == 1 else reduce_blocks(blocks, units_per_bin)


@dataclass(frozen=True, eq=False)
class PixelColumns:
    """An envelope by pixel column: lowest, highest and mean, NaN where there is nothing, shape ``(columns,)``."""

    low: Floats
    high: Floats
    mean: Floats


def per_column(bins: Envelope, from_s: float, to_s: float, columns: int) -> PixelColumns:
    """Spread an envelope's bins over the pixel columns of a window.

    A column takes all bins that it touches; a bin wider than a column fills every column it touches.
    """
    edges = np.linspace(from_s, to_s, columns + 1)
    nothing = np.full(columns, np.nan)
    if not len(bins.low):
        return PixelColumns(nothing, nothing, nothing)
    first = np.searchsorted(bins.edges_s, edges[:-1], side="right") - 1
    last = np.searchsorted(bins.edges_s, edges[1:], side="left") - 1
    inside = (last >= 0) & (first < len(bins.low))
    first = np.clip(first, 0, len(bins.low) - 1)
    last = np.clip(last, first, len(bins.low) - 1)
    pairs = np.column_stack((first, last + 1)).ravel()

    def reduced(ufunc: np.ufunc, values: Floats) -> Floats:
        padded = np.append(values, np.nan)
        found: Floats = ufunc.reduceat(padded, pairs)[::2]
        return np.where(inside, found, np.nan)

    known = ~np.isnan(bins.mean)
    weights = np.where(known, np.diff(bins.edges_s), 0.0)
    sums = np.concatenate(([0.0], np.cumsum(np.where(known, bins.mean, 0.0) * weights)))
    spans = np.concatenate(([0.0], np.cumsum(weights)))
    span = spans[last + 1] - spans[first]
    mean = np.divide(sums[last + 1] - sums[first], span, out=nothing.copy(), where=inside & (span > 0))
    return PixelColumns(reduced(np.fmin, bins.low), reduced(np.fmax, bins.high), mean)
