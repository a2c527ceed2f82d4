"""The display pyramid: minimum, maximum, sum and count of blocks of samples, on a grid fixed at sample 0.

Level 0 holds blocks of 256 samples, each further level blocks sixteen times as long. The last block of a
level may be partial and is kept. Sums are in float64, one per block and not running totals, because the
difference of two running totals over hours of radio would drown a stretch of sleep in rounding.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
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
    """Reduce blocks to blocks `ratio` times as long.

    Parameters
    ----------
    blocks
        Shape ``(n,)``; one without a measured sample has NaN as its extremes, and changes nothing in what it becomes
        part of.
    ratio
        How many make one.

    Returns
    -------
    Blocks
        Shape ``(ceil(n / ratio),)``, the last of what is left.
    """
    starts = np.arange(0, len(blocks), ratio)
    reduced = np.empty(len(starts), dtype=BLOCK)
    if len(starts):
        reduced["min"] = np.fmin.reduceat(blocks["min"], starts)
        reduced["max"] = np.fmax.reduceat(blocks["max"], starts)
        reduced["sum"] = np.add.reduceat(blocks["sum"], starts)
        reduced["count"] = np.add.reduceat(blocks["count"], starts)
    return reduced


def pyramid_from_base(base: Blocks) -> Pyramid:
    """Stack the coarser levels on a finest one, shape ``(blocks,)``; of no samples it is empty."""
    sizes, levels = [BLOCK_SAMPLES], [base]
    while len(levels[-1]) > _TOP_BLOCKS:
        levels.append(reduce_blocks(levels[-1]))
        sizes.append(sizes[-1] * RATIO)
    return Pyramid(tuple(sizes), tuple(levels))


def build_pyramid(values: Samples) -> Pyramid:
    """Build the pyramid of samples in memory, NaN where they are missing, shape ``(n,)``."""
    return pyramid_from_base(reduce_samples(values))


class GrowingBlocks:
    """The finest blocks of samples that come piece by piece, readable at every level while they grow.

    Pieces may have any length; blocks still start at multiples of 256 samples. One thread appends; others read.

    Parameters
    ----------
    reduce_samples, reduce_blocks
        From samples to blocks of a size, and from blocks to blocks `RATIO` times as long.
    block
        What a block is.
    kind
        What a sample is.
    """

    def __init__(
        self,
        reduce_samples: Callable[..., Blocks],
        reduce_blocks: Callable[[Blocks], Blocks],
        block: np.dtype[np.void],
        kind: type[np.generic],
    ) -> None:
        self._reduce_samples, self._reduce_blocks = reduce_samples, reduce_blocks
        self._room = np.empty(1024, dtype=block)
        self._whole = 0
        self._rest: np.ndarray = np.empty(0, dtype=kind)
        self._coarser: list[tuple[int, Blocks]] = []
        self._lock = threading.Lock()

    def append(self, values: np.ndarray) -> None:
        """Take the next samples, NaN where they are missing, shape ``(n,)``; any number of them, none too."""
        if len(self._rest):
            values = np.concatenate((self._rest, values))
        whole = len(values) - len(values) % BLOCK_SAMPLES
        blocks = self._reduce_samples(values[:whole])
        rest = values[whole:].copy()
        with self._lock:
            self._make_room(len(blocks))
            self._room[self._whole : self._whole + len(blocks)] = blocks
            self._whole += len(blocks)
            self._rest = rest

    def _make_room(self, blocks: int) -> None:
        if self._whole + blocks > len(self._room):
            room = np.empty(max(2 * len(self._room), self._whole + blocks), dtype=self._room.dtype)
            room[: self._whole] = self._room[: self._whole]
            self._room = room

    def base(self) -> Blocks:
        """Return the finest blocks of all samples taken, shape ``(blocks,)``, the last of which may be partial."""
        with self._lock:
            whole, rest = self._room[: self._whole], self._rest
        return np.concatenate((whole, self._reduce_samples(rest))) if len(rest) else whole

    @property
    def sizes(self) -> tuple[int, ...]:
        """Samples per block for each level that there is now."""
        count = self._whole
        sizes: list[int] = []
        while count:
            sizes.append(BLOCK_SAMPLES * RATIO ** len(sizes))
            count //= RATIO
        return tuple(sizes)

    def blocks(self, level: int, first: int, last: int) -> Blocks:
        """Return blocks ``[first, last)`` of a level as far as there are samples for them.

        Their shape is ``(n,)``. Only the thread that draws calls this: it keeps whole coarse blocks that it made.
        """
        if level == 0:
            with self._lock:
                whole, rest, count = self._room[first : min(last, self._whole)], self._rest, self._whole
            return np.concatenate((whole, self._reduce_samples(rest))) if last > count and len(rest) else whole
        known = self._whole_blocks(level, last)
        if last <= len(known):
            return known[first:last]
        start = max(first, len(known))
        finer = self.blocks(level - 1, start * RATIO, last * RATIO)
        return np.concatenate((known[first:], self._reduce_blocks(finer)))

    def _whole_blocks(self, level: int, last: int) -> Blocks:
        """Return the whole blocks of a coarse level, at least those that are kept."""
        while len(self._coarser) < level:
            self._coarser.append((0, np.empty(64, dtype=self._room.dtype)))
        count, kept = self._coarser[level - 1]
        ready = self._whole // RATIO**level
        if ready > count and last > count:
            finer = (
                self._room[count * RATIO : ready * RATIO]
                if level == 1
                else self._whole_blocks(level - 1, ready * RATIO)[count * RATIO : ready * RATIO]
            )
            if ready > len(kept):
                room = np.empty(2 * ready, dtype=kept.dtype)
                room[:count] = kept[:count]
                kept = room
            kept[count:ready] = self._reduce_blocks(finer)
            count = ready
            self._coarser[level - 1] = (count, kept)
        return kept[:count]


class PyramidBuilder(GrowingBlocks):
    """Build the pyramid of a channel's samples that come piece by piece."""

    def __init__(self) -> None:
        super().__init__(reduce_samples, reduce_blocks, BLOCK, np.float32)

    def finish(self) -> Pyramid:
        """Return the pyramid of all samples taken."""
        return pyramid_from_base(self.base())
