"""A periodic train of short pulses in quiet stretches of a current: its period, and what it adds to the mean."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.medians import row_medians
from warm_ember.signal.series import Series

_MOST_SAMPLES, _MOST_WINDOWS = 1 << 21, 64
_LONGEST_WINDOW_S, _LEAST_SAMPLES = 0.8, 128
_SHORTEST_PERIOD = 2.8
_STANDS_OUT, _HARMONIC, _OF_HIGHEST = 30.0, 6.0, 0.02
_BINS = 64
_LOW_MOSTLY, _EXPLAINS = 0.4, 0.3
_REFINED, _TELL = np.linspace(-0.6, 0.6, 25), 16
_CONSTANTS, _FITTED, _STILL_FALLS = np.geomspace(0.03, 1.0, 30), 5, 0.66
_AS_LOW = 4.0


@dataclass(frozen=True)
class PulseTrain:
    """Pulses that come with a period.

    Parameters
    ----------
    period_s
        From one to the next.
    mean_a
        What they add to the mean current of the stretches.
    base_a
        What flows between them.
    explains
        Share of the variance of the stretches that the train explains.
    """

    period_s: float
    mean_a: float
    base_a: float
    explains: float


def find_pulse_train(series: Series, first: Indices, last: Indices, longest_s: float) -> PulseTrain | None:
    """Look for one in stretches of a series.

    Parameters
    ----------
    series
        The current, A.
    first, last
        Samples of the stretches, shape ``(stretches,)``; up to 64 windows within them are looked at.
    longest_s
        The longest period that counts.

    Notes
    -----
    The period is that of the lowest line of a comb in the mean power spectrum; folded on it, the current has to be
    low for most of a period, which a hum is not. Where pulses are smeared so that the current does not come down
    between them, what it falls towards is fitted as an exponential: a supply's capacitor smears like that.
    """
    windows = _windows(series, first, last)
    if not len(windows):
        return None
    flat = windows - row_medians(windows)[:, None]
    fundamental = _fundamental(flat, series.interval_s, longest_s)
    if fundamental is None:
        return None
    profile, frequency = _refined(flat, fundamental)
    levels = profile.level
    base = _between(profile)
    height = float(levels.max()) - base
    if height <= 0 or float(np.median(levels)) - base > _LOW_MOSTLY * height:
        return None
    spread = float(flat.var())
    explains = float(np.var(levels)) / spread if spread > 0 else 0.0
    if explains < _EXPLAINS:
        return None
    offset_a = float(row_medians(windows).mean())
    mean_a = float(flat.mean()) - base
    return PulseTrain(series.interval_s / frequency, mean_a, offset_a + base, min(explains, 1.0))


def _windows(series: Series, first: Indices, last: Indices) -> Floats:
    lengths = last - first
    usable = lengths[lengths >= _LEAST_SAMPLES]
    if not len(usable):
        return np.zeros((0, 0))
    length = min(int(_LONGEST_WINDOW_S / series.interval_s) + 1, int(np.quantile(usable, 0.75)))
    length = max(length, _LEAST_SAMPLES)
    places = [
        int(begin) + turn * length
        for begin, size in zip(first.tolist(), lengths.tolist(), strict=True)
        for turn in range(size // length)
    ]
    count = min(_MOST_WINDOWS, max(1, _MOST_SAMPLES // length), len(places))
    chosen = [places[k] for k in np.unique(np.linspace(0, len(places) - 1, count).astype(int))] if places else []
    found = [np.asarray(series.read(one, one + length), dtype=np.float64) for one in chosen]
    whole = [one for one in found if np.isfinite(one).all()]
    return np.array(whole) if whole else np.zeros((0, 0))


def _fundamental(flat: Floats, interval_s: float, longest_s: float) -> float | None:
    """Return the lowest line of the comb, in cycles per sample."""
    samples = flat.shape[1]
    power = (np.abs(np.fft.rfft(flat * np.hanning(samples), axis=1)) ** 2).mean(axis=0)
    low = max(int(np.ceil(interval_s / longest_s * samples)), 3)
    high = min(int(samples / _SHORTEST_PERIOD), len(power) - 2)
    if high <= low + 4:
        return None
    # A comb fills few of the bins: what lies between its lines is the ground that they stand out of.
    ground = float(np.median(power[low : high + 1]))
    peak = low + int(np.argmax(power[low : high + 1]))
    if power[peak] < _STANDS_OUT * max(ground, 1e-30):
        return None
    for parts in range(6, 1, -1):
        lines = [round(peak * k / parts) for k in range(1, parts)]
        least = max(_HARMONIC * ground, _OF_HIGHEST * float(power[peak]))
        if lines[0] >= low and all(_line(power, one) > least for one in lines):
            return float(peak / parts / samples)
    return float(peak / samples)


def _line(power: Floats, at: int) -> float:
    return float(power[max(at - 1, 0) : at + 2].max())


@dataclass(frozen=True, eq=False)
class _Profile:
    """One period, folded: where in it, in turns, and how high; beginning with the highest."""

    turn: Floats
    level: Floats


def _refined(flat: Floats, fundamental: float) -> tuple[_Profile, float]:
    """Fold the windows on the best period near a first guess."""
    step = 1.0 / flat.shape[1]
    tried = [fundamental + shift * step for shift in _REFINED]
    some = flat[:: -(-len(flat) // _TELL)]  # which period is best, a few windows tell as well
    best = tried[int(np.argmax([float(np.var(_fold(some, one).level)) for one in tried]))]
    return _fold(flat, best), best


def _fold(flat: Floats, frequency: float) -> _Profile:
    """Lay all windows on one period, each shifted by the phase of its own fundamental."""
    at = np.arange(flat.shape[1])
    turn = frequency * at
    shift = np.angle(flat @ np.exp(-2j * np.pi * turn)) / (2 * np.pi)
    phase = (turn + shift[:, None]).ravel()
    phase -= np.floor(phase)
    number = np.minimum((phase * _BINS).astype(np.int64), _BINS - 1)
    counts = np.bincount(number, minlength=_BINS)
    some = counts > 0
    level = np.bincount(number, flat.ravel(), _BINS)[some] / counts[some]
    where = np.bincount(number, phase, _BINS)[some] / counts[some]
    first = int(np.argmax(level))
    return _Profile(np.roll(np.where(where < where[first], where + 1, where), -first), np.roll(level, -first))


def _between(profile: _Profile) -> float:
    """Return what flows between the pulses: the lowest of the profile, or what its decay tends to."""
    least = float(profile.level.min())
    # Where it has come down the noise alone tells which place is the lowest: the last one that is as low counts.
    is_low = profile.level <= np.median(profile.level)
    noise = float(np.median(np.abs(np.diff(profile.level[is_low])))) if is_low.sum() > 1 else 0.0
    lowest = int(np.flatnonzero(profile.level <= least + _AS_LOW * noise)[-1])
    turn, level = profile.turn[1 : lowest + 1] - profile.turn[0], profile.level[1 : lowest + 1]
    if len(turn) < _FITTED:
        return least
    best, limit = np.inf, least
    for constant in _CONSTANTS.tolist():
        decay = np.exp(-turn / constant)
        slope, offset = np.polyfit(decay, level, 1)
        off = float(np.sum((level - offset - slope * decay) ** 2))
        if off < best and slope > 0:
            best, limit = off, float(offset)
    # What hardly falls any more towards its end has nowhere to fall to.
    falls = float(level[int(_STILL_FALLS * (len(level) - 1))]) - least
    return min(least, max(limit, least - falls))
