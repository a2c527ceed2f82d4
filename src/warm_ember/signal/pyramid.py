"""The display pyramid: minimum, maximum, sum and count of blocks of samples, on a grid fixed at sample 0.

Level 0 holds blocks of 256 samples, each further level blocks sixteen times as long. The last block of a
level may be partial and is kept. Sums are in float64, one per block and not running totals, because the
difference of two running totals over hours of radio would drown a stretch of sleep in rounding.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Blocks, Floats, Samples

BLOCK_SAMPLES = 256
RATIO = 16
_TOP_BLOCKS = 64

BLOCK = np.dtype([("min", "<f4"), ("max", "<f4"), ("sum", "<f8"), ("count", "<u4")])
"""One block: extremes of its measured samples (NaN when none), their sum and their number."""


@dataclass(frozen=True, eq=False)
class Pyramid:
    """All levels of one channel, finest first.

    Parameters
    ----------
    sizes
        Samples per block for each level.
    levels
        For each level an array of `BLOCK`, shape ``(ceil(samples / size),)``.
    """

    sizes: tuple[int, ...]
    levels: tuple[Blocks, ...]


def reduce_samples(values: Samples, size: int = BLOCK_SAMPLES) -> Blocks:
    """Reduce samples to blocks.

    Parameters
    ----------
    values
        Samples, shape ``(n,)``; NaN is missing.
    size
        Samples per block; the last block takes what is left.

    Returns
    -------
    Blocks
        Shape ``(ceil(n / size),)``.

    Examples
    --------
    >>> reduce_samples(np.float32([1, 2, np.nan, 8]), 3).tolist()
    [(1.0, 2.0, 3.0, 2), (8.0, 8.0, 8.0, 1)]
    """
    whole = len(values) // size
    blocks = np.empty(-(-len(values) // size), dtype=BLOCK)
    _reduce_rows(values[: whole * size].reshape(whole, size), blocks[:whole])
    if whole < len(blocks):
        _reduce_rows(values[whole * size :].reshape(1, -1), blocks[whole:])
    return blocks


def _reduce_rows(rows: Samples, blocks: Blocks) -> None:
    blocks["min"] = rows.min(axis=1)
    blocks["max"] = rows.max(axis=1)
    # einsum adds in float64 without making a float64 copy of the samples first
    sums: Floats = np.einsum("ij->i", rows, dtype=np.float64, casting="same_kind")
    blocks["sum"] = sums
    blocks["count"] = rows.shape[1]
    holes = np.flatnonzero(np.isnan(sums))
    if len(holes):
        with_holes = rows[holes]
        missing = np.isnan(with_holes)
        blocks["min"][holes] = np.fmin.reduce(with_holes, axis=1)
        blocks["max"][holes] = np.fmax.reduce(with_holes, axis=1)
        blocks["sum"][holes] = np.where(missing, 0.0, with_holes).sum(axis=1, dtype=np.float64)
        blocks["count"][holes] = rows.shape[1] - missing.sum(axis=1)


def reduce_blocks(blocks: Blocks, ratio: int = RATIO) -> Blocks:
    """Reduce blocks to blocks `ratio` times as long; the last takes what is left."""
    starts = np.arange(0, len(blocks), ratio)
    reduced = np.empty(len(starts), dtype=BLOCK)
    if len(starts):
        reduced["min"] = np.fmin.reduceat(blocks["min"], starts)
        reduced["max"] = np.fmax.reduceat(blocks["max"], starts)
        reduced["sum"] = np.add.reduceat(blocks["sum"], starts)
        reduced["count"] = np.add.reduceat(blocks["count"], starts)
    return reduced


def pyramid_from_base(base: Blocks) -> Pyramid:
    """Stack the coarser levels on a finest one."""
    sizes, levels = [BLOCK_SAMPLES], [base]
    while len(levels[-1]) > _TOP_BLOCKS:
        levels.append(reduce_blocks(levels[-1]))
        sizes.append(sizes[-1] * RATIO)
    return Pyramid(tuple(sizes), tuple(levels))


def build_pyramid(values: Samples) -> Pyramid:
    """Build the pyramid of samples in memory."""
    return pyramid_from_base(reduce_samples(values))


class PyramidBuilder:
    """Build a pyramid from samples that come piece by piece.

    Pieces may have any length; blocks still start at multiples of 256 samples.
    """

    def __init__(self) -> None:
        self._parts: list[Blocks] = []
        self._rest: Samples = np.empty(0, dtype=np.float32)

    def append(self, values: Samples) -> None:
        """Take the next samples."""
        if len(self._rest):
            values = np.concatenate((self._rest, values))
        whole = len(values) - len(values) % BLOCK_SAMPLES
        self._parts.append(reduce_samples(values[:whole]))
        self._rest = values[whole:].copy()

    def finish(self) -> Pyramid:
        """Return the pyramid of all samples taken; the builder is empty then."""
        base = np.concatenate([*self._parts, reduce_samples(self._rest)])
        self._parts = []  # at 10^9 samples they are as large as the pyramid
        return pyramid_from_base(base)
