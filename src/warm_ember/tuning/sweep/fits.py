"""What a parameter does, as a model with intervals: a floor, and a charge that comes once in every value."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.model.estimate import Estimate
from warm_ember.model.sweep import Setting, SweepRecipe, Value
from warm_ember.tuning.sweep.points import scatter_of

_LEVEL, _ASKED_FOR = 0.01, 0.2
_FEWEST_VALUES = 3
_FEWEST_FOR_A_COURSE = 5
_DRAWS = 4000
_SURE = 0.95


@dataclass(frozen=True)
class BreakEvenValue:
    """Where two values of another parameter cost the same.

    Parameters
    ----------
    parameter, between
        The other parameter and its two values.
    at, low, high
        The value, with its 90 % interval; None for an end that there is not.
    """

    parameter: str
    between: tuple[Value, Value]
    at: float
    low: float | None
    high: float | None


@dataclass(frozen=True)
class ParameterFit:
    """``floor + charge / value`` for a parameter, with the others as in one setting.

    Parameters
    ----------
    parameter
        Its name.
    floor, charge
        A, and C where the values are seconds between events.
    fits
        Whether what is left over is no more than recordings scatter by, and the charge is none below 0.
    chance
        How likely scatter alone leaves as much; None where it cannot be told.
    residuals
        Of each setting that was fitted the measured mean over the model's, less 1.
    interacts
        Whether the values of another parameter change the charge, not the floor alone.
    break_evens
        Where values of other parameters cost the same.
    floor_below
        What the instrument resolves, A, where the floor lies below that: an offset of it would be in the floor.
    """

    parameter: str
    floor: Estimate
    charge: Estimate
    fits: bool
    chance: float | None
    residuals: dict[Setting, float]
    interacts: bool = False
    break_evens: tuple[BreakEvenValue, ...] = ()
    floor_below: float | None = None

    def resolved_from(self, least_a: float) -> ParameterFit:
        """Return the fit where the instrument tells nothing of a mean below a current."""
        return replace(self, floor_below=least_a) if self.floor.value < least_a else self

    @property
    def flattens_at(self) -> float | None:
        """The value at which the charge takes as much as the floor; None where that is not told."""
        if not self.fits or self.floor_below is not None or min(self.floor.value, self.charge.value) <= 0:
            return None
        return self.charge.value / self.floor.value

    def at(self, value: float) -> float:
        """Return what the model makes of a value, A."""
        return self.floor.value + self.charge.value / value


def fit_parameter(
    recipe: SweepRecipe, number: int, means_a: Mapping[Setting, Sequence[float]], at: Setting
) -> ParameterFit | None:
    """Fit ``floor + charge / value``; None for words, values of 0 or below, or fewer than three measured values.

    Parameters
    ----------
    recipe, number
        The sweep, and which of its parameters.
    means_a
        Mean currents of the recordings of each measured setting, A, above 0.
    at
        The setting whose other values the model is for.

    Notes
    -----
    Weighed least squares over all settings, in which every value of another parameter adds an amount of its own, and
    where the data ask for it a charge of its own too. The errors are those that recordings scatter by, so that
    residuals can be tested against them (Fisher's distribution); where nothing was repeated, they are those of the
    residuals, and whether the model fits is judged by their course alone.

    References
    ----------
    N. R. Draper, H. Smith, *Applied Regression Analysis*, 3rd edition 1998, 2.1 (lack of fit and pure error).
    R. T. Birge, "The calculation of errors by the method of least squares", *Physical Review* 40, 1932, for widening
    the errors by what is left over.
    """
    parameter = recipe.parameters[number]
    steps = [one for one in parameter.steps if not isinstance(one, str)]
    if len(steps) < len(parameter.steps) or min(steps, default=0.0) <= 0:
        return None
    settings = list(means_a)
    if len({one[number] for one in settings}) < _FEWEST_VALUES:
        return None
    values = np.array([float(one[number]) for one in settings])
    measured = np.array([float(np.mean(means_a[one])) for one in settings])
    scatter = scatter_of(means_a)
    errors = measured * scatter.share / np.sqrt([len(means_a[one]) for one in settings])
    simple = _solved_where_it_can(recipe, number, settings, values, at, measured, errors, scatter.freedom, False)
    full = _solved_where_it_can(recipe, number, settings, values, at, measured, errors, scatter.freedom, True)
    if simple is None:
        return None
    if full is None or not full[1] or not _is_needed(simple[0], full[0], scatter.freedom):
        return _fitted(parameter.name, simple[0], measured, settings)
    found, others = full
    evens = _break_evens(found, others, at, recipe, float(min(steps)), float(max(steps)))
    return replace(_fitted(parameter.name, found, measured, settings), interacts=True, break_evens=evens)


def _is_needed(simple: _Amounts, full: _Amounts, freedom: int) -> bool:
    """Return whether charges of other values are asked for: by a low bar, as leaving one out would bend the others."""
    if not freedom:
        return not simple.fits
    more = len(full.values) - len(simple.values)
    return _beyond(max(simple.squares - full.squares, 0.0) / more, more, freedom) < _ASKED_FOR


def _solved_where_it_can(
    recipe: SweepRecipe,
    number: int,
    settings: Sequence[Setting],
    values: Floats,
    at: Setting,
    measured: Floats,
    errors: Floats,
    freedom: int,
    with_charges: bool,
) -> tuple[_Amounts, list[_Other]] | None:
    design, others = _design(recipe, number, settings, values, at, with_charges=with_charges)
    if np.linalg.matrix_rank(design / np.max(np.abs(design), axis=0)) < design.shape[1]:
        return None
    if len(settings) < design.shape[1] + (0 if freedom else 2):
        return None
    return _solved(design, measured, errors, freedom), others


class _Other(NamedTuple):
    """Another parameter's value that has a floor and a charge of its own, and the column of its floor."""

    parameter: int
    value: Value
    column: int


@dataclass(frozen=True, eq=False)
class _Amounts:
    """Amounts of a least squares fit with their covariance, and what it leaves over."""

    values: Floats
    covariance: Floats
    freedom: int
    left: Floats
    squares: float
    fits: bool
    chance: float | None


def _design(
    recipe: SweepRecipe,
    number: int,
    settings: Sequence[Setting],
    values: Floats,
    at: Setting,
    *,
    with_charges: bool,
) -> tuple[Floats, list[_Other]]:
    """Return a column an amount that is looked for, floor and charge first, and other values with own charges."""
    columns: list[Floats] = [np.ones(len(settings)), 1 / values]
    others: list[_Other] = []
    for other, one in enumerate(recipe.parameters):
        if other == number:
            continue
        for step in one.steps:
            has = np.array([setting[other] == step for setting in settings], dtype=np.float64)
            if step == at[other] or not has.any():
                continue
            columns.append(has)
            if with_charges and len(set(values[has > 0].tolist())) > 1:  # one value tells floor and charge together
                columns.append(has / values)
                others.append(_Other(other, step, len(columns) - 2))
    return np.stack(columns, axis=1), others


def _solved(design: Floats, measured: Floats, errors: Floats, freedom: int) -> _Amounts:
    scaled = design / errors[:, None]
    scale = np.linalg.norm(scaled, axis=0)
    inverse = np.linalg.inv((scaled / scale).T @ (scaled / scale))
    amounts = inverse @ (scaled / scale).T @ (measured / errors) / scale
    left = measured - design @ amounts
    squares, spare = float(np.sum((left / errors) ** 2)), len(measured) - design.shape[1]
    covariance = inverse / np.outer(scale, scale)
    if freedom:
        chance = _beyond(squares / spare, spare, freedom) if spare else None
        # What is left over beyond the scatter is an error of the amounts too.
        covariance = covariance * max(squares / spare, 1.0) if spare else covariance
        return _Amounts(amounts, covariance, freedom, left, squares, chance is None or chance >= _LEVEL, chance)
    is_random = _is_random((left / measured)[np.argsort(1 / design[:, 1])])
    return _Amounts(amounts, covariance * squares / spare, spare, left, squares, is_random, None)


def _fitted(name: str, found: _Amounts, measured: Floats, settings: Sequence[Setting]) -> ParameterFit:
    errors = np.sqrt(np.diag(found.covariance))
    floor, charge = (Estimate(float(found.values[one]), float(errors[one]), found.freedom) for one in (0, 1))
    shares = found.left / (measured - found.left)
    residuals = {one: float(share) for one, share in zip(settings, shares, strict=True)}
    highest_c = (charge.interval() or (0.0, math.inf))[1]
    return ParameterFit(name, floor, charge, found.fits and highest_c >= 0, found.chance, residuals)


def _break_evens(
    found: _Amounts, others: list[_Other], at: Setting, recipe: SweepRecipe, least: float, most: float
) -> tuple[BreakEvenValue, ...]:
    """Return where another value costs as much as the one of `at`: more charge against less floor, or the reverse.

    Notes
    -----
    ``floor difference + charge difference / value = 0``; the interval by draws of both with their covariance.
    """
    random, evens = np.random.default_rng(1), []
    for other, step, column in others:
        own = [column, column + 1]
        floor, charge = found.values[own]
        if floor == 0 or not least <= -charge / floor <= most:
            continue
        draws = random.multivariate_normal(found.values[own], found.covariance[np.ix_(own, own)], _DRAWS)
        crossings = np.where(draws[:, 0] * draws[:, 1] < 0, -draws[:, 1] / draws[:, 0], np.nan)
        is_sure = np.mean(np.isfinite(crossings)) > _SURE
        low, high = np.nanquantile(crossings, (0.05, 0.95)).tolist() if is_sure else (None, None)
        between = (at[other], step)
        evens.append(BreakEvenValue(recipe.parameters[other].name, between, float(-charge / floor), low, high))
    return tuple(evens)


def _beyond(ratio: float, spare: int, freedom: int) -> float:
    from scipy.special import fdtrc

    return float(fdtrc(spare, freedom, ratio))


def _is_random(residuals: Floats) -> bool:
    """Return whether residuals in the order of their values follow no course.

    References
    ----------
    J. von Neumann, "Distribution of the ratio of the mean square successive difference to the variance", *Annals of
    Mathematical Statistics* 12, 1941: about 2 for what is random, and below 1 in some 3 of 100 of nine.
    """
    squares = float(np.sum(residuals**2))
    return len(residuals) < _FEWEST_FOR_A_COURSE or squares == 0 or float(np.sum(np.diff(residuals) ** 2)) >= squares
