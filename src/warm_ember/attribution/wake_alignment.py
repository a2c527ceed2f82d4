"""Moving wakes together within their slack: how many are left, and what that saves."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.wakes import Wakes
from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.series import ShouldStop, never
from warm_ember.units import HOUR_S

_TRIED = 16
_LEAST_S, _PERIODS = 1e-3, 4.0


@dataclass(frozen=True)
class Aligned:
    """What is left when wakes are moved together within their slack, and the average current that this saves."""

    rate_per_h: float
    saved_a: float


@dataclass(frozen=True, eq=False)
class Saving:
    """What one source's slack would save, the others keeping theirs.

    Parameters
    ----------
    source
        The source.
    slack_s, saved_a, spared
        Slacks that were tried, rising from 0; the average current saved with each beyond what the others save alone,
        and how many wakes are spared. Shape ``(tried,)``.
    """

    source: str
    slack_s: Floats
    saved_a: Floats
    spared: Floats


def align(wakes: Wakes, cost_c: Floats, slack_s: Mapping[str, float], interval_s: float, duration_s: float) -> Aligned:
    """Move wakes together: the fewest moments that serve all windows ``[t, t + slack]`` (greedy stabbing, optimal).

    A wake that comes along with another saves what waking costs at least: the cheapest wake of all.

    Parameters
    ----------
    wakes
        The wakes, `n` of them.
    cost_c
        The charge of each above the floor, C, shape ``(n,)``.
    slack_s
        By how much a wake of a source may be later, s; those that are not named may not.
    interval_s, duration_s
        Sample interval and length of the capture.

    References
    ----------
    J. Kleinberg, E. Tardos, *Algorithm Design*, 2006, chapter 4.1: the earliest end first.
    """
    moments = _moments(wakes, slack_s, interval_s)
    spared = wakes.count - moments
    per_h = moments / duration_s * HOUR_S if duration_s else 0.0
    return Aligned(per_h, spared * _least_c(cost_c) / duration_s if spared else 0.0)


def saving_of(
    wakes: Wakes,
    cost_c: Floats,
    slack_s: Mapping[str, float],
    source: str,
    interval_s: float,
    duration_s: float,
    *,
    should_stop: ShouldStop = never,
) -> Saving:
    """Try slacks of one source, up to some times its mean time between wakes.

    Parameters
    ----------
    wakes
        The wakes of all sources, `n` of them.
    cost_c
        The charge of each above the floor, C, shape ``(n,)``.
    slack_s
        The slacks of the other sources, s.
    source
        The source whose slack is tried.
    interval_s, duration_s
        Sample interval and length of the capture.

    Returns
    -------
    Saving
        From a slack of 0 upward; without wakes of the source nothing is saved.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    References
    ----------
    As `align`, once for each slack.
    """
    mine = wakes.first[wakes.by(source)]
    between_s = duration_s / max(len(mine), 1)
    if len(mine) > 1:
        between_s = float(np.median(np.diff(mine))) * interval_s
    reach_s = max(between_s * _PERIODS, slack_s.get(source, 0.0), 2 * _LEAST_S)
    tried_s = np.append(0.0, np.geomspace(max(_LEAST_S, reach_s / 1e3), reach_s, _TRIED))
    left = []
    for one in tried_s.tolist():
        if should_stop():
            raise Cancelled("stopped")
        left.append(_moments(wakes, {**slack_s, source: one}, interval_s))
    spared = left[0] - np.array(left, dtype=float)
    return Saving(source, tried_s, spared * _least_c(cost_c) / duration_s, spared)


def _least_c(cost_c: Floats) -> float:
    return max(float(cost_c.min(initial=np.inf)), 0.0) if len(cost_c) else 0.0


def _moments(wakes: Wakes, slack_s: Mapping[str, float], interval_s: float) -> int:
    """Return the fewest moments that serve all wakes."""
    if not wakes.count:
        return 0
    # In whole samples, so that a window that just reaches a wake does.
    late = np.array([int(max(slack_s.get(name, 0.0), 0.0) / interval_s + 1e-6) for name in wakes.names])
    return fewest_moments(wakes.first, late[wakes.number])


def fewest_moments(begins: Indices, late: Indices) -> int:
    """Return how few moments serve all windows ``[begin, begin + late]``; both of shape ``(n,)``, begins rising."""
    # Of all windows that begin after a moment, the one that ends first says when the next is due.
    due = np.minimum.accumulate((begins + late)[::-1])[::-1]
    after = np.searchsorted(begins, due, side="right").tolist()
    moments, at, count = 0, 0, len(begins)
    while at < count:
        at, moments = after[at], moments + 1
    return moments
