"""The steps of a mean occurrence: start-up, measuring, waiting, transmitting, and what each takes."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.fold import Fold

MOST_STEPS = 12
_LEAST_CHANGE = 0.15
_LEAST_BINS, _LEAST_SHARE = 2, 0.01
_SMALLEST_SCALE_A = 1e-9


@dataclass(frozen=True, slots=True)
class LevelStep:
    """One step of an occurrence: where it lies from the alignment, its mean current, its charge and its share."""

    from_s: float
    to_s: float
    mean_a: float
    charge_c: float
    share: float

    @property
    def length_s(self) -> float:
        """Length of the step."""
        return self.to_s - self.from_s


def find_edges(values: Floats, *, most: int = MOST_STEPS) -> Indices:
    """Cut a curve where its level changes.

    Parameters
    ----------
    values
        The curve, A, NaN where there is nothing, shape ``(n,)``.
    most
        Most pieces.

    Returns
    -------
    Indices
        Inner edges, rising; empty for a flat curve.

    Notes
    -----
    Optimal partitioning of the curve on an inverse-hyperbolic-sine scale into constant pieces:
    a further piece must lower the squared error by more than a penalty. The penalty follows the curve's noise and is
    doubled until the pieces are few enough. Neighbours that differ by less than 15 % are one piece,
    and a piece shorter than a hundredth of the curve belongs to the neighbour that is more like it.

    References
    ----------
    B. Jackson et al., "An algorithm for optimal partitioning of data on an interval", *IEEE Signal Processing Letters*
    12, 2005, p. 105.
    """
    known = values[~np.isnan(values)]
    if len(known) < 3:
        return np.empty(0, dtype=np.int64)
    noise_a = float(np.median(np.abs(np.diff(known)))) / 0.954
    scale = max(noise_a, 0.01 * float(np.median(np.abs(known))), _SMALLEST_SCALE_A)
    scaled = np.arcsinh(np.where(np.isnan(values), np.median(known), values) / scale)
    spread = float(np.median(np.abs(np.diff(scaled)))) / 0.954
    penalty = max(12 * spread**2 * np.log(len(scaled)), 2 * _LEAST_CHANGE**2)
    while True:
        edges = _merged(scaled, _partition(scaled, penalty))
        if len(edges) < most:
            return edges
        penalty *= 2


def _partition(values: Floats, penalty: float) -> Indices:
    count = len(values)
    sums = np.concatenate(([0.0], np.cumsum(values)))
    squares = np.concatenate(([0.0], np.cumsum(values**2)))
    best = np.zeros(count + 1)
    best[0] = -penalty
    last = np.zeros(count + 1, dtype=np.int64)
    for end in range(1, count + 1):
        lengths = np.arange(end, 0, -1)
        total = sums[end] - sums[:end]
        error = squares[end] - squares[:end] - total**2 / lengths
        costs = best[:end] + error + penalty
        last[end] = int(np.argmin(costs))
        best[end] = costs[last[end]]
    edges, at = [], int(last[count])
    while at > 0:
        edges.append(at)
        at = int(last[at])
    return np.array(edges[::-1], dtype=np.int64)


def _merged(values: Floats, edges: Indices) -> Indices:
    """Drop edges between pieces that hardly differ, and those of pieces too short to be a step of their own."""
    kept = edges.tolist()
    least = max(_LEAST_BINS, round(_LEAST_SHARE * len(values)))
    while kept:
        bounds = np.array([0, *kept, len(values)])
        means = np.array([values[a:b].mean() for a, b in pairwise(bounds.tolist())])
        changes = np.abs(np.diff(means))
        lengths = np.diff(bounds)
        beside_short = (lengths[:-1] < least) | (lengths[1:] < least)
        if changes.min() < _LEAST_CHANGE:
            worst = int(np.argmin(changes))
        elif beside_short.any():
            worst = int(np.argmin(np.where(beside_short, changes, np.inf)))
        else:
            break
        del kept[worst]
    return np.array(kept, dtype=np.int64)


def found_edges_s(folded: Fold, *, most: int = MOST_STEPS) -> tuple[float, ...]:
    """Return the inner edges of the occurrence's steps, seconds from the alignment.

    They are found in the median, which a few odd cycles do not bend.
    """
    return tuple(float(folded.edges_s[edge]) for edge in find_edges(folded.median_a, most=most))


def steps_of(folded: Fold, edges_s: tuple[float, ...]) -> tuple[LevelStep, ...]:
    """Cut the mean occurrence at some edges.

    Parameters
    ----------
    folded
        The cycles.
    edges_s
        Inner edges, seconds from the alignment; those outside the window are left out.

    Returns
    -------
    tuple of Step
        At least one; their charges sum to the mean occurrence's.
    """
    inner = sorted({edge for edge in edges_s if folded.edges_s[0] < edge < folded.edges_s[-1]})
    bounds = np.array([folded.edges_s[0], *inner, folded.edges_s[-1]])
    lengths = np.diff(folded.edges_s)
    running = np.concatenate(([0.0], np.cumsum(np.nan_to_num(folded.mean_a) * lengths)))
    charges = np.diff(np.interp(bounds, folded.edges_s, running))
    whole = float(charges.sum())
    return tuple(
        LevelStep(
            float(begin),
            float(end),
            float(charge / (end - begin)),
            float(charge),
            float(charge / whole) if whole else 0.0,
        )
        for begin, end, charge in zip(bounds[:-1], bounds[1:], charges, strict=True)
    )
