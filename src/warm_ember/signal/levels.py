"""Levels of a current found in the current itself.

Sleep and radio lie six decades apart and the noise of sleep may reach below zero, so levels are sought on an
inverse-hyperbolic-sine scale: linear within the noise, logarithmic above it. Medians of short blocks, about a
millisecond long, keep out noise and pulses much shorter than a block; their histogram has a peak per level.
Edges are then placed to the sample.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices, Samples
from warm_ember.signal.pyramid import BLOCK_SAMPLES
from warm_ember.signal.reading_steps import are_apart
from warm_ember.signal.series import CHUNK_SAMPLES, Series, ShouldStop, never

MOST_LEVELS = 14
BLOCK_S = 1e-3
_MOST_BLOCKS = 4_000_000
_MOST_BLOCK_SAMPLES = 4096
_BIN = 0.01
_SMOOTH_BINS, _REACH_BINS = 2.0, 8
_SMOOTHING = np.exp(-0.5 * (np.arange(-_REACH_BINS, _REACH_BINS + 1) / _SMOOTH_BINS) ** 2)
_SMOOTHING /= _SMOOTHING.sum()
"""A Gaussian over four standard deviations to either side."""
_LEAST_BLOCKS = 3
_SMALLEST_SCALE_A = 1e-10
_LONG_SAMPLES = 10_000_000
_SUMMARY_BLOCKS = 1 << 14
_CALM = 0.2
_LOOKED_AT_FOR_STEP, _FEWEST_VALUES, _SHARE_OF_VALUES = 1 << 16, 12, 0.05
_NEIGHBOURS, _ON_GRID, _ALL_BUT = 0.3, 0.1, 0.95
_LEAST_PAIRS, _LEAST_CHANGES, _NO_MEMORY, _SURELY = 100, 0.02, 0.05, 3.0
_FOUR_FIFTHS = (0.1, 0.9)
_GOLDEN, _STEPS_LINEAR = 0.6180339887498949, 4.0
_WIDE = 0.3
_LOOKED_AT = 1024
_READ_AT_ONCE = 1 << 20
_FLOOR_BLOCKS = 64
_BLOCKS_AT_ONCE = 1024
_CLOSE_BLOCKS = 24
"""Blocks that are so close are read together: reading what lies between costs less than another read."""
_WIDEST_NOISE = 8.0
_RANGE_OF_BLOCK = 5.6  # expected range of 256 normal values, in standard deviations


@dataclass(frozen=True, eq=False)
class Levels:
    """A capture cut at the changes of its level.

    Parameters
    ----------
    centres_a
        The levels, lowest first, shape ``(levels,)``.
    edges
        Sample indices, rising from 0 to the capture's length, shape ``(intervals + 1,)``.
    level
        Index of the level of each interval; -1 where nothing was measured, shape ``(intervals,)``.
    scale_a
        Below about this current the scale is linear.
    spreads_a
        From where to where four fifths of each level's blocks lie, shape ``(levels, 2)``.
    number
        By which number each level goes, shape ``(levels,)``; see `numbered`. Empty where the order of the centres
        counts.
    """

    centres_a: Floats
    edges: Indices
    level: Indices
    scale_a: float
    spreads_a: Floats = field(default_factory=lambda: np.empty((0, 2)))
    number: Indices = field(default_factory=lambda: np.empty(0, dtype=np.int64))

    def name_of(self, level: int) -> str:
        """Return what a level is called."""
        return f"level {self.number[level] if len(self.number) else level + 1}"


def find_levels(
    series: Series, *, most: int = MOST_LEVELS, centres_a: tuple[float, ...] = (), should_stop: ShouldStop = never
) -> Levels:
    """Find the levels of a current and where it changes between them.

    Parameters
    ----------
    series
        The current, A.
    most
        How many levels at most.
    centres_a
        Levels that are known already, lowest first: only where the current is at which of them is found.
    should_stop
        Polled between chunks.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    A level is a peak of the histogram of block medians that stands out of the valley beside it by its own counting
    error; at most `most` are kept, the most distinct. Memory is bounded. Of a long capture only those parts are read
    whose summary blocks are not calm: in a calm one, whose mean lies midway between its extremes and which is not
    wider than noise, the median is taken to be the mean.

    References
    ----------
    Levels as the modes of a histogram of state levels: IEEE Std 181-2011, clause 5.2.
    """
    if series.samples == 0:
        return Levels(np.empty(0), np.array([0]), np.empty(0, dtype=np.int64), _SMALLEST_SCALE_A)
    size = _block_samples(series)
    medians, spreads = _block_medians(series, size, should_stop)
    measured = ~np.isnan(medians)
    if not measured.any():
        return Levels(np.empty(0), np.array([0, series.samples]), np.array([-1]), _SMALLEST_SCALE_A)
    step_a = _step(medians[measured])
    scale_a = max(_noise_scale(medians[measured], spreads[measured], size), _STEPS_LINEAR * step_a)
    scaled = np.arcsinh(medians / scale_a)
    known = np.arcsinh(np.array(centres_a) / scale_a)
    limits = (known[:-1] + known[1:]) / 2
    if not len(known):
        limits = _limits(np.arcsinh(_between_steps(medians[measured], step_a) / scale_a), most)
    labels = np.where(measured, np.searchsorted(limits, scaled), -1).astype(np.int64)
    labels = _absorb_transitions(labels)
    if not len(known):
        labels = _renumber(labels)
    levels = range(len(known) or int(labels.max()) + 1)
    on_level = [np.sort(scaled[labels == index]) for index in levels]
    centres = known if len(known) else np.array([_quantile(those, 0.5) for those in on_level])
    spreads_a = np.array([[_quantile(those, share) for share in _FOUR_FIFTHS] for those in on_level])
    starts = np.flatnonzero(np.diff(labels, prepend=-2))
    edges = starts * size
    if size > 1:
        edges[1:] = _refined(series, starts[1:], labels, centres, size, scale_a, should_stop)
    edges = np.append(np.maximum.accumulate(edges), series.samples)
    level = labels[starts]
    not_empty = np.diff(edges) > 0
    edges = np.append(edges[:-1][not_empty], series.samples)
    found_a, spread_a = np.sinh(centres) * scale_a, np.sinh(spreads_a) * scale_a
    return Levels(found_a, edges.astype(np.int64), level[not_empty], scale_a, spread_a)


def _quantile(ordered: Floats, share: float) -> float:
    """Return a quantile of values that rise, straight between them; NaN of none."""
    if not len(ordered):
        return math.nan
    place = share * (len(ordered) - 1)
    low, high = ordered[math.floor(place)], ordered[math.ceil(place)]
    return float(low + (place % 1.0) * (high - low))


def _block_samples(series: Series) -> int:
    duration_s = series.samples * series.interval_s
    wanted = min(BLOCK_S, duration_s / 20_000) / series.interval_s
    least = -(-series.samples // _MOST_BLOCKS)
    size = max(round(wanted), least)
    if series.samples >= _LONG_SAMPLES:  # blocks that tile the summary's blocks, or are tiled by them
        size = 1 << max(round(np.log2(max(size, 1))), int(np.ceil(np.log2(least))))
    return int(np.clip(size, 1, _MOST_BLOCK_SAMPLES))


def _block_medians(series: Series, size: int, should_stop: ShouldStop) -> tuple[Floats, Floats]:
    """Return median and spread (interquartile range as a standard deviation) of each block."""
    if series.samples >= _LONG_SAMPLES and size <= BLOCK_SAMPLES:
        return _from_summary(series, size, should_stop)
    medians, spreads = [], []
    step = max(1, CHUNK_SAMPLES // size) * size
    for first in range(0, series.samples, step):
        if should_stop():
            raise Cancelled("stopped")
        values = series.read(first, min(first + step, series.samples))
        missing = -len(values) % size
        if missing:
            values = np.concatenate((values, np.full(missing, np.nan, dtype=np.float32)))
        median, spread = _of_rows(values.reshape(-1, size))
        medians.append(median)
        spreads.append(spread)
    return np.concatenate(medians).astype(np.float64), np.concatenate(spreads).astype(np.float64)


def _from_summary(series: Series, size: int, should_stop: ShouldStop) -> tuple[Floats, Floats]:
    """Do as `_block_medians` does, reading only what the summary does not tell."""
    per_block = BLOCK_SAMPLES // size
    blocks = -(-series.samples // BLOCK_SAMPLES)
    medians = np.empty(blocks * per_block, dtype=np.float32)
    spreads = np.empty(blocks * per_block, dtype=np.float32)
    floor = _floor_width(series, blocks)
    for first in range(0, blocks, _SUMMARY_BLOCKS):
        if should_stop():
            raise Cancelled("stopped")
        last = min(first + _SUMMARY_BLOCKS, blocks)
        found = series.blocks(0, first, last)
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = found["sum"] / found["count"]
            width = found["max"] - found["min"]
            calm = np.abs(mean - 0.5 * (found["max"] + found["min"])) <= _CALM * width
            # A block with a change of level in it is as wide as that change.
            calm &= width <= np.maximum(_WIDE * np.abs(mean), floor)
        calm &= found["count"] == BLOCK_SAMPLES
        part = slice(first * per_block, last * per_block)
        medians[part] = np.repeat(mean, per_block)
        spreads[part] = np.repeat(width / _RANGE_OF_BLOCK, per_block)
        for some in np.array_split(np.flatnonzero(~calm), -(-int((~calm).sum()) // _BLOCKS_AT_ONCE) or 1):
            if not len(some):
                continue
            median, spread = _of_rows(_blocks_of(series, some + first).reshape(-1, size))
            here = ((some + first) * per_block)[:, None] + np.arange(per_block)
            medians[here], spreads[here] = median.reshape(here.shape), spread.reshape(here.shape)
    used = -(-series.samples // size)
    return medians[:used].astype(np.float64), spreads[:used].astype(np.float64)


def _blocks_of(series: Series, blocks: Indices) -> Samples:
    """Read whole blocks; what lies beyond the end is missing.

    Those that are close together are read at once with what lies between: a read costs as much as some blocks more.
    """
    values = np.full((len(blocks), BLOCK_SAMPLES), np.nan, dtype=np.float32)
    is_start = np.diff(blocks, prepend=-_CLOSE_BLOCKS - 1) > _CLOSE_BLOCKS
    starts = np.flatnonzero(is_start)
    for begin, end in zip(starts.tolist(), np.append(starts[1:], len(blocks)).tolist(), strict=True):
        first_block, last_block = int(blocks[begin]), int(blocks[end - 1])
        first = first_block * BLOCK_SAMPLES
        found = series.read(first, min((last_block + 1) * BLOCK_SAMPLES, series.samples))
        missing = -len(found) % BLOCK_SAMPLES
        if missing:
            found = np.concatenate((found, np.full(missing, np.nan, dtype=np.float32)))
        values[begin:end] = found.reshape(-1, BLOCK_SAMPLES)[blocks[begin:end] - first_block]
    return values


def _floor_width(series: Series, blocks: int) -> float:
    """Return how wide a block of nothing but the lowest level's noise is, from what changes sample by sample."""
    looked_at = np.linspace(0, blocks - 1, min(blocks, _LOOKED_AT)).astype(np.int64)
    if blocks <= _READ_AT_ONCE:
        found = series.blocks(0, 0, blocks)[looked_at]
    else:
        found = np.concatenate([series.blocks(0, int(k), int(k) + 1) for k in looked_at])
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = found["sum"] / found["count"]
    steps = []
    lowest = looked_at[np.argsort(mean, kind="stable")][: max(1, len(looked_at) // 5)]
    for block in lowest[:: -(-len(lowest) // _FLOOR_BLOCKS)].tolist():
        values = series.read(block * BLOCK_SAMPLES, min((block + 1) * BLOCK_SAMPLES, series.samples))
        steps.append(np.abs(np.diff(values)))
    joined = np.concatenate(steps)
    known = joined[~np.isnan(joined)]
    noise_a = float(np.median(known)) / 0.954 if len(known) else 0.0
    return _WIDEST_NOISE * noise_a


def _of_rows(rows: Samples) -> tuple[Samples, Samples]:
    size = rows.shape[1]
    if size == 1:
        only = rows[:, 0]
        return only, np.asarray(np.abs(np.diff(only, prepend=only[:1])) / 1.41, dtype=np.float32)
    low, mid, high = size // 4, size // 2, (3 * size) // 4
    ordered = np.sort(rows, axis=1)  # vectorised, and so several times as fast as a selection
    median = ordered[:, mid].copy()
    spread = np.asarray((ordered[:, high] - ordered[:, low]) / 1.35, dtype=np.float32)
    holes = np.flatnonzero(np.isnan(ordered[:, -1]))  # what was not measured is sorted to the end
    for row in holes:
        measured = rows[row][~np.isnan(rows[row])]
        median[row] = np.median(measured) if len(measured) else np.nan
        spread[row] = 0.0
    return median, spread


def _noise_scale(medians: Floats, spreads: Floats, size: int) -> float:
    """Noise of a block median at the lowest level, A."""
    lowest = medians <= np.quantile(medians, 0.2)
    known = spreads[lowest & ~np.isnan(spreads)]  # beside a hole there is no spread
    noise = float(np.median(known)) if len(known) else 0.0
    return max(1.25 * noise / math.sqrt(size), _SMALLEST_SCALE_A)


def _step(medians: Floats) -> float:
    """Return the step that readings come in, A; 0 where they are not seen to lie on a grid."""
    some = medians[:: max(1, len(medians) // _LOOKED_AT_FOR_STEP)]
    values = np.unique(some)
    if len(values) < _FEWEST_VALUES:
        return _flickers(medians, values)
    if len(values) > _SHARE_OF_VALUES * len(some):
        return 0.0
    gaps = np.diff(values)
    real = gaps[are_apart(values)]
    if not len(real):
        return 0.0
    step_a = float(np.median(real[real < 1.5 * real.min()]))
    step_a = float(real.sum() / np.rint(real / step_a).sum())  # single precision blurs one gap, not all together
    off = np.abs(values / step_a - np.rint(values / step_a))
    is_grid = np.mean(real < 1.5 * step_a) >= _NEIGHBOURS and np.mean(off < _ON_GRID) >= _ALL_BUT
    return step_a if is_grid else 0.0


def _flickers(medians: Floats, values: Floats) -> float:
    """Return the step between a few values that readings jump between without memory, as noise makes them; else 0.

    Levels last, and pulses come back after a time: what they read next depends on what they read now.
    """
    gaps = np.diff(values)
    real = are_apart(values)
    if not real.any():
        return 0.0
    step_a = float(gaps[real].min())
    # The values that hang together by that step, around the one that is read most.
    commonest = values[int(np.argmax(np.bincount(np.searchsorted(values, medians), minlength=len(values))))]
    breaks = np.flatnonzero(gaps > 1.5 * step_a)
    group = np.searchsorted(breaks + 1, np.searchsorted(values, commonest), side="right")
    low, high = np.append(0, breaks + 1)[group], np.append(breaks, len(values) - 1)[group]
    near = (medians >= values[low]) & (medians <= values[high])
    pairs = near[:-1] & near[1:]
    now, then = medians[:-1][pairs], medians[1:][pairs]
    if pairs.sum() < _LEAST_PAIRS or np.mean(now != then) < _LEAST_CHANGES:
        return 0.0
    alike = float(np.corrcoef(now, then)[0, 1])
    return step_a if abs(alike) < max(_NO_MEMORY, _SURELY / float(pairs.sum()) ** 0.5) else 0.0


def _between_steps(medians: Floats, step_a: float) -> Floats:
    """Spread readings evenly over the step that each stands for: each step would be a level of its own otherwise."""
    if not step_a:
        return medians
    return np.asarray(medians + step_a * ((np.arange(len(medians)) * _GOLDEN) % 1.0 - 0.5))


def _limits(scaled: Floats, most: int) -> Floats:
    """Return the limits between levels, on the scale, from the histogram of block medians."""
    first = np.floor(scaled.min() / _BIN) - _REACH_BINS
    bins = int(np.ceil(scaled.max() / _BIN) - first) + _REACH_BINS
    counts = np.bincount((scaled / _BIN - first).astype(np.int64), minlength=bins).astype(np.float64)
    smooth = np.convolve(counts, _SMOOTHING, mode="same")
    peaks = _distinct_peaks(smooth, most)
    limits = []
    for left, right in pairwise(peaks):
        between = smooth[left : right + 1]
        lowest = np.flatnonzero(between <= between.min() + 1e-9)
        limits.append((first + left + lowest[len(lowest) // 2] + 0.5) * _BIN)
    return np.array(limits)


def _distinct_peaks(smooth: Floats, most: int = MOST_LEVELS) -> list[int]:
    """Return the bins of the peaks that stand out, at most so many, in rising order."""
    rising = np.diff(smooth, prepend=0.0) > 0
    falling = np.diff(smooth, append=0.0) <= 0
    # A block counted in one bin gives a smoothed peak of 1 / (sqrt(2 pi) sigma).
    least = _LEAST_BLOCKS * 0.6 / (np.sqrt(2 * np.pi) * _SMOOTH_BINS)
    peaks = [int(p) for p in np.flatnonzero(rising & falling) if smooth[p] >= least]
    if not peaks:
        return [int(np.argmax(smooth))]
    while len(peaks) > 1:
        scores = [_distinctness(smooth, a, b) for a, b in pairwise(peaks)]
        worst = int(np.argmin(scores))
        if scores[worst] >= 1.0 and len(peaks) <= most:
            break
        lower = worst if smooth[peaks[worst]] < smooth[peaks[worst + 1]] else worst + 1
        del peaks[lower]
    return peaks


def _distinctness(smooth: Floats, left: int, right: int) -> float:
    """Score how far the lower of two peaks stands above the valley between: 1 is just enough."""
    lower = min(smooth[left], smooth[right])
    valley = float(smooth[left : right + 1].min())
    counting_error = np.sqrt(lower / (2 * np.sqrt(np.pi) * _SMOOTH_BINS))
    return float(min((lower - valley) / (3.0 * counting_error), (lower - valley) / (0.35 * lower)))


def _absorb_transitions(labels: Indices) -> Indices:
    """Give blocks that lie in a change from one level to another, and single flickers, to a neighbour."""
    labels = labels.copy()
    starts = np.flatnonzero(np.diff(labels, prepend=-2))
    lengths = np.diff(starts, append=len(labels))
    single = np.flatnonzero((lengths == 1) & (starts > 0) & (starts < len(labels) - 1))
    at = starts[single]
    before, here, after = labels[at - 1], labels[at], labels[at + 1]
    known = (before >= 0) & (here >= 0) & (after >= 0)
    between = known & ((here - before) * (after - here) > 0)
    flicker = known & (before == after) & (np.abs(here - before) == 1)
    labels[at[between | flicker]] = before[between | flicker]
    return labels


def _renumber(labels: Indices) -> Indices:
    """Renumber the levels that are still there from 0, lowest first."""
    kept = np.flatnonzero(np.bincount(labels[labels >= 0]))
    return np.where(labels >= 0, np.searchsorted(kept, labels), -1)


def _refined(
    series: Series,
    starts: Indices,
    labels: Indices,
    centres: Floats,
    size: int,
    scale_a: float,
    should_stop: ShouldStop,
) -> Indices:
    """Place each change to the sample: where calling all before it one level and all after it the other fits best."""
    found = np.empty(len(starts), dtype=np.int64)
    per_chunk = max(1, CHUNK_SAMPLES // size)
    for group in np.split(np.arange(len(starts)), np.flatnonzero(np.diff(starts // per_chunk)) + 1):
        if should_stop():
            raise Cancelled("stopped")
        if not len(group):
            continue
        some = starts[group]
        window_starts = np.maximum(some - 1, 0) * size
        first, last = int(window_starts[0]), int(window_starts[-1]) + 2 * size
        values = series.read(first, min(last, series.samples))
        values = np.concatenate((values, np.full(last - first - len(values), np.nan, dtype=np.float32)))
        windows = values[(window_starts - first)[:, None] + np.arange(2 * size)]
        found[group] = window_starts + _splits(np.arcsinh(windows / scale_a), some, labels, centres)
    return np.minimum(found, series.samples)


def _splits(scaled: Floats, starts: Indices, labels: Indices, centres: Floats) -> Indices:
    before, after = labels[starts - 1], labels[starts]
    cost_before = np.abs(scaled - centres[np.maximum(before, 0)][:, None])
    cost_after = np.abs(scaled - centres[np.maximum(after, 0)][:, None])
    gain = np.nan_to_num(cost_before - cost_after)
    running = np.concatenate((np.zeros((len(starts), 1)), np.cumsum(gain, axis=1)), axis=1)
    known = (before >= 0) & (after >= 0)
    return np.asarray(np.where(known, np.argmin(running, axis=1), scaled.shape[1] // 2))
