"""What every figure of an answer carries: its grade, its bound and its interval."""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

from warm_ember.library.record import Record
from warm_ember.model.figure import Bound, Figure, Grade

if TYPE_CHECKING:
    from warm_ember.model.estimate import Estimate


class Graded(Record, frozen=True, kw_only=True):
    """A record of figures.

    Parameters
    ----------
    grade
        Where they come from: ``measured``, ``bounded``, ``entered`` or ``assumed``.
    bound
        Whether the truth is ``at_least`` or ``at_most`` the figure, or ``below`` its high end; None for neither.
    """

    grade: str = Grade.MEASURED.value
    bound: str | None = None


class GradeFields(TypedDict):
    """The fields of `Graded`."""

    grade: str
    bound: str | None


def graded(figure: Figure) -> GradeFields:
    """Return the grade and the bound of a figure."""
    return {"grade": figure.grade.value, "bound": figure.bound and figure.bound.value}


def measured(bound: Bound | None = None) -> GradeFields:
    """Return the grade of what is measured, or bounded where the instrument allows no more."""
    return graded(Figure(None, grade=Grade.MEASURED if bound is None else Grade.BOUNDED, bound=bound))


def reach(estimate: Estimate, bound: Bound | None = None) -> tuple[float | None, float | None]:
    """Return the 90 % interval of an estimate, without its upper end where the measurement was cut off there."""
    low, high = estimate.interval() or (None, None)
    return low, None if bound is Bound.AT_LEAST else high
