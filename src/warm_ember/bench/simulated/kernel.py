"""A small discrete-event model of a board: parts in modes, processes that change them, what is drawn and when."""

from __future__ import annotations

import heapq
import itertools
from collections.abc import Generator
from dataclasses import dataclass, field

import numpy as np

from warm_ember.model.arrays import Floats

Process = Generator[float, None, None]
"""A process yields how long it waits until it goes on."""


@dataclass(frozen=True)
class Part:
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

    parts: dict[str, Part]
    standing_a: float = 0.0
    now_s: float = 0.0
    modes: dict[str, str] = field(default_factory=dict)
    extra_a: float = 0.0
    times_s: list[float] = field(default_factory=list)
    currents_a: list[float] = field(default_factory=list)

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


def sample_means(times_s: Floats, currents_a: Floats, edges_s: Floats) -> Floats:
    """Average a piecewise constant current over samples, exactly.

    Parameters
    ----------
    times_s, currents_a
        From each time on the current has that value, shape ``(k,)``.
    edges_s
        Ends of the samples, shape ``(n + 1,)``.

    Returns
    -------
    Floats
        Mean over each sample, shape ``(n,)``.

    Examples
    --------
    >>> sample_means(np.array([0.0, 1.5]), np.array([2.0, 4.0]), np.array([0.0, 1.0, 2.0])).tolist()
    [2.0, 3.0]
    """
    ends = np.append(times_s[1:], max(edges_s[-1], times_s[-1]))
    charge = np.concatenate(([0.0], np.cumsum(currents_a * (ends - times_s))))
    drawn: Floats = np.interp(edges_s, np.append(times_s, ends[-1]), charge)
    return np.diff(drawn) / np.diff(edges_s)
