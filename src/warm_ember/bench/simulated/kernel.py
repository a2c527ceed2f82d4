"""A small discrete-event model of a board: parts in modes, processes that change them, what is drawn and when."""

from __future__ import annotations

import bisect
import heapq
import itertools
from collections.abc import Generator
from dataclasses import dataclass, field

import numpy as np

from warm_ember.model.arrays import Floats, Indices

Process = Generator[float, None, None]
"""A process yields how long it waits until it goes on."""


@dataclass(frozen=True)
class SimulatedPart:
    """A part of the board and what it draws in each mode, A."""

    name: str
    modes_a: dict[str, float]


@dataclass
class Board:
    """Parts on one rail and the history of what they draw together.

    Parameters
    ----------
    parts
        By name.
    standing_a
        What hangs on the rail all the time: a debug bridge, a parked line.
    """

    parts: dict[str, SimulatedPart]
    standing_a: float = 0.0
    now_s: float = 0.0
    modes: dict[str, str] = field(default_factory=dict)
    extra_a: float = 0.0
    times_s: list[float] = field(default_factory=list)
    currents_a: list[float] = field(default_factory=list)

    def forget_before(self, time_s: float) -> None:
        """Drop the history that ended before a time."""
        first = bisect.bisect_right(self.times_s, time_s) - 1
        if first > 0:
            del self.times_s[:first], self.currents_a[:first]

    def set(self, **modes: str) -> None:
        """Put parts into modes, now."""
        self.modes |= modes
        self._record()

    def add(self, current_a: float) -> None:
        """Add to what is drawn beyond the parts' modes, now; negative takes away."""
        self.extra_a += current_a
        self._record()

    @property
    def drawn_a(self) -> float:
        """What the board draws now."""
        return self.standing_a + self.extra_a + sum(self.parts[p].modes_a[m] for p, m in self.modes.items())

    def _record(self) -> None:
        if self.times_s and self.times_s[-1] == self.now_s:
            self.currents_a[-1] = self.drawn_a
        else:
            self.times_s.append(self.now_s)
            self.currents_a.append(self.drawn_a)


class Scheduler:
    """Run processes in the order of their times."""

    def __init__(self, board: Board) -> None:
        self._board = board
        self._waiting: list[tuple[float, int, Process]] = []
        self._order = itertools.count()

    def start(self, process: Process, at_s: float = 0.0) -> None:
        """Let a process begin at a time."""
        heapq.heappush(self._waiting, (at_s, next(self._order), process))

    def run(self, until_s: float) -> None:
        """Run all processes up to a time."""
        while self._waiting and self._waiting[0][0] < until_s:
            self._board.now_s, _, process = heapq.heappop(self._waiting)
            delay_s = next(process, None)
            if delay_s is not None:
                self.start(process, self._board.now_s + delay_s)
        self._board.now_s = until_s


@dataclass(frozen=True)
class Grid:
    """Samples in a row: the first begins at a moment, each lasts so long."""

    start_s: float
    interval_s: float
    samples: int

    @property
    def end_s(self) -> float:
        """End of the last sample."""
        return self.start_s + self.samples * self.interval_s

    def times_s(self) -> Floats:
        """Return when each sample begins, shape ``(samples,)``."""
        samples: Floats = np.arange(self.samples, dtype=np.float64)
        return self.start_s + samples * self.interval_s

    def first_at(self, times_s: Floats) -> Indices:
        """Return for each moment, s, shape ``(n,)``, the first sample that begins then or later.

        They are kept within the grid.
        """
        place = np.ceil((times_s - self.start_s) / self.interval_s - 1e-9)
        return np.clip(place, 0, self.samples).astype(np.int64)


def sample_means(times_s: Floats, currents_a: Floats, grid: Grid) -> Floats:
    """Average a piecewise constant current over samples, exactly.

    Parameters
    ----------
    times_s, currents_a
        From each time on the current has that value, rising, shape ``(k,)``.
    grid
        The samples.

    Returns
    -------
    Floats
        Mean over each sample, shape ``(samples,)``.

    Notes
    -----
    A step inside a sample counts there by the share of the sample that is left after it, and fully from the next on.

    Examples
    --------
    >>> sample_means(np.array([0.0, 1.5]), np.array([2.0, 4.0]), Grid(0.0, 1.0, 2)).tolist()
    [2.0, 3.0]
    """
    inside = (times_s > grid.start_s) & (times_s < grid.end_s)
    before = int(np.searchsorted(times_s, grid.start_s, side="right")) - 1
    steps = np.diff(currents_a, prepend=0.0)[inside]
    place = (times_s[inside] - grid.start_s) / grid.interval_s
    sample = np.minimum(place.astype(np.int64), grid.samples - 1)
    left = 1.0 - (place - sample)
    changes = np.zeros(grid.samples + 1)
    changes[0] = currents_a[before] if before >= 0 else 0.0
    np.add.at(changes, sample, steps * left)
    np.add.at(changes, sample + 1, steps * (1.0 - left))
    means: Floats = np.empty(grid.samples)
    np.cumsum(changes[:-1], out=means)
    return means
