"""What a sweep has learnt so far: its points, what each parameter does, and which setting is best."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from warm_ember.battery.life import LifeEstimate, estimate_life, life_of
from warm_ember.errors import BadArgumentError
from warm_ember.model.estimate import Estimate
from warm_ember.model.figure import Bound, Figure, Grade
from warm_ember.model.load import ActivityCost, LifeModel, Load
from warm_ember.model.plan import PlannedChange, ReduceAverage
from warm_ember.model.sweep import Setting, SweepRecipe, Value, value_text
from warm_ember.session.session import Session
from warm_ember.signal.series import ShouldStop
from warm_ember.store.sweep_journal import SweepProgress, SweepRecording
from warm_ember.tuning.sweep.fits import ParameterFit, fit_parameter
from warm_ember.tuning.sweep.points import Scatter, estimates_of, scatter_of
from warm_ember.tuning.sweep.search import Standing, standing
from warm_ember.units import MONTH_S

_REACH, _LEAST = 1.645, -34.5
MEASURED, REFUSED, LEFT_OUT = "measured", "refused", "left out"
_WHY_BOUNDED = {
    Bound.AT_LEAST: "beyond the range: take a wider one",
    Bound.AT_MOST: "known from one side alone",
    Bound.BELOW: "below what the instrument resolves: take a finer range",
}


@dataclass(frozen=True)
class SweepPoint:
    """One setting of the grid.

    Parameters
    ----------
    setting
        Its values.
    captures
        Its recordings.
    mean_a, low_a, high_a
        What it draws, A, with the 90 % interval; None where it was not measured, or nothing was repeated.
    state, reason
        ``measured``, ``refused`` or ``left out``, and why; of what was measured, why no more than a bound is known.
    predicted_a
        What the others tell of it; None before anything was measured.
    life_s
        How long the battery lasts at it; None where nothing is known.
    bound
        On which side of the mean the truth lies, where a recording tells no more.
    """

    setting: Setting
    captures: tuple[str, ...]
    mean_a: float | None
    low_a: float | None
    high_a: float | None
    state: str
    reason: str
    predicted_a: float | None
    life_s: float | None
    bound: Bound | None = None

    @property
    def shown_a(self) -> float | None:
        """The mean to show: of what is below the resolution, that."""
        return self.high_a if self.bound is Bound.BELOW else self.mean_a


@dataclass(frozen=True, eq=False)
class ChosenSetting:
    """The best setting that is allowed.

    Parameters
    ----------
    setting
        Its values.
    mean
        What it draws with what the sweep does not cover, A.
    life
        How long the battery lasts at it.
    low_s, high_s
        Its 90 % interval.
    chance
        How likely no other allowed setting draws less by a hundredth; None where bounds leave that open.
    meets_goal
        Whether it lives as long as wanted.
    saves_a
        How much less it draws than the setting of today; None where nothing tells that.
    bound
        Whether it draws at most that, and lives at least so long.
    """

    setting: Setting
    mean: Estimate
    life: LifeEstimate
    low_s: float
    high_s: float
    chance: float | None
    meets_goal: bool
    saves_a: Estimate | None
    bound: Bound | None = None


@dataclass(frozen=True, eq=False)
class SweepResult:
    """All that a sweep has learnt.

    Parameters
    ----------
    progress
        What was done.
    points
        All settings of the grid.
    fits
        What each parameter does, as far as a model tells.
    standing
        What is known of the grid; None before anything was measured.
    chosen
        The best; None where nothing allowed was measured.
    scatter
        What recordings of a setting differ by.
    added_a
        What the activities draw that the sweep does not cover.
    course
        After each measured setting, in their order, how wide the 90 % interval of the best one's life was, s; None
        where none was allowed yet.
    """

    progress: SweepProgress
    points: tuple[SweepPoint, ...]
    fits: tuple[ParameterFit, ...]
    standing: Standing | None
    chosen: ChosenSetting | None
    scatter: Scatter
    added_a: float
    course: tuple[tuple[Setting, float | None], ...] = ()

    @property
    def recipe(self) -> SweepRecipe:
        """The sweep."""
        return self.progress.recipe

    @property
    def measured(self) -> int:
        """How many settings were measured."""
        return sum(one.state == MEASURED for one in self.points)


def means_of(progress: SweepProgress) -> dict[Setting, list[float]]:
    """Return the mean currents of the recordings of each setting of the grid, A, where all are known."""
    bounded = bounds_of(progress)
    return {
        setting: [one.mean_a for one in made]
        for setting, made in _recordings(progress).items()
        if setting not in bounded
    }


def bounds_of(progress: SweepProgress) -> dict[Setting, Figure]:
    """Return the means of which a recording tells no more than a bound: the range was exceeded, or it resolves less."""
    found = {}
    for setting, made in _recordings(progress).items():
        mean_a = math.fsum(one.mean_a for one in made) / len(made)
        bounds = {one.bound for one in made}
        if Bound.AT_LEAST in bounds:
            found[setting] = Figure(mean_a, mean_a, None, Grade.BOUNDED, bound=Bound.AT_LEAST)
        elif Bound.BELOW in bounds:
            least_a = max(one.least_a for one in made)
            found[setting] = Figure(mean_a, None, least_a, Grade.BOUNDED, bound=Bound.BELOW)
    return found


def _recordings(progress: SweepProgress) -> dict[Setting, list[SweepRecording]]:
    found: defaultdict[Setting, list[SweepRecording]] = defaultdict(list)
    grid = set(progress.recipe.grid())
    for one in progress.recordings:
        if one.setting in grid:
            found[one.setting].append(one)
    return dict(found)


def refused_of(progress: SweepProgress) -> frozenset[Setting]:
    """Return the settings that could not be measured."""
    return frozenset(one.setting for one in progress.left_out)


def sweep_result(session: Session, progress: SweepProgress) -> SweepResult:
    """Return what a sweep has learnt.

    Raises
    ------
    BadArgumentError
        If the project has no such activity.
    """
    recipe, means = progress.recipe, means_of(progress)
    costs = _costs(session, recipe)
    added_a = sum(cost.added_a(0.0) for cost in costs)
    bounds = bounds_of(progress)
    now = standing(recipe, means, refused_of(progress), frozenset(bounds)) if means else None
    at = now.grid[now.best] if now is not None and now.best is not None else next(iter(means), recipe.now())
    fits = [fit_parameter(recipe, number, means, at) for number in range(len(recipe.parameters))] if means else []
    least_a = max((one.least_a for one in progress.recordings if one.setting in means), default=0.0)
    return SweepResult(
        progress=progress,
        points=tuple(_points(session, progress, estimates_of(means), bounds, now, costs)),
        fits=tuple(one.resolved_from(least_a) for one in fits if one is not None),
        standing=now,
        chosen=_chosen(session, recipe, bounds, now, costs),
        scatter=scatter_of(means),
        added_a=added_a,
    )


def is_met(session: Session, progress: SweepProgress) -> bool:
    """Return whether a setting that was measured surely lives as long as wanted.

    Raises
    ------
    BadArgumentError
        If the project has no such activity.
    """
    wanted, chosen = progress.recipe.goal.min_months, sweep_result(session, progress).chosen
    return wanted is not None and chosen is not None and chosen.low_s >= wanted * MONTH_S


def with_course(session: Session, found: SweepResult, should_stop: ShouldStop) -> SweepResult:
    """Return a result with how its answer grew sure, measured setting by measured setting."""
    recipe, means, bounded = found.recipe, means_of(found.progress), frozenset(bounds_of(found.progress))
    costs, refused = _costs(session, recipe), refused_of(found.progress)
    course: list[tuple[Setting, float | None]] = []
    for number, setting in enumerate(means, start=1):
        if should_stop():
            break
        known = dict(list(means.items())[:number])
        now = standing(recipe, known, refused, bounded)
        course.append((setting, _width_s(session, now, costs)))
    return replace(found, course=tuple(course))


def _width_s(session: Session, now: Standing, costs: tuple[ActivityCost, ...]) -> float | None:
    """Return how much longer any allowed setting may live than the best one that is measured may at least."""
    if now.best is None:
        return None
    mean, error = now.predicted.mean, now.predicted.error
    highest, lowest = float(mean[now.best] + _REACH * error[now.best]), float(mean[now.best])
    lowest = min(lowest, float(np.min((mean - _REACH * error)[now.is_allowed])))
    longest_s, shortest_s = (
        life_of(_model(session, Figure(math.exp(max(one, _LEAST))), costs, 0.0)) for one in (lowest, highest)
    )
    return longest_s - shortest_s if math.isfinite(longest_s) else None


@dataclass(frozen=True)
class SweepEffect:
    """What a parameter makes of the average from its first value to its last, others as in the best setting.

    Parameters
    ----------
    parameter, first, last
        Its name and its values.
    change
        The difference, A.
    """

    parameter: str
    first: Value
    last: Value
    change: Estimate


def effects_of(found: SweepResult) -> tuple[SweepEffect, ...]:
    """Return the effect of each parameter, as far as all measurements together tell it."""
    now = found.standing
    if now is None or now.best is None:
        return ()
    effects, at = [], now.grid[now.best]
    for number, one in enumerate(found.recipe.parameters):
        steps = one.steps
        ends = [now.grid.index((*at[:number], step, *at[number + 1 :])) for step in (steps[0], steps[-1])]
        means = np.exp(now.predicted.mean[ends])
        covariance = now.predicted.covariance[np.ix_(ends, ends)] * np.outer(means, means)
        variance = float(covariance[0, 0] + covariance[1, 1] - 2 * covariance[0, 1])
        change = Estimate(float(means[1] - means[0]), math.sqrt(max(variance, 0.0)))
        effects.append(SweepEffect(one.name, steps[0], steps[-1], change))
    return tuple(effects)


def change_of(found: SweepResult, run: str) -> PlannedChange | None:
    """Return the change of the plan that the best setting is; None where it is the one of today, or none is chosen."""
    chosen, recipe = found.chosen, found.recipe
    if chosen is None or chosen.saves_a is None:
        return None
    named = zip(recipe.parameters, chosen.setting, recipe.now(), strict=True)
    words = ", ".join(f"{one.name} {value_text(value)}" for one, value, today in named if value != today)
    later_s = recipe.latency_s(chosen.setting) - recipe.latency_s(recipe.now())
    return PlannedChange(
        words,
        (ReduceAverage(chosen.saves_a.value),),
        run,
        reason=f"sweep of {', '.join(one.name for one in recipe.parameters)}",
        latency_s=max(later_s, 0.0),
    )


def _costs(session: Session, recipe: SweepRecipe) -> tuple[ActivityCost, ...]:
    """Return the activities that are added to each setting."""
    if not recipe.activities:
        return ()
    known = {cost.name: cost for cost in session.run(session.current).load.costs} if session.current else {}
    for name in recipe.activities:
        if name not in known:
            raise BadArgumentError(f"the project has no activity {name!r}; there are: {', '.join(known) or 'none'}")
    return tuple(known[name] for name in recipe.activities)


def _model(session: Session, mean: Figure, costs: tuple[ActivityCost, ...], spread: float) -> LifeModel:
    project = session.project
    load = Load(mean, "sweep", costs, base_spread=spread)
    return LifeModel(load, project.battery, project.supply, project.climate)


def _points(
    session: Session,
    progress: SweepProgress,
    estimates: dict[Setting, Estimate],
    bounds: dict[Setting, Figure],
    now: Standing | None,
    costs: tuple[ActivityCost, ...],
) -> list[SweepPoint]:
    recipe = progress.recipe
    captures: defaultdict[Setting, list[str]] = defaultdict(list)
    for recording in progress.recordings:
        captures[recording.setting].append(recording.capture)
    why = {one.setting: one for one in progress.left_out}
    points = []
    for number, setting in enumerate(recipe.grid()):
        mean = bounds.get(setting) or _figure(estimates.get(setting))
        predicted_a = math.exp(float(now.predicted.mean[number])) if now is not None else None
        told = Figure(predicted_a) if mean.value is None else mean
        left = why.get(setting)
        state = MEASURED if mean.value is not None else REFUSED if left is not None and left.is_refused else LEFT_OUT
        reason = (
            left.reason
            if left is not None
            else recipe.why_not(setting) or (_WHY_BOUNDED[mean.bound] if mean.bound else "")
        )
        if state == LEFT_OUT and not reason:
            reason = "not needed for the answer" if progress.ended else "not measured yet"
        life_s = None if told.value is None else life_of(_model(session, told, costs, 0.0))
        points.append(
            SweepPoint(
                setting=setting,
                captures=tuple(captures[setting]),
                mean_a=mean.value,
                low_a=mean.low,
                high_a=mean.high,
                state=state,
                reason=reason,
                predicted_a=predicted_a,
                life_s=life_s,
                bound=mean.bound,
            )
        )
    return points


def _figure(estimate: Estimate | None) -> Figure:
    if estimate is None:
        return Figure(None)
    low, high = estimate.interval() or (None, None)
    return Figure(estimate.value, low, high)


class _Pick(NamedTuple):
    """A setting, what it draws, whether that is the most that it may be, and how sure it is the best."""

    setting: Setting
    mean: Estimate
    is_most: bool
    chance: float | None


def _pick(recipe: SweepRecipe, bounds: dict[Setting, Figure], now: Standing | None) -> _Pick | None:
    """Return the best setting: of what is below the resolution the highest that it may draw counts.

    A setting beyond the range is no choice: how much it draws is not known.
    """
    allowed = {setting: mean for setting, mean in bounds.items() if not recipe.why_not(setting)}
    best = None
    if now is not None and now.best is not None:
        # What its neighbours tell of it counts too: that is the smaller error.
        mean_a, share = math.exp(float(now.predicted.mean[now.best])), float(now.predicted.error[now.best])
        is_open = any(mean.value is not None and mean.value < mean_a for mean in allowed.values())
        best = _Pick(now.grid[now.best], Estimate(mean_a, mean_a * share), False, None if is_open else now.chance)
    for setting, mean in sorted(allowed.items(), key=lambda one: one[1].value or 0.0):
        if mean.bound is Bound.BELOW and mean.high is not None and (best is None or mean.high < best.mean.value):
            return _Pick(setting, Estimate(mean.high, math.inf), True, None)
    return best


def _chosen(
    session: Session,
    recipe: SweepRecipe,
    bounds: dict[Setting, Figure],
    now: Standing | None,
    costs: tuple[ActivityCost, ...],
) -> ChosenSetting | None:
    pick = _pick(recipe, bounds, now)
    if pick is None:
        return None
    mean, mean_a = pick.mean, pick.mean.value
    if pick.is_most:
        figure, share = Figure(mean_a, None, mean_a, Grade.BOUNDED, bound=Bound.AT_MOST), 0.0
    else:
        figure, share = _figure(mean), mean.error / mean_a
    target_s = session.project.target_s if recipe.goal.min_months is None else recipe.goal.min_months * MONTH_S
    life = estimate_life(_model(session, figure, costs, share), target_s)
    low_s, high_s = (float(np.quantile(life.draws_s, end)) for end in (0.05, 0.95))
    today, saves = recipe.now(), None
    if now is not None and today in now.grid and today not in (pick.setting, *bounds):
        at = now.grid.index(today)
        other_a, other = math.exp(float(now.predicted.mean[at])), float(now.predicted.error[at])
        saves = Estimate(other_a, other_a * other).less(Estimate(mean_a, 0.0) if pick.is_most else mean)
    added_a = sum(cost.added_a(mean_a) for cost in costs)
    return ChosenSetting(
        setting=pick.setting,
        mean=replace(mean, value=mean_a + added_a),
        life=life,
        low_s=low_s,
        high_s=high_s,
        chance=pick.chance,
        meets_goal=recipe.goal.min_months is None or life.life_s >= recipe.goal.min_months * MONTH_S,
        saves_a=saves,
        bound=figure.bound,
    )


def wanted_repeats(result: SweepResult) -> int | None:
    """Return how many more repeats of the best would halve what its mean is unsure by; None where nothing is chosen."""
    if result.chosen is None:
        return None
    done = len(next(one.captures for one in result.points if one.setting == result.chosen.setting))
    return 3 * max(done, 1)
