"""What a sweep's settings would draw, told from those that were measured, with how far that may be off."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Flags, Floats
from warm_ember.model.sweep import Setting, SweepParameter

_CONSTANT = 4.0
_SLOPE = 4.0
_JITTER = 1e-10
_LENGTHS = (0.25, 0.5, 1.0, 2.0)
_HEIGHTS = (0.02, 0.1, 0.4)
_OWN = 0.5
"""Which share of a plane is a word's own."""


@dataclass(frozen=True, eq=False)
class Predicted:
    """What settings draw, as logarithms of the current in A.

    Parameters
    ----------
    mean
        Shape ``(settings,)``.
    covariance
        Of what is not known of them, shape ``(settings, settings)``.
    """

    mean: Floats
    covariance: Floats

    @property
    def error(self) -> Floats:
        """Standard deviation of each, shape ``(settings,)``."""
        return np.sqrt(np.maximum(np.diag(self.covariance), 0.0))


def features(parameters: Sequence[SweepParameter], settings: Sequence[Setting]) -> Floats:
    """Return settings as coordinates, shape ``(settings, parameters)``.

    Values above 0 lie by their logarithms, as a floor and what comes every so often are smooth there; others as they
    are; each parameter from 0 to 1. A word lies at its number.
    """
    columns = []
    for number, one in enumerate(parameters):
        steps = one.steps
        if one.is_number:
            values = np.array([float(step) for step in steps])
            own = np.array([float(setting[number]) for setting in settings])
            if values.min() > 0:
                values, own = np.log(values), np.log(own)
            columns.append((own - values.min()) / (float(np.ptp(values)) or 1.0))
        else:
            columns.append(np.array([float(steps.index(setting[number])) for setting in settings]))
    return np.stack(columns, axis=1)


def predict(
    parameters: Sequence[SweepParameter],
    measured: Sequence[Setting],
    logarithms: Floats,
    errors: Floats,
    asked: Sequence[Setting],
) -> Predicted:
    """Predict settings by those that were measured.

    Parameters
    ----------
    parameters
        What was varied.
    measured, logarithms, errors
        Settings, logarithms of what they draw, and standard errors of these, shape ``(measured,)`` each, one or more.
    asked
        The settings to predict.

    Notes
    -----
    A Gaussian process of the logarithm: a plane, and a smooth deviation from it whose reach along each parameter and
    whose height are averaged over by how likely they make what was measured; so a curve that is nearly a plane is known
    between its points, and one that is not is known near them only. Settings that differ in a word are related as far
    as their measurements are.

    References
    ----------
    C. E. Rasmussen, C. K. I. Williams, *Gaussian Processes for Machine Learning*, 2006, algorithm 2.1 and 5.4.1.
    """
    known, wanted = features(parameters, measured), features(parameters, asked)
    is_number = np.array([one.is_number for one in parameters])
    center = float(np.mean(logarithms))
    found, weights = [], []
    for lengths in _length_choices(len(parameters), len(measured)):
        for height in _HEIGHTS:
            one = _posterior(known, wanted, is_number, logarithms - center, errors, (np.array(lengths), height))
            found.append(one[:2])
            weights.append(one[2])
    shares = np.exp(np.array(weights) - max(weights))
    shares /= shares.sum()
    mean = sum(share * one[0] for share, one in zip(shares, found, strict=True))
    covariance = sum(
        share * (one[1] + np.outer(one[0] - mean, one[0] - mean))
        for share, one in zip(shares, found, strict=True)
        if share > 1e-6
    )
    return Predicted(np.asarray(mean + center), np.asarray(covariance))


def _length_choices(parameters: int, measured: int) -> list[tuple[float, ...]]:
    """Return the reaches that are averaged over: each parameter its own, as long as that is few."""
    if parameters <= 2 and measured > 2:
        grids = np.meshgrid(*([_LENGTHS] * parameters), indexing="ij")
        return [tuple(row) for row in np.stack([one.ravel() for one in grids], axis=1).tolist()]
    return [(length,) * parameters for length in _LENGTHS]


def _kernel(one: Floats, other: Floats, is_number: Flags, lengths: Floats, height: float) -> Floats:
    apart = one[:, None, :] - other[None, :, :]
    differ = (apart != 0) & ~is_number
    related = 1 - _OWN * differ.sum(axis=2) / max(int(np.count_nonzero(~is_number)), 1)
    plane = _CONSTANT + _SLOPE * np.sum(one[:, None, :] * other[None, :, :] * is_number, axis=2)
    away = 0.5 * np.sum((apart * is_number / lengths) ** 2, axis=2) + np.sum(differ / lengths, axis=2)
    return np.asarray(related * plane + height**2 * np.exp(-away))


def _posterior(
    known: Floats,
    wanted: Floats,
    is_number: Flags,
    values: Floats,
    errors: Floats,
    shape: tuple[Floats, float],
) -> tuple[Floats, Floats, float]:
    from scipy.linalg import cho_factor, cho_solve

    lengths, height = shape
    own = _kernel(known, known, is_number, lengths, height) + np.diag(errors**2 + _JITTER)
    factor = cho_factor(own, lower=True)
    between = _kernel(known, wanted, is_number, lengths, height)
    solved = cho_solve(factor, values)
    mean = between.T @ solved
    covariance = _kernel(wanted, wanted, is_number, lengths, height) - between.T @ cho_solve(factor, between)
    evidence = -0.5 * float(values @ solved) - float(np.sum(np.log(np.diag(factor[0]))))
    evidence -= 0.5 * len(values) * math.log(2 * math.pi)
    return mean, covariance, evidence
