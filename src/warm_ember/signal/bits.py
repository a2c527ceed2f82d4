"""Digital lines: a bit per line and sample, with a pyramid of which bits were ever and always set."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from warm_ember.model.arrays import Bits, Blocks, Flags, Floats, Indices
from warm_ember.signal.pyramid import BLOCK_SAMPLES, RATIO, GrowingBlocks

BIT_BLOCK = np.dtype([("any", "<u4"), ("all", "<u4")])


class LineSeries(Protocol):
    """Digital lines on the capture's grid."""

    @property
    def names(self) -> tuple[str, ...]:
        """The lines' names, least significant bit first."""
        ...

    @property
    def samples(self) -> int:
        """Number of samples."""
        ...

    @property
    def interval_s(self) -> float:
        """Length of one sample."""
        ...

    @property
    def levels(self) -> tuple[int, ...]:
        """Block sizes of the pyramid in samples."""
        ...

    def read(self, first: int, last: int) -> Bits:
        """Return the bit fields of the samples ``[first, last)``, shape ``(last - first,)``."""
        ...

    def blocks(self, level: int, first: int, last: int) -> Blocks:
        """Return the summary blocks ``[first, last)`` of one level, shape ``(last - first,)``."""
        ...


def reduce_bits(values: Bits, size: int = BLOCK_SAMPLES) -> Blocks:
    """Reduce bit fields to blocks of which bits were ever and which always set.

    Parameters
    ----------
    values
        Bit fields, shape ``(n,)``.
    size
        Samples per block.

    Returns
    -------
    Blocks
        Shape ``(ceil(n / size),)``, the last of what is left.

    Examples
    --------
    >>> reduce_bits(np.uint8([1, 3, 0]), 2).tolist()
    [(3, 1), (0, 0)]
    """
    starts = np.arange(0, len(values), size)
    blocks = np.zeros(len(starts), dtype=BIT_BLOCK)
    if len(starts):
        blocks["any"] = np.bitwise_or.reduceat(values, starts)
        blocks["all"] = np.bitwise_and.reduceat(values, starts)
    return blocks


def reduce_bit_blocks(blocks: Blocks, ratio: int = RATIO) -> Blocks:
    """Reduce bit blocks, shape ``(n,)``, to blocks `ratio` times as long, shape ``(ceil(n / ratio),)``."""
    starts = np.arange(0, len(blocks), ratio)
    reduced = np.zeros(len(starts), dtype=BIT_BLOCK)
    if len(starts):
        reduced["any"] = np.bitwise_or.reduceat(blocks["any"], starts)
        reduced["all"] = np.bitwise_and.reduceat(blocks["all"], starts)
    return reduced


@dataclass(frozen=True, eq=False)
class LineWindow:
    """What a lane draws of the lines: for each bin which bits were ever and which always set.

    Parameters
    ----------
    edges_s
        Ends of the bins, shape ``(bins + 1,)``.
    ever, always
        Bit fields, shape ``(bins,)``.
    """

    edges_s: Floats
    ever: Bits
    always: Bits

    def high(self, bit: int) -> Flags:
        """Flag the bins in which the line was ever high, shape ``(bins,)``."""
        return (self.ever >> bit & 1).astype(bool)

    def low(self, bit: int) -> Flags:
        """Flag the bins in which the line was ever low, shape ``(bins,)``."""
        return ~(self.always >> bit & 1).astype(bool)


def line_window(lines: LineSeries, from_s: float, to_s: float, columns: int) -> LineWindow:
    """Reduce a window of the lines to about one bin per column of pixels, on a grid fixed at sample 0."""
    per_column = max((to_s - from_s) / lines.interval_s / max(columns, 1), 1e-9)
    level = max((i for i, size in enumerate(lines.levels) if size <= per_column), default=-1)
    unit = lines.levels[level] if level >= 0 else 1
    units_per_bin = max(1, int(per_column / unit))
    size = unit * units_per_bin
    first_bin = max(0, int(from_s / lines.interval_s / size))
    last_bin = max(first_bin, min(-(-lines.samples // size), int(to_s / lines.interval_s / size) + 1))
    if level < 0:
        values = lines.read(first_bin * size, min(last_bin * size, lines.samples))
        blocks = reduce_bits(values, units_per_bin)
    else:
        blocks = lines.blocks(level, first_bin * units_per_bin, last_bin * units_per_bin)
        blocks = reduce_bit_blocks(blocks, units_per_bin)
    edges = np.arange(first_bin, last_bin + 1, dtype=np.float64) * size
    edges[-1] = min(edges[-1], lines.samples)
    return LineWindow(edges * lines.interval_s, blocks["any"], blocks["all"])


def rising_edges(values: Bits, bit: int, before: bool) -> Indices:
    """Find where a bit rises.

    Parameters
    ----------
    values
        Bit fields, shape ``(n,)``.
    bit
        Number of the bit, from 0.
    before
        Whether it was high before the first sample.

    Returns
    -------
    Indices
        Of the samples at which it is high after it was low, rising; empty for a line that never rises.
    """
    high = (values >> bit & 1).astype(np.int8)
    return np.flatnonzero(np.diff(high, prepend=np.int8(before)) > 0)


class BitPyramidBuilder(GrowingBlocks):
    """Build the pyramid of bit fields that come piece by piece."""

    def __init__(self) -> None:
        super().__init__(reduce_bits, reduce_bit_blocks, BIT_BLOCK, np.uint8)

    def finish(self) -> list[Blocks]:
        """Return the levels, finest first, each of shape ``(blocks,)``."""
        levels = [self.base()]
        while len(levels[-1]) > 4 * RATIO:
            levels.append(reduce_bit_blocks(levels[-1]))
        return levels
