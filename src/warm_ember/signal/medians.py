"""Medians of many rows at once: sorting whole rows is several times as fast as picking what is in their middle."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def row_medians(rows: NDArray[Any]) -> NDArray[Any]:
    """Return the median of each row, as ``numpy.median`` does.

    Parameters
    ----------
    rows
        Shape ``(rows, n)`` with n of 1 or more.

    Returns
    -------
    ndarray
        Shape ``(rows,)``, of the same type; NaN for a row that has one.

    Notes
    -----
    Rows are sorted, which takes vector instructions; a selection takes none.

    Examples
    --------
    >>> row_medians(np.array([[3.0, 1.0, 2.0], [4.0, np.nan, 0.0]])).tolist()
    [2.0, nan]
    """
    ordered = np.sort(rows, axis=1)
    count = rows.shape[1]
    middle = ordered[:, count // 2]
    if count % 2 == 0:
        middle = (middle + ordered[:, count // 2 - 1]) / 2
    return np.where(np.isnan(ordered[:, -1]), np.nan, middle).astype(rows.dtype)
