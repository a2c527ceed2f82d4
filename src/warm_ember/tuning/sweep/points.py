"""What was measured of a sweep's settings, and how well each is known."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.model.estimate import Estimate
from warm_ember.model.sweep import Setting

_LEAST_SPREAD = 2e-4
_NO_REPEATS = 0.02


@dataclass(frozen=True)
class Scatter:
    """How recordings of one setting differ.

    Parameters
    ----------
    share
        Standard deviation of one recording, as a share of its mean.
    freedom
        Degrees of freedom that it was estimated with; 0 where nothing was repeated, and the share is assumed.
    """

    share: float
    freedom: int


def scatter_of(means_a: Mapping[Setting, Sequence[float]]) -> Scatter:
    """Return the scatter of the recordings of all settings together.

    Parameters
    ----------
    means_a
        The mean current of each recording, A, above 0.

    Notes
    -----
    In shares, as what wakes and clocks scatter by goes with the current; pooled over all settings, so that three
    repeats of ten settings tell it as well as twenty of one would.
    """
    squares, freedom = 0.0, 0
    for means in means_a.values():
        if len(means) > 1:
            shares = np.asarray(means) / np.mean(means)
            squares += float(np.sum((shares - 1) ** 2))
            freedom += len(means) - 1
    if not freedom:
        return Scatter(_NO_REPEATS, 0)
    return Scatter(max(math.sqrt(squares / freedom), _LEAST_SPREAD), freedom)


def estimates_of(means_a: Mapping[Setting, Sequence[float]]) -> dict[Setting, Estimate]:
    """Return the mean of each setting with its error; of an unknown error where nothing was repeated."""
    scatter = scatter_of(means_a)
    found = {}
    for setting, means in means_a.items():
        value = float(np.mean(means))
        error = scatter.share * value / math.sqrt(len(means)) if scatter.freedom else math.inf
        found[setting] = Estimate(value, error, scatter.freedom or math.inf)
    return found
