"""The activity file of ``warm-ember life --activities``: battery, supply, base and activities as JSON."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

import msgspec

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats.source import check_regular
from warm_ember.model.battery import Activity, Battery, Climate, SupplyStage, Typed
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import ActivityCost, LifeModel, Load
from warm_ember.model.rates import rates

CHARGE_SPREAD = 0.05
RATE_SPREAD = 0.1


class _Activity(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    name: str = ""
    charge_c: float | None = None
    current_a: float | None = None
    duration_s: float | None = None
    interval_s: float | None = None
    per_day: float | None = None
    follows: str = ""
    probability: float = 1.0
    retries: int = 0
    random: bool = False
    hours: tuple[float, ...] = ()
    months: tuple[float, ...] = ()
    peak_a: float | None = None
    peak_s: float | None = None


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    battery: Battery = Battery()
    supply: SupplyStage = SupplyStage()
    climate: Climate = Climate()
    base_a: float = 0.0
    activities: tuple[_Activity, ...] = ()
    target_h: float | None = None


@dataclass(frozen=True)
class ActivityFile:
    """What an activity file says."""

    model: LifeModel
    target_s: float | None


def read_activity_file(path: Path) -> ActivityFile:
    """Read an activity file.

    Raises
    ------
    BadFileError
        Naming the key, what was expected and what was found.
    """
    try:
        check_regular(path)
        content = path.read_bytes()
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    try:
        file = msgspec.json.decode(content, type=_File)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise BadFileError(path, str(error) or "expected JSON") from error
    if not 0 <= file.base_a < math.inf:
        raise BadFileError(path, f"base_a: expected 0 or more, found {file.base_a}")
    if file.target_h is not None and not 0 < file.target_h < math.inf:
        raise BadFileError(path, f"target_h: expected above 0, found {file.target_h}")
    named = _named(file.activities)
    for index, activity in enumerate(named):
        _check(path, index, activity)
    try:
        often = rates(_activity(activity) for activity in named)
    except BadArgumentError as error:
        raise BadFileError(path, str(error)) from error
    costs = tuple(_cost(activity, often[activity.name]) for activity in named)
    load = Load(Figure(file.base_a, grade=Grade.ENTERED, origin="base"), "base", costs)
    target_s = None if file.target_h is None else file.target_h * 3600
    return ActivityFile(LifeModel(load, file.battery, file.supply, file.climate), target_s)


def _named(activities: tuple[_Activity, ...]) -> list[_Activity]:
    """Give activities without a name one, and those of one name different ones."""
    found: list[_Activity] = []
    for index, activity in enumerate(activities):
        name = activity.name or f"activity {index + 1}"
        if any(other.name == name for other in found):
            name = f"{name} ({index + 1})"
        found.append(msgspec.structs.replace(activity, name=name))
    return found


def _activity(activity: _Activity) -> Activity:
    return Activity(
        activity.name,
        Typed(0.0),
        interval_s=activity.interval_s,
        per_day=activity.per_day,
        probability=activity.probability,
        hours=activity.hours,
        months=activity.months,
        is_random=activity.random,
        follows=activity.follows,
        retries=activity.retries,
    )


def _check(path: Path, index: int, activity: _Activity) -> None:
    where = f"activities[{index}] {activity.name!r}"

    def need(holds: bool, problem: str) -> None:
        if not holds:
            raise BadFileError(path, problem, where=where)

    need((activity.charge_c is None) != (activity.current_a is None), "expected either charge_c or current_a")
    often = (activity.interval_s is not None) + (activity.per_day is not None) + bool(activity.follows)
    need(often == 1, "expected either interval_s or per_day, or what it follows")
    need(activity.current_a is None or activity.duration_s is not None, "current_a needs duration_s beside it")
    for name in ("charge_c", "current_a", "duration_s", "per_day", "peak_a", "peak_s"):
        value = getattr(activity, name)
        need(value is None or 0 <= value < math.inf, f"{name}: expected 0 or more, found {value}")


def _cost(activity: _Activity, rate_hz: float) -> ActivityCost:
    duration_s = activity.duration_s or 0.0
    charge_c = activity.charge_c if activity.charge_c is not None else (activity.current_a or 0.0) * duration_s
    return ActivityCost(
        name=activity.name,
        charge_c=charge_c,
        duration_s=duration_s,
        peak_a=activity.peak_a if activity.peak_a is not None else activity.current_a or 0.0,
        rate_hz=rate_hz,
        charge_spread=CHARGE_SPREAD,
        rate_spread=RATE_SPREAD,
        grade=Grade.ENTERED,
        origin="typed",
        hours=activity.hours,
        state_charges_c={},
        months=activity.months,
        is_random=activity.random,
        peak_s=activity.peak_s,
    )
