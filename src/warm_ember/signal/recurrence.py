"""How moments come: by a timer, or several, with some of them skipped, behind others, or by chance."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.signal.timer_periods import TimerPeriod, find_periods, period_of

_LEAST, _FEW = 6, 3
_EVEN_THREE, _EVEN_FEW, _SKIPPED = 0.01, 0.03, 3
_MULTIPLE, _MOST_MULTIPLE = 0.003, 50
SKIPS = 0.03
"""A timer that misses no more of its slots than this does not skip."""
_FOLLOWS, _CLOSE, _EVEN, _LEAST_EVEN_S = 0.9, 0.2, 0.05, 2e-3
_SURE = 3.0
_STOPPED, _SURELY = 3, 0.01
_ALL_TIMED = 0.8


class Manner(StrEnum):
    """In what manner moments come."""

    TIMER = "timer"
    TIMERS = "timers"
    SKIPS = "timer that skips"
    FOLLOWS = "follows"
    CHANCE = "chance"
    ONCE = "once"


@dataclass(frozen=True, slots=True)
class Timer:
    """A timer in moments.

    Parameters
    ----------
    period_s, jitter_s
        Its period, and the standard deviation of a moment around where the period puts it.
    drift
        By which share the period is longer at the end than at the beginning; 0 where that is not seen.
    slots, taken
        How many moments it would have given, and how many it did.
    stopped
        How many of the slots lie before or after the time in which it was seen to run.
    """

    period_s: float
    jitter_s: float
    drift: float
    slots: int
    taken: int
    stopped: int = 0

    @property
    def skipped(self) -> float:
        """Which share of its slots it skipped while it ran."""
        return max(1 - self.taken / (self.slots - self.stopped), 0.0)


@dataclass(frozen=True, slots=True)
class Recurrence:
    """How moments come.

    Parameters
    ----------
    manner
        In what manner.
    rate_hz, rate_low_hz, rate_high_hz
        How often, with a 90 % interval.
    timers
        The timers, the one with most moments first; empty where there is none.
    behind
        Which other moments they follow; -1 where they follow none.
    delay_s, delay_jitter_s
        How long after those, and by how much that differs; 0 where they follow none.
    """

    manner: Manner
    rate_hz: float
    rate_low_hz: float
    rate_high_hz: float
    timers: tuple[Timer, ...] = ()
    behind: int = -1
    delay_s: float = 0.0
    delay_jitter_s: float = 0.0

    @property
    def period_s(self) -> float | None:
        """The period of its one timer; None where there is none, or several."""
        return self.timers[0].period_s if len(self.timers) == 1 else None

    @property
    def jitter_s(self) -> float | None:
        """The jitter of its one timer; None where there is none, or several."""
        return self.timers[0].jitter_s if len(self.timers) == 1 else None


def recurrence_of(
    times_s: Floats,
    duration_s: float,
    others_s: tuple[Floats, ...] = (),
    periods_s: tuple[float, ...] = (),
    *,
    hidden: int = 0,
) -> Recurrence:
    """Find out how moments come.

    Parameters
    ----------
    times_s
        The moments, s, rising, shape ``(n,)``.
    duration_s
        How long was looked.
    others_s
        Other moments that they may follow, each rising.
    periods_s
        Periods of timers that are known beside them: of two moments that lie a whole multiple of one apart a timer is
        taken to be the reason.
    hidden
        How many more there were whose moments are not known.

    Returns
    -------
    Recurrence
        Its rate is that of the timers where all comes by them, else the number over the duration.

    Notes
    -----
    A period is the slope of the moments over their numbers, by least squares, so that it is known to the jitter over
    the number of periods to the power of one and a half. With fewer than six moments the gaps have to agree to three
    per cent, the two of three moments to one. A timer that is not seen any more though it would have come several times
    ran for a part of the time only, as one does while a modem listens: its rate is over the whole. One that begins late
    may have waited for the device to start, and counts from there. The interval of a rate by chance is the exact one of
    a Poisson count.

    References
    ----------
    F. Garwood, "Fiducial limits for the Poisson distribution", *Biometrika* 28, 1936, p. 437.
    """
    by_chance = _by_chance(len(times_s) + hidden, duration_s)
    if len(times_s) < 2:
        return by_chance
    timers = tuple(_with_hidden(timer, hidden) for timer in _timers(times_s, periods_s, duration_s, hidden))
    behind = _behind(times_s, others_s, timers)
    if behind is not None:
        which, delay_s, jitter_s = behind
        low_hz, high_hz = by_chance.rate_low_hz, by_chance.rate_high_hz
        return Recurrence(
            Manner.FOLLOWS,
            by_chance.rate_hz,
            low_hz,
            high_hz,
            timers if len(timers) == 1 else (),
            which,
            delay_s,
            jitter_s,
        )
    timed = sum(timer.taken for timer in timers)
    if not timers or timed < _ALL_TIMED * len(times_s):
        return by_chance
    rate_hz = sum(timer.taken / timer.slots / timer.period_s for timer in timers)
    error_hz = sum(_rate_error(timer) ** 2 for timer in timers) ** 0.5
    low_hz, high_hz = max(rate_hz - 1.645 * error_hz, 0.0), rate_hz + 1.645 * error_hz
    if len(timers) > 1:
        return Recurrence(Manner.TIMERS, rate_hz, low_hz, high_hz, timers)
    missed = 1 - timers[0].taken / timers[0].slots
    manner = Manner.SKIPS if missed > SKIPS and timers[0].slots > timers[0].taken else Manner.TIMER
    return Recurrence(manner, rate_hz, low_hz, high_hz, timers)


def _with_hidden(timer: Timer, hidden: int) -> Timer:
    """Let wakes that nobody saw begin take slots that are free."""
    return replace(timer, taken=min(timer.taken + hidden, timer.slots))


def _with_stops(timer: Timer, first_s: float, last_s: float, duration_s: float, hidden: int) -> Timer:
    """Count the slots in which a timer did not run, where it was seen to stop."""
    after = int((duration_s - last_s) / timer.period_s) - hidden
    patience = _STOPPED
    if 0 < timer.skipped < 1:
        patience = max(math.ceil(math.log(_SURELY) / math.log(timer.skipped)), patience)
    if after <= patience:
        return timer
    stopped = after + int(first_s / timer.period_s)
    return replace(timer, slots=timer.slots + stopped, stopped=stopped)


def _by_chance(count: int, duration_s: float) -> Recurrence:
    from scipy.special import chdtri

    if not duration_s > 0:
        return Recurrence(Manner.CHANCE, 0.0, 0.0, 0.0)
    low = chdtri(2 * count, 0.95) / 2 if count else 0.0
    high = chdtri(2 * count + 2, 0.05) / 2
    manner = Manner.ONCE if count == 1 else Manner.CHANCE
    return Recurrence(manner, count / duration_s, float(low) / duration_s, float(high) / duration_s)


def _rate_error(timer: Timer) -> float:
    """Return the standard error of a timer's rate: of its period, and of how many of its slots are taken."""
    share = timer.taken / timer.slots
    of_share = math.sqrt(share * (1 - share) / timer.slots) / timer.period_s
    of_period = share / timer.period_s * timer.jitter_s / timer.period_s * math.sqrt(12 / max(timer.taken, 2) ** 3)
    return math.hypot(of_share, of_period)


def _timers(times_s: Floats, periods_s: tuple[float, ...], duration_s: float, hidden: int) -> tuple[Timer, ...]:
    if len(times_s) < _LEAST:
        few = _few(times_s, periods_s)
        found = [] if few is None else [(times_s, few)]
    else:
        one = period_of(times_s, least=_LEAST)
        periods = (one,) if one is not None else find_periods(times_s, least=_LEAST)
        found = [(times_s[period.members], _measured(times_s, period)) for period in periods]
    timers = (_with_stops(timer, float(own_s[0]), float(own_s[-1]), duration_s, hidden) for own_s, timer in found)
    return tuple(sorted(timers, key=lambda timer: -timer.taken))


def _few(times_s: Floats, periods_s: tuple[float, ...]) -> Timer | None:
    """Return the timer of two to five moments, where anything speaks for one."""
    gaps = np.diff(times_s)
    if len(times_s) >= _FEW:
        shortest = float(gaps.min())
        slots = np.rint(gaps / shortest)
        period_s = float(gaps.sum() / slots.sum())
        even, most = (_EVEN_THREE, 1) if len(times_s) == _FEW else (_EVEN_FEW, _SKIPPED)
        if (np.abs(gaps - slots * period_s) <= even * period_s).all() and slots.max() <= most and shortest > 0:
            return _fitted(times_s, period_s)
        return None
    gap_s = float(gaps[0])
    for period_s in periods_s:
        multiple = round(gap_s / period_s)
        if 2 <= multiple <= _MOST_MULTIPLE and abs(gap_s - multiple * period_s) <= _MULTIPLE * period_s:
            return Timer(gap_s, abs(gap_s - multiple * period_s), 0.0, 2, 2)
    return None


def _measured(times_s: Floats, period: TimerPeriod) -> Timer:
    return _fitted(times_s[period.members], period.period_s)


def _fitted(times_s: Floats, period_s: float) -> Timer:
    """Fit a timer to its moments, whose gaps may hold several periods."""
    numbers = np.concatenate(([0.0], np.cumsum(np.maximum(np.rint(np.diff(times_s) / period_s), 1.0))))
    x, y = numbers - numbers.mean(), times_s - times_s.mean()
    slope_s = float((x @ y) / (x @ x))
    left = y - slope_s * x
    jitter_s = float(np.sqrt((left @ left) / max(len(left) - 2, 1)))
    drift = 0.0
    if len(times_s) >= 2 * _LEAST:
        square = x**2 - (x**2).mean()
        square -= (square @ x) / (x @ x) * x
        bend, size = float((square @ left) / (square @ square)), float(square @ square)
        still = left - bend * square
        error = math.sqrt(float(still @ still) / max(len(left) - 3, 1) / size)
        if abs(bend) > _SURE * error:
            drift = 2 * bend * float(x[-1] - x[0]) / slope_s
    return Timer(slope_s, jitter_s, drift, int(numbers[-1]) + 1, len(times_s))


def _behind(
    times_s: Floats, others_s: tuple[Floats, ...], timers: tuple[Timer, ...]
) -> tuple[int, float, float] | None:
    """Return which other moments these follow by an even delay, that delay and its jitter; None for none."""
    if len(times_s) < _FEW:
        return None
    best: tuple[float, int, float] | None = None
    apart_s = float(np.median(np.diff(times_s)))
    for which, leaders_s in enumerate(others_s):
        if len(leaders_s) < _FEW:
            continue
        at = np.searchsorted(leaders_s, times_s, side="left") - 1
        delays_s = np.where(at >= 0, times_s - leaders_s[np.maximum(at, 0)], np.nan)
        delay_s = float(np.nanmedian(delays_s)) if np.isfinite(delays_s).any() else math.inf
        gap_s = float(np.median(np.diff(leaders_s)))
        close = np.abs(delays_s - delay_s) <= max(_EVEN * delay_s, _LEAST_EVEN_S)
        if delay_s > _CLOSE * min(apart_s, gap_s) or close.sum() < _FOLLOWS * len(times_s):
            continue
        # What it follows has to be followed, and a timer that is as even by itself needs no leader.
        led = len(np.unique(at[close]))
        jitter_s = float(np.std(delays_s[close]))
        own = timers[0] if len(timers) == 1 else None
        if led < _FOLLOWS * len(leaders_s) or (own is not None and own.jitter_s <= jitter_s):
            continue
        if best is None or delay_s < best[2]:
            best = (jitter_s, which, delay_s)
    return None if best is None else (best[1], best[2], best[0])
