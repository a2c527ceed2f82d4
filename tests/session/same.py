"""Whether two results are the same, to the last bit of every figure in them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from typing import Any

import msgspec
import numpy as np

from warm_ember.signal.band_limit import BandLimited
from warm_ember.store.capture import Capture


def difference(one: Any, other: Any, where: str = "") -> str:
    """Return where two results differ; empty when they do not."""
    if type(one) is not type(other):
        return f"{where}: {type(one).__name__} and {type(other).__name__}"
    if isinstance(one, np.ndarray):
        alike = one.shape == other.shape and np.array_equal(one, other, equal_nan=one.dtype.kind == "f")
        return "" if alike else f"{where}: {one!r} and {other!r}"
    if isinstance(one, Capture):
        return "" if one.identity == other.identity else f"{where}: another capture"
    if isinstance(one, BandLimited):
        return difference(one.read(0, one.samples), other.read(0, other.samples), where)
    if isinstance(one, msgspec.Struct):
        return _first((name, getattr(one, name), getattr(other, name)) for name in one.__struct_fields__)(where)
    if is_dataclass(one):
        return _first((f.name, getattr(one, f.name), getattr(other, f.name)) for f in fields(one))(where)
    if isinstance(one, Mapping):
        if list(one) != list(other):
            return f"{where}: {list(one)} and {list(other)}"
        return _first((str(key), one[key], other[key]) for key in one)(where)
    if isinstance(one, (tuple, list)):
        if len(one) != len(other):
            return f"{where}: {len(one)} and {len(other)} items"
        return _first((str(k), a, b) for k, (a, b) in enumerate(zip(one, other, strict=True)))(where)
    if callable(one):
        return ""
    same = one == other or (isinstance(one, float) and np.isnan(one) and np.isnan(other))
    return "" if same else f"{where}: {one!r} and {other!r}"


def _first(parts: Any) -> Any:
    def of(where: str) -> str:
        return next((found for name, a, b in parts if (found := difference(a, b, f"{where}.{name}"))), "")

    return of
