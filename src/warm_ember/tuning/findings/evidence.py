"""What a finding rests on, and what each kind of finding is: a function of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

from warm_ember.attribution.recording import Recording
from warm_ember.model.arrays import Indices
from warm_ember.model.finding import Finding
from warm_ember.signal.hum import Hum, find_hum
from warm_ember.signal.levels import Levels
from warm_ember.signal.resolution import LevelNoise
from warm_ember.signal.series import ShouldStop, never

_MOST_PLACES = 12
_JOIN_SHARE = 0.01


@dataclass(frozen=True, eq=False)
class Evidence:
    """What is known of one capture.

    Parameters
    ----------
    recording
        The capture.
    levels
        The levels of its current.
    lowest
        How the readings of the lowest level lie; None when nothing was measured.
    should_stop
        Polled on long passes.
    look_for_hum
        Gives the mains in the current; looked for here when None.
    """

    recording: Recording
    levels: Levels
    lowest: LevelNoise | None
    should_stop: ShouldStop = never
    look_for_hum: Callable[[], Hum | None] | None = None

    @cached_property
    def hum(self) -> Hum | None:
        """The mains in the current; None where there is none."""
        if self.look_for_hum is not None:
            return self.look_for_hum()
        return find_hum(self.recording.current, should_stop=self.should_stop)

    @property
    def duration_s(self) -> float:
        """Length of the capture."""
        return self.recording.current.samples * self.recording.current.interval_s


class Finder(Protocol):
    """One kind of finding."""

    def __call__(self, evidence: Evidence) -> list[Finding]:
        """Return what is found, in the order of time.

        Raises
        ------
        Cancelled
            If `evidence.should_stop` answered yes.
        """
        ...


def places(stretches: Indices, samples: int) -> list[tuple[int, int]]:
    """Join stretches that lie close together, so that at most a dozen places are left.

    Parameters
    ----------
    stretches
        First and last-plus-one sample of each, rising, shape ``(n, 2)``.
    samples
        Length of the capture.

    Examples
    --------
    >>> import numpy as np
    >>> places(np.array([[0, 2], [5, 9], [900, 950]]), 1000)
    [(0, 9), (900, 950)]
    """
    share = _JOIN_SHARE
    while True:
        joined: list[list[int]] = []
        for first, last in stretches.tolist():
            if joined and first - joined[-1][1] <= share * samples:
                joined[-1][1] = max(last, joined[-1][1])
            else:
                joined.append([first, last])
        if len(joined) <= _MOST_PLACES:
            return [(first, last) for first, last in joined]
        share *= 2
