"""From readings that come one by one to the even grid of a capture, while they come."""

from __future__ import annotations

import math

import numpy as np

from warm_ember.bench.reading_block import ReadingBlock
from warm_ember.model.arrays import Floats
from warm_ember.model.readings import Readings
from warm_ember.signal.time_grid import HeldTimes, TimeKind

_GAP = 2.5
"""After so many usual steps without a reading the last one holds for a usual step only."""


class ReadingGrid:
    """Lay readings on an even grid: each holds until the next, and a sample is the mean of what held during it.

    So charge is kept exactly. Where none came for long nothing is known: these samples are missing.

    Parameters
    ----------
    interval_s
        Length of a sample.
    usual_s
        How long it usually takes from one reading to the next.
    late_s
        How long one may take in any case without anything being wrong.
    """

    def __init__(self, interval_s: float, usual_s: float, *, late_s: float = 0.0) -> None:
        self._interval_s, self._usual_s, self._late_s = interval_s, max(usual_s, interval_s), late_s
        self._grid = HeldTimes(TimeKind(usual_s, irregular=True, jitter_s=0.0), interval_s=interval_s)
        self._first_s = math.nan
        self._last_s = math.nan

    def add(self, time_s: Floats, current_a: Floats, voltage_v: Floats | None = None) -> ReadingBlock:
        """Take readings in, and return the samples that they complete.

        Parameters
        ----------
        time_s
            Of the readings, s, rising, going on from those before, shape ``(n,)``; there may be none.
        current_a, voltage_v
            Of that shape; NaN where a reading was out of range.
        """
        columns = [current_a] if voltage_v is None else [current_a, voltage_v]
        if not len(time_s):  # nothing was read: then there are no readings to keep either
            nothing = np.empty(0, dtype=np.float32)
            return ReadingBlock(nothing, None if voltage_v is None else nothing, None)
        if math.isnan(self._first_s):
            self._first_s = self._last_s = float(time_s[0])
        at_s = time_s - self._first_s
        steps_s = np.diff(time_s, prepend=self._last_s)
        self._last_s = float(time_s[-1])
        gaps = np.flatnonzero(steps_s > max(_GAP * self._usual_s, self._late_s))
        placed_s = np.insert(at_s, gaps, at_s[gaps] - steps_s[gaps] + self._usual_s)
        placed = [np.insert(column.astype(np.float64), gaps, np.nan) for column in columns]
        pieces = list(self._grid.place(placed_s, placed))
        made = [np.concatenate([piece[n] for piece in pieces] or [np.empty(0)]) for n in range(len(columns))]
        current, voltage = made[0].astype(np.float32), made[1].astype(np.float32) if len(made) > 1 else None
        own_v = None if voltage_v is None else voltage_v.astype(np.float32)
        return ReadingBlock(current, voltage, None, Readings(at_s, current_a.astype(np.float32), own_v))
