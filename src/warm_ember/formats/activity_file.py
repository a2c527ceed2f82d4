"""The activity file of ``warm-ember life --activities``: battery, supply, base and activities as JSON."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

import msgspec

from warm_ember.errors import BadFileError
from warm_ember.model.battery import Battery, SupplyStage
from warm_ember.model.figure import Figure, Grade
from warm_ember.model.load import ActivityCost, Load
from warm_ember.units import DAY_S

CHARGE_SPREAD = 0.05
RATE_SPREAD = 0.1


class _Activity(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    name: str = ""
    charge_c: float | None = None
    current_a: float | None = None
    duration_s: float | None = None
    interval_s: float | None = None
    per_day: float | None = None
    probability: float = 1.0
    peak_a: float | None = None


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    battery: Battery = Battery()
    supply: SupplyStage = SupplyStage()
    base_a: float = 0.0
    activities: tuple[_Activity, ...] = ()
    target_h: float | None = None


@dataclass(frozen=True)
class ActivityFile:
    """What an activity file says."""

    battery: Battery
    supply: SupplyStage
    load: Load
    target_s: float | None


def read_activity_file(path: Path) -> ActivityFile:
    """Read an activity file.

    Raises
    ------
    BadFileError
        Naming the key, what was expected and what was found.
    """
    try:
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
    costs = tuple(_cost(path, index, activity) for index, activity in enumerate(file.activities))
    base = Figure(file.base_a, grade=Grade.TYPED, origin="base")
    target_s = None if file.target_h is None else file.target_h * 3600
    return ActivityFile(file.battery, file.supply, Load(base, "base", costs), target_s)


def _cost(path: Path, index: int, activity: _Activity) -> ActivityCost:
    where = f"activities[{index}]" + (f" {activity.name!r}" if activity.name else "")

    def need(holds: bool, problem: str) -> None:
        if not holds:
            raise BadFileError(path, problem, where=where)

    need((activity.charge_c is None) != (activity.current_a is None), "expected either charge_c or current_a")
    need((activity.interval_s is None) != (activity.per_day is None), "expected either interval_s or per_day")
    need(activity.current_a is None or activity.duration_s is not None, "current_a needs duration_s beside it")
    for name in ("charge_c", "current_a", "duration_s", "per_day", "peak_a"):
        value = getattr(activity, name)
        need(value is None or 0 <= value < math.inf, f"{name}: expected 0 or more, found {value}")
    need(activity.interval_s is None or 0 < activity.interval_s < math.inf, "interval_s: expected above 0")
    need(0 <= activity.probability <= 1, f"probability: expected from 0 to 1, found {activity.probability}")
    duration_s = activity.duration_s or 0.0
    charge_c = activity.charge_c if activity.charge_c is not None else (activity.current_a or 0.0) * duration_s
    per_s = 1 / activity.interval_s if activity.interval_s is not None else (activity.per_day or 0.0) / DAY_S
    return ActivityCost(
        name=activity.name or f"activity {index + 1}",
        charge_c=charge_c,
        duration_s=duration_s,
        peak_a=activity.peak_a if activity.peak_a is not None else activity.current_a or 0.0,
        rate_hz=per_s * activity.probability,
        charge_spread=CHARGE_SPREAD,
        rate_spread=RATE_SPREAD,
        grade=Grade.TYPED,
        origin="typed",
        hours=(),
        state_charges_c={},
    )
