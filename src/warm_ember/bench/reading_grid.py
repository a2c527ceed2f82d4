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
        self._grid = HeldTimes(TimeKind(usual_s, irregular=True, jitter_s=0.0), interval_s)
        self._first_s = math.nan
        self._last_s = math.nan
        self._closed_s, self._is_closed = 0.0, True

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
        self._is_closed = False
        # A reading that was on its way for longer than the last one was taken to hold comes after that.
        at_s = np.maximum(time_s - self._first_s, self._closed_s)
        steps_s = np.diff(time_s, prepend=self._last_s)
        self._last_s = float(time_s[-1])
        gaps = np.flatnonzero(steps_s > max(_GAP * self._usual_s, self._late_s))
        placed_s = np.insert(at_s, gaps, at_s[gaps] - steps_s[gaps] + self._usual_s)
        placed = [np.insert(column.astype(np.float64), gaps, np.nan) for column in columns]
        own_v = None if voltage_v is None else voltage_v.astype(np.float32)
        readings = Readings(at_s, current_a.astype(np.float32), own_v)
        return _block(list(self._grid.place(placed_s, placed)), len(columns), readings)

    def finish(self, *, with_voltage: bool = False) -> ReadingBlock:
        """Return the samples of the last reading, which holds for as long as is usual; others may come later."""
        if self._is_closed:
            return _block([], 1 + with_voltage, None)
        self._is_closed = True
        self._closed_s = max(self._closed_s, self._last_s - self._first_s + self._grid.usual_s)
        return _block(list(self._grid.finish()), 1 + with_voltage, None)


def _block(pieces: list[list[Floats]], columns: int, readings: Readings | None) -> ReadingBlock:
    made = [np.concatenate([piece[n] for piece in pieces] or [np.empty(0)]).astype(np.float32) for n in range(columns)]
    return ReadingBlock(made[0], made[1] if columns > 1 else None, None, readings)
