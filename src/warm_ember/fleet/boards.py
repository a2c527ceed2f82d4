"""How boards of the present build differ, which one is odd, and what that means for the life of the lot."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from warm_ember.fleet.history import History
from warm_ember.fleet.trend import Trend
from warm_ember.model.arrays import Floats
from warm_ember.model.estimate import quantile

_LEVEL = 0.05
_FEWEST = 3
_DRAWS = 20_000
_SEED = 20260801
_ONE_IN_TEN = 1.2815515655446004


@dataclass(frozen=True, eq=False)
class Board:
    """One board since the last change.

    Parameters
    ----------
    name
        What it is called; empty where nobody said.
    values
        Its runs, SI, shape ``(n,)``.
    median, low, high
        Their middle, and between what 8 in 10 of them lie, SI.
    from_others
        How far its middle lies from that of the others, as a share; None for a lone one.
    is_odd
        Whether that is more than boards, and their runs, differ by.
    """

    name: str
    values: Floats
    median: float
    low: float
    high: float
    from_others: float | None
    is_odd: bool


@dataclass(frozen=True, eq=False)
class Lot:
    """The life of a post of the lot: any board, with any cells.

    Parameters
    ----------
    p10_h, p50_h, p90_h
        One in ten ends before the first, every other before the second.
    chance
        How likely one reaches the target; None without one.
    draws_h
        Lives by chance, shape ``(draws,)``.
    boards
        How many boards it rests on.
    """

    p10_h: float
    p50_h: float
    p90_h: float
    chance: float | None
    draws_h: Floats
    boards: int


def find_boards(trend: Trend) -> tuple[Board, ...]:
    """Return the boards since the last change, what draws most first.

    Parameters
    ----------
    trend
        Of a figure above 0.

    Notes
    -----
    A board is odd where its middle lies further from the mean of the others' than Student's distribution allows one
    more of them: a lot without an odd board has one named in 1 of 20. The others scatter by at least what their runs'
    own scatter leaves in a middle. It takes three boards.
    """
    names, values, middles = _by_board(trend)
    if not names:
        return ()
    noise = np.array([trend.scatter * 1.2533 / math.sqrt(len(one)) for one in values])  # of a median
    found = []
    for at, name in enumerate(names):
        others = np.delete(middles, at)
        share = math.expm1(middles[at] - float(np.mean(others))) if len(others) else None
        low, high = np.quantile(values[at], (0.1, 0.9)).tolist()
        median = float(np.median(values[at]))
        found.append(Board(name, values[at], median, low, high, share, _is_odd(middles, noise, at)))
    return tuple(sorted(found, key=lambda one: -one.median))


def find_lot(
    trend: Trend, lives: History, *, target_h: float | None, without: frozenset[str] = frozenset()
) -> Lot | None:
    """Return the life of the lot; None where nothing is known of it.

    Parameters
    ----------
    trend
        Of the average.
    lives
        The lives of the same runs, with their P10 and P90.
    target_h
        What is to be reached.
    without
        Boards that are left out.

    Notes
    -----
    The average of one more board is drawn by Student's distribution from the boards that were measured, with what
    their runs scatter by taken off. How the life depends on the average comes from the runs themselves, as a power;
    what cells, capacity and temperature add to that from the runs' own P10 and P90, a normal distribution of the
    logarithm with a width of its own on either side.
    """
    names, values, middles = _by_board(trend)
    use = [at for at, name in enumerate(names) if name not in without]
    known = _lives(trend, lives)
    if not use or known is None:
        return None
    averages, life_h, low_h, high_h = known
    middles = middles[use]
    center, random = float(np.mean(middles)), np.random.default_rng(_SEED)
    noise = float(np.mean([trend.scatter**2 * 1.5708 / len(values[at]) for at in use]))
    between = max(float(np.var(middles, ddof=1)) - noise, 0.0) if len(use) > 1 else 0.0
    spread = math.sqrt(between * (1 + 1 / len(use)))
    board = spread * random.standard_t(max(len(use) - 1, 1), _DRAWS) if spread else np.zeros(_DRAWS)
    power = _power(averages, life_h)
    middle = float(np.median(np.log(life_h) + power * (averages - center)))
    cells = random.standard_normal(_DRAWS)
    down, up = (
        max(float(np.median(side)) / _ONE_IN_TEN, 0.0) for side in (np.log(life_h / low_h), np.log(high_h / life_h))
    )
    draws = np.exp(middle - power * board + np.where(cells < 0, down, up) * cells)
    p10, p50, p90 = np.quantile(draws, (0.1, 0.5, 0.9)).tolist()
    chance = float(np.mean(draws >= target_h)) if target_h is not None else None
    return Lot(p10, p50, p90, chance, draws, len(use))


def _by_board(trend: Trend) -> tuple[list[str], list[Floats], Floats]:
    """Return boards since the last change: names, runs, and middles as logarithms, shape ``(boards,)``."""
    use = trend.now
    if not trend.is_share or not use.any():
        return [], [], np.zeros(0)
    there = np.unique(trend.board[use]).tolist()
    values = [trend.history.values[use & (trend.board == at)] for at in there]
    return [trend.boards[at] for at in there], values, np.log([float(np.median(one)) for one in values])


def _is_odd(middles: Floats, noise: Floats, at: int) -> bool:
    others = np.delete(middles, at)
    if len(others) < _FEWEST - 1:
        return False
    spread = max(float(np.std(others, ddof=1)), math.sqrt(float(np.mean(np.delete(noise, at) ** 2))))
    error = math.hypot(spread * math.sqrt(1 + 1 / len(others)), noise[at])
    reach = quantile(1 - _LEVEL / 2 / len(middles), len(others) - 1)
    return bool(abs(middles[at] - float(np.mean(others))) > reach * error)


def _lives(trend: Trend, lives: History) -> tuple[Floats, Floats, Floats, Floats] | None:
    """Return of the runs since the last change the logarithm of the average, and life, P10 and P90 in h."""
    use = trend.now
    averages = dict(
        zip(trend.history.table["run_hash"].filter(use).to_pylist(), trend.history.values[use], strict=True)
    )
    rows = [
        (math.log(averages[run.run_hash]), run.value, run.low, run.high)
        for run in lives.runs
        if run.run_hash in averages
        and run.low is not None
        and run.high is not None
        and 0 < run.low <= run.value <= run.high
    ]
    if not rows:
        return None
    average, life_h, low_h, high_h = np.array(rows).T
    return average, life_h, low_h, high_h


def _power(averages: Floats, life_h: Floats) -> float:
    """Return how fast the life falls with the average: 1 where it is one over it, less where the cell leaks."""
    away = averages - averages.mean()
    spread = float(np.sum(away**2))
    if spread < 1e-6 * len(averages):
        return 1.0
    return float(np.clip(-np.sum(away * np.log(life_h)) / spread, 0.0, 1.0))
