"""How often activities come, those that follow others included."""

from __future__ import annotations

from collections.abc import Iterable

from warm_ember.errors import BadArgumentError
from warm_ember.model.battery import Activity
from warm_ember.units import DAY_S

MOST_RETRIES = 100


def rates(activities: Iterable[Activity]) -> dict[str, float]:
    """Return the mean occurrences per second of each activity by name.

    Parameters
    ----------
    activities
        Each comes at an interval, so many a day, or on each occurrence of another.

    Raises
    ------
    BadArgumentError
        If a number is impossible, or an activity follows one that is not there or, in the end, itself.
    """
    by_name = {activity.name: activity for activity in activities}
    found: dict[str, float] = {}
    for name in by_name:
        chain: list[str] = []
        while name not in found:
            if name in chain:
                raise BadArgumentError(f"activity {name!r} follows itself: {' after '.join([*chain, name])}")
            chain.append(name)
            leader = by_name[name].follows
            if not leader:
                found[name] = _own_rate(by_name[name])
            elif leader not in by_name:
                raise BadArgumentError(f"activity {name!r} follows {leader!r}, which is not among the activities")
            else:
                name = leader
        for follower in reversed(chain):
            activity = by_name[follower]
            if activity.follows:
                check_activity(activity)
                found[follower] = found[activity.follows] * activity.per_occasion
    return found


def check_activity(activity: Activity) -> None:
    """Check that an activity is possible.

    Raises
    ------
    BadArgumentError
        Naming the activity, the field, what was expected and what was found.
    """
    expectations: tuple[tuple[str, bool, str], ...] = (
        ("interval_s", activity.interval_s is None or 0 < activity.interval_s < float("inf"), "above 0"),
        ("per_day", activity.per_day is None or 0 <= activity.per_day < float("inf"), "0 or more"),
        ("probability", 0 <= activity.probability <= 1, "from 0 to 1"),
        ("retries", 0 <= activity.retries <= MOST_RETRIES, f"from 0 to {MOST_RETRIES}"),
        ("hours", _weighs(activity.hours, 24), "24 weights of 0 or more, not all 0"),
        ("months", _weighs(activity.months, 12), "12 weights of 0 or more, not all 0"),
    )
    for field, holds, expected in expectations:
        if not holds:
            found = getattr(activity, field)
            raise BadArgumentError(f"activity {activity.name!r}, {field}: expected {expected}, found {found}")


def _weighs(weights: tuple[float, ...], count: int) -> bool:
    return not weights or (
        len(weights) == count and all(0 <= one < float("inf") for one in weights) and sum(weights) > 0
    )


def _own_rate(activity: Activity) -> float:
    check_activity(activity)
    if activity.interval_s is not None:
        return activity.per_occasion / activity.interval_s
    return activity.per_occasion * (activity.per_day or 0.0) / DAY_S
