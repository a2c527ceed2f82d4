"""What comes and goes with the year: temperature, seasons, and the self-discharge that follows the temperature."""

from __future__ import annotations

from copy import copy
from datetime import date
from functools import lru_cache

import numpy as np

from warm_ember.battery.cells import REFERENCE_C
from warm_ember.errors import BadArgumentError
from warm_ember.model.allowed import TEMPERATURE_C
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Climate
from warm_ember.units import YEAR_S

_BINS = 360
"""Of a year; a month, a twelfth of it, is 30 of them."""
_BIN_S = YEAR_S / _BINS


def check_climate(climate: Climate) -> None:
    """Check that a climate is possible.

    Raises
    ------
    BadArgumentError
        Naming the field, what was expected and what was found.
    """
    months = climate.months_c
    if len(months) not in (0, 1, 12):
        raise BadArgumentError(f"climate.months_c: expected 12 temperatures, one, or none, found {len(months)}")
    for value in months:
        if not TEMPERATURE_C.holds(value):
            raise BadArgumentError(f"climate.months_c: expected {TEMPERATURE_C.words()} °C, found {value:g}")
    if climate.start and start_of(climate) is None:
        raise BadArgumentError(f"climate.start: expected a date such as 2026-06-14, found {climate.start!r}")


def start_of(climate: Climate) -> date | None:
    """Return the first day of use; None when none, or no date, was typed."""
    try:
        return date.fromisoformat(climate.start)
    except ValueError:
        return None


def monthly_c(climate: Climate) -> Floats:
    """Return the mean temperature of each month, °C, shape ``(12,)``."""
    months = climate.months_c or (REFERENCE_C,)
    return np.asarray(np.broadcast_to(np.array(months, dtype=np.float64), 12))


@lru_cache(maxsize=64)
def year_of(climate: Climate, seasons: tuple[tuple[float, ...], ...], doubles_k: float | None) -> Year:
    """Return a `Year`, made once: the same one goes with very many lives."""
    return Year(climate, seasons, doubles_k)


class Year:
    """A year that comes again and again, and where in it the device starts.

    Parameters
    ----------
    climate
        Temperatures and the first day.
    seasons
        Patterns of 12 weights; an empty one is even.
    doubles_k
        By how much warmer it has to be for twice the self-discharge; None when that does not matter.

    Notes
    -----
    The temperature is straight between the middles of the months. Loads follow their month. The self-discharge is
    ``2 ** ((T - 20 °C) / doubles_k)`` times that at 20 °C: the rule of a reaction that goes twice as fast for each so
    many kelvin, which near room temperature is what Arrhenius' law says.
    """

    def __init__(self, climate: Climate, seasons: tuple[tuple[float, ...], ...], doubles_k: float | None) -> None:
        self._start = _fraction(start_of(climate))
        middles = (np.arange(_BINS) + 0.5) / _BINS
        months_c = monthly_c(climate)
        around = np.concatenate((months_c[-1:], months_c, months_c[:1]))
        self._bins_c = np.interp(middles, (np.arange(14) - 0.5) / 12, around)
        self.has_seasons = any(seasons)
        self.is_even = bool(np.ptp(months_c) == 0 and not any(seasons))
        columns = [_weights(season) for season in seasons]
        loss = np.ones(_BINS)
        if doubles_k is not None:
            loss = 2.0 ** ((self._bins_c - REFERENCE_C) / doubles_k)
        self.loss_mean = float(loss.mean())
        # Running integrals over one year, a column for each bin's start: season after season, then the loss.
        means = np.vstack((*columns, loss))
        # One bin more than there are: a time just before midnight may round up to the next year.
        self._patterns = np.hstack((means, means[:, :1]))
        self._running = np.hstack((np.zeros((len(means), 1)), np.cumsum(means, axis=1))) * _BIN_S
        self._whole_year = means.mean(axis=1)

    def runs_s(self, time_s: Floats) -> Floats:
        """Return the integral of each pattern up to some times, s, shape ``(patterns + 1, ...)``.

        Only differences count. The last one is that of the factor on the self-discharge.
        """
        years = time_s * (1 / YEAR_S) + self._start
        whole = np.floor(years)
        position = (years - whole) * _BINS
        bins = position.astype(np.int64)
        within_s, whole_s = (position - bins) * _BIN_S, whole * YEAR_S
        runs: Floats = np.empty((len(self._patterns), *np.shape(time_s)))
        for run, pattern, running, mean in zip(runs, self._patterns, self._running, self._whole_year, strict=True):
            run[...] = running[bins] + within_s * pattern[bins] + whole_s * mean
        return runs

    def joined(self, shares: Floats) -> Year:
        """Return a year with one season that is made of the others by shares, shape ``(seasons,)``."""
        joined = copy(self)
        for name in ("_patterns", "_running"):
            rows = getattr(self, name)
            setattr(joined, name, np.vstack((shares @ rows[:-1], rows[-1])))
        joined._whole_year = np.array([self._whole_year[:-1] @ shares, self._whole_year[-1]])
        return joined

    def temperature_c(self, time_s: Floats) -> Floats:
        """Return the temperature at some times after the start, of any shape."""
        years = time_s * (1 / YEAR_S) + self._start
        position = (years - np.floor(years)) * _BINS - 0.5
        left = np.floor(position)
        share = position - left
        bins = left.astype(np.int64) % _BINS
        return np.asarray(self._bins_c[bins] * (1 - share) + self._bins_c[(bins + 1) % _BINS] * share)


def _weights(season: tuple[float, ...]) -> Floats:
    """Return a pattern with a mean of 1 for each bin."""
    if not season:
        return np.ones(_BINS)
    weights = np.repeat(np.array(season, dtype=np.float64), _BINS // 12)
    return np.asarray(weights / weights.mean())


def _fraction(start: date | None) -> float:
    """Return where in the year a day is, each month a twelfth."""
    if start is None:
        return 0.0
    following = date(start.year + start.month // 12, start.month % 12 + 1, 1)
    days = (following - start.replace(day=1)).days
    return (start.month - 1 + (start.day - 1) / days) / 12
