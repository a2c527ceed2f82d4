"""Array types by element, used in every signature that takes or gives an array."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Samples = NDArray[np.float32]
Floats = NDArray[np.float64]
Indices = NDArray[np.int64]
Bits = NDArray[np.unsignedinteger[Any]]
Flags = NDArray[np.bool_]
Addresses = NDArray[np.uint64]
Blocks = NDArray[np.void]
"""Structured array with one summary block per element, see `warm_ember.signal.pyramid`."""
