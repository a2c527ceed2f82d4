"""Results about the kinds of wakes of one run, remembered like all others."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from warm_ember.attribution.kinds import Kind, Kinds, SortedWakes
from warm_ember.attribution.known_kinds import likeness_of
from warm_ember.attribution.wake_ledger import WakeLedger, make_wake_ledger
from warm_ember.attribution.wakes import wakes_of_kinds
from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.kinds import Likeness
from warm_ember.model.project import Project
from warm_ember.session.graph import remembered
from warm_ember.session.results import Results
from warm_ember.signal.courses import read_courses
from warm_ember.signal.series import Series, ShouldStop, never

COLUMNS = 120
_LAID = 60
_MOST_SAMPLES = 4_000_000
_LONG = 0.9
_BEYOND = 1.08
_MOST_LONE = 50


@dataclass(frozen=True, eq=False)
class KindPicture:
    """The wakes of a kind laid on each other.

    Parameters
    ----------
    span_s
        What the picture shows, from the beginning of a wake.
    low_a, median_a, high_a
        Of the wakes' currents in equal parts of that, 10 and 90 % beside the median, shape ``(columns,)``.
    single
        Whether it is of one wake, which has no spread.
    """

    span_s: float
    low_a: Floats
    median_a: Floats
    high_a: Floats
    single: bool


@dataclass(frozen=True, eq=False)
class KindsShown:
    """The kinds of one run with all that is painted of them.

    Parameters
    ----------
    capture
        Of which run.
    kinds
        The kinds.
    likes
        What each is recognised by, by its letter.
    pictures
        Its wakes laid on each other, by its letter; the empty letter has those that are like no other.
    odd
        The course of single wakes, on the time axis of their kind, by the index of the wake.
    ledger
        The capture summed over its wakes, each kind a source.
    lone
        What wakes that are like no other are recognised by, by their index; of many the first ones.
    """

    capture: str
    kinds: Kinds
    likes: dict[str, Likeness]
    pictures: dict[str, KindPicture]
    odd: dict[int, Floats]
    ledger: WakeLedger
    lone: dict[int, Likeness]

    def times_s(self, wakes: Indices) -> Floats:
        """Return when wakes begin, s, shape ``(n,)``."""
        return np.asarray(self.kinds.first[wakes] * self.kinds.interval_s)

    def kind(self, letter: str) -> Kind | None:
        """Return the kind of a letter, or None."""
        return next((one for one in self.kinds.kinds if one.letter == letter), None)


class KindResults:
    """Compute and remember what is shown of one run's kinds of wakes."""

    def __init__(self, results: Results) -> None:
        self._results, self.graph = results, results.graph

    @remembered
    def shown(self, project: Project, name: str, should_stop: ShouldStop = never) -> KindsShown:
        """Return the kinds of one run with their pictures."""
        current = self.graph.capture(project, name).current
        kinds = self._results.kinds(project, name, should_stop)
        wakes = self._results.sorted_wakes(project, name, should_stop)
        likes, pictures, odd = {}, {}, {}
        for kind in kinds.kinds:
            mine = pure_of(kinds, kind.number)
            likes[kind.letter] = likeness_of(wakes, mine, current.interval_s, kind.recurrence.period_s)
            pictures[kind.letter] = _picture(current, wakes, mine)
            for at in kind.odd:
                odd[at] = _course(current, wakes, at, pictures[kind.letter].span_s)
        if len(kinds.unsorted):
            pictures[""] = _picture(current, wakes, kinds.unsorted[:1])
        ledger = self.ledger(project, name, should_stop)
        alone = kinds.unsorted[:_MOST_LONE].tolist()
        lone = {at: likeness_of(wakes, np.array([at]), current.interval_s) for at in alone}
        return KindsShown(name, kinds, likes, pictures, odd, ledger, lone)

    @remembered
    def ledger(self, project: Project, name: str, should_stop: ShouldStop = never) -> WakeLedger:
        """Return one run summed over its wakes, each kind a source."""
        kinds = self._results.kinds(project, name, should_stop)
        # A wake in which kinds overlap is there with what its own kind takes of it.
        return replace(self._summed(project, name, should_stop), cost_c=kinds.own_c[~kinds.cut])

    @remembered
    def _summed(self, project: Project, name: str, should_stop: ShouldStop = never) -> WakeLedger:
        wakes = wakes_of_kinds(self._results.kinds(project, name, should_stop))
        if self._results.wakes(project, name, should_stop).names == wakes.names:
            return self._results.wake_ledger(project, name, should_stop=should_stop)
        placement = self._results.placement(project, name, should_stop)
        capture, limits = self.graph.capture(project, name), self._results.limits(project, name, should_stop)
        return make_wake_ledger(capture, placement, wakes, limits=limits, should_stop=should_stop)


def pure_of(kinds: Kinds, number: int) -> Indices:
    """Return the wakes of a kind that are of no other too; all of it where there is none, shape ``(n,)``."""
    mine = np.flatnonzero((kinds.kind == number) & ~kinds.cut)
    pure = mine[~np.isin(mine, list(kinds.mixed))]
    return pure if len(pure) else mine


def _picture(current: Series, wakes: SortedWakes, mine: Indices) -> KindPicture:
    found = wakes.found
    lasts = (found.last - found.first)[mine]
    span = max(int(np.quantile(lasts, _LONG, method="higher") * _BEYOND), 4)
    most = max(min(_LAID, _MOST_SAMPLES // span), 1)
    some = mine[np.unique(np.linspace(0, len(mine) - 1, min(len(mine), most)).astype(np.int64))]
    rows = _courses(current, wakes, some, span)
    low_a, median_a, high_a = (np.nanquantile(rows, share, axis=0) for share in (0.1, 0.5, 0.9))
    return KindPicture(span * current.interval_s, low_a, median_a, high_a, len(mine) == 1)


def _course(current: Series, wakes: SortedWakes, at: int, span_s: float) -> Floats:
    return np.asarray(_courses(current, wakes, np.array([at]), round(span_s / current.interval_s))[0])


def _courses(current: Series, wakes: SortedWakes, some: Indices, span: int) -> Floats:
    """Return the mean currents of wakes in equal parts of a span from their beginnings, shape ``(n, columns)``."""
    found = wakes.found
    first = found.first[some]
    last = np.minimum(first + span, current.samples)
    rows = np.full((len(some), COLUMNS), np.nan)
    for row, (begin, end) in enumerate(zip(first.tolist(), last.tolist(), strict=True)):
        columns = max(round(COLUMNS * (end - begin) / span), 1)
        one = slice(row, row + 1)
        courses = read_courses(
            current, np.array([begin]), np.array([end]), found.floor_a[some][one], found.noise_a[some][one],
            columns=columns, whole=True,
        )  # fmt: skip
        rows[row, :columns] = courses.mean_a[0]
    return rows
