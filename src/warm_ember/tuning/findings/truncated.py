"""Truncated: the capture cuts the last activity off."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.signal.bands import runs_of
from warm_ember.signal.levels import Levels
from warm_ember.signal.stretch import total
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.evidence import Evidence
from warm_ember.units import duration_text, quantity_text

_REST_SHARE = 0.2
_ABOVE_REST = 2.0
_LONGEST_SHARE = 0.5
_LEAST_CHARGE = 1e-3


@dataclass(frozen=True, eq=False)
class _Activities:
    """Stretches above the level of rest: first and last-plus-one sample, and the highest level in each."""

    stretches: Indices
    heights_a: Floats
    rest_a: float


def truncated(evidence: Evidence) -> list[Finding]:
    """Find a last activity without its end."""
    found = _activities(evidence.levels)
    samples, interval_s = evidence.recording.current.samples, evidence.recording.current.interval_s
    if found is None or not len(found.stretches) or found.stretches[-1, 1] < samples:
        return []
    lengths = np.diff(found.stretches, axis=1)[:, 0]
    last, complete = int(lengths[-1]), lengths[:-1]
    if last > _LONGEST_SHARE * samples or found.stretches[-1, 0] == 0:
        return []
    if not _matters(evidence, int(found.stretches[-1, 0]), found.rest_a):
        return []
    alike = complete[found.heights_a[:-1] >= 0.5 * found.heights_a[-1]]
    # An activity like those before it that is already longer than any of them may be a new level of rest.
    if len(alike) and last > 3 * alike.max():
        return []
    if _ends_in_rest(evidence.levels):
        return []
    length, rest = duration_text(last * interval_s), quantity_text(found.rest_a, "A")
    text = (
        f"the capture ends {length} into an activity, before the current is back at its rest of {rest}: "
        f"means over the whole capture are biased; leave the last {length} out, or capture longer"
    )
    from_s = float(found.stretches[-1, 0]) * interval_s
    return [
        Finding(
            FindingKind.TRUNCATED,
            from_s,
            samples * interval_s,
            None,
            confidence(FindingKind.TRUNCATED, is_sure=bool(len(alike))),
            text,
        )
    ]


def _ends_in_rest(levels: Levels) -> bool:
    """Return whether the last level may be another one of rest: much time is spent in it, and higher ones come."""
    last = int(levels.level[-1])
    lengths = np.diff(levels.edges)
    share = float(lengths[levels.level == last].sum() / lengths.sum())
    return share > _REST_SHARE and _ABOVE_REST * levels.centres_a[last] < levels.centres_a.max()


def _matters(evidence: Evidence, first: int, rest_a: float) -> bool:
    """Return whether what flows above rest from a sample on is a noticeable part of all that does."""
    current = evidence.recording.current
    tail, whole = (total(current, begin, current.samples) for begin in (first, 0))
    above, of = tail.total - rest_a * tail.count, whole.total - rest_a * whole.count
    return above > _LEAST_CHARGE * of


def _activities(levels: Levels) -> _Activities | None:
    """Cut a capture into rest and activities; None when it shows no rest."""
    if len(levels.centres_a) < 2:
        return None
    lengths = np.diff(levels.edges)
    times = np.array([lengths[levels.level == k].sum() for k in range(len(levels.centres_a))])
    # Rest is the lowest level up to which the device spends a good part of the time.
    rest = int(np.searchsorted(np.cumsum(times), _REST_SHARE * times.sum()))
    rest_a = float(levels.centres_a[rest])
    active_levels = levels.centres_a > max(_ABOVE_REST * rest_a, rest_a + 4 * levels.scale_a)
    active = np.append(active_levels, False)[levels.level]
    runs = runs_of(active)
    heights = np.array([levels.centres_a[levels.level[a:b]].max() for a, b in runs])
    stretches = np.column_stack((levels.edges[runs[:, 0]], levels.edges[runs[:, 1]])) if len(runs) else runs
    return _Activities(stretches, heights, rest_a)
