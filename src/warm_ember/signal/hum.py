"""Mains hum and ground loops: lines at 50 or 60 Hz and their multiples in the quiet parts of a capture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import Series, ShouldStop, never

MAINS_HZ = (50.0, 60.0)
_SEGMENT_S = 2.0
_SHORTEST_S = 0.2
_CANDIDATES = 400
_BLOCKS_WITHIN, _BLOCKS_AT_ONCE = 16, 1 << 16
_SEGMENTS = 12
_RATE_HZ = 2000.0
_LEAST_RATIO = 30.0
_HARMONICS = 6
_FLAT = 0.25
_OFF_MAINS_HZ, _AS_STRONG = 2.0, 0.25


@dataclass(frozen=True, eq=False)
class Hum:
    """A line of the mains in the current.

    Parameters
    ----------
    mains_hz
        50 or 60.
    amplitude_a
        Of the strongest of its multiples.
    level_a
        The current it lies on.
    ratio
        Power of that line to the noise beside it.
    harmonics
        How many multiples stand out.
    from_s, to_s
        Where it was seen.
    """

    mains_hz: float
    amplitude_a: float
    level_a: float
    ratio: float
    harmonics: int
    from_s: float
    to_s: float


@dataclass(frozen=True, eq=False)
class _Spectra:
    frequencies: Floats
    powers: Floats
    starts: Indices
    length: int
    level_a: float


def find_hum(series: Series, *, should_stop: ShouldStop = never) -> Hum | None:
    """Look for the mains in the quietest stretches.

    Parameters
    ----------
    series
        The current, A.
    should_stop
        Polled between stretches.

    Returns
    -------
    Hum or None
        None as well where the sampling is too slow or the capture too short to tell.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    Averaged periodograms of up to twelve stretches of two seconds, pulses cut off at eight times the
    spread. A device that wakes at a divisor of the mains' frequency has lines there too, but also at that divisor;
    one that wakes at that very frequency has a flat comb of lines, and one whose pulses come at any other divisor has
    lines as strong beside the mains. None of them is taken for hum.

    References
    ----------
    P. D. Welch, "The use of fast Fourier transform for the estimation of power spectra", *IEEE Transactions on Audio
    and Electroacoustics* 15, 1967, p. 70.
    """
    spectra = _spectra(series, should_stop)
    if spectra is None:
        return None
    mean = spectra.powers.mean(axis=0)
    found = [hum for mains_hz in MAINS_HZ if (hum := _at(series, spectra, mean, mains_hz)) is not None]
    return max(found, key=lambda hum: hum.ratio, default=None)


def _spectra(series: Series, should_stop: ShouldStop) -> _Spectra | None:
    rate_hz, duration_s = 1 / series.interval_s, series.samples * series.interval_s
    if rate_hz < 2.5 * min(MAINS_HZ) or duration_s < _SHORTEST_S:
        return None
    together = max(1, int(rate_hz / _RATE_HZ))
    length = int(min(_SEGMENT_S, duration_s) * rate_hz) // together * together
    starts = np.unique(np.linspace(0, series.samples - length, _CANDIDATES).astype(np.int64))
    means = _means_from(series, starts, length, should_stop)
    quietest: list[int] = []
    for start in starts[np.argsort(means, kind="stable")].tolist():
        if all(abs(start - other) >= length for other in quietest):
            quietest.append(start)
        if len(quietest) == _SEGMENTS:
            break
    window = np.hanning(length // together)
    powers, levels, kept = [], [], []
    for start in sorted(quietest):
        if should_stop():
            raise Cancelled("stopped")
        values = _prepared(series.read(start, start + length).astype(np.float64), together)
        if values is None:
            continue
        kept.append(start)
        levels.append(float(np.median(values)))
        centred = values - np.polyval(np.polyfit(np.arange(len(values)), values, 1), np.arange(len(values)))
        powers.append(np.abs(np.fft.rfft(centred * window) * 2 / window.sum()) ** 2)
    if not powers:
        return None
    frequencies = np.fft.rfftfreq(length // together, together * series.interval_s).astype(np.float64)
    return _Spectra(frequencies, np.array(powers), np.array(kept), length, float(np.median(levels)))


def _means_from(series: Series, starts: Indices, length: int, should_stop: ShouldStop) -> Floats:
    """Return the mean of as many samples from each start on; infinite where nothing was measured.

    They overlap, and what they share is summed once. Where the summary's blocks are short beside them, those within
    tell it well enough.
    """
    short = [level for level, size in enumerate(series.levels) if size * _BLOCKS_WITHIN <= length]
    if short:
        size, parts = series.levels[short[-1]], []
        for first in range(0, -(-series.samples // size), _BLOCKS_AT_ONCE):
            if should_stop():
                raise Cancelled("stopped")
            parts.append(series.blocks(short[-1], first, min(first + _BLOCKS_AT_ONCE, -(-series.samples // size))))
        total, count = (np.concatenate([part[name] for part in parts]) for name in ("sum", "count"))
        begin, end = -(-starts // size), (starts + length) // size
    else:
        edges = np.unique(np.concatenate((starts, starts + length)))
        sums = interval_sums(series, edges, should_stop=should_stop)
        total, count = sums.total, sums.count
        begin, end = np.searchsorted(edges, starts), np.searchsorted(edges, starts + length)
    total_until, count_until = (np.append(0.0, np.cumsum(part, dtype=np.float64)) for part in (total, count))
    measured = count_until[end] - count_until[begin]
    return np.where(measured > 0, (total_until[end] - total_until[begin]) / np.maximum(measured, 1.0), np.inf)


def _prepared(values: Floats, together: int) -> Floats | None:
    """Return means of a few samples each, pulses cut off and holes filled; None where too little was measured."""
    if np.isnan(values).mean() > 0.2:
        return None
    middle = float(np.nanmedian(values))
    values = np.where(np.isnan(values), middle, values)
    means: Floats = values.reshape(-1, together).mean(axis=1)
    middle = float(np.median(means))
    spread = 1.48 * float(np.median(np.abs(means - middle)))
    return np.asarray(np.clip(means, middle - 8 * spread, middle + 8 * spread))


def _at(series: Series, spectra: _Spectra, mean: Floats, mains_hz: float) -> Hum | None:
    top_hz = 0.45 * float(spectra.frequencies[-1]) * 2
    lines = [_line(spectra.frequencies, mean, k * mains_hz) for k in range(1, _HARMONICS + 1) if k * mains_hz < top_hz]
    strong = [line for line in lines if line[1] >= _LEAST_RATIO]
    if not strong or max(line[1] for line in lines[:2]) < _LEAST_RATIO:
        return None
    power, ratio = max(strong)
    first = [line[0] for line in lines[:3]]
    if len(first) == 3 and min(first) > _FLAT * max(first):
        return None
    divisors = [_line(spectra.frequencies, mean, mains_hz / k) for k in (2, 3, 4, 5, 6, 8, 10)]
    if any(other[1] >= _LEAST_RATIO and other[0] >= 0.1 * power for other in divisors):
        return None
    if _comb_beside(spectra.frequencies, mean, mains_hz, power):
        return None
    amplitude_a = float(np.sqrt(power))
    if amplitude_a < 0.01 * abs(spectra.level_a):
        return None
    seen = [
        k for k, one in enumerate(spectra.powers)
        if max(_line(spectra.frequencies, one, mains_hz)[1], _line(spectra.frequencies, one, 2 * mains_hz)[1]) >= 8
    ]  # fmt: skip
    from_s, to_s = 0.0, series.samples * series.interval_s
    if seen and len(seen) < 0.7 * len(spectra.powers):
        from_s = float(spectra.starts[seen[0]]) * series.interval_s
        to_s = float(spectra.starts[seen[-1]] + spectra.length) * series.interval_s
    return Hum(mains_hz, amplitude_a, spectra.level_a, ratio, len(strong), from_s, to_s)


def _comb_beside(frequencies: Floats, power: Floats, mains_hz: float, strongest: float) -> bool:
    """Return whether a line as strong stands where the mains has none, as those of a train of pulses do."""
    nearest_hz = np.maximum(np.rint(frequencies / mains_hz), 1) * mains_hz
    off = (np.abs(frequencies - nearest_hz) > _OFF_MAINS_HZ) & (frequencies > 0.3 * mains_hz)
    off &= (frequencies < 3.2 * mains_hz) & (power >= _AS_STRONG * strongest)
    return any(_line(frequencies, power, float(at))[1] >= _LEAST_RATIO / 2 for at in frequencies[off])


def _line(frequencies: Floats, power: Floats, at_hz: float) -> tuple[float, float]:
    """Return the power at a frequency and its ratio to the median beside it."""
    step = float(frequencies[1])
    apart = np.abs(frequencies - at_hz)
    on, beside = apart <= max(0.6, 1.01 * step), (apart > max(2.0, 3 * step)) & (apart <= max(15.0, 12 * step))
    if not on.any() or not beside.any():
        return 0.0, 0.0
    here = float(power[on].max())
    return here, here / max(float(np.median(power[beside])), 1e-300)
