"""Periods in moments: timers that fire with jitter, also when several are mixed with each other and with chance."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices

_MOST_PERIODS = 8
_LOOKED_AT = 2000
_ORDERS = 12
_BIN = 0.01
_CANDIDATES = 40
_JITTER = 0.04
_OCCUPIED = 0.65
_MOST_SLOTS = 8
_MOSTLY = 0.7
_CHANCE, _SPREADS, _LEAST_AROUND = 0.01, 3.0, 2e-3


@dataclass(frozen=True, eq=False)
class TimerPeriod:
    """Moments that a timer would give.

    Parameters
    ----------
    period_s
        The period.
    jitter_s
        Standard deviation of the time between two of them.
    members
        Which of the moments, shape ``(members,)``, rising.
    """

    period_s: float
    jitter_s: float
    members: Indices


def find_periods(times_s: Floats, *, least: int = 6) -> tuple[TimerPeriod, ...]:
    """Take moments apart into timers; what no timer explains is left over.

    Parameters
    ----------
    times_s
        Moments, rising, shape ``(n,)``.
    least
        Members that a timer needs.

    Notes
    -----
    A candidate is a lag that is frequent among the moments up to twelve apart. From each moment a chain steps on by
    the lag, give or take 4 %, over at most one empty slot; the timer with the longest chain is taken out, and the
    rest is looked at again. At least two thirds of a chain's slots must be occupied, which rules out fractions of a
    period; multiples have shorter chains. A chain that is likely among as many moments that come by chance is none.
    """
    found: list[TimerPeriod] = []
    left = np.arange(len(times_s))
    while len(left) >= least and len(found) < _MOST_PERIODS:
        best = _longest(times_s[left], least)
        if best is None:
            break
        period = _measured(times_s, left[best])
        found.append(period)
        left = np.setdiff1d(left, period.members, assume_unique=True)
    return tuple(found)


def period_of(times_s: Floats, *, least: int = 6) -> TimerPeriod | None:
    """Return the one period that moments of one source have, some of them missing.

    Parameters
    ----------
    times_s
        The moments, s, rising, shape ``(n,)``; two at the same time count once.
    least
        Fewer moments than so many have none.

    Returns
    -------
    TimerPeriod or None
        None when most of the times between them are no small multiple of one.

    Notes
    -----
    The usual gap is the median of those around their lower quartile; each gap then counts for the number of periods
    that it is nearest to, and the period is the time of all gaps over the periods in them.
    """
    gaps = np.diff(times_s)
    gaps = gaps[gaps > 0]
    if len(gaps) < least - 1:
        return None
    guess_s = float(np.quantile(gaps, 0.25, method="lower"))
    # The usual gap: the smallest around which a good part of the gaps lies.
    near = gaps[np.abs(gaps / guess_s - 1) < 2 * _JITTER]
    period_s = float(np.median(near))
    slots = np.round(gaps / period_s)
    regular = (slots >= 1) & (slots <= _MOST_SLOTS) & (np.abs(gaps - slots * period_s) < _JITTER * period_s)
    if regular.mean() < _MOSTLY:
        return None
    period_s = float(gaps[regular].sum() / slots[regular].sum())
    jitter_s = float(np.std(gaps[regular] - slots[regular] * period_s))
    return TimerPeriod(period_s, jitter_s, np.arange(len(times_s)))


def _longest(times_s: Floats, least: int) -> Indices | None:
    """Return the members of the longest chain."""
    best: Indices | None = None
    for lag_s in _candidates(times_s[:_LOOKED_AT]):
        chain = _chain(times_s[:_LOOKED_AT], lag_s)
        is_longer = len(chain) >= least and (best is None or len(chain) > len(best))
        if is_longer and _by_chance(times_s[:_LOOKED_AT], chain) < _CHANCE:
            best = chain
    if best is None or len(times_s) <= _LOOKED_AT:
        return best
    whole = _chain(times_s, float(np.median(np.diff(times_s[best]))))
    return whole if len(whole) >= len(best) else best  # what comes later may have another period


def _by_chance(times_s: Floats, chain: Indices) -> float:
    """Return about how many chains like this one moments that come by chance would give."""
    gaps = np.diff(times_s[chain])
    lag_s = float(np.median(gaps))
    off_s = gaps - np.maximum(np.round(gaps / lag_s), 1.0) * lag_s
    around_s = min(max(_SPREADS * float(np.std(off_s)), _LEAST_AROUND * lag_s), _JITTER * lag_s)
    others = (len(times_s) - len(chain)) / max(float(times_s[-1] - times_s[0]), lag_s)
    # A step may also go on over one empty slot.
    missed = float(np.exp(-2 * around_s * others)) ** 2
    tried = len(times_s) * _CANDIDATES
    return float(tried * np.exp((len(chain) - 1) * np.log(max(1 - missed, 1e-12))))


def _candidates(times_s: Floats) -> list[float]:
    """Return the lags that are frequent, the smallest first."""
    lags = np.concatenate([times_s[k:] - times_s[:-k] for k in range(1, min(_ORDERS, len(times_s) - 1) + 1)])
    lags = lags[lags > 0]
    if not len(lags):
        return []
    place = np.floor(np.log(lags) / _BIN).astype(np.int64)
    place -= place.min()
    counts = np.bincount(place)
    around = np.convolve(counts, np.ones(3, dtype=np.int64), mode="same")
    chosen = np.argsort(-around, kind="stable")[:_CANDIDATES]
    found = [float(np.median(lags[np.abs(place - one) <= 1])) for one in chosen.tolist() if around[one] >= 3]
    return sorted(found)


def _chain(times_s: Floats, lag_s: float) -> Indices:
    """Return the longest chain of moments a lag apart."""
    count = len(times_s)
    follows = np.full(count, -1)
    for slots in (2, 1):
        at = times_s + slots * lag_s
        right = np.minimum(np.searchsorted(times_s, at), count - 1)
        left = np.maximum(right - 1, 0)
        nearest = np.where(np.abs(times_s[left] - at) < np.abs(times_s[right] - at), left, right)
        fits = (np.abs(times_s[nearest] - at) <= _JITTER * lag_s) & (nearest > np.arange(count))
        follows = np.where(fits, nearest, follows)
    length = [1] * count
    for index, after in zip(range(count - 1, -1, -1), follows[::-1].tolist(), strict=True):
        if after >= 0:
            length[index] += length[after]
    at_index = int(np.argmax(length))
    chain = [at_index]
    while follows[chain[-1]] >= 0:
        chain.append(int(follows[chain[-1]]))
    members = np.array(chain, dtype=np.int64)
    slots = (times_s[members[-1]] - times_s[members[0]]) / lag_s + 1
    return members if len(members) >= _OCCUPIED * slots else np.zeros(0, dtype=np.int64)


def _measured(times_s: Floats, members: Indices) -> TimerPeriod:
    gaps = np.diff(times_s[members])
    slots = np.maximum(np.round(gaps / np.median(gaps)), 1.0)
    period_s = float(gaps.sum() / slots.sum())
    return TimerPeriod(period_s, float(np.std(gaps - slots * period_s)), members)
