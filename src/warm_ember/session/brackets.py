"""What a bracket reads in one run, which state it lies in, and where the next one like it begins."""

from __future__ import annotations

from collections.abc import Hashable

import numpy as np

from warm_ember.attribution.cycles import WholeCycles, extend_to_whole_cycles
from warm_ember.model.figure import Figure
from warm_ember.model.placement import UNPLACED_NAME
from warm_ember.model.project import Bracket
from warm_ember.session.run_results import RunResults
from warm_ember.signal.stretch import StretchReading, snap

_REMEMBERED = 500


class BracketReadings:
    """The readings of brackets, each read once as long as its ends, its capture and the supply stay the same."""

    def __init__(self) -> None:
        self._known: dict[Hashable, StretchReading] = {}

    def read(self, results: RunResults, supply_v: float | None, bracket: Bracket) -> StretchReading:
        """Read a bracket, as far as it lies in the capture."""
        capture = results.capture
        from_s, to_s = sorted(min(max(t, 0.0), capture.duration_s) for t in (bracket.from_s, bracket.to_s))
        key = (capture.identity, from_s, to_s, supply_v)
        if key not in self._known:
            if len(self._known) > _REMEMBERED:
                self._known.clear()
            self._known[key] = capture.reading(from_s, to_s, supply_v=supply_v)
        return self._known[key]


def mean_of(results: RunResults, reading: StretchReading) -> Figure:
    """Return the mean of a stretch: a bound where its range was exceeded, or where it is below what is resolved."""
    ends = np.array(snap(results.capture.current, reading.from_s, reading.to_s))
    return results.limits.read(reading.mean_a, is_clipped=bool(results.limits.clips(ends).any()))


def edge_on_the_way(results: RunResults, from_s: float, to_s: float) -> float | None:
    """Return the first edge of a state that is met between two moments, going from one to the other; None without."""
    interval_s = results.capture.current.interval_s
    edges = results.placement.edges * interval_s
    low, high = sorted((from_s, to_s))
    met = edges[(edges > low + 0.5 * interval_s) & (edges < high - 0.5 * interval_s)]
    return float(met[0] if to_s > from_s else met[-1]) if len(met) else None


def main_state(results: RunResults, bracket: Bracket) -> str:
    """Return the state that takes most of a bracket's time; the unplaced one's name where none is placed."""
    placement = results.placement
    edges = np.clip(placement.edges * results.capture.current.interval_s, bracket.from_s, bracket.to_s)
    lengths = np.diff(edges)
    totals = [(float(lengths[placement.of(name)].sum()), name) for name in placement.names]
    totals.append((float(lengths[placement.state < 0].sum()), UNPLACED_NAME))
    return max(totals)[1]


def next_cycle_s(results: RunResults, bracket: Bracket) -> float | None:
    """Return how far on the bracket's main state is entered again; None where it is not, or where it would not fit."""
    placement, interval_s = results.placement, results.capture.current.interval_s
    starts = placement.edges[:-1][placement.of(main_state(results, bracket))] * interval_s
    middle = (bracket.from_s + bracket.to_s) / 2
    here, later = starts[starts <= middle], starts[starts >= bracket.to_s - interval_s / 2]
    if not len(here) or not len(later):
        return None
    shift = float(later[0] - here[-1])
    return shift if bracket.to_s + shift <= results.capture.duration_s else None


def whole_cycles_about(results: RunResults, bracket: Bracket) -> WholeCycles | None:
    """Return the whole cycles that a bracket stands for, None where nothing repeats; it reads the capture."""
    return extend_to_whole_cycles(results.capture, results.placement, bracket.from_s, bracket.to_s)
