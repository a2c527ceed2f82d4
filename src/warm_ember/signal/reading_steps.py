"""The steps that readings come in, apart from what storing them in single precision makes of equal ones."""

from __future__ import annotations

import numpy as np

from warm_ember.model.arrays import Flags, Floats


def are_apart(values: Floats) -> Flags:
    """Return which gaps between readings are more than what single precision makes of equal ones.

    Parameters
    ----------
    values
        Rising, shape ``(n,)``.

    Returns
    -------
    ndarray
        Shape ``(n - 1,)``. What is a hair depends on the readings beside it: a burst of amperes says nothing of the
        steps in which microamperes come.

    Examples
    --------
    >>> are_apart(np.array([1e-6, 1.01e-6, 4.2e-3, 4.2e-3 + 1e-11])).tolist()
    [True, True, False]
    """
    return np.diff(values) > 1e-5 * np.maximum(np.abs(values[:-1]), np.abs(values[1:]))
