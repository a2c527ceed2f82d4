"""Preparing the next piece while the present one is used."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

T = TypeVar("T")


def prefetch(pieces: Iterator[T]) -> Iterator[T]:
    """Yield what an iterator yields, with the next piece being made in a thread meanwhile.

    What the iterator raises is raised where its piece was due. At most two pieces are in memory.

    Examples
    --------
    >>> list(prefetch(iter("abc")))
    ['a', 'b', 'c']
    """
    with ThreadPoolExecutor(1, thread_name_prefix="one-ahead") as pool:
        coming = pool.submit(next, pieces, None)
        while (piece := coming.result()) is not None:
            coming = pool.submit(next, pieces, None)
            yield piece
