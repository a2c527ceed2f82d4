"""Two instruments' clocks laid on one time while they record: by when they began, then by what both see."""

from __future__ import annotations

import math

import numpy as np

from warm_ember.model.arrays import Samples
from warm_ember.signal.lag import find_lag
from warm_ember.units import duration_text

_STRETCH_S = 2.0
_LEAST_SAMPLES = 64
_MOST_LAG = 0.125
_AGREE = 4.0
_SEEN_BY_CHANGES_S = 10e-3
_DRIFT_FROM = 5


class PairClock:
    """When the second instrument's samples were taken, by the first one's clock.

    They begin apart, which is known as well as it is known when each was told to; from then on every two seconds of
    what both measured say it anew, where both show the same changes twice in a row.

    Parameters
    ----------
    interval_s
        Length of the first one's samples.
    apart_s
        How much later the second one began.
    known_s
        How well that is known.
    slowest_s
        How long it takes from one reading to the next where that is slower: what changes in between is not seen.
    share_changes
        Whether both see one circuit; what two circuits do each second is no common change.

    Attributes
    ----------
    apart_s
        A moment of the second one is so much later by the clock of the first.
    """

    def __init__(
        self, interval_s: float, apart_s: float, known_s: float, *, slowest_s: float = 0.0, share_changes: bool = True
    ) -> None:
        self.apart_s = apart_s
        self._interval_s, self._began_apart_s, self._known_s = interval_s, apart_s, known_s
        self._fine_s = max(interval_s, slowest_s)
        self._by_changes = share_changes and self._fine_s <= _SEEN_BY_CHANGES_S
        self._is_slow = share_changes and not self._by_changes
        self._length = max(round(_STRETCH_S / interval_s), _LEAST_SAMPLES)
        self._one: list[Samples] = []
        self._other: list[Samples] = []
        self._waiting = 0
        self._seen = 0
        self._suspected_s: float | None = None
        self._found: list[tuple[float, float]] = []
        self._steps_s: list[float] = []

    def add(self, one: Samples, other: Samples) -> None:
        """Look at what both measured, laid on each other by `apart_s`, shape ``(n,)`` each; it may change `apart_s`."""
        if not self._by_changes or not len(one):
            return
        self._one.append(one)
        self._other.append(other)
        self._waiting += len(one)
        self._seen += len(one)
        if self._waiting >= self._length:
            self._look()
            self._one, self._other, self._waiting = [], [], 0

    def _look(self) -> None:
        one, other = np.concatenate(self._one), np.concatenate(self._other)
        found = find_lag(one, other, self._interval_s, _MOST_LAG * len(one) * self._interval_s)
        if found is None:
            return
        apart_s, step_s = self.apart_s - found.lag_s, max(found.step_s, self._fine_s)
        if self._suspected_s is not None and abs(apart_s - self._suspected_s) <= _AGREE * step_s:
            self._found.append((self._seen * self._interval_s, apart_s))
            self._steps_s.append(step_s)
            self.apart_s = apart_s
        self._suspected_s = apart_s

    @property
    def residual_s(self) -> float:
        """How well the moments of the second one's samples are known."""
        if not self._found:
            return self._known_s
        at_s, apart_s = np.array(self._found).T
        left_s = apart_s - apart_s.mean()
        if len(apart_s) >= _DRIFT_FROM:  # two clocks that run apart by the same little all the time
            left_s = apart_s - np.polyval(np.polyfit(at_s, apart_s, 1), at_s)
        return math.hypot(float(np.sqrt(np.square(left_s).mean())), max(self._steps_s) / 2)

    @property
    def words(self) -> str:
        """How they were laid on each other, and how well."""
        within = f"within {duration_text(self.residual_s, 2)}"
        if not self._found:
            why = "; one of them tells too seldom for more" if self._is_slow else ""
            return f"laid on by when they began, {within} and what each takes to begin{why}"
        first_s, apart_s = self._found[0]
        off = duration_text(abs(apart_s - self._began_apart_s), 2)
        return (
            f"laid on by what both saw change, {within}; before {duration_text(first_s)} by when they began, {off} off"
        )
