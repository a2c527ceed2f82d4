"""A sweep of a target's settings as an answer."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats.source import check_regular
from warm_ember.library.grades import Graded
from warm_ember.library.record import Record
from warm_ember.model.figure import Bound, Grade
from warm_ember.model.sweep import Setting, SweepRecipe, Value
from warm_ember.session.sweep_recipes import recipe_of
from warm_ember.session.sweep_results import SweepPoint as Point
from warm_ember.session.sweep_results import SweepResult, sweep_result, wanted_repeats
from warm_ember.session.sweeping import SweepTold, run_sweep
from warm_ember.units import HOUR_S

if TYPE_CHECKING:
    from warm_ember.library.project import Project
    from warm_ember.model.estimate import Estimate
    from warm_ember.signal.series import ShouldStop


class SweepPoint(Graded, frozen=True, kw_only=True):
    """One setting: what it draws, from which captures, or why it was not measured."""

    OPTIONAL: ClassVar[frozenset[str]] = frozenset({"predicted_a", "life_h"})

    values: dict[str, Value]
    captures: tuple[str, ...]
    mean_a: float | None
    mean_a_low: float | None
    mean_a_high: float | None
    state: str
    reason: str
    predicted_a: float | None
    life_h: float | None


class SweepFit(Graded, frozen=True, kw_only=True):
    """``floor + charge / value`` of a parameter, and whether what is left over is scatter alone."""

    parameter: str
    floor_a: float | None
    floor_a_low: float | None
    floor_a_high: float | None
    charge_c: float | None
    charge_c_low: float | None
    charge_c_high: float | None
    fits: bool
    interacts: bool
    flattens_at: float | None


class BreakEven(Graded, frozen=True, kw_only=True):
    """The value of a parameter at which two values of another cost the same."""

    parameter: str
    between: tuple[Value, Value]
    of: str
    at: float
    at_low: float | None
    at_high: float | None


class Chosen(Graded, frozen=True, kw_only=True):
    """The best setting that is allowed, and how likely none is better by a hundredth; None where bounds leave it open.

    Where it is bounded, it draws at most that and lives at least so long.
    """

    values: dict[str, Value]
    mean_a: float
    mean_a_low: float | None
    mean_a_high: float | None
    life_h: float
    life_h_low: float
    life_h_high: float | None
    chance_best: float | None
    meets_goal: bool
    saves_a: float | None
    saves_a_low: float | None
    saves_a_high: float | None


class Sweep(Record, frozen=True, kw_only=True):
    """All settings of a sweep, what was learnt, and the best one; its rows are the settings."""

    ROWS: ClassVar[str] = "points"

    points: tuple[SweepPoint, ...]
    fits: tuple[SweepFit, ...]
    break_evens: tuple[BreakEven, ...]
    chosen: Chosen | None
    measured: int
    of: int
    ended: str
    scatter: float | None
    surer_repeats: int | None


def read_recipe(path: Path) -> SweepRecipe:
    """Read a sweep's recipe.

    Raises
    ------
    BadFileError
        If the file is none, or what it says cannot be done.
    """
    check_regular(path)
    try:
        return recipe_of(path.read_bytes())
    except OSError as error:
        raise BadFileError(path, f"it cannot be read: {error.strerror}") from error
    except BadArgumentError as error:
        raise BadFileError(path, str(error), remedy="see docs/formats.md") from error


def sweep_in(project: Project, recipe: SweepRecipe, resource: str, should_stop: ShouldStop, told: SweepTold) -> Sweep:
    """Run a sweep in a project, or go on with it, and return what it has learnt.

    Raises
    ------
    WarmEmberError
        If it cannot be run; what was measured is kept.
    """
    progress = run_sweep(project.session, recipe, resource, should_stop, told)
    return sweep_of(sweep_result(project.session, progress))


def nobody(_words: str, _seconds: float, _should_stop: Callable[[], bool]) -> bool:
    """Answer for a person where there is none."""
    return False


def sweep_of(found: SweepResult) -> Sweep:
    """Return what a sweep has learnt as an answer."""
    recipe, chosen = found.recipe, found.chosen

    def named(setting: Setting) -> dict[str, Value]:
        return {one.name: value for one, value in zip(recipe.parameters, setting, strict=True)}

    best = None
    if chosen is not None:
        low, high = _ends(chosen.mean)
        saves_low, saves_high = _ends(chosen.saves_a)
        best = Chosen(
            values=named(chosen.setting),
            mean_a=chosen.mean.value,
            mean_a_low=low,
            mean_a_high=chosen.mean.value if chosen.bound is not None else high,
            life_h=chosen.life.life_s / HOUR_S,
            life_h_low=chosen.low_s / HOUR_S,
            life_h_high=None if chosen.bound is not None else chosen.high_s / HOUR_S,
            chance_best=chosen.chance,
            meets_goal=chosen.meets_goal,
            saves_a=None if chosen.saves_a is None else chosen.saves_a.value,
            saves_a_low=saves_low,
            saves_a_high=saves_high,
            grade=chosen.life.weakest.grade.value,
            bound=chosen.bound,
        )
    return Sweep(
        points=tuple(
            SweepPoint(
                values=named(one.setting),
                captures=one.captures,
                mean_a=one.mean_a,
                mean_a_low=one.low_a,
                mean_a_high=one.high_a,
                state=one.state,
                reason=one.reason,
                predicted_a=one.predicted_a,
                life_h=None if one.life_s is None else one.life_s / HOUR_S,
                grade=_grade(one).value,
                bound=one.bound,
            )
            for one in found.points
        ),
        fits=tuple(
            SweepFit(
                parameter=one.parameter,
                floor_a=one.floor.value,
                floor_a_low=_ends(one.floor)[0] if one.floor_below is None else None,
                floor_a_high=_ends(one.floor)[1] if one.floor_below is None else one.floor_below,
                charge_c=one.charge.value,
                charge_c_low=_ends(one.charge)[0],
                charge_c_high=_ends(one.charge)[1],
                fits=one.fits,
                interacts=one.interacts,
                flattens_at=one.flattens_at,
                grade=(Grade.MEASURED if one.floor_below is None else Grade.BOUNDED).value,
                bound=None if one.floor_below is None else Bound.BELOW,
            )
            for one in found.fits
        ),
        break_evens=tuple(
            BreakEven(
                parameter=fit.parameter,
                between=one.between,
                of=one.parameter,
                at=one.at,
                at_low=one.low,
                at_high=one.high,
            )
            for fit in found.fits
            for one in fit.break_evens
        ),
        chosen=best,
        measured=found.measured,
        of=len(found.points),
        ended=found.progress.ended,
        scatter=found.scatter.share if found.scatter.freedom else None,
        surer_repeats=wanted_repeats(found),
    )


def _grade(point: Point) -> Grade:
    if point.mean_a is None:
        return Grade.ASSUMED
    return Grade.MEASURED if point.bound is None else Grade.BOUNDED


def _ends(estimate: Estimate | None) -> tuple[float | None, float | None]:
    return (estimate.interval() if estimate is not None else None) or (None, None)
