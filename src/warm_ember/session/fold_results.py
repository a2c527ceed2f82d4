"""What the fold view shows of one run: the ways to align its cycles, the mean occurrence, its steps, the odd ones."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.cycles import wake_sources
from warm_ember.model.fold import AlignBy, FoldPlan
from warm_ember.model.project import Project
from warm_ember.session.run_results import RunResults
from warm_ember.session.session import Session
from warm_ember.signal.envelope import Envelope, PixelColumns, per_column
from warm_ember.signal.fold import Fold, OddCycle, odd_cycles
from warm_ember.signal.series import ShouldStop
from warm_ember.signal.steps import LevelStep, found_edges_s, steps_of

_LOW_QUANTILE = 0.05
_SMALLEST_A, _LARGEST_A = 1e-6, 1e-3


@dataclass(frozen=True, eq=False)
class FoldedCycles:
    """The cycles of one run on top of each other, with what is read from them.

    Parameters
    ----------
    plan
        How they are aligned.
    fold
        The mean occurrence.
    found_edges_s
        Inner edges of its steps as they are found, seconds from the alignment.
    odd
        The cycles that stand apart, or those that were left out.
    low_a, high_a
        Between what its current lies, for a linear axis.
    lowest_positive_a
        Where a logarithmic axis begins: below it lies a twentieth of what is above 0.
    """

    plan: FoldPlan
    fold: Fold
    found_edges_s: tuple[float, ...]
    odd: tuple[OddCycle, ...]
    low_a: float
    high_a: float
    lowest_positive_a: float

    @property
    def edges_s(self) -> tuple[float, float]:
        """From when to when the occurrence is shown, seconds from the alignment."""
        return float(self.fold.edges_s[0]), float(self.fold.edges_s[-1])

    @property
    def bin_s(self) -> float:
        """Length of one of the bins that the occurrence is made of."""
        return float(self.fold.edges_s[1] - self.fold.edges_s[0])

    def columns(self, columns: int) -> PixelColumns:
        """Return the median and the spread by pixel column, over all of the occurrence."""
        fold = self.fold
        bins = Envelope(fold.edges_s, fold.low_a, fold.high_a, fold.median_a, fold.median_a, single=True)
        return per_column(bins, *self.edges_s, columns)

    def steps(self, edges_s: tuple[float, ...] | None) -> tuple[LevelStep, ...]:
        """Cut the mean occurrence at edges set by hand, at those that are found with None."""
        return steps_of(self.fold, self.found_edges_s if edges_s is None else edges_s)


def ways_to_fold(results: RunResults) -> tuple[FoldPlan, ...]:
    """Return what the cycles of a run can be aligned on: wakes, states, lines, a threshold, a period."""
    name, lines = results.run.name, results.capture.lines
    return (
        *(FoldPlan(name, AlignBy.WAKE, source) for source in wake_sources(results.capture)),
        *(FoldPlan(name, AlignBy.STATE, state) for state in results.placement.names),
        *(FoldPlan(name, AlignBy.LINE, line, up) for line in (lines.names if lines else ()) for up in (True, False)),
        *(FoldPlan(name, AlignBy.THRESHOLD, rising=up) for up in (True, False)),
        FoldPlan(name, AlignBy.PERIOD),
    )


def fold_run(session: Session, project: Project, name: str, plan: FoldPlan, should_stop: ShouldStop) -> FoldedCycles:
    """Fold one run.

    Raises
    ------
    BadArgumentError
        If there is nothing to fold.
    Cancelled
        If `should_stop` answered yes.
    """
    fold = session.results.fold(project, name, plan, should_stop)
    positive = fold.low_a[fold.low_a > 0]
    measured = bool((~np.isnan(fold.mean_a)).any())
    return FoldedCycles(
        plan,
        fold,
        found_edges_s(fold),
        fold.left_out or odd_cycles(fold),
        low_a=min(0.0, float(np.nanmin(fold.low_a))) if measured else 0.0,
        high_a=float(np.nanmax(fold.high_a)) if measured else _LARGEST_A,
        lowest_positive_a=float(np.quantile(positive, _LOW_QUANTILE)) if len(positive) else _SMALLEST_A,
    )
