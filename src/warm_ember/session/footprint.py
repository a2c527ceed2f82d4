"""How much memory a result holds."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from itertools import islice
from typing import Any

import msgspec
import numpy as np

_LOOKED_AT = 1000


class Footprint:
    """The memory that a value holds: its arrays, each by itself, and a guess of the rest.

    Parameters
    ----------
    value
        Records, containers and arrays. What is neither, such as an open capture, belongs to somebody else.

    Attributes
    ----------
    arrays
        The size of each array in bytes, by what tells it from all others that live at the same time.
    rest_bytes
        All else. Of long containers the first thousand stand for the others.
    """

    def __init__(self, value: object) -> None:
        self.arrays: dict[int, int] = {}
        self.rest_bytes = 0
        self._seen: set[int] = set()
        self.rest_bytes = round(self._walk(value))

    def _walk(self, value: Any) -> float:
        if isinstance(value, np.ndarray):
            return self._array(value)
        if value is None or isinstance(value, (bool, int, float, type)) or id(value) in self._seen:
            return 0
        self._seen.add(id(value))
        if isinstance(value, (str, bytes)):
            return sys.getsizeof(value)
        own = sys.getsizeof(value)
        if isinstance(value, Mapping):
            pairs = [part for item in islice(value.items(), _LOOKED_AT) for part in item]
            return own + self._many(pairs, 2 * len(value))
        if isinstance(value, (tuple, list, set, frozenset)):
            return own + self._many(list(islice(value, _LOOKED_AT)), len(value))
        if isinstance(value, msgspec.Struct):
            return own + sum(self._walk(getattr(value, name)) for name in value.__struct_fields__)
        if is_dataclass(value):
            return own + sum(self._walk(getattr(value, one.name)) for one in fields(value))
        return 0

    def _many(self, first: list[Any], count: int) -> float:
        return sum(map(self._walk, first)) * (count / len(first) if first else 0.0)

    def _array(self, array: np.ndarray[Any, Any]) -> float:
        owner = array
        while isinstance(owner.base, np.ndarray):
            owner = owner.base
        if not isinstance(owner, np.memmap):
            self.arrays[id(owner)] = owner.nbytes
        return sys.getsizeof(np.ndarray)
