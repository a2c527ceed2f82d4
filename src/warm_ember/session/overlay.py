"""Two runs laid over each other, by pixel column: at a state, from their beginnings, or by one cycle."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Floats
from warm_ember.model.project import Project
from warm_ember.session.run_results import RunResults
from warm_ember.session.session import Session
from warm_ember.signal.envelope import PixelColumns, envelope, per_column
from warm_ember.signal.fold import Fold
from warm_ember.signal.series import ShouldStop

LetteredRuns = Sequence[tuple[RunResults, str]]

_BEFORE = 0.15
_BESIDE = 1.6
_LEAST_SAMPLES = 20


class LaidBy(StrEnum):
    """What runs are laid over each other by."""

    STATE = "state"
    TIME = "time"
    CYCLE = "cycle"
    CHARGE = "charge"


@dataclass(frozen=True, eq=False)
class LaidRun:
    """One of the runs.

    Parameters
    ----------
    letter
        A or B.
    columns
        Its current, A.
    charge_c
        The charge from what is shown first up to each column, shape ``(columns,)``; what was not measured adds nothing.
    """

    letter: str
    columns: PixelColumns
    charge_c: Floats


@dataclass(frozen=True, eq=False)
class Overlay:
    """What is shown of the runs, and on which axis.

    Parameters
    ----------
    by
        What they are laid by.
    runs
        Those that show it.
    from_s, to_s
        The axis that they share, from what they are aligned at.
    cycles
        How many cycles the mean occurrences are of.
    """

    by: LaidBy
    runs: tuple[LaidRun, ...] = ()
    from_s: float = 0.0
    to_s: float = 1.0
    cycles: int = 0


def lay_over(
    session: Session,
    project: Project,
    runs: LetteredRuns,
    by: LaidBy,
    state: str,
    columns: int,
    should_stop: ShouldStop,
) -> Overlay:
    """Lay runs over each other; it reads their captures.

    Parameters
    ----------
    session, project
        Where runs are folded.
    runs
        Each with its letter.
    by, state
        What they are laid by, and at which state.
    columns
        Width of the plot in pixels.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    if by is LaidBy.STATE:
        return overlay_states(runs, state, columns)
    if by is not LaidBy.CYCLE:
        return overlay_captures(runs, by, columns)
    folds = {}
    for run, _ in runs:
        with contextlib.suppress(BadArgumentError):  # a run without cycles has none to show
            folds[run.run.name] = session.results.fold(project, run.run.name, run.fold_plan, should_stop)
    return overlay_cycles(runs, folds, columns)


def overlay_captures(runs: LetteredRuns, by: LaidBy, columns: int) -> Overlay:
    """Lay runs from their beginnings."""
    end_s = max((run.capture.duration_s for run, _ in runs), default=1.0)
    laid = tuple(_laid(run, letter, 0.0, end_s, columns) for run, letter in runs)
    return Overlay(by, laid, 0.0, end_s)


def overlay_states(runs: LetteredRuns, state: str, columns: int) -> Overlay:
    """Lay runs at the beginning of their longest stay in a state; the shorter one sets the scale."""
    entries = [(run, letter, entry) for run, letter in runs if (entry := _longest_entry_s(run, state)) is not None]
    if not entries:
        return Overlay(LaidBy.STATE)
    shortest_s = min(end - start for _, _, (start, end) in entries)
    least_s = _LEAST_SAMPLES * max(run.capture.current.interval_s for run, _, _ in entries)
    length_s = _BESIDE * max(shortest_s, least_s)
    before_s, after_s = _BEFORE * length_s, (1 - _BEFORE) * length_s
    laid = tuple(_laid(run, letter, start - before_s, start + after_s, columns) for run, letter, (start, _) in entries)
    return Overlay(LaidBy.STATE, laid, -before_s, after_s)


def overlay_cycles(runs: LetteredRuns, folds: Mapping[str, Fold], columns: int) -> Overlay:
    """Lay the mean occurrences of runs that are folded; `folds` has them by the runs' names."""
    folded = [(folds[run.run.name], letter) for run, letter in runs if run.run.name in folds]
    if not folded:
        return Overlay(LaidBy.CYCLE)
    from_s = min(float(fold.edges_s[0]) for fold, _ in folded)
    to_s = max(float(fold.edges_s[-1]) for fold, _ in folded)
    times_s = from_s + (np.arange(columns) + 0.5) / columns * (to_s - from_s)
    laid = tuple(_laid_fold(fold, letter, times_s) for fold, letter in folded)
    return Overlay(LaidBy.CYCLE, laid, from_s, to_s, sum(len(fold.starts) for fold, _ in folded))


def _laid(run: RunResults, letter: str, from_s: float, to_s: float, columns: int) -> LaidRun:
    bins = envelope(run.capture.current, max(0.0, from_s), min(to_s, run.capture.duration_s), columns)
    ends_s = np.linspace(from_s, to_s, columns + 1)[1:]
    charge_c = np.interp(ends_s, bins.edges_s, np.append(0.0, np.cumsum(bins.total)))
    return LaidRun(letter, per_column(bins, from_s, to_s, columns), charge_c)


def _longest_entry_s(run: RunResults, state: str) -> tuple[float, float] | None:
    """Return the longest stay in a state; one that the capture's start cuts off only where there is no other."""
    placement, interval_s = run.placement, run.capture.current.interval_s
    mine = np.flatnonzero(placement.of(state))
    if not len(mine):
        return None
    whole = mine[placement.edges[mine] > 0]
    mine = whole if len(whole) else mine
    at = mine[int(np.argmax(np.diff(placement.edges)[mine]))]
    return float(placement.edges[at] * interval_s), float(placement.edges[at + 1] * interval_s)


def _laid_fold(fold: Fold, letter: str, times_s: Floats) -> LaidRun:
    at = np.searchsorted(fold.edges_s, times_s, side="right") - 1
    inside = (at >= 0) & (at < len(fold.median_a))
    low, middle, high = (
        np.where(inside, values[np.clip(at, 0, len(values) - 1)], np.nan).astype(np.float64)
        for values in (fold.low_a, fold.median_a, fold.high_a)
    )
    reached_c = np.cumsum(np.nan_to_num(fold.mean_a) * np.diff(fold.edges_s))
    charge_c = np.interp(times_s, fold.edges_s, np.append(0.0, reached_c))
    return LaidRun(letter, PixelColumns(low, high, middle), charge_c)
