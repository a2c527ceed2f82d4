"""Folding: the cycles of a repeating activity laid on top of each other."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from warm_ember.errors import BadArgumentError, Cancelled
from warm_ember.model.arrays import Floats, Indices, Samples
from warm_ember.signal.series import CHUNK_SAMPLES, Series, ShouldStop, never

MOST_BINS = 1000
KEPT_CYCLES = 2048
_NOISE_CYCLES = 512
_QUIET = 0.1
_OUTLIER_SPREADS = 5.0
_LEAST_OUTLIER = 0.02


@dataclass(frozen=True, eq=False)
class Fold:
    """Cycles laid on top of each other.

    Parameters
    ----------
    interval_s
        Sample interval of the capture.
    starts
        Sample index at which each cycle is aligned, shape ``(cycles,)``.
    edges_s
        Ends of the bins, seconds from the alignment, shape ``(bins + 1,)``.
    mean_a, low_a, median_a, high_a
        Mean over the cycles; tenth, fiftieth and ninetieth percentile, shape ``(bins,)``.
    spread_a
        Standard deviation over the cycles, shape ``(bins,)``.
    noise_a
        Standard deviation from one cycle to the next, estimated robustly, so that real differences between kinds of
        cycles are no noise, shape ``(bins,)``.
    charges_c
        Charge of each cycle's window, shape ``(cycles,)``.
    coverages
        Measured share of each cycle's window, shape ``(cycles,)``.
    kept
        From how many cycles, spread evenly, the percentiles are; all others figures are from all.
    cut_off
        Cycles whose window reaches beyond the capture; they count nowhere.
    left_out
        Cycles that stood apart and were left out; see `without_odd`.
    """

    interval_s: float
    starts: Indices
    edges_s: Floats
    mean_a: Floats
    low_a: Floats
    median_a: Floats
    high_a: Floats
    spread_a: Floats
    noise_a: Floats
    charges_c: Floats
    coverages: Floats
    kept: int
    cut_off: int
    left_out: tuple[OddCycle, ...] = ()

    @property
    def cycles(self) -> int:
        """Number of cycles."""
        return len(self.starts)

    @property
    def charge_c(self) -> float:
        """Charge of the mean cycle."""
        return float(np.nansum(self.mean_a * np.diff(self.edges_s)))

    @property
    def resolved_once_a(self) -> float:
        """Three times the noise of a quiet bin in one cycle: what a single occurrence tells from nothing."""
        return 3 * float(np.quantile(self.noise_a, _QUIET))

    @property
    def resolved_a(self) -> float:
        """The same for the mean of all cycles: what the fold tells from nothing."""
        return self.resolved_once_a / math.sqrt(self.cycles)


@dataclass(frozen=True, slots=True)
class OddCycle:
    """A cycle that takes more or less charge than the others.

    Parameters
    ----------
    index
        Which cycle, from 0.
    time_s
        Where it is aligned, in the capture.
    charge_c
        Its charge.
    difference_c
        To the median cycle.
    spreads
        The same in standard deviations, estimated robustly.
    """

    index: int
    time_s: float
    charge_c: float
    difference_c: float
    spreads: float


def fold(
    series: Series,
    starts: Indices,
    *,
    before_s: float = 0.0,
    length_s: float,
    should_stop: ShouldStop = never,
) -> Fold:
    """Lay cycles on top of each other.

    Parameters
    ----------
    series
        The current, A.
    starts
        Sample index at which each cycle is aligned, rising, shape ``(n,)``.
    before_s, length_s
        The window of each cycle: from `before_s` before its start, `length_s` long.
    should_stop
        Polled between pieces.

    Raises
    ------
    BadArgumentError
        If the window is shorter than a sample or no cycle's window lies within the capture.
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    One pass over the windows. Mean, spread and charge are over all cycles; percentiles over at most 2048 of them, so
    memory is bounded whatever their number. With many cycles independent noise in the mean falls with their square
    root.
    """
    interval_s = series.interval_s
    if not (math.isfinite(length_s) and math.isfinite(before_s)):
        raise BadArgumentError(f"a cycle needs an end: found a length of {length_s} s, {before_s} s before its start")
    wanted = round(length_s / interval_s)
    if wanted < 1:
        raise BadArgumentError(f"a cycle of {length_s:g} s is shorter than a sample of {interval_s:g} s")
    per_bin = -(-wanted // MOST_BINS)
    bins = -(-wanted // per_bin)
    width, before = bins * per_bin, round(before_s / interval_s)
    firsts = np.asarray(starts, dtype=np.int64) - before
    inside = (firsts >= 0) & (firsts + width <= series.samples)
    if not inside.any():
        raise BadArgumentError("no cycle lies within the capture from end to end: shorten the cycle")
    adding = _Adding(bins, per_bin, int(inside.sum()))
    for group in _groups(firsts[inside], width):
        if should_stop():
            raise Cancelled("stopped")
        adding.take(_windows(series, group, width))
    return adding.finish(starts[inside], before * interval_s, interval_s, int((~inside).sum()))


def _groups(firsts: Indices, width: int) -> list[Indices]:
    """Cut the windows into groups of which each is read and folded in one go."""
    most = max(1, CHUNK_SAMPLES // width)
    groups, begin = [], 0
    for k in range(1, len(firsts) + 1):
        full = k == len(firsts) or k - begin >= most or firsts[k] + width - firsts[begin] > 2 * CHUNK_SAMPLES
        if full:
            groups.append(firsts[begin:k])
            begin = k
    return groups


def _windows(series: Series, firsts: Indices, width: int) -> Samples:
    """Return the windows' samples, shape ``(windows, width)``."""
    begin, end = int(firsts[0]), int(firsts[-1]) + width
    if end - begin <= 4 * len(firsts) * width:
        values = series.read(begin, end)
        if len(firsts) == 1 or np.all(np.diff(firsts) == width):
            return values.reshape(len(firsts), width)
        return np.lib.stride_tricks.sliding_window_view(values, width)[firsts - begin]
    return np.stack([series.read(first, first + width) for first in firsts.tolist()])


class _Adding:
    """Sums over the cycles seen so far."""

    def __init__(self, bins: int, per_bin: int, cycles: int) -> None:
        self._bins, self._per_bin = bins, per_bin
        self._every = -(-cycles // KEPT_CYCLES)
        self._seen = 0
        self._kept: list[Samples] = []
        self._charges: list[Floats] = []
        self._coverages: list[Floats] = []
        self._shift: Floats | None = None
        self._count = np.zeros(bins)
        self._sum = np.zeros(bins)
        self._square = np.zeros(bins)

    def take(self, windows: Samples) -> None:
        """Take the windows of some cycles, shape ``(cycles, width)``."""
        rows = windows.reshape(-1, self._bins, self._per_bin)
        sums = np.einsum("ijk->ij", rows, dtype=np.float64, casting="same_kind")
        counts = np.full(sums.shape, float(self._per_bin))
        holed = np.isnan(sums)
        if holed.any():
            missing = np.isnan(rows)
            counts -= missing.sum(axis=2)
            sums = np.where(missing, 0.0, rows).sum(axis=2, dtype=np.float64)
        self._charges.append(sums.sum(axis=1))
        self._coverages.append(counts.mean(axis=1) / self._per_bin)
        means = np.divide(sums, counts, out=np.full(sums.shape, np.nan), where=counts > 0)
        offset = -self._seen % self._every
        self._kept.append(means[offset :: self._every].astype(np.float32))
        self._seen += len(means)
        if self._shift is None:
            self._shift = np.nan_to_num(means[0])
        apart = means - self._shift
        if holed.any():
            self._count += (~np.isnan(apart)).sum(axis=0)
            apart = np.nan_to_num(apart)
        else:
            self._count += len(apart)
        self._sum += apart.sum(axis=0)
        self._square += np.einsum("ij,ij->j", apart, apart)

    def finish(self, starts: Indices, before_s: float, interval_s: float, cut_off: int) -> Fold:
        kept = np.concatenate(self._kept)
        known = self._count > 0
        count = np.maximum(self._count, 1)
        shift = self._shift if self._shift is not None else np.zeros(self._bins)
        mean = np.where(known, shift + self._sum / count, np.nan)
        variance = np.maximum(self._square - self._sum**2 / count, 0.0) / np.maximum(self._count - 1, 1)
        noise = _noise(kept)
        low, median, high = _percentiles(kept)
        edges: Floats = np.arange(self._bins + 1, dtype=np.float64) * self._per_bin * interval_s - before_s
        return Fold(
            interval_s,
            starts,
            edges,
            mean,
            low,
            median,
            high,
            np.where(known, np.sqrt(variance), np.nan),
            noise,
            np.concatenate(self._charges) * interval_s,
            np.concatenate(self._coverages),
            len(kept),
            cut_off,
        )


def _noise(kept: Samples) -> Floats:
    """Return the noise of each bin from the differences between neighbouring cycles; 0 where there is one cycle."""
    steps = np.abs(np.diff(kept[:_NOISE_CYCLES], axis=0))
    if not len(steps):
        return np.zeros(kept.shape[1])
    middle = np.median(np.nan_to_num(steps), axis=0)
    return np.asarray(middle / (0.6745 * math.sqrt(2)), dtype=np.float64)


def _percentiles(kept: Samples) -> tuple[Floats, Floats, Floats]:
    if np.isnan(kept).any():
        import warnings

        with warnings.catch_warnings():
            warnings.simplefilter("ignore", RuntimeWarning)  # a bin without any reading stays NaN
            low, median, high = np.nanpercentile(kept, (10, 50, 90), axis=0)
    else:
        low, median, high = np.percentile(kept, (10, 50, 90), axis=0, overwrite_input=True)
    return tuple(np.asarray(part, dtype=np.float64) for part in (low, median, high))  # type: ignore[return-value]


def odd_cycles(folded: Fold, *, most: int = 50) -> tuple[OddCycle, ...]:
    """List the cycles whose charge stands apart, by how much it differs.

    Parameters
    ----------
    folded
        The cycles; those not fully measured are left out.
    most
        How many to list.

    Notes
    -----
    A cycle stands apart by five standard deviations (1.48 times the median absolute deviation) and by 2 % of the
    median charge.
    """
    whole = folded.coverages > 0.999
    if whole.sum() < 3:
        return ()
    middle = float(np.median(folded.charges_c[whole]))
    difference = folded.charges_c - middle
    spread = max(1.48 * float(np.median(np.abs(difference[whole]))), 1e-300)
    apart = whole & (np.abs(difference) > np.maximum(_OUTLIER_SPREADS * spread, _LEAST_OUTLIER * abs(middle)))
    found = np.flatnonzero(apart)
    order = found[np.argsort(-np.abs(difference[found]), kind="stable")][:most]
    return tuple(
        OddCycle(
            int(k),
            float(folded.starts[k]) * folded.interval_s,
            float(folded.charges_c[k]),
            float(difference[k]),
            float(difference[k] / spread),
        )
        for k in order
    )


def without_odd(
    series: Series, folded: Fold, *, before_s: float, length_s: float, should_stop: ShouldStop = never
) -> Fold:
    """Fold once more without the cycles that stand apart.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    odd = odd_cycles(folded, most=folded.cycles)
    kept = np.ones(folded.cycles, dtype=bool)
    kept[[cycle.index for cycle in odd]] = False
    if not odd or not kept.any():
        return folded
    again = fold(series, folded.starts[kept], before_s=before_s, length_s=length_s, should_stop=should_stop)
    return replace(again, cut_off=folded.cut_off, left_out=odd)
