"""The samples of one channel, wherever they lie, with their summary."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Protocol

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Blocks, Samples
from warm_ember.signal.pyramid import Pyramid, build_pyramid

CHUNK_SAMPLES = 1 << 20

ShouldStop = Callable[[], bool]
Progress = Callable[[float], None]


def never() -> bool:
    """Answer no: for work that nobody stops."""
    return False


def ignore_progress(_share: float) -> None:
    """Take a progress report that nobody reads."""


class Series(Protocol):
    """Samples of one channel on a uniform grid with a display pyramid beside them.

    Sample ``k`` holds from ``k * interval_s`` to ``(k + 1) * interval_s``; NaN is a missing sample.
    """

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
        """Block sizes of the pyramid in samples, smallest first; empty for short captures."""
        ...

    def read(self, first: int, last: int) -> Samples:
        """Return the samples ``[first, last)``, NaN where they are missing, shape ``(last - first,)``."""
        ...

    def blocks(self, level: int, first: int, last: int) -> Blocks:
        """Return the summary blocks ``[first, last)`` of the level with index `level`, shape ``(last - first,)``."""
        ...


class ArraySeries:
    """A series in memory."""

    def __init__(self, values: Samples, interval_s: float) -> None:
        self._values = np.ascontiguousarray(values, dtype=np.float32)
        self._interval_s = interval_s
        self._pyramid: Pyramid = build_pyramid(self._values)

    @property
    def samples(self) -> int:
        """Number of samples."""
        return len(self._values)

    @property
    def interval_s(self) -> float:
        """Length of one sample."""
        return self._interval_s

    @property
    def levels(self) -> tuple[int, ...]:
        """Block sizes of the pyramid in samples."""
        return self._pyramid.sizes

    def read(self, first: int, last: int) -> Samples:
        """Return the samples ``[first, last)``, shape ``(last - first,)``."""
        return self._values[first:last]

    def blocks(self, level: int, first: int, last: int) -> Blocks:
        """Return the summary blocks ``[first, last)`` of one level, shape ``(last - first,)``."""
        return self._pyramid.levels[level][first:last]


def chunks(
    series: Series, first: int = 0, last: int | None = None, *, should_stop: ShouldStop = never
) -> Iterator[tuple[int, Samples]]:
    """Yield a series piece by piece as ``(index of the first sample, samples)``, the samples of shape ``(n,)``.

    Raises
    ------
    Cancelled
        As soon as `should_stop` answers yes.
    """
    end = series.samples if last is None else last
    for start in range(first, end, CHUNK_SAMPLES):
        if should_stop():
            raise Cancelled("stopped")
        yield start, series.read(start, min(start + CHUNK_SAMPLES, end))
