"""What the next run is expected to show, by the history's own scatter since its last change."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from warm_ember.fleet.trend import Trend
from warm_ember.model.estimate import quantile

_FEWEST = 5
_FEWEST_BOARDS = 3
_LEAST_SPREAD = 1e-6


@dataclass(frozen=True)
class Expected:
    """What one more run is expected to show if nothing changed.

    Parameters
    ----------
    level
        In the middle, SI.
    spread
        Standard deviation of one run that is to come, as a share of the level.
    freedom
        Degrees of freedom that it was estimated with.
    runs
        How many runs it rests on.
    since
        The key from which on they are; empty for the whole history.
    """

    level: float
    spread: float
    freedom: float
    runs: int
    since: str

    def worse(self, value: float) -> tuple[float, float, float]:
        """Return by which share a run is above what was expected, with its 90 % interval."""
        share = value / self.level - 1
        reach = quantile(0.95, self.freedom) * self.spread
        return share, share - reach, share + reach


def expect(trend: Trend, board: str = "", without: str = "") -> Expected | str:
    """Return what one more run is expected to show; why nothing can be said, in words, where that is so.

    Parameters
    ----------
    trend
        The history.
    board
        The board of the run: what the history knows of it is taken into account, else how much boards differ.
    without
        First characters of the hash of runs that are left out: the run itself may stand in the history.

    Notes
    -----
    Of ``n`` runs with the spread ``s`` since the last change, one more scatters by ``s * sqrt(1 + 1 / n)``, by
    Student's distribution. On a board that the history does not know, the spread between boards adds to that.
    """
    history, own = trend.history, np.ones(len(trend.board), dtype=bool)
    if without:
        own = np.array([not one.startswith(without) for one in history.table["run_hash"].to_pylist()], dtype=bool)
    use = trend.now & own
    count = int(np.count_nonzero(use))
    if count < _FEWEST:
        return f"the history has {count} such runs since its last change, bounds not counted, and it takes {_FEWEST}"
    levels = {int(at): float(np.median(trend.level[use & (trend.board == at)])) for at in np.unique(trend.board[use])}
    if min(levels.values()) <= 0:
        return "the history is about 0, of which no share can be told"
    shares = history.values[use] / trend.level[use]
    middle = float(np.mean(shares))
    freedom = max(count - len(levels), 1)
    spread = math.sqrt(float(np.sum((shares - middle) ** 2)) / freedom * (1 + 1 / count))
    at = trend.boards.index(board) if board in trend.boards else -1
    if at in levels:
        level = levels[at] * middle
    elif len(levels) < _FEWEST_BOARDS:
        return f"the history does not know the board {board or 'without a name'!r}, and too few others"
    else:
        of_boards = np.array(list(levels.values()))
        level = float(np.mean(of_boards)) * middle
        spread = math.hypot(spread, float(np.std(of_boards, ddof=1)) / level * math.sqrt(1 + 1 / len(of_boards)))
        freedom = len(of_boards) - 1
    since = trend.changes[-1].at if trend.changes else ""
    return Expected(level, max(spread, _LEAST_SPREAD), freedom, count, since)
