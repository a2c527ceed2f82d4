"""The reading of a stretch of time, at the same cost whatever its length."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.signal.pyramid import reduce_samples
from warm_ember.signal.series import Series


@dataclass(frozen=True, slots=True)
class Totals:
    """Sum, count and extremes of the measured samples of a stretch; extremes are NaN when there are none."""

    total: float
    count: int
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class StretchReading:
    """What a stretch of a capture reads.

    Parameters
    ----------
    from_s, to_s
        Its ends, snapped to sample edges.
    coverage
        Share of it that was measured.
    mean_a, min_a, max_a
        Over the measured time; None when nothing was measured.
    charge_c
        Sum of ``i dt`` over what was measured.
    energy_j
        Sum of ``v i dt``; None without any voltage.
    """

    from_s: float
    to_s: float
    coverage: float
    mean_a: float | None
    min_a: float | None
    max_a: float | None
    charge_c: float
    energy_j: float | None

    @property
    def length_s(self) -> float:
        """Length of the stretch."""
        return self.to_s - self.from_s


def total(series: Series, first: int, last: int) -> Totals:
    """Sum the samples ``[first, last)`` from the fewest blocks that tile them.

    Parts outside whole blocks are read as samples or finer blocks, so at most ``2 * 256`` samples and
    ``2 * 15`` blocks per level are touched.
    """
    pieces: list[Totals] = []
    _collect(series, len(series.levels) - 1, first, last, pieces)
    pieces = [piece for piece in pieces if piece.count]
    if not pieces:
        return Totals(0.0, 0, math.nan, math.nan)
    return Totals(
        math.fsum(piece.total for piece in pieces),
        sum(piece.count for piece in pieces),
        min(piece.low for piece in pieces),
        max(piece.high for piece in pieces),
    )


def _collect(series: Series, level: int, first: int, last: int, pieces: list[Totals]) -> None:
    if first >= last:
        return
    if level < 0:
        values = series.read(first, last)
        pieces.append(_of_blocks(reduce_samples(values, len(values))))
        return
    size = series.levels[level]
    whole_first = -(-first // size)
    # The capture's last block is partial: it is whole when the stretch reaches the capture's end.
    whole_last = -(-last // size) if last == series.samples else last // size
    if whole_first >= whole_last:
        _collect(series, level - 1, first, last, pieces)
        return
    _collect(series, level - 1, first, min(whole_first * size, last), pieces)
    pieces.append(_of_blocks(series.blocks(level, whole_first, whole_last)))
    _collect(series, level - 1, whole_last * size, last, pieces)


def _of_blocks(blocks: np.ndarray) -> Totals:
    count = int(blocks["count"].sum())
    if not count:
        return Totals(0.0, 0, math.nan, math.nan)
    low, high = float(np.fmin.reduce(blocks["min"])), float(np.fmax.reduce(blocks["max"]))
    return Totals(float(blocks["sum"].sum()), count, low, high)


def snap(series: Series, from_s: float, to_s: float) -> tuple[int, int]:
    """Snap a stretch to sample edges within the capture.

    Raises
    ------
    BadArgumentError
        If it is reversed or lies outside the capture.
    """
    duration_s = series.samples * series.interval_s
    if not (math.isfinite(from_s) and math.isfinite(to_s)):
        raise BadArgumentError(f"the stretch {from_s} s to {to_s} s has no end: give two times in seconds")
    if from_s > to_s:
        raise BadArgumentError(f"the stretch is reversed: it starts at {from_s} s and ends at {to_s} s")
    if to_s < 0 or from_s > duration_s:
        raise BadArgumentError(f"{from_s} s to {to_s} s lies outside the capture: it lasts {duration_s:.9g} s")
    first = min(max(round(from_s / series.interval_s), 0), series.samples)
    last = min(max(round(to_s / series.interval_s), 0), series.samples)
    return first, last


def read_samples(
    current: Series,
    first: int,
    last: int,
    *,
    power: Series | None = None,
    supply_v: float | None = None,
) -> StretchReading:
    """Read the samples ``[first, last)``; see `read_stretch`."""
    interval_s = current.interval_s
    totals = total(current, first, last)
    charge_c = totals.total * interval_s
    energy_j = None
    if power is not None:
        energy_j = total(power, first, last).total * interval_s
    elif supply_v is not None:
        energy_j = supply_v * charge_c
    measured = totals.count > 0
    return StretchReading(
        from_s=first * interval_s,
        to_s=last * interval_s,
        coverage=totals.count / (last - first) if last > first else 0.0,
        mean_a=totals.total / totals.count if measured else None,
        min_a=totals.low if measured else None,
        max_a=totals.high if measured else None,
        charge_c=charge_c,
        energy_j=energy_j,
    )


def read_stretch(
    current: Series,
    from_s: float,
    to_s: float,
    *,
    power: Series | None = None,
    supply_v: float | None = None,
) -> StretchReading:
    """Read a stretch of time.

    Parameters
    ----------
    current
        The current, A.
    from_s, to_s
        Ends of the stretch; snapped to the nearest sample edges and clamped to the capture.
    power
        Voltage times current, W, sample by sample, where the capture has a voltage channel.
    supply_v
        Voltage to use when it has none; None leaves the energy out.

    Raises
    ------
    BadArgumentError
        If the stretch is reversed or outside the capture.

    Notes
    -----
    Charge is ``sum(i dt)``, energy ``sum(v i dt)``, zero-order hold. NaN counts in no sum.

    Examples
    --------
    >>> from warm_ember.signal.series import ArraySeries
    >>> reading = read_stretch(ArraySeries(np.float32([1, 2, 3, 4]), 0.5), 0.4, 1.6, supply_v=3.0)
    >>> reading.from_s, reading.to_s, reading.charge_c, reading.energy_j
    (0.5, 1.5, 2.5, 7.5)
    """
    first, last = snap(current, from_s, to_s)
    return read_samples(current, first, last, power=power, supply_v=supply_v)
