"""Which build changed a figure, by how much, and how sure that is."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from warm_ember.fleet.history import History
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.signal.change_points import Levels, find_changes

_LEAST_SHARE = 1e-5


@dataclass(frozen=True)
class Change:
    """A change of level.

    Parameters
    ----------
    place
        Index of the first place after it.
    at
        Its key.
    before, after
        Levels, SI.
    change, low, high
        The difference, with its 90 % interval.
    confidence
        How sure it is that not chance alone made it.
    """

    place: int
    at: str
    before: float
    after: float
    change: float
    low: float
    high: float
    confidence: float


@dataclass(frozen=True, eq=False)
class Trend:
    """A figure over a history.

    Parameters
    ----------
    history
        The runs.
    changes
        In order.
    board
        Index of each run's board, shape ``(n,)``.
    boards
        Their names.
    level
        The level that each run belongs to, on its own board, SI, shape ``(n,)``.
    scatter
        Standard deviation of one run about it: a share where `is_share`, else SI.
    is_share
        Whether the history is looked at in shares: where all its figures are above 0.
    outlier
        Which runs lie far off: one run, not a change, shape ``(n,)``.
    """

    history: History
    changes: tuple[Change, ...]
    board: Indices
    boards: tuple[str, ...]
    level: Floats
    scatter: float
    is_share: bool
    outlier: Flags

    @property
    def since(self) -> int:
        """The first place of the level that holds now."""
        return self.changes[-1].place if self.changes else 0


def find_trend(history: History) -> Trend:
    """Find where a history changed its level; see `warm_ember.signal.change_points.find_changes`."""
    values, place = history.values, history.place
    board, boards = history.coded("board")
    is_share = bool((values > 0).all())
    if not len(values):
        nothing = np.zeros(0)
        return Trend(history, (), board, boards, nothing, 0.0, is_share, nothing.astype(bool))
    found = find_changes(np.log(values) if is_share else values, place, board, least=_LEAST_SHARE if is_share else 0.0)
    level = found.level_at(place) + found.offset[board]
    return Trend(
        history=history,
        changes=tuple(_changes(found, history, is_share)),
        board=board,
        boards=boards,
        level=np.exp(level) if is_share else level,
        scatter=found.scatter,
        is_share=is_share,
        outlier=found.outlier,
    )


def _changes(found: Levels, history: History, is_share: bool) -> list[Change]:
    changes = []
    for one in found.changes:
        before, after, low, high = one.before, one.after, one.low, one.high
        if is_share:
            before, after = math.exp(before), math.exp(after)
            low, high = before * math.expm1(low), before * math.expm1(high)
        changes.append(Change(one.at, history.keys[one.at], before, after, after - before, low, high, one.confidence))
    return changes
