"""Where to measure next, and which setting is best: where the answer is decided, and nowhere else."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Flags, Floats
from warm_ember.model.sweep import Search, Setting, SweepRecipe, Value
from warm_ember.tuning.sweep.points import scatter_of
from warm_ember.tuning.sweep.surrogate import Predicted, predict

SAME = 0.01
"""By less than this share a setting is no better than another."""

_WORTH = 0.003
_FEW = 5
_AT_ONCE = 2
_DRAWS = 4000


@dataclass(frozen=True, eq=False)
class Standing:
    """What is known of a grid now.

    Parameters
    ----------
    grid
        All settings.
    predicted
        What they draw.
    is_measured, is_allowed
        Of each, shape ``(settings,)``; refused ones, and those of which a bound is known, are not allowed.
    best
        Index of the measured setting that is allowed and draws least; None where there is none.
    chance
        How likely no other allowed setting draws less by `SAME` or more.
    """

    grid: tuple[Setting, ...]
    predicted: Predicted
    is_measured: Flags
    is_allowed: Flags
    best: int | None
    chance: float


def first_settings(recipe: SweepRecipe) -> tuple[Setting, ...]:
    """Return where a search begins: the allowed ends of each parameter with those of the others, and the middle.

    Of a grid that is hardly larger, or where a search is not wanted, all of it. One setting of the half that may be
    measured is left for what these tell.
    """
    grid = recipe.grid()
    if recipe.search is Search.GRID or len(grid) <= _FEW:
        return grid
    allowed = [one for one in grid if not recipe.why_not(one)] or list(grid)
    steps: list[tuple[Value, ...]] = []
    for number, parameter in enumerate(recipe.parameters):
        own = dict.fromkeys(one[number] for one in allowed)
        steps.append(tuple(sorted(own, key=float)) if parameter.is_number else tuple(own))
    ends = [_ends(one) if recipe.parameters[number].is_number else one for number, one in enumerate(steps)]
    found = dict.fromkeys(itertools.product(*ends)) if math.prod(map(len, ends)) <= len(grid) // 3 else {}
    if not found:  # too many parameters or words: each alone, from the first of the others
        first = tuple(one[0] for one in ends)
        for number, one in enumerate(ends):
            found |= dict.fromkeys((*first[:number], value, *first[number + 1 :]) for value in one)
    found[tuple(one[len(one) // 2] for one in steps)] = None
    # What several limits leave together may have no corner where those of each do.
    chosen = [one for one in found if one in set(allowed)] or allowed[:1]
    return tuple(chosen)[: max(len(grid) // 2 - 1, 1)]


def _ends(steps: tuple[Value, ...]) -> tuple[Value, ...]:
    return (steps[0], steps[-1]) if len(steps) > 1 else steps


def standing(
    recipe: SweepRecipe,
    means_a: Mapping[Setting, Sequence[float]],
    refused: frozenset[Setting],
    bounded: frozenset[Setting] = frozenset(),
) -> Standing:
    """Return what the measurements so far tell of the grid.

    Parameters
    ----------
    recipe
        The sweep.
    means_a
        Mean currents of the recordings of each measured setting, A, above 0; one setting at least.
    refused
        Settings that the target does not take.
    bounded
        Settings of whose mean no more than a bound is known: they tell nothing of the others.
    """
    grid = recipe.grid()
    scatter = scatter_of(means_a)
    measured = list(means_a)
    logarithms = np.array([math.log(float(np.mean(one))) for one in means_a.values()])
    # Of a scatter that few repeats tell less is sure.
    wider = math.sqrt(1 + 2 / scatter.freedom) if scatter.freedom else 1.0
    errors = np.array([scatter.share * wider / math.sqrt(len(one)) for one in means_a.values()])
    predicted = predict(recipe.parameters, measured, logarithms, errors, grid)
    is_measured = np.array([one in means_a or one in bounded for one in grid], dtype=bool)
    unknown = refused | bounded
    is_allowed = np.array([not recipe.why_not(one) and one not in unknown for one in grid], dtype=bool)
    own = np.flatnonzero(is_measured & is_allowed)
    best = int(own[np.argmin(predicted.mean[own])]) if len(own) else None
    return Standing(grid, predicted, is_measured, is_allowed, best, _chance(predicted, is_allowed, best, recipe.seed))


def _chance(predicted: Predicted, is_allowed: Flags, best: int | None, seed: int) -> float:
    """Return how likely the best is none by less than `SAME`, over joint draws of all allowed settings."""
    if best is None:
        return 0.0
    allowed = np.flatnonzero(is_allowed)
    values, vectors = np.linalg.eigh(predicted.covariance[np.ix_(allowed, allowed)])
    root = vectors * np.sqrt(np.maximum(values, 0.0))
    normal = np.random.default_rng(seed).standard_normal((_DRAWS, len(allowed)))
    draws = predicted.mean[allowed] + normal @ root.T
    own = draws[:, int(np.searchsorted(allowed, best))]
    return float(np.mean(own <= draws.min(axis=1) + SAME))


def next_settings(recipe: SweepRecipe, now: Standing) -> tuple[Setting, ...]:
    """Return the settings to be measured next; none when the answer is as sure as wanted, or half is measured.

    Notes
    -----
    Those among the allowed ones from which most improvement on the best is expected. Where none promises as much as
    0.3 %, and the best is not sure yet, the one that is known least of those that may still be better.

    References
    ----------
    D. R. Jones, M. Schonlau, W. J. Welch, "Efficient global optimization of expensive black-box functions", *Journal of
    Global Optimization* 13, 1998, for the expected improvement.
    """
    left = max(len(now.grid) // 2, 1) - int(np.count_nonzero(now.is_measured))
    open_ = np.flatnonzero(now.is_allowed & ~now.is_measured)
    if left <= 0 or not len(open_) or recipe.search is Search.GRID or len(now.grid) <= _FEW:
        return ()
    if now.best is not None and now.chance >= recipe.stop.chance:
        return ()
    mean, error = now.predicted.mean[open_], np.maximum(now.predicted.error[open_], 1e-9)
    if now.best is None:
        gains = -mean
    else:
        gains = _expected_gain(now.predicted.mean[now.best] - mean, error)
        if gains.max() < _WORTH:
            gains = np.where(mean - 2 * error < now.predicted.mean[now.best], error, 0.0)
    order = np.argsort(-gains, kind="stable")
    chosen = [int(open_[order[0]])]
    for at in order[1:].tolist():
        # What lies beside the first one is told by it.
        correlation = now.predicted.covariance[open_[at], chosen[0]] / (
            now.predicted.error[open_[at]] * now.predicted.error[chosen[0]] + 1e-300
        )
        if len(chosen) < min(_AT_ONCE, left) and gains[at] > gains[order[0]] / 4 and correlation < 0.7:
            chosen.append(int(open_[at]))
    return tuple(now.grid[at] for at in chosen)


def _expected_gain(better_by: Floats, error: Floats) -> Floats:
    from scipy.special import ndtr

    standard = better_by / error
    density = np.exp(-0.5 * standard**2) / math.sqrt(2 * math.pi)
    return np.asarray(better_by * ndtr(standard) + error * density)
